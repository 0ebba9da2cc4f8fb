package server_test

import (
	"bufio"
	"encoding/json"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bivium/core/estate"
	"bivium/demo"
	"bivium/internal/app"
	"bivium/internal/app/consequence"
	"bivium/internal/app/drafts"
	"bivium/internal/app/history"
	"bivium/internal/app/view"
	"bivium/internal/people"
	"bivium/internal/standin"
	"bivium/internal/wording"
)

// cast adds people of the demo to a world, and lets anybody be them.
func (w *world) cast() {
	w.t.Helper()
	for name, roles := range map[string][]people.Role{
		"mira": {people.Engineer, people.Operator}, "ove": {people.Engineer, people.Operator}, "tove": {people.Approver, people.Engineer}, "sol": {people.Auditor},
	} {
		p := people.Person{Name: name, Called: strings.ToUpper(name), Active: true}
		for _, r := range roles {
			p.Grants = append(p.Grants, people.Grant{Role: r})
		}
		require.NoError(w.t, w.people.Put(w.t.Context(), people.System("test"), p))
	}
	require.NoError(w.t, w.people.PutTeam(w.t.Context(), people.System("test"), people.Team{Name: "farm-operations", Members: []string{"tove"}}))
	w.people.OpenDoors("tester", "mira", "ove", "tove", "sol")
}

func (w *world) begin(name string) int64 {
	w.t.Helper()
	var d drafts.Summary
	w.send(http.MethodPost, "/api/drafts", `{"name": "`+name+`"}`, nil, http.StatusCreated, "Draft", &d)
	return d.ID
}

func (w *world) review(id int64) *drafts.Review {
	w.t.Helper()
	var r drafts.Review
	w.get(fmt.Sprint("/api/drafts/", id), "DraftReview", &r)
	return &r
}

// edits adds operations to a draft.
func (w *world) edits(id int64, operations string) *consequence.Consequence {
	w.t.Helper()
	var out consequence.Consequence
	path := fmt.Sprint("/api/edit?draft=", id)
	w.send(http.MethodPost, path, `{"operations": [`+operations+`]}`, version(w.review(id)), http.StatusOK, "Consequence", &out)
	return &out
}

func version(r *drafts.Review) map[string]string {
	return map[string]string{"If-Match": fmt.Sprintf(`"%d"`, r.Version)}
}

// does sends something about a draft, and returns it as it is by then.
func (w *world) does(id int64, what, body string, status int) *drafts.Review {
	w.t.Helper()
	var r drafts.Review
	if status != http.StatusOK {
		w.send(http.MethodPost, fmt.Sprintf("/api/drafts/%d/%s", id, what), body, version(w.review(id)), status, "Problem", nil)
		return nil
	}
	w.send(http.MethodPost, fmt.Sprintf("/api/drafts/%d/%s", id, what), body, version(w.review(id)), status, "DraftReview", &r)
	return &r
}

func (w *world) says(where, from, to, on string) string {
	w.t.Helper()
	var a view.Answer
	w.get("/api/ask?from="+from+"&to="+to+"&on="+on+where, "Answer", &a)
	return wording.Plain(a.Sentence)
}

const contractorsIn = `{"op": "put", "kind": "share", "base": "absent", "object": {"name": "blades-to-plcs", "owner": {"segment": "turbine", "groups": ["controllers"]},
	"guest": {"segment": "contractor", "groups": ["blade-crews"]}, "rules": [{"services": ["tcp/8443"], "action": "inspect", "pool": "breakwater"}]}},
	{"op": "put", "kind": "rulebook", "object": {"name": "control", "rules": [
		{"from": ["blade-crews"], "to": ["controllers"], "services": ["tcp/8443"], "action": "pass"},
		{"from": ["operators"], "to": ["controllers"], "services": ["modbus", "opc-ua"], "action": "pass"},
		{"from": ["forecasters"], "to": ["historian"], "services": ["read-api"], "action": "pass"},
		{"from": ["blade-crews"], "to": ["jump-hosts"], "services": ["ssh", "rdp"], "action": "pass"}]}}`

