package server_test

import (
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bivium/core/document"
	"bivium/core/trace"
	"bivium/core/verdict"
	"bivium/demo"
	"bivium/internal/app"
	"bivium/internal/app/failures"
	"bivium/internal/app/rules"
	"bivium/internal/app/view"
	"bivium/internal/standin"
)

// TestAGroupHoldsWhoItsSelectorWouldTake asks who a selector takes, makes a group of
// it, and finds the same workloads in it.
func TestAGroupHoldsWhoItsSelectorWouldTake(t *testing.T) {
	w := start(t)
	var members struct {
		Some  []string
		Count int
	}
	for _, match := range []string{"role=plc", "role in (plc, console)", "env!=prod", "role=no-such"} {
		w.get("/api/members?match="+url.QueryEscape(match), "Members", &members)
		assert.LessOrEqual(t, len(members.Some), members.Count)
		name := "g" + strings.Map(func(r rune) rune {
			if r >= 'a' && r <= 'z' {
				return r
			}
			return -1
		}, match)
		w.send(http.MethodPost, "/api/edit", putGroup(name, match), w.revision(), http.StatusOK, "Consequence", nil)
		var rows view.Rows
		w.send(http.MethodPost, "/api/rows", body(t, map[string]any{"open": []string{}, "find": name, "unplaced": false, "from": 0}), nil, http.StatusOK, "Rows", &rows)
		found := map[string]bool{}
		for _, r := range rows.Rows {
			found[r.ID] = true
		}
		for _, one := range members.Some {
			assert.True(t, found["workload:"+one], "%s takes %s", match, one)
		}
	}
	w.get("/api/members?match=role%3Dno-such", "Members", &members)
	assert.Zero(t, members.Count)
	var p problem
	for wrong, at := range map[string]int{"=plc": 1, "role in (": 10, "role in plc": 9} {
		w.send(http.MethodGet, "/api/members?match="+url.QueryEscape(wrong), "", nil, http.StatusUnprocessableEntity, "Problem", &p)
		assert.NotEmpty(t, p.Problems[0].Message, wrong)
		assert.NotEmpty(t, p.Problems[0].Fix, wrong)
		assert.Equal(t, at, p.Problems[0].Character, wrong)
		group := fmt.Sprintf(`{"operations": [{"op": "put", "kind": "group", "object": {"name": "g", "match": %q}}]}`, wrong)
		w.send(http.MethodPost, "/api/edit/try", group, w.revision(), http.StatusUnprocessableEntity, "Problem", &p)
		assert.Equal(t, at, p.Problems[0].Character, "as a field of an edit: %s", wrong)
	}
}

// TestStatesAreWhatAccountsSay connects an account, whose hub is down, and one that
// does not answer: the first is told, the other is named.
func TestStatesAreWhatAccountsSay(t *testing.T) {
	w := start(t)
	_, c := outside(t, "cirra", 3)
	w.send(http.MethodPost, "/api/accounts", body(t, c), nil, http.StatusCreated, "", nil)
	w.send(http.MethodPost, "/api/accounts/many/reading", "{}", nil, http.StatusAccepted, "", nil)
	w.reading("many")
	var states app.States
	w.send(http.MethodPost, "/api/states", "{}", nil, http.StatusOK, "States", &states)
	down := 0
	for _, s := range states.States {
		if s.Name == "fjord" && s.State == "down" {
			down++
			assert.Equal(t, "a test", s.Why)
			assert.Equal(t, "many", s.Account)
		}
	}
	assert.Equal(t, 1, down, "%v", states.States)
	assert.Empty(t, states.Silent)
	var again app.States
	w.send(http.MethodPost, "/api/states", "{}", nil, http.StatusOK, "States", &again)
	assert.Equal(t, states.At, again.At, "accounts are not asked again at once")

	var sessions app.Sessions
	w.get("/api/sessions", "Sessions", &sessions)
	require.Len(t, sessions.Sessions, 1, "the demo names one router, and nobody listens here")
	assert.Equal(t, "never", sessions.Sessions[0].State)
}

