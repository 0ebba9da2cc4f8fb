package document_test

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bivium/core/document"
	"bivium/core/estate"
	"bivium/core/limits"
)

// samples are documents that must be read: the demo, and the conformance
// estates.
func samples(t testing.TB) map[string][]byte {
	t.Helper()
	files, err := filepath.Glob("../conformance/testdata/*/*/estate.json")
	require.NoError(t, err)
	out := map[string][]byte{}
	for _, f := range append(files, "../../demo/grayshoal.yaml") {
		text, err := os.ReadFile(f)
		require.NoError(t, err)
		out[f] = text
	}
	return out
}

func TestCanonicalFormSaysTheSame(t *testing.T) {
	for name, text := range samples(t) {
		e, err := document.Read(text)
		require.NoError(t, err, name)
		yaml, err := document.Write(e)
		require.NoError(t, err)
		fromYAML, err := document.Read(yaml)
		require.NoError(t, err, name)
		again, err := document.Write(fromYAML)
		require.NoError(t, err)
		assert.Equal(t, string(yaml), string(again), "%s: writing twice is writing once", name)
		json, err := document.WriteJSON(e)
		require.NoError(t, err)
		fromJSON, err := document.Read(json)
		require.NoError(t, err, name)
		assert.Equal(t, fromYAML, fromJSON, "%s: YAML and JSON say the same", name)
		assert.Equal(t, len(e.Workloads), len(fromYAML.Workloads))
	}
}

func TestSplitAndJoinKeepEverything(t *testing.T) {
	for name, text := range samples(t) {
		e, err := document.Read(text)
		require.NoError(t, err)
		joined, err := document.Join(e.Name, e.Description, document.Split(e))
		require.NoError(t, err, name)
		want, err := document.Write(e)
		require.NoError(t, err)
		got, err := document.Write(joined)
		require.NoError(t, err)
		assert.Equal(t, string(want), string(got), name)
	}
}

func TestErrorsSayWhatAndWhere(t *testing.T) {
	for _, c := range []struct {
		given, document string
		expect          []string
	}{
		{"an unknown key", "bivium: 1\nestate: e\nhubs:\n  - {name: fen, reigon: x}\n", []string{"line 4", "hubs[0]", `unknown key "reigon"`, "did you mean region?"}},
		{"a key twice", "bivium: 1\nestate: e\nestate: f\n", []string{"line 3", "estate", "appears twice"}},
		{"a name twice", "bivium: 1\nestate: e\nhubs: [{name: fen},\n {name: fen}]\n", []string{"line 4", "hubs[1]", "already used on line 3"}},
		{"a missing key", "bivium: 1\nestate: e\nexits:\n  - {name: out, hub: fen}\n", []string{"line 4", `"segments" is missing`}},
		{"a bad name", "bivium: 1\nestate: e\nhubs: [{name: Fen}]\n", []string{"line 3", "hubs[0].name"}},
		{"a reserved name", "bivium: 1\nestate: e\nsegments: [{name: internet}]\n", []string{"reserved"}},
		{"host bits", "bivium: 1\nestate: e\ngroups: [{name: g, prefixes: [10.0.0.1/24]}]\n", []string{"groups[0].prefixes[0]", "did you mean 10.0.0.0/24?"}},
		{"IPv4 in IPv6", "bivium: 1\nestate: e\ngroups: [{name: g, prefixes: ['::ffff:10.0.0.0/120']}]\n", []string{"IPv4"}},
		{"a bad selector", "bivium: 1\nestate: e\ngroups: [{name: g, match: 'a in b'}]\n", []string{"character 6"}},
		{"a bad term", "bivium: 1\nestate: e\nservices: [{name: s, terms: [tcp/70000]}]\n", []string{"services[0].terms[0]", "0 to 65535"}},
		{"a word for a list", "bivium: 1\nestate: e\nservices: [{name: s, terms: tcp}]\n", []string{"a list is expected"}},
		{"an action of its own", "bivium: 1\nestate: e\npolicies: [{name: p, segments: all, from: any, to: any, rules: [{services: [any], action: permit}]}]\n", []string{"rules[0].action", "allow or deny or inspect"}},
		{"a pool that does nothing", "bivium: 1\nestate: e\npolicies: [{name: p, segments: all, from: any, to: any, rules: [{services: [any], action: deny, pool: w}]}]\n", []string{"inspect only"}},
		{"a policy nowhere", "bivium: 1\nestate: e\npolicies: [{name: p, from: any, to: any, rules: []}]\n", []string{`"segments" is missing`}},
		{"a guardrail with segments", "bivium: 1\nestate: e\npolicies: [{name: p, tier: guardrail, segments: all, from: any, to: any, rules: []}]\n", []string{"fromSegments"}},
		{"a truth that is text", "bivium: 1\nestate: e\nshares: [{name: s, enabled: 'true', owner: {segment: a, groups: any}, guest: {segment: b, groups: any}, rules: []}]\n", []string{"true or false"}},
		{"another version", "bivium: 2\nestate: e\n", []string{"version"}},
		{"no YAML", "bivium: [\n", []string{"not YAML"}},
		{"no JSON", "{\"bivium\": 1,\n \"estate\": \"e", []string{"line 2", "not JSON"}},
		{"two documents", "bivium: 1\nestate: e\n---\nbivium: 1\n", []string{"second document"}},
		{"nothing", "", []string{"empty"}},
		{"another encoding", "bivium: 1\nestate: \xff\n", []string{"line 2", "UTF-8"}},
		{"many segments", "{\"bivium\":1,\"estate\":\"e\",\"segments\":[" + many(513, `{"name":"s%d"}`) + "]}", []string{"there are 513 segments; the limit is 512"}},
		{"many hubs", "{\"bivium\":1,\"estate\":\"e\",\"hubs\":[" + many(600, `{"name":"h%d"}`) + "]}", []string{"there are 600 hubs; the limit is 512"}},
		{"many unknown keys", "{\"bivium\":1,\"estate\":\"e\"," + many(200_000, `"k%d":1`) + "}", []string{`unknown key "k0"`}},
		{"a deep nest", "{\"hubs\":" + strings.Repeat("[", 200) + strings.Repeat("]", 200) + "}", []string{"deeper"}},
	} {
		_, err := document.Read([]byte(c.document))
		if assert.Error(t, err, c.given) {
			for _, part := range c.expect {
				assert.ErrorContains(t, err, part, c.given)
			}
		}
	}
}

