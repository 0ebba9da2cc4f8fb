package analysis

import (
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"bivium/core/difference"
	"bivium/core/estate"
	"bivium/core/flowfile"
	"bivium/core/intervals"
	"bivium/core/matrix"
	"bivium/core/paths"
	"bivium/core/query"
	"bivium/core/testing/meet"
	"bivium/core/verdict"
)

// estates returns the conformance estates, with the flows to ask of each.
func estates(t testing.TB) (all []*estate.Estate, flows [][]verdict.Flow) {
	t.Helper()
	files, err := filepath.Glob(filepath.Join(conformance, "*", "estate.json"))
	require.NoError(t, err)
	require.NotEmpty(t, files, "no conformance estates")
	for _, file := range files {
		e := readEstate(t, file)
		in, err := os.Open(filepath.Join(filepath.Dir(file), "flows.csv"))
		require.NoError(t, err)
		table, err := flowfile.Read(in, verdict.New(e).Net.Segments)
		require.NoError(t, err)
		require.NoError(t, in.Close())
		all, flows = append(all, e), append(flows, table.Flows)
	}
	return all, flows
}

func TestClassesDivideEveryEndpoint(t *testing.T) {
	all, _ := estates(t)
	for _, e := range all {
		s := matrix.New(verdict.New(e))
		for i := range s.Judge.Net.Segments {
			disjoint(t, s, s.Inside[i])
			for _, c := range s.Inside[i] {
				class := s.Class(c)
				for _, r := range class.Ranges {
					for _, a := range []intervals.Range{{From: r.From, To: r.From}, {From: r.To, To: r.To}} {
						end, ok := s.Judge.Internal(i, a.From)
						require.True(t, ok, "%s holds %s, which has no home", s.Judge.Net.Segments[i], a.From)
						require.Equal(t, class.End.Groups, end.Groups, "%s is told from its class", a.From)
						require.Equal(t, class.End.Home.Network, end.Home.Network)
					}
				}
			}
		}
		disjoint(t, s, s.Outside)
		for _, c := range s.Outside {
			for _, r := range s.Class(c).Ranges {
				require.False(t, paths.Private(r.From) || paths.Private(r.To))
			}
		}
	}
}

func disjoint(t *testing.T, s *matrix.Matrix, classes []int) {
	var all []intervals.Range
	for _, c := range classes {
		var n intervals.Size
		for _, r := range s.Class(c).Ranges {
			n.Add(intervals.SizeOf(r))
		}
		require.Equal(t, n, s.Class(c).Amount)
		all = append(all, s.Class(c).Ranges...)
	}
	slices.SortFunc(all, func(a, b intervals.Range) int { return a.From.Compare(b.From) })
	for i := 1; i < len(all); i++ {
		require.Positive(t, all[i].From.Compare(all[i-1].To), "two classes hold %s", all[i].From)
	}
}

// mutate returns a copy of e with one thing changed.
func mutate(t *rapid.T, e *estate.Estate) *estate.Estate {
	next := *e
	pick := func(n int) int { return rapid.IntRange(0, n-1).Draw(t, "which") }
	switch kind := rapid.IntRange(0, 6).Draw(t, "kind"); {
	case kind <= 1 && len(e.Policies) > 0:
		next.Policies = slices.Clone(e.Policies)
		p := &next.Policies[pick(len(e.Policies))]
		p.Rules = slices.Clone(p.Rules)
		if len(p.Rules) > 0 && !p.Guardrail() && kind == 0 {
			p.Rules[0] = estate.Rule{Services: []estate.ServiceRef{{Term: estate.Term{Protocol: estate.TCP, Ports: estate.Range{Lo: 443, Hi: 8080}, SourcePorts: estate.AllPorts}}}, Action: estate.Deny}
			return &next
		}
		p.Enabled = !p.Enabled
	case kind == 2 && len(e.Shares) > 0:
		next.Shares = slices.Clone(e.Shares)
		s := &next.Shares[pick(len(e.Shares))]
		s.Enabled = !s.Enabled
	case kind == 3 && len(e.Attachments) > 0:
		next.Attachments = slices.Clone(e.Attachments)
		a := &next.Attachments[pick(len(e.Attachments))]
		a.State = map[string]string{"up": "down", "down": "up"}[a.State]
	case kind == 4 && len(e.Groups) > 0:
		next.Groups = slices.Clone(e.Groups)
		g := &next.Groups[pick(len(e.Groups))]
		g.Prefixes = nil
		g.Match = "env=prod"
	case kind == 5 && len(e.Publications) > 0:
		next.Publications = slices.Clone(e.Publications)
		p := &next.Publications[pick(len(e.Publications))]
		p.Enabled = !p.Enabled
	default:
		next.Segments = slices.Clone(e.Segments)
		s := &next.Segments[pick(len(e.Segments))]
		s.Default = map[estate.Action]estate.Action{estate.Allow: estate.Deny, estate.Deny: estate.Allow}[s.Default]
	}
	return &next
}