// TestAReadingIsStopped begins a sync of a slow account, stops it, and finds it
// stopped, with the estate as it was.
func TestAReadingIsStopped(t *testing.T) {
	w := start(t)
	world, c := outside(t, "velum", 4000)
	require.NoError(t, world.Fail("many", standin.Fault{Kind: "none", Wait: 30}))
	w.send(http.MethodPost, "/api/accounts", body(t, c), nil, http.StatusCreated, "", nil)
	before := w.revision()
	w.send(http.MethodPost, "/api/accounts/many/reading", "{}", nil, http.StatusAccepted, "", nil)
	w.send(http.MethodDelete, "/api/accounts/many/reading", "{}", nil, http.StatusNoContent, "", nil)
	last := w.reading("many")
	assert.NotEqual(t, "running", last.State)
	if last.State != "done" { // it may have been that quick
		assert.Equal(t, before, w.revision())
	}
	w.send(http.MethodDelete, "/api/accounts/many/reading", "{}", nil, http.StatusNoContent, "", nil) // nothing runs, and nothing happens
}

// TestWhatIsNotThereIsSaid asks every place for things that are not there, and for
// questions that are none: each answer says what, where and how to fix it.
func TestWhatIsNotThereIsSaid(t *testing.T) {
	w := start(t)
	for path, status := range map[string]int{
		"/api/object?kind=policy&name=no-such":                http.StatusNotFound,
		"/api/sheet?kind=network&name=no-such":                http.StatusNotFound,
		"/api/sheet?kind=no-such&name=x":                      http.StatusNotFound,
		"/api/routes?segment=no-such&hub=delta":               http.StatusUnprocessableEntity,
		"/api/routes?segment=office&hub=no-such":              http.StatusUnprocessableEntity,
		"/api/routes?network=no-such":                         http.StatusUnprocessableEntity,
		"/api/ask?from=nobody&to=crew-1&on=web":               http.StatusUnprocessableEntity,
		"/api/ask?from=crew-1&to=crew-1&on=no-such":           http.StatusUnprocessableEntity,
		"/api/rules/deciding?from=nobody":                     http.StatusUnprocessableEntity,
		"/api/rules/deciding?from=internet&to=internet":       http.StatusUnprocessableEntity,
		"/api/rules/deciding?outcome=perhaps":                 http.StatusUnprocessableEntity,
		"/api/trace?from=crew-1&to=999.1.1.1&on=web":          http.StatusUnprocessableEntity,
		"/api/cell?row=segment:no-such&column=segment:office": http.StatusUnprocessableEntity,
		"/api/cells?row=no-such&col=0":                        http.StatusUnprocessableEntity,
		"/api/no-such":                                        http.StatusNotFound,
	} {
		r := w.send(http.MethodGet, path, "", nil, status, "", nil)
		assert.Contains(t, r.Header.Get("Content-Type"), "json", path)
	}
	w.send(http.MethodPost, "/api/networks/no-such/rules", "{}", nil, http.StatusUnprocessableEntity, "Problem", nil)
	w.send(http.MethodPost, "/api/accounts/no-such/health", "{}", nil, http.StatusUnprocessableEntity, "Problem", nil)
	w.send(http.MethodDelete, "/api/accounts/no-such", "{}", nil, http.StatusNotFound, "Problem", nil)
	w.send(http.MethodPost, "/api/demo", "{}", w.revision(), http.StatusUnprocessableEntity, "Problem", nil) // it never replaces an estate that has something
}