// TestADraftIsReviewedApprovedAndApplied is the way of an edit that opens a guarded segment.
func TestADraftIsReviewedApprovedAndApplied(t *testing.T) {
	w := startGuarded(t)
	w.be("mira")
	revision := w.app.Now().Revision
	w.send(http.MethodPost, "/api/edit", `{"operations": [`+contractorsIn+`]}`, w.revision(), http.StatusUnprocessableEntity, "Problem", nil)

	id := w.begin("blades")
	tried := w.edits(id, contractorsIn)
	assert.NotEmpty(t, tried.Effect.Flows)
	assert.Contains(t, w.says("", "blade-crew-1", "kelp-plc-1", "tcp/8443"), "Unrouted")
	where := fmt.Sprint("&draft=", id)
	assert.Contains(t, w.says(where, "blade-crew-1", "kelp-plc-1", "tcp/8443"), "Inspected by breakwater")
	w.get("/api/board?"+where[1:], "Board", nil)
	w.get("/api/lanes?"+where[1:], "Lanes", nil)
	w.get("/api/issues?"+where[1:], "Issues", nil)
	assert.Equal(t, revision, w.app.Now().Revision, "nothing else changes")

	r := w.does(id, "state", `{"state": "review"}`, http.StatusOK)
	require.Len(t, r.Asked, 1)
	assert.Equal(t, "turbine", r.Asked[0].Segment)
	assert.Equal(t, []string{"TOVE"}, r.Asked[0].Members)
	require.NotEmpty(t, r.Asked[0].Flows)
	assert.Equal(t, "contractor", r.Asked[0].Flows[0].From)
	assert.False(t, r.Asked[0].May)
	w.does(id, "approval", "{}", http.StatusForbidden)
	w.does(id, "application", "{}", http.StatusUnprocessableEntity)

	w.be("tove")
	w.does(id, "comments", `{"about": "", "text": "until when?"}`, http.StatusOK)
	r = w.does(id, "approval", "{}", http.StatusOK)
	assert.Equal(t, "approved", r.State)
	require.NotNil(t, r.Asked[0].Approved)

	w.be("mira")
	r = w.does(id, "application", "{}", http.StatusOK)
	assert.Equal(t, "applied", r.State)
	assert.Equal(t, revision+1, r.Revision)
	assert.Contains(t, w.says("", "blade-crew-1", "kelp-plc-1", "tcp/8443"), "Inspected by breakwater")
	var blame history.Blame
	w.get("/api/blame?from=blade-crew-1&to=kelp-plc-1&on=tcp/8443", "Blame", &blame)
	require.NotEmpty(t, blame.Since)
	assert.Equal(t, revision+1, blame.Since[0].Number)
	assert.Equal(t, []string{"TOVE for turbine"}, blame.Since[0].Note.Approvals)
	assert.Contains(t, wording.Plain(blame.Since[0].Was), "Unrouted")

	assert.Contains(t, w.says(fmt.Sprint("&at=", revision), "blade-crew-1", "kelp-plc-1", "tcp/8443"), "Unrouted", "as it was")
	w.send(http.MethodPost, fmt.Sprint("/api/edit?at=", revision), `{"operations": [`+contractorsIn+`]}`, w.revision(), http.StatusUnprocessableEntity, "Problem", nil)
	var compared history.Comparison
	w.get(fmt.Sprintf("/api/compare?from=%d&to=%d", revision, revision+1), "Comparison", &compared)
	require.Len(t, compared.Objects, 2)

	var back drafts.Summary
	w.send(http.MethodPost, fmt.Sprintf("/api/revisions/%d/roll-back", revision+1), "{}", nil, http.StatusCreated, "Draft", &back)
	r = w.review(back.ID)
	assert.Empty(t, r.Conflicts)
	assert.Empty(t, r.CanApply, "closing asks no one")
	w.does(back.ID, "application", "{}", http.StatusOK)
	assert.Contains(t, w.says("", "blade-crew-1", "kelp-plc-1", "tcp/8443"), "Unrouted")

	w.restart()
	w.cast()
	w.be("sol")
	var revisions struct{ Entries []history.Entry }
	w.get("/api/revisions", "", &revisions)
	assert.Equal(t, "roll-back-"+fmt.Sprint(revision+1), revisions.Entries[0].Note.Name)
	assert.Equal(t, "applied", w.review(id).State)
	entries, err := w.people.Audit().Last(t.Context(), 0, "blades", 50)
	require.NoError(t, err)
	var what []string
	for _, e := range entries {
		what = append(what, e.What)
	}
	assert.Subset(t, what, []string{"draft begun", "draft changed", "draft review", "draft approved", "draft applied"})
}