func TestCompareFindsEveryChangeAndNoOther(t *testing.T) {
	t.Parallel()
	all, flows := estates(t)
	meet.Check(t, meet.Often(51, "a flow that changed", "a change"), func(t *rapid.T, met meet.Met) {
		k := rapid.IntRange(0, len(all)-1).Draw(t, "estate")
		next := mutate(t, all[k])
		before, after := verdict.New(all[k]), verdict.New(next)
		d := difference.Compare(matrix.New(before), matrix.New(after))
		for _, c := range d.Changes {
			met["a change"]++
			was, is := before.Judge(c.Witness()), after.Judge(c.Witness())
			// From the internet, an address that two segments use can be shut in
			// one and open in the other: the judge then tells of the open one.
			if c.Before != nil && c.From.Kind != matrix.NodeInternet {
				assert.Equal(t, *c.Before, was, "%v", c.Witness())
			}
			if c.After != nil && c.From.Kind != matrix.NodeInternet {
				assert.Equal(t, *c.After, is, "%v", c.Witness())
			}
			assert.Positive(t, c.Pairs.Sign())
			assert.False(t, c.Services.Empty())
		}
		for _, f := range flows[k] {
			was, is := before.Judge(f), after.Judge(f)
			if f.Segment == verdict.Internet || was.Reason == verdict.ReasonUnknown || is.Reason == verdict.ReasonUnknown || assert.ObjectsAreEqual(was, is) {
				continue
			}
			met["a flow that changed"]++
			// A flow may also go from one destination to another, when a share
			// begins or ends to bring the address: then it is gone here, and new there.
			covers := func(before, after *verdict.Verdict) bool {
				return slices.ContainsFunc(d.Changes, func(c difference.Change) bool {
					return c.From.Segment == f.Segment && c.Services.Contains(f.Protocol, f.SourcePort, f.Port) &&
						difference.SameVerdict(before, c.Before) && difference.SameVerdict(after, c.After)
				})
			}
			assert.True(t, covers(&was, &is) || covers(&was, nil) && covers(nil, &is), "%v went from %v to %v", f, was, is)
		}
	})
}

// namedBefore returns how the witness of a change named its destination before:
// shares may have shown it under another address.
func namedBefore(before, after *verdict.Judge, c *difference.Change) netip.Addr {
	own := c.Witness().Destination
	if p, _ := after.Find(after.Net.Segment(c.From.Segment), own); p.Internal() {
		own = p.Addr
	}
	if was := before.Net.Segment(c.To.Segment); was >= 0 && c.To.Kind != matrix.NodeInternet {
		if p, ok := before.Internal(was, own); ok {
			return before.SeenAs(&p, before.Net.Segment(c.From.Segment))
		}
	}
	return c.Witness().Destination
}

// TestCompareEstatesThatShareLittle compares estates drawn apart from each other:
// segments, networks and whole address ranges come and go, as when a document
// takes the place of another.
func TestCompareEstatesThatShareLittle(t *testing.T) {
	t.Parallel()
	wants := meet.Wants{"flows that go": 100, "flows that come": 100, "segments that come or go": 20}
	meet.Check(t, wants, func(t *rapid.T, met meet.Met) {
		e, next := drawValid(t), drawValid(t)
		if rapid.IntRange(0, 5).Draw(t, "emptied") == 0 {
			next = &estate.Estate{Version: 1, Name: "empty", Segments: next.Segments[:1]}
		}
		before, after := verdict.New(e), verdict.New(next)
		d := difference.Compare(matrix.New(before), matrix.New(after))
		met.If(len(e.Segments) != len(next.Segments), "segments that come or go")
		for _, c := range d.Changes {
			require.Positive(t, c.Pairs.Sign())
			require.False(t, c.Services.Empty())
			met.If(c.After == nil, "flows that go")
			met.If(c.Before == nil, "flows that come")
			if c.From.Kind == matrix.NodeInternet {
				continue // see TestCompareFindsEveryChangeAndNoOther
			}
			if c.Before != nil {
				was := c.Witness()
				if c.After != nil {
					was.Destination = namedBefore(before, after, &c)
				}
				require.Equal(t, *c.Before, before.Judge(was), "%v", was)
			}
			if c.After != nil {
				require.Equal(t, *c.After, after.Judge(c.Witness()), "%v", c.Witness())
			}
		}
		back := difference.Compare(matrix.New(after), matrix.New(before))
		require.Len(t, back.Changes, len(d.Changes), "what changes changes forwards changes backwards")
	})
}

func TestCompareOfAnEstateWithItselfIsEmpty(t *testing.T) {
	all, _ := estates(t)
	s := matrix.New(verdict.New(all[0]))
	d := difference.Compare(s, s)
	assert.Empty(t, d.Changes)
	assert.Empty(t, d.Cells(query.Nodes(s, func(string) bool { return true })))
}

func BenchmarkDemo(b *testing.B) {
	e := readEstate(b, "../../demo/grayshoal.yaml")
	b.Run("survey", func(b *testing.B) {
		for b.Loop() {
			matrix.New(verdict.New(e))
		}
	})
	s := matrix.New(verdict.New(e))
	next := *e
	next.Policies = slices.Clone(e.Policies)
	next.Policies[0].Enabled = false
	b.Run("edit", func(b *testing.B) {
		for b.Loop() {
			difference.Compare(s, matrix.New(verdict.New(&next)))
		}
	})
}
