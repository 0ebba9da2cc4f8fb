package server_test

import (
	"encoding/json"
	"net/http"
	"net/netip"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bivium/core/inventory"
	"bivium/core/wiring"
	"bivium/internal/app"
	"bivium/internal/app/consequence"
	"bivium/internal/app/lanes"
	"bivium/internal/app/view"
)

type edits struct {
	Edits []wiring.Edit `json:"wiring"`
}

func (w *world) routes(query string) lanes.Routes {
	w.t.Helper()
	var r lanes.Routes
	w.get("/api/routes?"+query, "Routes", &r)
	return r
}

func outcome(w *world, from, to string) string {
	return string(w.ask(from, to, "tcp/443").Trace.Verdict.Outcome)
}

// TestANetworkIsPlacedOverHTTP is refused for an overlap, places a network where
// there is room, asks a question of it, and takes it back.
func TestANetworkIsPlacedOverHTTP(t *testing.T) {
	w := start(t)
	clash := edits{[]wiring.Edit{{Op: wiring.Live, Network: "bladeworks", Segment: "office"}}}
	var tried consequence.Consequence
	w.send(http.MethodPost, "/api/edit/try", body(t, clash), nil, http.StatusOK, "Consequence", &tried)
	require.NotEmpty(t, tried.Refused)
	assert.Equal(t, "F2", tried.Refused[0].Code)
	assert.Equal(t, []string{"10.40.0.0/16", "10.40.0.0/18"}, tried.Refused[0].Prefixes, "both prefixes are named")
	assert.Nil(t, tried.Effect)
	var p problem
	w.send(http.MethodPost, "/api/edit", body(t, clash), w.revision(), http.StatusUnprocessableEntity, "Problem", &p)
	assert.Contains(t, p.Problems[0].Message, "bladeworks/service")

	forbidden := edits{[]wiring.Edit{{Op: wiring.Live, Network: "tide-lab", Segment: "turbine"}, {Op: wiring.Attach, Network: "tide-lab", Hub: "delta", Cost: 1}}}
	w.send(http.MethodPost, "/api/edit/try", body(t, forbidden), nil, http.StatusOK, "Consequence", &tried)
	require.NotEmpty(t, tried.Refused, "a share would bring it where a harbour has these addresses")
	assert.Equal(t, "F3", tried.Refused[0].Code)
	require.NotEmpty(t, tried.Refused[0].Remedies)
	w.send(http.MethodPost, "/api/edit", body(t, forbidden), w.revision(), http.StatusUnprocessableEntity, "Problem", &p)
	translated := edits{append(forbidden.Edits, tried.Refused[0].Remedies[0].Edits...)}
	w.send(http.MethodPost, "/api/edit/try", body(t, translated), nil, http.StatusOK, "Consequence", &tried)
	assert.Empty(t, tried.Refused, "seen under other addresses, it may")

	place := edits{[]wiring.Edit{{Op: wiring.Live, Network: "tide-lab", Segment: "contractor"}, {Op: wiring.Attach, Network: "tide-lab", Hub: "delta", Cost: 1}}}
	w.send(http.MethodPost, "/api/edit/try", body(t, place), nil, http.StatusOK, "Consequence", &tried)
	require.Empty(t, tried.Refused)
	require.Len(t, tried.Routes, 1, "one prefix comes, at every hub")
	assert.Equal(t, consequence.RouteChange{Segment: "contractor", Prefix: "10.31.0.64/26", After: "tide-lab at delta", Hubs: []string{"delta", "fjord", "ridge"}}, tried.Routes[0])
	assert.NotEmpty(t, tried.Effect.Flows, "flows come with it")
	for _, f := range tried.Effect.Flows {
		assert.True(t, f.Before == nil || f.After == nil || f.Outcome, "%v", f)
	}
	w.send(http.MethodGet, "/api/ask?from=tide-gauge-1&to=met-desk&on=tcp/443", "", nil, http.StatusUnprocessableEntity, "Problem", nil) // trying changes nothing

	var last app.LastStep
	w.get("/api/undo", "LastStep", &last)
	assert.Equal(t, "this is the first revision", last.Why)

	before := w.routes("segment=contractor&hub=fjord")
	was := w.revision()
	w.send(http.MethodPost, "/api/edit", body(t, place), was, http.StatusOK, "Consequence", &tried)
	w.send(http.MethodPost, "/api/edit", body(t, place), was, http.StatusConflict, "Problem", nil)
	assert.Equal(t, "denied", outcome(w, "tide-gauge-1", "met-desk"), "it has a way, and no policy speaks")
	after := w.routes("segment=contractor&hub=fjord")
	assert.Equal(t, before.Total+1, after.Total)

	for _, name := range []string{"tide-lab-delta", "tide-lab@delta"} {
		var sheet view.Sheet
		w.get("/api/sheet?kind=attachment&name="+name, "Sheet", &sheet)
		assert.Len(t, sheet.History, 1, "a connection has a history, by whatever name it is asked for")
	}

	w.get("/api/undo", "LastStep", &last)
	assert.Empty(t, last.Why)
	assert.Equal(t, []inventory.Change{
		{Kind: "attachments", Name: "tide-lab-delta", What: inventory.New}, {Kind: "networks", Name: "tide-lab", What: inventory.Changed},
	}, last.Changes, "whatever else moved in its list stays unsaid")
	w.send(http.MethodPost, "/api/undo", "{}", w.revision(), http.StatusOK, "Consequence", &tried)
	assert.Equal(t, before.Rows, w.routes("segment=contractor&hub=fjord").Rows, "all is as it was")
	w.send(http.MethodPost, "/api/undo", "{}", w.revision(), http.StatusOK, "Consequence", &tried)
	assert.Equal(t, after.Rows, w.routes("segment=contractor&hub=fjord").Rows, "an undo is an edit, and can be undone")
}