// many writes something so many times, with its number.
func many(n int, form string) string {
	list := make([]string, n)
	for i := range list {
		list[i] = fmt.Sprintf(form, i)
	}
	return strings.Join(list, ",")
}

// TestLongListsAreReadInOrder holds readers side by side to what one alone does: all
// items in their places, the first errors, in the order of their lines.
func TestLongListsAreReadInOrder(t *testing.T) {
	defer runtime.GOMAXPROCS(runtime.GOMAXPROCS(4))
	const items = 20_000
	write := func(bad func(int) bool) []byte {
		var b bytes.Buffer
		b.WriteString("{\"bivium\": 1, \"estate\": \"long\", \"workloads\": [\n")
		for i := range items {
			address := fmt.Sprintf("10.0.%d.%d", i>>8, i&255)
			if bad(i) {
				address = "nowhere"
			}
			fmt.Fprintf(&b, "{\"name\": \"w-%d\", \"network\": \"n\", \"addresses\": [%q]}", i, address)
			if i < items-1 {
				b.WriteString(",")
			}
			b.WriteString("\n")
		}
		b.WriteString("]}")
		return b.Bytes()
	}
	e, err := document.Read(write(func(int) bool { return false }))
	require.NoError(t, err)
	for i := range e.Workloads {
		require.Equal(t, fmt.Sprintf("w-%d", i), e.Workloads[i].Name)
	}
	for name, bad := range map[string]func(int) bool{
		"a few, far apart":   func(i int) bool { return i%(items/5) == 7 },
		"more than are kept": func(i int) bool { return i%(items/200) == 7 },
	} {
		_, err = document.Read(write(bad))
		var got document.Errors
		require.ErrorAs(t, err, &got, name)
		var want []int
		for i := range items {
			if bad(i) && len(want) < limits.DocumentErrors {
				want = append(want, i+2)
			}
		}
		lines := make([]int, len(got))
		for i := range got {
			lines[i] = got[i].Line
		}
		assert.Equal(t, want, lines, name)
	}
}

func TestAliasesDoNotExplode(t *testing.T) {
	bomb := "bivium: 1\nestate: e\na: &a [x, x, x, x, x, x, x, x, x, x]\n"
	for i := range 9 {
		at, next := string(rune('a'+i)), string(rune('b'+i))
		bomb += next + ": &" + next + " [" + strings.TrimSuffix(strings.Repeat("*"+at+", ", 10), ", ") + "]\n"
	}
	_, err := document.Read([]byte(bomb))
	assert.ErrorContains(t, err, "aliases")
}