// TestApprovalsAreNotEvaded tries to get more past an owner than they saw.
func TestApprovalsAreNotEvaded(t *testing.T) {
	w := startGuarded(t)
	w.be("mira")
	id := w.begin("blades")
	w.edits(id, contractorsIn)
	w.does(id, "state", `{"state": "review"}`, http.StatusOK)
	w.be("tove")
	w.does(id, "approval", "{}", http.StatusOK)

	w.be("mira")
	w.edits(id, strings.ReplaceAll(strings.ReplaceAll(contractorsIn, "blades-to-plcs", "more"), "8443", "502"))
	r := w.review(id)
	assert.Equal(t, "review", r.State)
	assert.Nil(t, r.Asked[0].Approved, "another class of change came")
	assert.Equal(t, "the draft changes other flows now", r.Approvals[0].Why)
	w.does(id, "application", "{}", http.StatusUnprocessableEntity)
	w.does(id, "undo", "{}", http.StatusOK)
	w.be("tove")
	w.does(id, "approval", "{}", http.StatusOK)
	w.edits(id, `{"op": "put", "kind": "group", "base": "absent", "object": {"name": "new-ones", "match": "role=new"}}`)
	assert.Equal(t, "the approver has changed the draft since", w.review(id).Approvals[0].Why)

	// Withdrawn from review, changed, and applied: what was approved is not what it is by now.
	w.be("mira")
	third := w.begin("withdrawn")
	w.edits(third, contractorsIn)
	w.does(third, "state", `{"state": "review"}`, http.StatusOK)
	w.be("tove")
	w.does(third, "approval", "{}", http.StatusOK)
	w.be("mira")
	w.does(third, "state", `{"state": "open"}`, http.StatusOK)
	w.edits(third, strings.ReplaceAll(strings.ReplaceAll(contractorsIn, "blades-to-plcs", "more"), "8443", "502"))
	w.does(third, "application", "{}", http.StatusUnprocessableEntity)
	w.does(third, "state", `{"state": "discarded"}`, http.StatusOK)

	w.be("tester")
	guard := w.begin("no-owners")
	w.edits(guard, `{"op": "put", "kind": "segment", "object": {"name": "turbine"}}`)
	r = w.does(guard, "state", `{"state": "review"}`, http.StatusOK)
	assert.True(t, r.Asked[0].Guard)
	w.does(guard, "application", `{"emergency": "I want to"}`, http.StatusUnprocessableEntity)
	assert.NotEmpty(t, r.Asked[0].WhyNot)

	emergency := w.begin("now")
	w.edits(emergency, contractorsIn)
	w.does(emergency, "application", "{}", http.StatusUnprocessableEntity)
	w.does(emergency, "application", `{"emergency": "turbine 4 does not stop"}`, http.StatusOK)
	revision := w.app.Now().Revision
	w.send(http.MethodPost, fmt.Sprintf("/api/revisions/%d/review", revision), "{}", nil, http.StatusUnprocessableEntity, "Problem", nil)
	w.be("tove")
	w.send(http.MethodPost, fmt.Sprintf("/api/revisions/%d/review", revision), "{}", nil, http.StatusNoContent, "", nil)
}

