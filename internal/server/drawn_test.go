package server_test

import (
	"bytes"
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"maps"
	"net/http"
	"net/url"
	"os"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v3"
	"pgregory.net/rapid"

	"bivium/core/estate"
	"bivium/core/testing/meet"
	"bivium/internal/server"
)

// steps is how many steps a random walk takes.
var steps = flag.Int("steps", 25, "how many steps a random walk takes")

func TestMain(m *testing.M) {
	meet.Draws("20") // each starts a server
	os.Exit(m.Run())
}

// object is a piece of the description.
type object = map[string]any

// caller draws requests from the description.
type caller struct {
	t    *rapid.T
	spec object
	base string // of the server's address

	// words are texts worth sending, by the name of what takes them: those of the estate,
	// and some that nothing bears. Others take any of all.
	words map[string][]string
}

func wordsOf(e *estate.Estate) map[string][]string {
	out := map[string][]string{
		"on":     {"tcp/443", "any", "udp/53", "icmp/8", "web"},
		"prefix": {"10.31.0.0/24", "10.40.0.0/18", "fd00:7::/64", "0.0.0.0/0"},
		"router": {"127.0.2.11", "::1"},
		"kind":   {"network", "workload", "hub", "segment", "policy", "account", "group", "pool", "share"},
		"match":  {"app=web", "env in (prod, test), !gone", "a in ("},
		"find":   {"10.31.0.9", "tide", "env=prod", "in:office"},
		"text":   {"t", "10.", "cre"},
	}
	for _, n := range e.Networks {
		out["network"] = append(out["network"], n.Name)
	}
	for _, h := range e.Hubs {
		out["hub"] = append(out["hub"], h.Name)
	}
	for _, s := range e.Segments {
		out["segment"], out["row"] = append(out["segment"], s.Name), append(out["row"], s.Name, s.Name+"/-")
	}
	for _, g := range e.Groups {
		out["group"] = append(out["group"], g.Name)
	}
	for _, p := range e.Policies {
		out["policy"] = append(out["policy"], p.Name)
	}
	for i, w := range e.Workloads {
		out["workload"] = append(out["workload"], w.Name)
		if i%3 == 0 && len(w.Addresses) > 0 {
			out["address"] = append(out["address"], w.Addresses[0].String())
		}
	}
	out["from"] = slices.Concat(out["segment"], out["group"], out["workload"], []string{"internet"})
	out["to"] = slices.Concat(out["from"], out["address"], []string{"10.40.0.0/16", "198.51.100.7"})
	out["name"] = slices.Concat(out["network"], out["workload"], out["hub"], out["segment"], out["policy"])
	return out
}

var odd = []string{"", "no-such", "Ä", "-", "a/b", "%2e%2e", "10.0.0.1/8", strings.Repeat("x", 300), "'; --", "null"}

// chance is drawn where something unusual may be done: small numbers come up more often.
func (c *caller) chance(percent int) bool {
	return rapid.IntRange(0, 99).Draw(c.t, "chance") >= 100-percent
}

func (c *caller) text(name string) string {
	if c.chance(4) {
		return rapid.SampledFrom(odd).Draw(c.t, "odd")
	}
	pool, known := c.words[strings.TrimSuffix(name, "s")]
	switch {
	case known:
	case name == "col", name == "rows", name == "cols":
		pool = c.words["row"]
	case name == "outside", name == "accepts", name == "announces", name == "may":
		pool = c.words["prefix"]
	case name == "other":
		pool = slices.Concat(c.words["network"], c.words["hub"])
	default:
		for _, k := range slices.Sorted(maps.Keys(c.words)) {
			pool = append(pool, c.words[k]...)
		}
	}
	return rapid.SampledFrom(pool).Draw(c.t, name)
}

// deref follows references of the description.
func (c *caller) deref(schema any) object {
	s, _ := schema.(object)
	for {
		ref, ok := s["$ref"].(string)
		if !ok {
			return s
		}
		at := any(c.spec)
		for key := range strings.SplitSeq(strings.TrimPrefix(ref, "#/"), "/") {
			at = at.(object)[key]
		}
		s = at.(object)
	}
}