func TestDefaultsAreFilledInAndLeftOut(t *testing.T) {
	text := "bivium: 1\nestate: e\nhubs:\n  - {name: a}\n  - {name: b}\nlinks:\n  - {between: [a, b]}\n"
	e, err := document.Read([]byte(text))
	require.NoError(t, err)
	assert.Equal(t, estate.Link{Name: "a-b", Between: [2]string{"a", "b"}, Cost: 10, State: "up"}, e.Links[0])
	out, err := document.Write(e)
	require.NoError(t, err)
	assert.Equal(t, text, string(out))
}

func TestSchemaAcceptsWhatIsReadAndRefusesMistakes(t *testing.T) {
	schema, err := document.Schema()
	require.NoError(t, err)
	parsed, err := jsonschema.UnmarshalJSON(bytes.NewReader(schema))
	require.NoError(t, err)
	compiler := jsonschema.NewCompiler()
	require.NoError(t, compiler.AddResource(document.SchemaID, parsed))
	compiled, err := compiler.Compile(document.SchemaID)
	require.NoError(t, err)
	for name, text := range samples(t) {
		e, err := document.Read(text)
		require.NoError(t, err)
		json, err := document.WriteJSON(e)
		require.NoError(t, err)
		value, err := jsonschema.UnmarshalJSON(bytes.NewReader(json))
		require.NoError(t, err)
		assert.NoError(t, compiled.Validate(value), name)
	}
	for _, wrong := range []string{
		`{"bivium": 1}`, `{"bivium": 2, "estate": "e"}`, `{"bivium": 1, "estate": "e", "hub": []}`,
		`{"bivium": 1, "estate": "e", "hubs": [{"name": "Fen"}]}`, `{"bivium": 1, "estate": "e", "segments": [{"name": "any"}]}`,
		`{"bivium": 1, "estate": "e", "services": [{"name": "s", "terms": ["tcp/x"]}]}`,
	} {
		value, err := jsonschema.UnmarshalJSON(strings.NewReader(wrong))
		require.NoError(t, err)
		assert.Error(t, compiled.Validate(value), wrong)
	}
}

func FuzzRead(f *testing.F) {
	f.Add([]byte("bivium: 1\nestate: e\nhubs: [{name: fen}]\n"))                     // YAML
	f.Add([]byte(`{"bivium": 1, "estate": "e", "links": [{"between": ["a","b"]}]}`)) // JSON
	f.Add([]byte("a: &x [*x]"))                                                      // an alias of itself
	f.Fuzz(func(t *testing.T, text []byte) {
		e, err := document.Read(text)
		if err != nil {
			return
		}
		out, err := document.Write(e)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := document.Read(out); err != nil {
			t.Fatalf("the canonical form cannot be read: %v\n%s", err, out)
		}
		estate.Check(e)
	})
}

// TestConnectionsKeepTheirNames: a name that would be made up is left out, others are kept.
func TestConnectionsKeepTheirNames(t *testing.T) {
	e, err := document.Read([]byte(`{"bivium": 1, "estate": "e", "attachments": [
		{"network": "yard", "hub": "fen"}, {"network": "yard", "hub": "fen", "cost": 5}, {"name": "yard-fen-2", "network": "pier", "hub": "fen"}]}`))
	require.NoError(t, err)
	var names []string
	for _, a := range e.Attachments {
		names = append(names, a.Name)
	}
	assert.Equal(t, []string{"yard-fen", "yard-fen-3", "yard-fen-2"}, names)
	e.Attachments = e.Attachments[1:] // the first goes, and the others are still called what they were
	text, err := document.Write(e)
	require.NoError(t, err)
	assert.Contains(t, string(text), "{name: yard-fen-3, network: yard, hub: fen, cost: 5}")
	again, err := document.Read(text)
	require.NoError(t, err)
	assert.ElementsMatch(t, e.Attachments, again.Attachments)
	_, err = document.Read([]byte(`{"bivium": 1, "estate": "e", "links": [{"name": "x", "between": ["a", "b"]}, {"name": "x", "between": ["b", "c"]}]}`))
	assert.ErrorContains(t, err, `the name "x" is already used`)
}