// TestTwoDraftsOfOnePolicy lets the second come into conflict with the first, and decides it.
func TestTwoDraftsOfOnePolicy(t *testing.T) {
	w := startGuarded(t)
	w.be("mira")
	var opened struct {
		Object map[string]any
		Base   string
	}
	w.get("/api/object?kind=policy&name=dev-not-prod", "", &opened)
	require.NotEmpty(t, opened.Base)
	change := func(description string) string {
		opened.Object["description"] = description
		return `{"op": "put", "kind": "policy", "base": "` + opened.Base + `", "object": ` + asJSON(t, opened.Object) + `}`
	}
	first, second := w.begin("first"), w.begin("second")
	w.edits(first, change("by the first"))
	w.be("ove")
	w.edits(second, change("by the second"))
	w.edits(second, `{"op": "put", "kind": "group", "base": "absent", "object": {"name": "apart", "match": "role=apart"}}`)
	w.be("mira")
	w.does(first, "application", "{}", http.StatusOK)

	r := w.review(second)
	require.Len(t, r.Conflicts, 1)
	c := r.Conflicts[0]
	assert.Equal(t, view.Thing{Kind: "policy", Name: "dev-not-prod"}, c.Thing)
	assert.NotContains(t, c.Was, "by the")
	assert.Contains(t, c.Now, "by the first")
	assert.Contains(t, c.Mine, "by the second")
	assert.Len(t, r.Objects, 1, "what is not in conflict stands")
	w.does(second, "application", "{}", http.StatusUnprocessableEntity)
	r = w.does(second, "conflict", `{"kind": "policy", "name": "dev-not-prod", "mine": true}`, http.StatusOK)
	assert.Empty(t, r.Conflicts)
	assert.Len(t, r.Objects, 2)
	w.does(second, "application", "{}", http.StatusOK)
	w.get("/api/object?kind=policy&name=dev-not-prod", "", &opened)
	assert.Equal(t, "by the second", opened.Object["description"])
}

// TestWhatASyncChangedMeanwhileIsKept writes a link in a draft as it was seen before it went
// down: that it is down is not the author's to say.
func TestWhatASyncChangedMeanwhileIsKept(t *testing.T) {
	w := start(t)
	id := w.begin("costs")
	type link struct {
		Object   map[string]any
		Base     string
		Revision int64
	}
	path := fmt.Sprint("/api/object?kind=link&name=fjord-delta&draft=", id)
	var seen link
	w.get(path, "", &seen)
	require.NotContains(t, seen.Object, "state")
	down := maps.Clone(seen.Object)
	down["state"] = "down"
	w.send(http.MethodPost, "/api/edit", `{"operations": [{"op": "put", "kind": "link", "base": "`+seen.Base+`", "object": `+asJSON(t, down)+`}]}`, w.revision(), http.StatusOK, "Consequence", nil)

	seen.Object["cost"] = 50
	header := map[string]string{"If-Match": fmt.Sprintf(`"%d"`, seen.Revision)}
	w.send(http.MethodPost, fmt.Sprint("/api/edit?draft=", id), `{"operations": [{"op": "put", "kind": "link", "base": "`+seen.Base+`", "object": `+asJSON(t, seen.Object)+`}]}`, header, http.StatusOK, "Consequence", nil)
	var is link
	w.get(path, "", &is)
	assert.Equal(t, "down", is.Object["state"])
	assert.EqualValues(t, 50, is.Object["cost"])
	w.does(id, "application", "{}", http.StatusOK)
	w.get("/api/object?kind=link&name=fjord-delta", "", &is)
	assert.Equal(t, "down", is.Object["state"])
}