// TestWhatEachRuleDecides reads the demo's rulebook of the turbines and a policy with a rule that
// another one contains; the path of each witness is told of by that rule.
func TestWhatEachRuleDecides(t *testing.T) {
	w := start(t)
	var book, web rules.Decided
	w.get("/api/rules/decided?of=rulebook:control", "Decided", &book)
	w.get("/api/rules/decided?of=policy:offices-web", "Decided", &web)
	require.Len(t, book.Rules, 4)
	for _, r := range book.Rules[:3] {
		require.Len(t, r.Flows, 1)
		x := r.Flows[0].Witness
		assert.Equal(t, verdict.Inspected, r.Flows[0].Outcome)
		var road view.Road
		w.get("/api/trace?"+url.Values{"from": {x.From}, "to": {x.To}, "on": {x.On}}.Encode(), "Road", &road)
		require.NotEmpty(t, road.Trace.Pools)
		assert.Equal(t, fmt.Sprint("control ", r.Rule), fmt.Sprint(road.Trace.Pools[0].Rulebook, " ", road.Trace.Pools[0].Rule))
	}
	assert.Empty(t, book.Rules[3].Flows, "what it would drop is not steered to it")
	assert.Empty(t, book.Rules[3].ShadowedBy)
	require.Len(t, web.Rules, 3)
	assert.Len(t, web.Rules[0].Flows, 2, "web is inspected, but the rulebook drops udp/443")
	assert.Empty(t, web.Rules[2].Flows)
	assert.Equal(t, []int{2}, web.Rules[2].ShadowedBy)
	w.send(http.MethodGet, "/api/rules/decided?of=rulebook:controls", "", nil, http.StatusUnprocessableEntity, "Problem", nil)
}

// TestTheScopeHoldsWhatItDecides takes the flows that each rule of the demo decides: the networks at
// their ends are lit, on the right side, and the pools that they pass, at their hubs; and the cell of
// the board that an object is alone in is told of.
func TestTheScopeHoldsWhatItDecides(t *testing.T) {
	w := start(t)
	e, err := document.Read(demo.Grayshoal)
	require.NoError(t, err)
	var of []string
	for i := range e.Policies {
		if e.Policies[i].Enabled {
			of = append(of, "policy:"+e.Policies[i].Name)
		}
	}
	for i := range e.Shares {
		of = append(of, "share:"+e.Shares[i].Name)
	}
	looked := 0
	for _, name := range of {
		var scope rules.Scope
		var decided rules.Decided
		w.get("/api/rules/scope?of="+name, "ObjectScope", &scope)
		w.get("/api/rules/decided?of="+name, "Decided", &decided)
		assert.Zero(t, scope.More)
		holds := func(side *rules.ScopeSide, end *trace.EndView) bool {
			if !end.Internal {
				return side.Internet
			}
			return slices.Contains(side.Places, rules.Place{Network: end.Network, Segment: end.Segment})
		}
		for _, r := range decided.Rules {
			for _, f := range r.Flows {
				var road view.Road
				w.get("/api/trace?"+url.Values{"from": {f.Witness.From}, "to": {f.Witness.To}, "on": {f.Witness.On}, "publication": {f.Witness.Publication}}.Encode(), "Road", &road)
				x := road.Trace
				assert.True(t, holds(&scope.From, &x.Source), "%s: source %v of %v", name, x.Source, scope.From)
				assert.True(t, holds(&scope.To, &x.Destination), "%s: destination %v of %v", name, x.Destination, scope.To)
				for _, p := range x.Pools {
					assert.True(t, !slices.Contains(scope.Pools, p.Pool) || p.Hub == "" || slices.ContainsFunc(scope.Passes, func(at rules.Pass) bool { return at.Pool == p.Pool && at.Hub == p.Hub }), "%s: %v of %v", name, p, scope.Passes)
				}
				looked++
			}
		}
	}
	assert.Greater(t, looked, 30)
	var pool, group, share rules.Scope
	w.get("/api/rules/scope?of=pool:tidegate", "ObjectScope", &pool)
	assert.Contains(t, pool.Passes, rules.Pass{Pool: "tidegate", Hub: "delta", From: "office", To: ""})
	assert.Contains(t, pool.Cells, rules.ScopeCell{Row: "office", Col: "internet"})
	w.get("/api/rules/scope?of=group:crews", "ObjectScope", &group)
	assert.Equal(t, []rules.ScopeCell{{Row: "office/crews", Col: "*"}, {Row: "*", Col: "office/crews"}}, group.Cells)
	w.get("/api/rules/scope?of=share:historian-to-forecast", "ObjectScope", &share)
	assert.Equal(t, []rules.ScopeCell{{Row: "market/forecasters", Col: "turbine/historian"}}, share.Cells)
	w.send(http.MethodGet, "/api/rules/scope?of=service:web", "", nil, http.StatusUnprocessableEntity, "Problem", nil)
}