// TestAShareShowsWhatItMayNotBring places a network whose addresses a share would
// bring where others have them, lets each such share show them under others, and
// asks by those.
func TestAShareShowsWhatItMayNotBring(t *testing.T) {
	w := start(t)
	place := []wiring.Edit{{Op: wiring.Live, Network: "tide-lab", Segment: "turbine"}, {Op: wiring.Attach, Network: "tide-lab", Hub: "delta", Cost: 1}}
	var tried consequence.Consequence
	shows := 0
	for range 8 {
		w.send(http.MethodPost, "/api/edit/try", body(t, edits{place}), nil, http.StatusOK, "Consequence", &tried)
		if len(tried.Refused) == 0 {
			break
		}
		var way *view.Remedy
		for _, r := range tried.Refused {
			for i := range r.Remedies {
				if r.Remedies[i].Edits[0].Op == wiring.Show {
					way = &r.Remedies[i]
				}
			}
		}
		require.NotNil(t, way, "%v", tried.Refused)
		assert.True(t, strings.HasPrefix(way.Words, "in share "+way.Edits[0].Name+", translate 10.31.0.64/26 of turbine for "), way.Words)
		place = append(place, way.Edits...)
		shows++
	}
	require.Empty(t, tried.Refused)
	require.Positive(t, shows)
	w.send(http.MethodPost, "/api/edit", body(t, edits{place}), w.revision(), http.StatusOK, "Consequence", &tried)
	var wired lanes.Lanes
	w.get("/api/lanes", "Lanes", &wired)
	var shown []wiring.Edit
	for _, s := range wired.Shares {
		for _, x := range s.Show {
			assert.Equal(t, lanes.Shown{Inside: "10.31.0.64/26", Outside: x.Outside, Segment: "turbine"}, x)
			shown = append(shown, wiring.Edit{Op: wiring.Unshow, Name: s.Name, Segment: x.Segment, Prefix: netip.MustParsePrefix(x.Inside)})
		}
	}
	require.Len(t, shown, shows)
	w.send(http.MethodPost, "/api/edit/try", body(t, edits{shown}), nil, http.StatusOK, "Consequence", &tried)
	require.NotEmpty(t, tried.Refused, "without that it would be forbidden again")
	assert.Equal(t, "F3", tried.Refused[0].Code)
	twice := []wiring.Edit{shown[0], shown[0]}
	var p problem
	w.send(http.MethodPost, "/api/edit/try", body(t, edits{twice}), nil, http.StatusUnprocessableEntity, "Problem", &p)
	assert.Equal(t, "edits[1].prefix", p.Problems[0].At)
	nobody := []wiring.Edit{{Op: wiring.Show, Name: "no-such", Segment: "turbine", Prefix: shown[0].Prefix, Outside: shown[0].Prefix}}
	w.send(http.MethodPost, "/api/edit/try", body(t, edits{nobody}), nil, http.StatusUnprocessableEntity, "Problem", &p)
	assert.Equal(t, "edits[0].name", p.Problems[0].At)
	uneven := []wiring.Edit{{Op: wiring.Show, Name: shown[0].Name, Segment: "turbine", Prefix: netip.MustParsePrefix("10.20.0.0/16"), Outside: netip.MustParsePrefix("100.80.0.0/24")}}
	w.send(http.MethodPost, "/api/edit/try", body(t, edits{uneven}), nil, http.StatusOK, "Consequence", &tried)
	require.NotEmpty(t, tried.Refused)
	assert.Equal(t, "F16", tried.Refused[0].Code)
}