// TestWhoSettlesAConflictDoesNotApprove lets the owner decide the only conflict of a draft, for
// TestFindingsThatADraftBrings switches a policy off whose rulebook then has nothing to decide, and on
// again: what the draft tells of findings is what the findings of both estates differ in.
func TestADraftSaysThatOthersChangedWhatItDoes(t *testing.T) {
	w := startGuarded(t)
	w.be("mira")
	rule := func(name, action string) string {
		return fmt.Sprintf(`{"op": "put", "kind": "policy", "base": "absent", "object": {"name": %q, "segments": ["market"], "from": ["traders"], "to": ["price-databases"],
			"rules": [{"services": ["tcp/9123"], "action": %q}]}}`, name, action)
	}
	opens := w.begin("opens")
	w.edits(opens, rule("opens", "allow"))
	before := w.review(opens)
	require.NotEmpty(t, before.Consequence.Effect.Flows)
	require.Nil(t, before.Rebased)

	aside := w.begin("aside") // says nothing of these flows
	w.edits(aside, `{"op": "put", "kind": "group", "base": "absent", "object": {"name": "apart", "match": "role=apart"}}`)
	w.does(aside, "application", "{}", http.StatusOK)
	assert.Nil(t, w.review(opens).Rebased, "it stands on another revision, and does the same")

	closes := w.begin("closes")
	w.edits(closes, rule("closes", "deny"))
	w.does(closes, "application", "{}", http.StatusOK)
	r := w.review(opens)
	require.NotNil(t, r.Rebased)
	assert.Equal(t, w.app.Now().Revision, r.Rebased.To)
	assert.Equal(t, []string{"market to market on tcp/9123: denied (conflict) instead of denied"}, r.Rebased.New)
	require.NotEmpty(t, r.Rebased.Gone)
	assert.Contains(t, r.Rebased.Gone[0], "tcp/9123: allowed instead of denied")
	assert.NotNil(t, w.review(opens).Rebased, "whoever looks next reads it too")

	w.edits(opens, `{"op": "put", "kind": "group", "base": "absent", "object": {"name": "more", "match": "role=more"}}`)
	assert.Nil(t, w.review(opens).Rebased, "somebody wrote in it since")
}

func TestFindingsThatADraftBrings(t *testing.T) {
	w := startGuarded(t)
	w.be("mira")
	id := w.begin("quiet")
	switched := func(on bool) (*view.IssueChanges, *view.IssuePage) {
		w.edits(id, fmt.Sprintf(`{"op": "put", "kind": "policy", "object": {"name": "operators-control", "enabled": %t, "segments": ["turbine"], "from": ["operators"], "to": ["controllers"],
			"rules": [{"services": ["modbus", "opc-ua"], "action": "inspect", "pool": "breakwater"}, {"services": ["any"], "action": "deny"}]}}`, on))
		var found view.IssueChanges
		w.get(fmt.Sprintf("/api/drafts/%d/findings", id), "IssueChanges", &found)
		var all view.IssuePage
		w.get(fmt.Sprint("/api/issues?draft=", id), "Issues", &all)
		return &found, &all
	}
	found, all := switched(false)
	require.Len(t, found.New, 1)
	assert.Equal(t, "rule 1 of rulebook control matches no flow", found.New[0].Issue.Message)
	assert.Equal(t, all.Findings, found.After)
	assert.Equal(t, found.After, found.Before+len(found.New)-len(found.Gone))
	found, _ = switched(true)
	assert.Empty(t, found.New)
	assert.Empty(t, found.Gone)
}

// TestWhoSettlesAConflictDoesNotApprove lets an owner settle a conflict of somebody's draft by taking
// what is applied, so that the step is gone: they have had a part in it all the same.
func TestWhoSettlesAConflictDoesNotApprove(t *testing.T) {
	w := startGuarded(t)
	w.be("mira")
	var opened struct {
		Object map[string]any
		Base   string
	}
	w.get("/api/object?kind=policy&name=dev-not-prod", "", &opened)
	change := func(description string) string {
		opened.Object["description"] = description
		return `{"op": "put", "kind": "policy", "base": "` + opened.Base + `", "object": ` + asJSON(t, opened.Object) + `}`
	}
	first, second := w.begin("first"), w.begin("second")
	w.edits(first, change("by the first"))
	w.edits(second, change("by the second"))
	w.edits(second, contractorsIn)
	w.does(first, "application", "{}", http.StatusOK)
	w.be("tove")
	r := w.does(second, "conflict", `{"kind": "policy", "name": "dev-not-prod", "mine": false}`, http.StatusOK)
	assert.Empty(t, r.Conflicts)
	w.be("mira")
	w.does(second, "state", `{"state": "review"}`, http.StatusOK)
	w.be("tove")
	r = w.review(second)
	assert.Contains(t, r.Asked[0].WhyNot, "settled a conflict")
	w.does(second, "approval", "{}", http.StatusUnprocessableEntity)
}