// TestWhatDecidesAFlowIsFound asks about flows of the demo one by one, and finds what decides each of
// them by either of its ends, and by its service.
func TestWhatDecidesAFlowIsFound(t *testing.T) {
	w := start(t)
	names := []string{"crew-1", "operator-1", "kelp-plc-1", "forecast-1", "trader-1", "historian-1", "staff-1", "jump-1", "blade-crew-1", "portal-web-1", "internet"}
	found := map[string]*view.Deciding{}
	lists := func(query url.Values, want *verdict.Verdict) bool {
		if found[query.Encode()] == nil {
			found[query.Encode()] = &view.Deciding{}
			w.get("/api/rules/deciding?"+query.Encode(), "Deciding", found[query.Encode()])
		}
		d := found[query.Encode()]
		require.Zero(t, d.Hidden)
		for _, by := range want.By {
			if !slices.ContainsFunc(d.Deciders, func(x view.Decider) bool {
				return x.Thing.Name == by && x.Reason == want.Reason && x.Outcome == want.Outcome
			}) {
				return false
			}
		}
		return true
	}
	looked := 0
	for _, from := range names {
		for _, to := range names {
			for _, on := range []string{"web", "ssh", "sql", "modbus"} {
				if from == to {
					continue
				}
				a := w.ask(from, to, on)
				for _, l := range a.Lines {
					for _, p := range l.Parts {
						if len(p.Verdict.By) == 0 {
							continue
						}
						looked++
						for _, query := range []url.Values{{"from": {from}}, {"to": {to}}, {"on": {on}}, {"from": {from}, "to": {to}, "outcome": {string(p.Verdict.Outcome)}}} {
							assert.True(t, lists(query, &p.Verdict), "%v: %s → %s on %s is decided by %v", query, from, to, on, p.Verdict)
						}
					}
				}
			}
		}
	}
	assert.Greater(t, looked, 20)
}

// TestWhatFailuresWouldChange looks at all single failures of the demo, and at those of one hub and of
// the firewalls of one pool.
func TestWhatFailuresWouldChange(t *testing.T) {
	w := start(t)
	var all, hub, pool, none failures.Failures
	w.get("/api/failures", "Failures", &all)
	assert.Equal(t, all.Looked, all.Quiet+len(all.List))
	for i := range all.List[1:] {
		assert.GreaterOrEqual(t, len(all.List[i].Breaks), len(all.List[i+1].Breaks), "what breaks the most comes first")
	}
	w.get("/api/failures?of=hub:fjord", "Failures", &hub)
	require.Len(t, hub.List, 1)
	assert.Contains(t, all.List, hub.List[0])
	assert.True(t, slices.ContainsFunc(hub.List[0].Breaks, func(b failures.BrokenView) bool { return b.Expectation == "forecast-reads-historian" }))
	for _, turn := range hub.List[0].Turns {
		a := w.ask(turn.Witness.From, turn.Witness.To, turn.Witness.On)
		assert.Equal(t, turn.Before, a.Lines[0].Parts[0].Verdict.Outcome, "%+v", turn)
	}
	w.get("/api/failures?of=pool:tidegate", "Failures", &pool)
	assert.Equal(t, 2, pool.Looked, "of three firewalls, one is down already")
	w.get("/api/failures?of=hub:no-such", "Failures", &none)
	assert.Zero(t, none.Looked)
}

// TestFindingsOfAnOwner narrows the findings to those of segments that somebody owns.
func TestFindingsOfAnOwner(t *testing.T) {
	w := startGuarded(t)
	w.be("mira")
	var all, owned view.IssuePage
	w.get("/api/issues", "Issues", &all)
	require.Len(t, all.Owners, 1)
	assert.Equal(t, "farm-operations", all.Owners[0].Name)
	w.get("/api/issues?owner=farm-operations", "Issues", &owned)
	found := 0
	for _, kind := range owned.Kinds {
		found += kind.Count
		for _, x := range kind.List {
			assert.Contains(t, x.Segments, "turbine", x.Message)
		}
	}
	assert.Equal(t, all.Owners[0].Count, found)
	assert.Less(t, found, all.Findings)
}
