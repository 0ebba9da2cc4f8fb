package server_test

import (
	"encoding/json"
	"net/http"
	"net/url"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bivium/internal/app/consequence"
	"bivium/internal/app/view"
)

// operation returns the body of a request that makes an edit of some operations.
func operation(all ...object) string {
	text, err := json.Marshal(object{"operations": all})
	if err != nil {
		panic(err)
	}
	return string(text)
}

// mapping returns the operation that adds the mapping of tags by some rules.
func mapping(rules ...object) object {
	return object{"op": "put", "kind": "mapping", "object": object{"name": "tags", "rules": rules}, "base": "absent"}
}

// putGroup returns the body that adds a group by a selector.
func putGroup(name, match string) string {
	return operation(object{"op": "put", "kind": "group", "object": object{"name": name, "match": match}, "base": "absent"})
}

// opened returns a thing as it is opened for an edit.
func (w *world) opened(kind, name string) (thing object, base string) {
	w.t.Helper()
	var o struct {
		Object object
		Base   string
	}
	w.get("/api/object?kind="+kind+"&name="+url.QueryEscape(name), "Object", &o)
	return o.Object, o.Base
}

// putPolicy returns the body that puts a policy with something changed.
func putPolicy(w *world, name string, change func(object)) string {
	p, base := w.opened("policy", name)
	change(p)
	return operation(object{"op": "put", "kind": "policy", "object": p, "base": base})
}

// TestEveryKindOfRuleIsWrittenOverHTTP puts, renames and deletes an object of each kind, with
// what it refers to written before it, in one edit; and takes the edit back.
func TestEveryKindOfRuleIsWrittenOverHTTP(t *testing.T) {
	w := start(t)
	put := func(kind string, o object) object {
		return object{"op": "put", "kind": kind, "object": o, "base": "absent"}
	}
	web := []any{object{"services": []string{"plain"}, "action": "inspect", "pool": "gate"}}
	all := []any{
		put("segment", object{"name": "lab", "description": "for trials"}),
		put("service", object{"name": "plain", "terms": []string{"tcp/8080"}}),
		put("group", object{"name": "testers", "match": "role=crew"}),
		put("rulebook", object{"name": "strict", "rules": []any{object{"from": "any", "to": []string{"testers"}, "services": []string{"plain"}, "action": "drop"}}}),
		put("pool", object{"name": "gate", "rulebook": "strict", "firewalls": []any{object{"name": "gate-1", "hub": "ridge"}}}),
		put("policy", object{"name": "tests", "segments": []string{"lab"}, "from": []string{"testers"}, "to": "any", "rules": web}),
		put("share", object{"name": "lab-time", "owner": object{"segment": "lab", "groups": "any"}, "guest": object{"segment": "office", "groups": []string{"testers"}}, "rules": web}),
		put("exit", object{"name": "lab-out", "hub": "ridge", "segments": []string{"lab"}}),
		put("publication", object{"name": "lab-site", "exit": "lab-out", "address": "203.0.113.77", "services": []string{"plain"}, "to": object{"segment": "lab", "groups": []string{"testers"}}}),
		put("expectation", object{"name": "lab-closed", "from": "internet", "to": object{"segment": "lab", "groups": "any"}, "services": []string{"tcp/22"}, "expect": "denied"}),
	}
	edit, err := json.Marshal(object{"operations": all})
	require.NoError(t, err)
	var tried, done consequence.Consequence
	w.send(http.MethodPost, "/api/edit/try", string(edit), nil, http.StatusOK, "Consequence", &tried)
	require.Empty(t, tried.Refused)
	assert.Len(t, tried.Objects, len(all))
	before := w.revision()
	w.send(http.MethodPost, "/api/edit", string(edit), before, http.StatusOK, "Consequence", &done)
	assert.Equal(t, tried.Objects, done.Objects)
	assert.Equal(t, []consequence.GroupChange{{Name: "testers", After: done.Groups[0].After, Gained: done.Groups[0].Gained, Lost: []string{}}}, done.Groups)
	assert.Positive(t, done.Groups[0].After)

	// What many refer to is renamed, and they follow; deleting it is refused with all of them.
	w.send(http.MethodPost, "/api/edit", operation(object{"op": "rename", "kind": "group", "name": "testers", "to": "trial.crew"}), w.revision(), http.StatusOK, "Consequence", &done)
	assert.Empty(t, done.Effect.Flows, "a name changes no flow")
	assert.Empty(t, done.Groups)
	policy, _ := w.opened("policy", "tests")
	assert.Equal(t, []any{"trial.crew"}, policy["from"])
	gone := operation(object{"op": "delete", "kind": "group", "name": "trial.crew"})
	w.send(http.MethodPost, "/api/edit/try", gone, nil, http.StatusOK, "Consequence", &tried)
	require.NotNil(t, tried.InUse)
	assert.Equal(t, []view.Thing{{Kind: "publication", Name: "lab-site"}, {Kind: "rulebook", Name: "strict"}, {Kind: "policy", Name: "tests"}, {Kind: "share", Name: "lab-time"}}, tried.InUse.By)
	w.send(http.MethodPost, "/api/edit", gone, w.revision(), http.StatusUnprocessableEntity, "Problem", nil)
	along, err := json.Marshal(object{"operations": tried.InUse.Operations})
	require.NoError(t, err)
	w.send(http.MethodPost, "/api/edit", string(along), w.revision(), http.StatusOK, "Consequence", &done)
	for _, name := range []string{"tests", "lab-time"} {
		kind := map[string]string{"tests": "policy", "lab-time": "share"}[name]
		w.send(http.MethodGet, "/api/object?kind="+kind+"&name="+name, "", nil, http.StatusNotFound, "Problem", nil)
	}
	w.send(http.MethodPost, "/api/undo", "{}", w.revision(), http.StatusOK, "Consequence", nil)
	w.send(http.MethodPost, "/api/undo", "{}", w.revision(), http.StatusOK, "Consequence", nil) // takes back the undo
	w.restart()
	w.send(http.MethodGet, "/api/object?kind=policy&name=tests", "", nil, http.StatusNotFound, "Problem", nil)
}