// TestPeopleInADraftSeeEachOther listens to a draft: to others in it, and to what changes the
// estate that it stands on, which no draft has to be.
func TestPeopleInADraftSeeEachOther(t *testing.T) {
	w := startGuarded(t)
	w.be("mira")
	id := w.begin("together")
	r, err := http.NewRequestWithContext(t.Context(), http.MethodGet, fmt.Sprint(w.http.URL, "/api/events?draft=", id), nil)
	require.NoError(t, err)
	answer, err := w.http.Client().Do(r)
	require.NoError(t, err)
	defer answer.Body.Close() //nolint:errcheck // the test ends
	lines := bufio.NewScanner(answer.Body)
	hears := func(text string) {
		t.Helper()
		for lines.Scan() {
			if strings.Contains(lines.Text(), text) {
				return
			}
		}
		t.Fatalf("%q was never said", text)
	}
	hears(`"called":"MIRA"`)
	w.be("ove")
	w.edits(id, `{"op": "put", "kind": "group", "base": "absent", "object": {"name": "apart", "match": "role=apart"}}`)
	hears(`"kind":"draft"`)
	w.be("mira")
	w.send(http.MethodPut, fmt.Sprintf("/api/drafts/%d/open", id), `{"object": "group/apart"}`, nil, http.StatusNoContent, "", nil)
	hears(`"open":"group/apart"`)
	w.send(http.MethodPost, "/api/edit", operation(mapping(object{"key": "env", "label": "env"})), w.revision(), http.StatusOK, "Consequence", nil)
	hears(`"kind":"estate"`)
}

func asJSON(t *testing.T, value any) string {
	t.Helper()
	text, err := json.Marshal(value)
	require.NoError(t, err)
	return string(text)
}

// connectsNorth maps tags as the demo does, and connects and syncs one of its accounts. It returns what
// syncs it, and what lets a machine come up in it.
func (w *world) connectsNorth() (sync func(), comes func(machine string)) {
	w.t.Helper()
	outside, err := standin.Read(demo.World)
	require.NoError(w.t, err)
	running, err := outside.Serve(w.t.Context(), 0)
	require.NoError(w.t, err)
	w.t.Cleanup(func() { _ = running.Close() })
	_, err = w.app.Make(w.t.Context(), &app.Edit{Edit: demo.MapTags()}, "test")
	require.NoError(w.t, err)
	c := outside.Credentials()["cirra-north"]
	_, err = w.app.Connect(w.t.Context(), app.Connection{Name: "cirra-north", Provider: c[0], Endpoint: running.Endpoints[c[0]], Account: "cirra-north", Key: c[1], Secret: c[2]}, "test")
	require.NoError(w.t, err)
	sync = func() {
		w.t.Helper()
		w.send(http.MethodPost, "/api/accounts/cirra-north/reading", "", map[string]string{"Content-Type": "application/json"}, http.StatusAccepted, "Reading", nil)
		require.Equal(w.t, "done", w.reading("cirra-north").State)
	}
	sync()
	return sync, func(machine string) {
		w.t.Helper()
		r, err := http.NewRequestWithContext(w.t.Context(), http.MethodPut, running.Play+"/accounts/cirra-north/machines", strings.NewReader(machine))
		require.NoError(w.t, err)
		r.Header.Set("Content-Type", "application/json")
		answer, err := http.DefaultClient.Do(r)
		require.NoError(w.t, err)
		require.NoError(w.t, answer.Body.Close())
		sync()
	}
}