// value draws what a schema describes, of which something may be wrong.
func (c *caller) value(name string, schema any) any {
	s := c.deref(schema)
	if c.chance(1) {
		return rapid.SampledFrom([]any{nil, 7, "text", []any{}, object{}, true, -1, 1e12}).Draw(c.t, "wrong")
	}
	for _, key := range []string{"anyOf", "oneOf"} {
		if list, ok := s[key].([]any); ok {
			return c.value(name, rapid.SampledFrom(list).Draw(c.t, key))
		}
	}
	if list, ok := s["enum"].([]any); ok {
		return rapid.SampledFrom(list).Draw(c.t, name)
	}
	switch s["type"] {
	case "object":
		out := object{}
		properties, _ := s["properties"].(object)
		required, _ := s["required"].([]any)
		for _, key := range slices.Sorted(maps.Keys(properties)) {
			if slices.Contains(required, any(key)) && !c.chance(4) || c.chance(50) {
				out[key] = c.value(key, properties[key])
			}
		}
		if more, ok := s["additionalProperties"].(object); ok {
			out[c.text("key")] = c.value("value", more)
		}
		if c.chance(1) {
			out["more"] = 1
		}
		return out
	case "array":
		out := []any{}
		for range rapid.IntRange(0, 3).Draw(c.t, "items") {
			out = append(out, c.value(name, s["items"]))
		}
		return out
	case "integer":
		return rapid.SampledFrom([]int{0, 1, 2, 3, 50, -1, 70000, 1 << 40}).Draw(c.t, name)
	case "boolean":
		return rapid.Bool().Draw(c.t, name)
	case "null":
		return nil
	}
	return c.text(name)
}

// good returns a body that an operation takes, if it takes none that is drawn blindly: a
// edits of rules or of the wiring that can be made.
func (c *caller) good(operation string) object {
	switch operation {
	case "tryEdit", "postEdit":
		if c.chance(50) {
			policy, group := c.text("policy"), c.text("group")
			return object{"operations": []any{rapid.SampledFrom([]object{
				{"op": "put", "kind": "group", "object": object{"name": "fresh", "match": "env=prod"}},
				{"op": "put", "kind": "policy", "object": object{"name": policy, "segments": "all", "from": []string{group}, "to": "any", "rules": []any{object{"services": []string{"any"}, "action": "deny"}}}},
				{"op": "rename", "kind": "group", "name": group, "to": "fresh"},
				{"op": "delete", "kind": "policy", "name": policy},
				{"op": "delete", "kind": "group", "name": group},
			}).Draw(c.t, "operation")}}
		}
		network, hub, segment := c.text("network"), c.text("hub"), c.text("segment")
		return rapid.SampledFrom([]object{
			{"wiring": []any{object{"op": "attach", "network": network, "hub": hub, "cost": 70}}},
			{"wiring": []any{object{"op": "detach", "network": network, "hub": hub}}},
			{"wiring": []any{object{"op": "live", "network": network, "segment": segment}}},
			{"wiring": []any{object{"op": "add-segment", "name": "fresh"}, object{"op": "live", "network": network, "segment": "fresh"}}},
			{"wiring": []any{object{"op": "link", "hub": hub, "other": c.text("hub"), "cost": 3}}},
			{"wiring": []any{object{"op": "attach", "network": network, "hub": hub, "cost": 70}, object{"op": "detach", "network": network, "hub": hub}}},
		}).Draw(c.t, "edits")
	}
	return nil
}

// mixed returns a good body, in which a key or two may be as drawn.
func (c *caller) mixed(good object, drawn any) object {
	out := maps.Clone(good)
	if other, ok := drawn.(object); ok && c.chance(40) {
		for _, key := range slices.Sorted(maps.Keys(other)) {
			if c.chance(25) {
				out[key] = other[key]
			}
		}
	}
	return out
}

// asked is a request, and what the description says of its answer.
type asked struct {
	operation, method, path, body string

	answer any // the schema of what it gives, or nil
}

// far are operations that reach out to accounts, or take a document.
var far = []string{"events", "connect", "startReading", "stopReading", "postImport", "tryImport", "askHealth", "askNativeRules", "lookAtTargets", "connectHubs", "takeOver", "observe", "propose", "getOutside", "lookOutside", "postPlan", "previewPlan", "postPacket", "postRound"}