// TestWhatIsWrongWithRoutesIsMendedFromTheTable finds that archive has no way
// back, takes the edit that the table offers, and sees it healed.
func TestWhatIsWrongWithRoutesIsMendedFromTheTable(t *testing.T) {
	w := start(t)
	find := func() lanes.RouteRow {
		rows := w.routes("segment=office&hub=delta&find=10.81.0.11").Rows
		require.NotEmpty(t, rows)
		require.True(t, rows[0].Wins)
		return rows[0]
	}
	row := find()
	require.Equal(t, "one-way", row.State)
	assert.Equal(t, "10.81.0.0/24", row.Prefix)
	assert.Equal(t, "no-way-back", string(w.ask("staff-1", "archive-1", "tcp/443").Trace.Verdict.Reason))
	require.NotNil(t, row.Remedy)
	w.send(http.MethodPost, "/api/edit", body(t, edits{row.Remedy.Edits}), w.revision(), http.StatusOK, "Consequence", &consequence.Consequence{})
	assert.Equal(t, "ok", find().State)
	assert.Equal(t, "allowed", outcome(w, "staff-1", "archive-1"))

	dead := w.routes("segment=turbine&hub=delta&find=10.13.1.0/24").Rows
	require.Len(t, dead, 1)
	assert.Equal(t, "nowhere", dead[0].State)
	assert.Contains(t, dead[0].Why, "outer-sound has no attachment that is up")
	var past []string
	for _, r := range w.routes("network=forecast-dev").Rows {
		if r.State == "past" && r.Remedy != nil {
			past = append(past, r.Prefix+" "+r.Next)
		}
	}
	assert.Equal(t, []string{"0.0.0.0/0 internet"}, past)

	waits := w.routes("network=head-office").Waiting
	require.Len(t, waits, 2)
	assert.Equal(t, []string{"subnet harbour-east/lan (10.31.0.0/24)"}, waits[0].Overlaps)
	accept := wiring.Edit{Op: wiring.Learn, Network: "head-office", Hub: "delta", Segment: "office", Status: "accepted"}
	require.NoError(t, accept.Prefix.UnmarshalText([]byte(waits[0].Prefix)))
	var p problem
	w.send(http.MethodPost, "/api/edit", body(t, edits{[]wiring.Edit{accept}}), w.revision(), http.StatusUnprocessableEntity, "Problem", &p)
	accept.Status = "refused"
	w.send(http.MethodPost, "/api/edit", body(t, edits{[]wiring.Edit{accept}}), w.revision(), http.StatusOK, "Consequence", &consequence.Consequence{})
	assert.Equal(t, "refused", w.routes("network=head-office").Waiting[0].Status)
}

func TestLanesSayWhereGatesReallyAre(t *testing.T) {
	w := start(t)
	var wired lanes.Lanes
	w.get("/api/lanes", "Lanes", &wired)
	assert.Len(t, wired.Networks, 18)
	gate := func(pool, hub string) []string {
		for _, g := range wired.Gates {
			if g.Pool == pool && g.Hub == hub {
				slices.Sort(g.Segments)
				return g.Segments
			}
		}
		return nil
	}
	assert.Equal(t, []string{"contractor", "market", "turbine"}, gate("breakwater", "fjord"))
	assert.Equal(t, []string{"market", "office"}, gate("tidegate", "delta"))
	for _, query := range []string{"segment=office", "segment=nowhere&hub=delta", "network=nobody"} {
		w.send(http.MethodGet, "/api/routes?"+query, "", nil, http.StatusUnprocessableEntity, "Problem", nil)
	}
}

// TestFaultsOfADocumentOfferWaysOut imports a document with an overlap and a share that
// brings an address twice, and takes each way that is offered, until there is no fault.
func TestFaultsOfADocumentOfferWaysOut(t *testing.T) {
	w := start(t)
	faulty := strings.NewReplacer(
		"{name: bench, prefix: 10.31.0.64/26}", "{name: bench, prefix: 10.31.0.64/26, segment: turbine}",
		"\nattachments:\n", "\nattachments:\n  - {network: tide-lab, hub: ridge}\n  - {network: salvage-sandbox, hub: ridge}\n",
		"\n  - name: tide-lab\n", "\n  - {name: salvage-sandbox, kind: cloud, account: velum-central, region: central, segment: office, subnets: [{name: s, prefix: 10.31.0.128/26}]}\n  - name: tide-lab\n",
	).Replace(unguarded)
	header := w.revision()
	header["Content-Type"] = "application/yaml"
	w.send(http.MethodPost, "/api/import", faulty, header, http.StatusOK, "Import", nil)
	for range 4 {
		var page view.IssuePage
		w.get("/api/issues", "Issues", &page)
		if page.Faults == 0 {
			return
		}
		f := page.Kinds[0].List[0]
		require.NotEmpty(t, f.Remedies, f.Message)
		body, err := json.Marshal(map[string]any{"wiring": f.Remedies[0].Edits})
		require.NoError(t, err)
		var tried consequence.Consequence
		w.send(http.MethodPost, "/api/edit/try", string(body), nil, http.StatusOK, "Consequence", &tried)
		require.Empty(t, tried.Refused, "%v", f.Remedies[0])
		w.send(http.MethodPost, "/api/edit", string(body), w.revision(), http.StatusOK, "Consequence", nil)
	}
	t.Fatal("each way that is taken corrects a fault, and there were two")
}