// TestAMappingOfTagsIsPartOfADraft lets a draft map a tag so that a machine becomes a jump host: it shows
// there alone, its owner is asked, what is set by hand beside it stays, and it can be rolled back.
func TestAMappingOfTagsIsPartOfADraft(t *testing.T) {
	w := startGuarded(t)
	sync, comes := w.connectsNorth()
	comes(`{"id":"m-jump","name":"Jump 9","network":"net-telemetry","addresses":["10.60.2.99"],"tags":{"duty":"jump"}}`)
	labels := func(where, name string) map[string]string {
		var o struct{ Object estate.Workload }
		w.get("/api/object?kind=workload&name="+name+where, "Object", &o)
		return o.Object.Labels
	}
	assert.Empty(t, labels("", "jump-9"))
	w.be("mira")
	id := w.begin("duties")
	in := fmt.Sprint("&draft=", id)
	_, base := w.opened("mapping", "tags")
	rules := slices.Concat(demo.Mapping.Rules, []estate.MappingRule{{Key: "duty", Label: "role"}})
	collector, its := w.opened("workload", "collector-1")
	collector["labels"] = object{"role": "spare"}
	w.edits(id, asJSON(t, object{"op": "put", "kind": "workload", "object": collector, "base": its})+","+asJSON(t, object{"op": "put", "kind": "mapping", "object": object{"name": "tags", "rules": rules}, "base": base}))
	assert.Equal(t, map[string]string{"role": "jump"}, labels(in, "jump-9"))
	assert.Equal(t, map[string]string{"role": "spare"}, labels(in, "collector-1"), "set by hand")
	assert.Empty(t, labels("", "jump-9"))
	var tagged app.Tagged
	w.get("/api/tags?draft="+fmt.Sprint(id), "Tagged", &tagged)
	assert.Len(t, tagged.Rules, len(rules))
	require.Equal(t, "turbine", w.review(id).Asked[0].Segment)
	w.does(id, "application", "{}", http.StatusUnprocessableEntity)
	w.does(id, "state", `{"state": "review"}`, http.StatusOK)
	w.be("tove")
	w.does(id, "approval", "{}", http.StatusOK)
	w.be("mira")
	w.does(id, "application", "{}", http.StatusOK)
	for range 2 {
		assert.Equal(t, map[string]string{"role": "jump"}, labels("", "jump-9"))
		assert.Equal(t, map[string]string{"role": "spare"}, labels("", "collector-1"))
		sync()
	}
	made := w.app.Now().Revision
	var back drafts.Summary
	w.send(http.MethodPost, fmt.Sprintf("/api/revisions/%d/roll-back", made), "{}", nil, http.StatusCreated, "Draft", &back)
	assert.Empty(t, w.review(back.ID).Conflicts)
	w.does(back.ID, "state", `{"state": "review"}`, http.StatusOK)
	w.be("tove")
	w.does(back.ID, "approval", "{}", http.StatusOK)
	w.be("mira")
	w.does(back.ID, "application", "{}", http.StatusOK)
	sync()
	assert.Empty(t, labels("", "jump-9"))
	assert.Equal(t, "collector", labels("", "collector-1")["app"])
	assert.Equal(t, []estate.Mapping{demo.Mapping}, w.app.Now().Estate.Mappings)
}

// TestATagThatOpensAGuardedSegmentWaits lets a cloud bring a machine that is labelled as a
// jump host: the label waits for the owner of turbine, and everything else goes on.
func TestATagThatOpensAGuardedSegmentWaits(t *testing.T) {
	w := startGuarded(t)
	sync, comes := w.connectsNorth()
	labels := func() map[string]string {
		for _, x := range w.app.Now().Estate.Workloads {
			if x.Name == "jump-9" {
				return x.Labels
			}
		}
		return map[string]string{"workload": "missing"}
	}
	sync()
	comes(`{"id":"m-jump","name":"Jump 9","network":"net-telemetry","addresses":["10.60.2.99"],"tags":{"role":"jump"}}`)
	sync()
	assert.Empty(t, labels(), "the machine is there, its label waits")
	var all struct{ Drafts []drafts.Summary }
	require.Eventually(t, func() bool {
		w.get("/api/drafts", "", &all)
		return len(all.Drafts) == 1 && all.Drafts[0].State == "review"
	}, 10*time.Second, 20*time.Millisecond)
	assert.Equal(t, "waits-for-owner", all.Drafts[0].Name)
	assert.Equal(t, "turbine", w.review(all.Drafts[0].ID).Asked[0].Segment)
	sync()
	w.get("/api/drafts", "", &all)
	assert.Len(t, all.Drafts, 1, "it waits once")

	w.be("tove")
	w.does(all.Drafts[0].ID, "approval", "{}", http.StatusOK)
	w.be("mira")
	w.does(all.Drafts[0].ID, "application", "{}", http.StatusOK)
	assert.Equal(t, "jump", labels()["role"])
	sync()
	assert.Equal(t, "jump", labels()["role"])
	w.get("/api/drafts", "", &all)
	assert.Len(t, all.Drafts, 1)
}