// TestAnEditGoesBesideThoseOfOthers makes an edit that was written before others were made: of
// other things, which does no harm, and of the same thing, which is a conflict with both
// versions told.
func TestAnEditGoesBesideThoseOfOthers(t *testing.T) {
	w := start(t)
	seen := w.revision()
	mine := putPolicy(w, "crews-web", func(p object) { p["description"] = "mine" })
	w.send(http.MethodPost, "/api/edit", putGroup("others", "role=plc"), seen, http.StatusOK, "Consequence", nil)
	w.send(http.MethodPost, "/api/edit", mine, seen, http.StatusOK, "Consequence", nil)
	var p struct {
		Conflict struct {
			Thing view.Thing
			Now   object
		}
	}
	w.send(http.MethodPost, "/api/edit", mine, seen, http.StatusConflict, "Problem", &p)
	assert.Equal(t, view.Thing{Kind: "policy", Name: "crews-web"}, p.Conflict.Thing)
	assert.Equal(t, "mine", p.Conflict.Now["description"])
	without := operation(object{"op": "delete", "kind": "policy", "name": "crews-web"})
	w.send(http.MethodPost, "/api/edit", without, seen, http.StatusConflict, "Problem", nil)
	w.send(http.MethodPost, "/api/edit", without, w.revision(), http.StatusOK, "Consequence", nil)
	var gone struct{ Title string }
	w.send(http.MethodPost, "/api/edit", mine, w.revision(), http.StatusConflict, "Problem", &gone)
	assert.Contains(t, gone.Title, "was removed by somebody else")
}
