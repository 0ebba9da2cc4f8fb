package app_test

import (
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"bivium/core/document"
	"bivium/core/estate"
	"bivium/core/testing/draw"
	"bivium/core/testing/meet"
	"bivium/core/verdict"
	"bivium/demo"
	"bivium/internal/app/view"
	"bivium/internal/wording"
)

func snapshot(t testing.TB) *view.Snapshot {
	t.Helper()
	e, err := document.Read(demo.Grayshoal)
	require.NoError(t, err)
	return view.NewSnapshot(e, 1)
}

// TestEveryVerdictHasASentence asks about flows of drawn estates: whatever
// settles one, the sentence begins with its outcome and names what it speaks of.
func TestEveryVerdictHasASentence(t *testing.T) {
	wants := meet.Often(1, verdict.ReasonPolicy, verdict.ReasonShare, verdict.ReasonGuardrail, verdict.ReasonDefault, verdict.ReasonNoShare,
		verdict.ReasonUnenforced, verdict.ReasonNoPath, verdict.ReasonNoWayBack)
	meet.Check(t, wants, func(t *rapid.T, met meet.Met) {
		e := rapid.Custom(draw.Estate).Filter(func(e *estate.Estate) bool { return len(estate.Check(e)) == 0 }).Draw(t, "estate")
		s := view.NewSnapshot(e, 1)
		ends := draw.Ends(e)
		for range 30 {
			from := rapid.SampledFrom(ends).Draw(t, "from")
			segment := rapid.SampledFrom(e.Segments).Draw(t, "segment").Name
			if _, ok := s.Judge.Internal(s.Judge.Net.Segment(segment), from); !ok {
				continue
			}
			to := rapid.SampledFrom(ends).Draw(t, "to")
			if to.Is4() != from.Is4() {
				continue
			}
			road, err := s.Road(segment+":"+from.String(), to.String(), "tcp/443", 0, "")
			require.NoError(t, err)
			text := wording.Plain(road.Sentence)
			met[string(road.Trace.Verdict.Reason)]++
			outcome := string(road.Trace.Verdict.Outcome)
			require.True(t, strings.HasPrefix(strings.ToLower(text), outcome) || from == to, "%s: %q", outcome, text)
			require.True(t, strings.HasSuffix(text, "."), "%q", text)
			require.NotContains(t, text, "  ", "%s: something has no name", road.Trace.Verdict.Reason)
			require.NotContains(t, text, `""`)
			for _, token := range road.Sentence {
				require.NotEmpty(t, token.Text, "%q has a name that is empty", text)
			}
		}
	})
}

func TestQuestionsUnderstandEveryWayToNameAnEnd(t *testing.T) {
	s := snapshot(t)
	for _, c := range []struct{ from, to, on, outcome string }{
		{"crews", "internet", "tcp/443", "inspected"},
		{"group:crews", "internet", "web", "blocked"},      // web holds udp/443, which the rulebook rejects
		{"office:crews", "patches", "patching", "allowed"}, // a group in one segment
		{"network:forecast-dev", "internet", "tcp/443", "allowed"},
		{"contractor", "turbine:jump-hosts", "ssh", "inspected"},
		{"collector-2", "historian", "sql", "allowed"},
		{"office:10.40.9.11", "10.61.1.53", "dns", "allowed"},
		{"contractor:10.40.9.11", "jump-1", "rdp", "inspected"},
		{"internet", "203.0.113.20", "tcp/443", "inspected"},
		{"2001:db8:50::11", "2001:db8:61::53", "udp/53", "allowed"},
		{"CREW-1 ", " Names-1", "DNS", "allowed"},
		{"turbine", "internet", "any", "unrouted"},
	} {
		a, err := s.Ask(view.Question{From: c.from, To: c.to, On: c.on})
		if assert.NoError(t, err, "%v", c) {
			found := false
			for _, m := range a.Marks {
				found = found || string(m.Outcome) == c.outcome
			}
			assert.True(t, found, "%v: %v", c, a.Marks)
			assert.NotEmpty(t, a.Lines)
			assert.Equal(t, a.Lines[0].Parts[0].Verdict, a.Trace.Verdict, "the road is that of the first line")
		}
	}
}

func TestAnAnswerCountsWhoItIsAbout(t *testing.T) {
	a, err := snapshot(t).Ask(view.Question{From: "operators", To: "controllers", On: "modbus"})
	require.NoError(t, err)
	require.Len(t, a.Lines, 1)
	parts := map[verdict.Outcome][3]any{}
	for _, p := range a.Lines[0].Parts {
		parts[p.Verdict.Outcome] = [3]any{p.From, p.To, p.Pairs}
	}
	assert.Equal(t, map[verdict.Outcome][3]any{
		verdict.Inspected: {3, 10, "30"}, // the controllers of two farms
		verdict.Unrouted:  {3, 4, "12"},  // those of the farm whose tunnel is down
	}, parts)
}

func TestCompletionPutsTheBestFirst(t *testing.T) {
	s := snapshot(t)
	first := func(field, text string) string {
		t.Helper()
		found := s.Complete(field, text)
		require.NotEmpty(t, found, "%s %q", field, text)
		assert.LessOrEqual(t, len(found), view.MaxCompletions)
		return found[0].Text
	}
	assert.Equal(t, "internet", first("to", "inter"))
	assert.Equal(t, "price-databases", first("to", "price-d"))
	assert.Equal(t, "kelp-plc-1", first("from", "plc-1"), "a word inside a name")
	assert.Equal(t, "ledger", first("from", "10.40.130"), "by what it is known by")
	assert.Equal(t, "web", first("on", "we"))
	assert.Equal(t, "feed", first("on", "5671"))
	assert.Equal(t, "203.0.113.20", first("to", "203.0"))
	assert.Empty(t, s.Complete("from", "zzz"))
	assert.True(t, netip.MustParseAddr(first("from", "10.11.1.200")).IsValid(), "an address that no workload holds can be asked about too")
}