// TestFivePeopleAtOnce lets five people change and apply drafts of a few policies for a while.
// The estate is what the applies give in their order, and each change that met another one was
// shown as a conflict.
func TestFivePeopleAtOnce(t *testing.T) {
	w := start(t)
	names := []string{"p1", "p2", "p3", "p4", "p5"}
	cookies := map[string]*http.Cookie{}
	for _, name := range names {
		require.NoError(t, w.people.Put(t.Context(), people.System("test"), people.Person{Name: name, Active: true, Grants: []people.Grant{{Role: people.Engineer}, {Role: people.Operator}}}))
	}
	w.people.OpenDoors(append([]string{"tester"}, names...)...)
	for _, name := range names {
		cookies[name] = w.enter(name)
	}
	policies := []string{"crews-web", "offices-web", "dev-not-prod"}
	var wait sync.WaitGroup
	var met, applied atomic.Int64
	for at, name := range names {
		wait.Go(func() {
			send := func(method, path, version, body string, out any) int {
				r, err := http.NewRequestWithContext(t.Context(), method, w.http.URL+path, strings.NewReader(body))
				if !assert.NoError(t, err) {
					return 0
				}
				r.Header.Set("Content-Type", "application/json")
				r.Header.Set("If-Match", `"`+version+`"`)
				r.AddCookie(cookies[name])
				answer, err := http.DefaultClient.Do(r)
				if !assert.NoError(t, err) {
					return 0
				}
				defer answer.Body.Close() //nolint:errcheck // it is read
				if out != nil && answer.StatusCode < 300 {
					assert.NoError(t, json.NewDecoder(answer.Body).Decode(out))
				}
				return answer.StatusCode
			}
			for turn := range 8 {
				policy := policies[(at+turn)%len(policies)]
				var d drafts.Summary
				send(http.MethodPost, "/api/drafts", "", "{}", &d)
				path := fmt.Sprint("/api/drafts/", d.ID)
				var opened struct {
					Object   map[string]any
					Base     string
					Revision int64
				}
				send(http.MethodGet, fmt.Sprintf("/api/object?kind=policy&name=%s&draft=%d", policy, d.ID), "", "", &opened)
				opened.Object["description"] = fmt.Sprintf("by %s in turn %d", name, turn)
				operation := `{"operations": [{"op": "put", "kind": "policy", "base": "` + opened.Base + `", "object": ` + asJSON(t, opened.Object) + `}]}`
				if status := send(http.MethodPost, fmt.Sprint("/api/edit?draft=", d.ID), fmt.Sprint(opened.Revision), operation, nil); status == http.StatusConflict {
					met.Add(1) // somebody applied in between
					continue
				}
				for range 50 {
					var r drafts.Review
					send(http.MethodGet, path, "", "", &r)
					if len(r.Conflicts) > 0 {
						met.Add(1)
						send(http.MethodPost, path+"/conflict", "", `{"kind": "policy", "name": "`+policy+`", "mine": true}`, nil)
						continue
					}
					if send(http.MethodPost, path+"/application", fmt.Sprint(r.Version), "{}", &r) == http.StatusOK {
						applied.Add(1)
						break
					}
				}
			}
		})
	}
	wait.Wait()
	assert.Greater(t, applied.Load(), int64(20))
	assert.Greater(t, met.Load(), int64(0), "they met")
	now := w.app.Now()
	assert.Equal(t, int64(1)+applied.Load(), now.Revision, "each apply is one revision, and nothing else is")

	// Each policy says what the last apply of it said.
	last := map[string]string{}
	var page struct{ Entries []history.Entry }
	w.get("/api/revisions", "", &page)
	for _, e := range page.Entries {
		var c history.Comparison
		w.get(fmt.Sprintf("/api/compare?from=%d&to=%d", e.Number-1, e.Number), "Comparison", &c)
		require.Len(t, c.Objects, 1, "an apply changes what its draft said")
		if _, later := last[c.Objects[0].Name]; !later {
			last[c.Objects[0].Name] = c.Objects[0].After
		}
	}
	for _, p := range now.Estate.Policies {
		if says, ok := last[p.Name]; ok {
			assert.Contains(t, says, p.Description)
		}
	}
}
