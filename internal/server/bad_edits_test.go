package server_test

import (
	"encoding/json"
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bivium/internal/app/view"
)

// TestBadInputIsSaidAtItsField tries edits with one slip each: what is wrong is said at the field that
// has it, with how to fix it, whether the object cannot be read or would be at fault; and nothing is
// made of any of them.
func TestBadInputIsSaidAtItsField(t *testing.T) {
	w := start(t)
	put := func(kind string, o object) object {
		o["name"] = "new"
		return object{"op": "put", "kind": kind, "object": o, "base": "absent"}
	}
	policy := func(key string, value any) object {
		p := put("policy", object{"segments": []string{"office"}, "from": []string{"crews"}, "to": []string{"crews"}, "rules": []object{{"services": []string{"web"}, "action": "allow"}}})
		p["object"].(object)[key] = value
		return p
	}
	rule := func(r object) object { return policy("rules", []object{r}) }
	named := func(name string) object { return policy("name", name) }
	publication := func(key string, value any) object {
		p := put("publication", object{"exit": "ridge-out", "address": "203.0.113.21", "services": []string{"web"}, "to": object{"segment": "office", "groups": []string{"crews"}}})
		p["object"].(object)[key] = value
		return p
	}
	party := object{"segment": "office", "groups": "any"}
	for _, x := range []struct {
		edit             object
		at, message, fix string
	}{
		{policy("from", []string{"crewz"}), "from[0]", `unknown group "crewz"`, "did you mean crews?"},
		{policy("segments", []string{"offise"}), "segments[0]", `unknown segment "offise"`, "did you mean office?"},
		{rule(object{"services": []string{"wbe"}, "action": "allow"}), "rules[0].services[0]", `unknown service "wbe"`, "did you mean web?"},
		{rule(object{"services": []string{"web"}, "action": "permit"}), "rules[0].action", `"permit" is no action`, "allow or deny or inspect"},
		{rule(object{"services": []string{"web"}, "action": "inspect"}), "rules[0]", "names no pool", "name the pool"},
		{rule(object{"services": []string{"web"}, "action": "inspect", "pool": "tidegat"}), "rules[0].pool", `unknown pool "tidegat"`, "did you mean tidegate?"},
		{policy("until", "tomorrow"), "until", `"tomorrow" is not a day`, "write one like 20"},
		{policy("colour", "red"), "", `unknown key "colour"`, "the keys here are"},
		{named(""), "name", "is empty", "1 to 63 characters"},
		{named("a b"), "name", `contains " "`, "a-z, 0-9, dot and dash"},
		{named("Crews"), "name", "does not start with a lower-case letter", "start it with a-z"},
		{named("any"), "name", "reserved word", "choose another"},
		{named(strings.Repeat("a", 64)), "name", "has 64 characters", "the limit is 63"},
		{named("crews-web"), "name", "already exists", "such as crews-web-2"},
		{put("group", object{"prefixes": []string{"10.0.0.1/24"}}), "prefixes[0]", "has host bits", "did you mean 10.0.0.0/24?"},
		{put("group", object{"prefixes": []string{"10.0.0/24"}}), "prefixes[0]", "is not a prefix", "write one like 10.1.0.0/24"},
		{put("group", object{"match": "role in crew"}), "match", "role in crew", "("},
		{put("group", object{}), "", "selects nothing", "add at least one of match"},
		{put("group", object{"within": "farmz", "match": "role=plc"}), "within", `unknown group "farmz"`, "did you mean farms?"},
		{put("service", object{"terms": []string{"tcp/99999"}}), "terms[0]", "not a port", "write 443 or 8000-8080"},
		{put("service", object{"terms": []string{"tpc/80"}}), "terms[0]", "tpc", "tcp"},
		{put("pool", object{"rulebook": "crew-wbe", "firewalls": []object{{"name": "f", "hub": "ridge"}}}), "rulebook", `unknown rulebook "crew-wbe"`, "did you mean crew-web?"},
		{put("pool", object{"firewalls": []object{{"name": "f", "hub": "rigde"}}}), "firewalls[0].hub", `unknown hub "rigde"`, "did you mean ridge?"},
		{put("rulebook", object{"rules": []object{{"from": "any", "to": "any", "services": []string{"any"}, "action": "allow"}}}), "rules[0].action", `"allow" is no action`, "pass or drop or reject"},
		{put("share", object{"owner": party, "guest": party, "rules": []object{}}), "guest.segment", "with itself", "within one segment, use a policy"},
		{publication("address", "203.0.113.300"), "address", "is not an address", "write one like"},
		{publication("exit", "ridge-ou"), "exit", `unknown exit "ridge-ou"`, "did you mean ridge-out?"},
		{publication("to", object{"segment": "turbine", "groups": "any"}), "exit", "ridge-out does not serve", "add segment turbine"},
		{put("exit", object{"hub": "ridg", "segments": []string{"office"}}), "hub", `unknown hub "ridg"`, "did you mean ridge?"},
		{put("expectation", object{"from": "internet", "to": party, "services": []string{"web"}, "expect": "perhaps"}), "expect", "perhaps", "allowed or inspected or denied"},
	} {
		body, at := operation(x.edit), "operations[0].object"
		if x.at != "" {
			at += "." + x.at
		}
		r, err := w.http.Client().Post(w.http.URL+"/api/edit/try", "application/json", strings.NewReader(body))
		require.NoError(t, err)
		var said struct {
			Problems []view.Problem
			Refused  []view.Refusal
		}
		require.NoError(t, json.NewDecoder(r.Body).Decode(&said))
		require.NoError(t, r.Body.Close())
		for _, f := range said.Refused {
			said.Problems = append(said.Problems, view.Problem{At: f.At, Message: f.Message, Fix: f.Fix})
		}
		require.Len(t, said.Problems, 1, "%s", body)
		assert.Equal(t, at, said.Problems[0].At, "%s", body)
		assert.Contains(t, said.Problems[0].Message, x.message)
		assert.Contains(t, said.Problems[0].Fix, x.fix, said.Problems[0].Message)
		w.send(http.MethodPost, "/api/edit", body, w.revision(), http.StatusUnprocessableEntity, "Problem", nil)
	}
	assert.Equal(t, "1", strings.Trim(w.revision()["If-Match"], `"`), "nothing is made of them")
}