// request draws one.
func (c *caller) request() asked {
	paths := c.spec["paths"].(object)
	var all []string
	for _, path := range slices.Sorted(maps.Keys(paths)) {
		for _, method := range slices.Sorted(maps.Keys(paths[path].(object))) {
			if op, ok := paths[path].(object)[method].(object); ok && !slices.Contains(far, op["operationId"].(string)) {
				all = append(all, method+" "+path)
			}
		}
	}
	method, path, _ := strings.Cut(rapid.SampledFrom(all).Draw(c.t, "operation"), " ")
	op := paths[path].(object)[method].(object)
	out := asked{operation: op["operationId"].(string), method: strings.ToUpper(method)}
	query := url.Values{}
	parameters, _ := op["parameters"].([]any)
	common, _ := paths[path].(object)["parameters"].([]any)
	for _, p := range slices.Concat(common, parameters) {
		p := c.deref(p)
		name := p["name"].(string)
		switch p["in"] {
		case "path":
			kind := map[string]string{"policies": "policy", "workloads": "workload", "networks": "network", "accounts": "account"}[strings.Split(path, "/")[2]]
			path = strings.ReplaceAll(path, "{"+name+"}", url.PathEscape(c.text(kind)))
		case "query":
			where := name == "draft" || name == "at"
			if p["required"] == true && !c.chance(5) || c.chance(50) && (!where || c.chance(10)) {
				query.Set(name, fmt.Sprint(c.value(name, p["schema"])))
			}
		}
	}
	if out.path = path; len(query) > 0 {
		out.path += "?" + query.Encode()
	}
	if body, ok := op["requestBody"].(object); ok {
		if media, ok := body["content"].(object)["application/json"].(object); ok {
			drawn := c.value("body", media["schema"])
			if good := c.good(out.operation); good != nil && !c.chance(15) {
				drawn = c.mixed(good, drawn)
			}
			text, err := json.Marshal(drawn)
			require.NoError(c.t, err)
			out.body = string(text)
		}
	}
	if ok, there := op["responses"].(object)["200"].(object); there {
		if content, there := ok["content"].(object); there {
			if media, there := content["application/json"].(object); there {
				out.answer = media["schema"]
			}
		}
	}
	return out
}

var reference = regexp.MustCompile(`^#/components/schemas/(\w+)$`)

// TestNoRequestBreaksTheServer sends drawn requests, of which much is wrong, in a row. Each
// is answered as the description says, or refused with what is wrong; a refused one
// changes nothing, and whatever was changed can be surveyed, exported and asked about.
func TestNoRequestBreaksTheServer(t *testing.T) {
	var spec object
	require.NoError(t, yaml.Unmarshal(server.Specification, &spec))
	wants := meet.Often(1, "getRows is answered", "getRows is refused", "postEdit is answered", "postEdit is refused", "tryEdit is refused", "ask is answered", "postUndo is answered", "getSheet is answered", "tryEdit is answered", "getCell is answered", "getRoutes is answered")
	meet.Check(t, wants, func(rt *rapid.T, met meet.Met) {
		w := start(t)
		c := &caller{rt, spec, w.http.URL, wordsOf(w.app.Now().Estate)}
		for range 30 {
			revision := w.revision()
			x := c.request()
			r, err := http.NewRequestWithContext(t.Context(), x.method, w.http.URL+x.path, strings.NewReader(x.body))
			require.NoError(rt, err)
			if x.method != http.MethodGet {
				r.Header.Set("Content-Type", "application/json") // which no other page's form sends
				r.Header.Set("If-Match", revision["If-Match"])
			}
			response, err := w.http.Client().Do(r)
			require.NoError(rt, err, "%v", x)
			text, err := io.ReadAll(response.Body)
			require.NoError(rt, err)
			require.NoError(rt, response.Body.Close())
			require.Less(rt, response.StatusCode, 500, "%v: %s", x, text)
			met.If(response.StatusCode < 300, x.operation+" is answered")
			if x.operation == "signOut" {
				w.be("tester")
			}
			met.If(response.StatusCode >= 300, x.operation+" is refused")
			if response.StatusCode >= 300 {
				w.holds(rt, "Problem", text, x)
				require.Equal(rt, revision, w.revision(), "%v changed something and was refused: %s", x, text)
				continue
			}
			if schema, ok := x.answer.(object); ok {
				ref, _ := schema["$ref"].(string)
				if m := reference.FindStringSubmatch(ref); m != nil {
					w.holds(rt, m[1], text, x)
				}
			}
		}
		w.get("/api/estate", "Estate", nil)
		w.get("/api/lanes", "Lanes", nil)
		w.get("/api/issues", "Issues", nil)
		var exported bytes.Buffer
		response, err := w.http.Client().Get(w.http.URL + "/api/export") //nolint:noctx // the test ends it
		require.NoError(rt, err)
		_, err = exported.ReadFrom(response.Body)
		require.NoError(rt, err)
		require.NoError(rt, response.Body.Close())
		require.Equal(rt, http.StatusOK, response.StatusCode)
	})
}

// holds checks an answer against a schema of the description.
func (w *world) holds(t *rapid.T, schema string, text []byte, x asked) {
	compiled, err := w.spec.Compile("urn:spec#/components/schemas/" + schema)
	require.NoError(t, err)
	value, err := jsonschema.UnmarshalJSON(bytes.NewReader(text))
	require.NoError(t, err, "%v: %.300s", x, text)
	require.NoError(t, compiled.Validate(value), "%v", x)
}
