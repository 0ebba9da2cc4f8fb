package main

import (
	"bytes"
	"encoding/json"
	"encoding/xml"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const grayshoal = "../../demo/grayshoal.yaml"

// command runs one command in this process.
func command(t *testing.T, stdin string, args ...string) (out string, err error) {
	t.Helper()
	c := root()
	var b bytes.Buffer
	c.SetOut(&b)
	c.SetErr(&b)
	c.SetIn(strings.NewReader(stdin))
	c.SetArgs(args)
	err = c.ExecuteContext(t.Context())
	return b.String(), err
}

func must(t *testing.T, args ...string) string {
	t.Helper()
	out, err := command(t, "", args...)
	require.NoError(t, err, "%v", args)
	return out
}

func TestTrace(t *testing.T) {
	out := must(t, "trace", grayshoal, "--from", "jump-1", "--to", "kelp-plc-1", "--service", "ssh")
	for _, part := range []string{
		"Denied by policy consoles-no-shell, rule 1. Policies conflict.",
		"in jump-hosts (match role=jump)", "hubs fjord, cost 3", "jump-to-controllers (jump-hosts → controllers) rule 1: allow ssh — milder",
		"farms-ping (any → farms): no rule contains the flow", "default   deny (segment): not reached",
	} {
		assert.Contains(t, out, part)
	}
	out = must(t, "trace", grayshoal, "--from", "internet:198.51.100.9", "--to", "203.0.113.20", "--service", "tcp/443")
	assert.Contains(t, out, "published as landowners", "a published address is its publication")
	var road struct {
		Trace struct{ Verdict struct{ Outcome string } }
	}
	require.NoError(t, json.Unmarshal([]byte(must(t, "trace", grayshoal, "--from", "office:10.50.0.11", "--to", "198.51.100.7", "--service", "web", "--json")), &road))
	assert.Equal(t, "inspected", road.Trace.Verdict.Outcome)
	_, err := command(t, "", "trace", grayshoal, "--from", "nobody", "--to", "kelp-plc-1", "--service", "ssh")
	assert.ErrorContains(t, err, `from: unknown name "nobody"`)
	_, err = command(t, "", "trace", grayshoal, "--from", "crews", "--to", "kelp-plc-1", "--service", "ssh")
	assert.ErrorContains(t, err, "not a single address")
}

// TestServeKeepsToThisMachine tries to listen where others reach, without saying that it
// is meant.
func TestServeKeepsToThisMachine(t *testing.T) {
	for _, addr := range []string{":0", "0.0.0.0:0", "[::]:0", "10.1.2.3:0", "example.org:0", "8420"} {
		_, err := command(t, "", "serve", "--listen", addr, "--db", filepath.Join(t.TempDir(), "x.db"))
		require.ErrorContains(t, err, "--listen "+addr)
	}
	for _, addr := range []string{"127.0.0.1:0", "localhost:0", "[::1]:0"} {
		require.NoError(t, checkListen(&serveFlags{listen: addr}))
	}
	require.NoError(t, checkListen(&serveFlags{listen: "0.0.0.0:0", proxied: true}))
}

func TestVerdictsReadStandardInput(t *testing.T) {
	flows := "segment,source,destination,protocol,dport\nturbine,10.20.0.11,10.11.1.11,tcp,502\n"
	out, err := command(t, flows, "verdicts", grayshoal, "--flows", "-")
	require.NoError(t, err)
	assert.Equal(t, "segment,source,destination,protocol,dport,outcome,intended,pools,reason,by,contested\n"+
		"turbine,10.20.0.11,10.11.1.11,tcp,502,inspected,inspect,breakwater,policy,operators-control,false\n", out)
	out, err = command(t, "segment,source,destination,protocol\nlost,10.0.0.1,10.0.0.2,6\n", "verdicts", grayshoal, "--flows", "-")
	require.ErrorContains(t, err, "line 2, column segment")
	assert.Empty(t, out, "no output but the error")
}

func TestCheck(t *testing.T) {
	report := filepath.Join(t.TempDir(), "report.xml")
	out, err := command(t, "", "check", grayshoal, "--junit", report)
	require.ErrorIs(t, err, errFails, "expectations fail on the demo")
	assert.Contains(t, out, "expectation dev-stays-in: fails")
	assert.Contains(t, out, "0 faults, 21 findings, 11 of 15 expectations hold")
	text, err := os.ReadFile(report)
	require.NoError(t, err)
	var suites junitSuites
	require.NoError(t, xml.Unmarshal(text, &suites))
	require.Len(t, suites.Suites, 2)
	assert.Equal(t, 4, suites.Suites[1].Failures)
	assert.Len(t, suites.Suites[1].Cases, 15)

	out, err = command(t, "", "check", "../../core/estate/testdata/faults.yaml")
	require.ErrorIs(t, err, errFails)
	assert.Contains(t, out, "faults.yaml:9: F1 hub tor refers to unknown account \"lost\"")

	// The tour's refusal: head-office and bladeworks use the same addresses.
	shared := strings.Replace(readFile(t, grayshoal), "shares:\n", "shares:\n  - name: office-to-contractors\n    owner: {segment: office, groups: [offices]}\n    guest: {segment: contractor, groups: any}\n    rules: [{services: [web], action: allow}]\n", 1)
	out, err = command(t, shared, "check", "-")
	require.ErrorIs(t, err, errFails)
	assert.Contains(t, out, "F3 share office-to-contractors makes 10.40.")
	_, err = command(t, "bivium: 1\nestate: e\nhub: []\n", "check", "-")
	assert.ErrorContains(t, err, "did you mean hubs?")
}

func readFile(t *testing.T, file string) string {
	t.Helper()
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	return string(text)
}

func TestDiff(t *testing.T) {
	next := filepath.Join(t.TempDir(), "next.yaml")
	text := strings.Replace(readFile(t, grayshoal), "    from: [crews]\n    to: [internet-exits]\n", "    enabled: false\n    from: [crews]\n    to: [internet-exits]\n", 1)
	require.NoError(t, os.WriteFile(next, []byte(text), 0o600))
	out, err := command(t, "", "diff", grayshoal, next, "--exit-code")
	require.ErrorIs(t, err, errFails)
	assert.Contains(t, out, "No longer passing\n  tcp/80, tcp/443: inspected by tidegate (policy crews-web) → denied (default)\n    IPv4 from office:crews to all of internet\n      for example office:10.50.0.11 → 198.51.100.7 on tcp/80 from 50000\n    IPv6 from office:crews")
	assert.NotContains(t, out, "Newly passing")
	var changes []changeWords
	require.NoError(t, json.Unmarshal([]byte(must(t, "diff", grayshoal, next, "--json")), &changes))
	require.NotEmpty(t, changes)
	assert.Equal(t, selectionWords{In: "office", Groups: []string{"crews"}, Networks: []string{}, Prefixes: []string{}}, changes[0].Sources)
	assert.Equal(t, "No flows change.\n", must(t, "diff", grayshoal, grayshoal, "--exit-code"))
}

func TestMatrix(t *testing.T) {
	assert.Contains(t, must(t, "matrix", grayshoal), "turbine     DU          UD      UDA     DUAID?U?  U")
	csv := must(t, "matrix", grayshoal, "--by", "group", "--csv")
	assert.Contains(t, csv, "office:crews,internet,udp/443,blocked,rulebook,crew-web,tidegate\n")
	assert.Contains(t, must(t, "matrix", grayshoal, "--by", "network"), "outer-sound")
	_, err := command(t, "", "matrix", grayshoal, "--by", "colour")
	assert.ErrorContains(t, err, "segment, group, network or workload")
	assert.Contains(t, must(t, "matrix", grayshoal, "--by", "workload", "--csv"), "crew-1,kelp-plc-1,")
}

func TestDocumentsGoRound(t *testing.T) {
	canonical := must(t, "fmt", grayshoal)
	again, err := command(t, canonical, "fmt", "-")
	require.NoError(t, err)
	assert.Equal(t, canonical, again)
	fromJSON, err := command(t, must(t, "fmt", grayshoal, "--json"), "fmt", "-")
	require.NoError(t, err)
	assert.Equal(t, canonical, fromJSON)
	assert.True(t, json.Valid([]byte(must(t, "schema"))))
	made := must(t, "generate", "--size", "S", "--seed", "3")
	assert.Equal(t, made, must(t, "generate", "--size", "S", "--seed", "3"))
	_, err = command(t, made, "fmt", "-")
	require.NoError(t, err)
	_, err = command(t, "", "generate", "--size", "XXL")
	assert.ErrorContains(t, err, "S, M, L or XL")
}

// TestTraceTellsBothAddresses traces a flow to what a share shows under another
// address than its own.
func TestTraceTellsBothAddresses(t *testing.T) {
	file := filepath.Join(t.TempDir(), "hands.yaml")
	require.NoError(t, os.WriteFile(file, []byte(`
bivium: 1
estate: hands
hubs: [{name: top}]
segments: [{name: base}, {name: left}]
networks:
  - {name: tower, kind: cloud, segment: base, subnets: [{name: clocks, prefix: 10.9.1.0/24}]}
  - {name: mill, kind: cloud, segment: left, subnets: [{name: lan, prefix: 10.9.0.0/16}]}
attachments: [{network: tower, hub: top}, {network: mill, hub: top}]
shares:
  - name: clock
    owner: {segment: base, groups: any}
    guest: {segment: left, groups: any}
    rules: [{services: [udp/123], action: allow}]
    show:
      - {inside: 10.9.1.0/24, outside: 100.72.1.0/24, segment: base}
      - {inside: 10.9.0.0/16, outside: 100.65.0.0/16, segment: left}
`), 0o600))
	out := must(t, "trace", file, "--from", "left:10.9.4.4", "--to", "100.72.1.7", "--service", "udp/123")
	assert.Contains(t, out, "10.9.4.4, translated to 100.65.4.4")
	assert.Contains(t, out, "10.9.1.7, translated to 100.72.1.7")
	assert.Contains(t, out, "Allowed by share clock, rule 1.")
}

func TestWhatIf(t *testing.T) {
	out := must(t, "what-if", grayshoal)
	assert.Contains(t, out, "If firewall breakwater-fjord-1 fails\n  contractor → turbine: inspected changes to denied, tcp/22, tcp/3389")
	assert.Contains(t, out, "breaks expectation portal-public, for example internet:198.51.100.7")
	_, err := command(t, "", "what-if", grayshoal, "--exit-code")
	require.ErrorIs(t, err, errFails)
	_, err = command(t, "", "--jobs", "-2", "what-if", grayshoal)
	assert.ErrorContains(t, err, "use 0 or a positive number")
}

// TestEveryJSONKeyIsDocumented holds docs/formats.md to what the commands print.
func TestEveryJSONKeyIsDocumented(t *testing.T) {
	formats := readFile(t, "../../docs/formats.md")
	next := filepath.Join(t.TempDir(), "next.yaml")
	require.NoError(t, os.WriteFile(next, []byte(strings.Replace(readFile(t, grayshoal), "action: inspect, pool: breakwater", "action: deny", 1)), 0o600))
	flows := filepath.Join(t.TempDir(), "flows.csv")
	require.NoError(t, os.WriteFile(flows, []byte("segment,source,destination,protocol,dport\nturbine,10.20.0.11,10.11.1.11,tcp,502\n"), 0o600))
	seen := 0
	var walk func(of string, value any)
	walk = func(of string, value any) {
		switch v := value.(type) {
		case []any:
			for _, x := range v {
				walk(of, x)
			}
		case map[string]any:
			for key, x := range v {
				if _, label := v["env"]; label || key == "role" || key == "app" {
					continue // a workload's labels
				}
				seen++
				assert.Contains(t, formats, "`"+key+"`", "%s prints %s", of, key)
				walk(of, x)
			}
		}
	}
	for _, args := range [][]string{
		{"check", grayshoal}, {"trace", grayshoal, "--from", "crew-1", "--to", "198.51.100.7", "--service", "web"},
		{"verdicts", grayshoal, "--flows", flows}, {"matrix", grayshoal}, {"diff", grayshoal, next}, {"what-if", grayshoal},
	} {
		out, err := command(t, "", append(args, "--json")...)
		if !errors.Is(err, errFails) {
			require.NoError(t, err)
		}
		var value any
		require.NoError(t, json.Unmarshal([]byte(out), &value), "%v", args)
		walk(args[0], value)
	}
	assert.Greater(t, seen, 500)
}

// TestEditsOfFiles tries an edit of the demo and makes it: what was printed as its consequence
// is what comparing the two files finds.
func TestEditsOfFiles(t *testing.T) {
	dir := t.TempDir()
	write := func(name, text string) string {
		file := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
		return file
	}
	good := write("good.yaml", `operations:
  - {op: put, kind: group, base: absent, object: {name: night-crews, match: "role=cabin", within: cabins}}
  - op: put
    kind: policy
    base: absent
    object: {name: night-out, segments: [office], from: [night-crews], to: [internet-exits], rules: [{services: [web], action: allow}]}
  - {op: rename, kind: group, name: night-crews, to: late-crews}
`)
	out := must(t, "try", grayshoal, good)
	for _, part := range []string{"group late-crews: new", "policy night-out: new", "allowed (policy night-out)"} {
		assert.Contains(t, out, part)
	}
	after := write("after.yaml", must(t, "edit", grayshoal, good))
	var tried struct{ Flows []any }
	require.NoError(t, json.Unmarshal([]byte(must(t, "try", "--json", grayshoal, good)), &tried))
	var compared []any
	require.NoError(t, json.Unmarshal([]byte(must(t, "diff", "--json", grayshoal, after)), &compared))
	assert.ElementsMatch(t, compared, tried.Flows)

	bad := write("bad.yaml", "operations:\n  - {op: put, kind: policy, object: {name: crews-web, segments: [ofice], from: any, to: any, rules: [{services: [web], action: inspect}]}}\n")
	out, err := command(t, "", "try", grayshoal, bad)
	require.ErrorIs(t, err, errFails)
	assert.Contains(t, out, `Introduces fault F1 at policies[8].segments[0]: policy crews-web refers to unknown segment "ofice"`)
	assert.Contains(t, out, "names no pool")
	used := write("used.yaml", "operations: [{op: delete, kind: group, name: controllers}]")
	out, err = command(t, "", "try", grayshoal, used)
	require.ErrorIs(t, err, errFails)
	assert.Contains(t, out, "Refused: group controllers is in use by\n  rulebook control\n  policy collectors-poll\n")
	_, along, _ := strings.Cut(out, "refers to it:\n")
	must(t, "edit", grayshoal, write("along.json", along))
	_, err = command(t, "operations: [{op: delete, kind: gruop, name: x}]", "edit", grayshoal, "-")
	assert.ErrorContains(t, err, `operation 1: kind: "gruop" is not a kind of object`)
	_, err = command(t, "operations: [{op: destroy, kind: group}]", "edit", grayshoal, "-")
	assert.ErrorContains(t, err, "line 1: operations[0].op: \"destroy\" is no op")
}

// TestSuggest asks for edits of the demo, and makes the first: the flow has the outcome.
func TestSuggest(t *testing.T) {
	flow := []string{"--from", "model-dev-1", "--to", "price-db-1", "--service", "sql"}
	out := must(t, append([]string{"suggest", grayshoal, "--want", "allowed"}, flow...)...)
	assert.Contains(t, out, "1. Add group model-dev-1 with 10.72.0.11/32 alone, within dev\n")
	assert.Contains(t, out, "no other flows change\n   expectation dev-not-to-prod breaks\n")
	var list []map[string]any
	require.NoError(t, json.Unmarshal([]byte(must(t, append([]string{"suggest", grayshoal, "--json", "--want", "inspected"}, flow...)...)), &list))
	require.NotEmpty(t, list)
	text, err := json.Marshal(map[string]any{"operations": list[0]["operations"]})
	require.NoError(t, err)
	made, err := command(t, string(text), "edit", grayshoal, "-")
	require.NoError(t, err)
	file := filepath.Join(t.TempDir(), "made.yaml")
	require.NoError(t, os.WriteFile(file, []byte(made), 0o600))
	assert.Contains(t, must(t, append([]string{"trace", file}, flow...)...), "Inspected by")
	_, err = command(t, "", append([]string{"suggest", grayshoal, "--want", "denied"}, flow...)...)
	assert.ErrorIs(t, err, errFails, "it is denied already")
}

// TestFixesOfFindings asks for what removes the findings of a code, and makes the first.
func TestFixesOfFindings(t *testing.T) {
	out := must(t, "suggest", grayshoal, "--finding", "unreached-rule")
	assert.Contains(t, out, "rule 3 of policy offices-web matches no flow (unreached-rule.")
	assert.Contains(t, out, "1. Remove rule 3 of policy offices-web\n   no flows change\n2. Move rule 3 of policy offices-web before rule 2\n")
	assert.Contains(t, must(t, "suggest", grayshoal, "--finding", "down"), "attachment of outer-sound at fjord is down (down.j9683w)\nNo edit was found.\n")
	var list []struct{ Fixes []map[string]any }
	require.NoError(t, json.Unmarshal([]byte(must(t, "suggest", grayshoal, "--json", "--finding", "one-way")), &list))
	text, err := json.Marshal(map[string]any{"operations": list[0].Fixes[0]["operations"]})
	require.NoError(t, err)
	made, err := command(t, string(text), "edit", grayshoal, "-")
	require.NoError(t, err)
	_, err = command(t, made, "suggest", "-", "--finding", "one-way")
	assert.ErrorContains(t, err, "the estate has no finding one-way")
}

// TestAPlanBetweenTwoFiles plans what an estate with one service more asks of targets, which only
// opens, and the way back, which only closes.
func TestAPlanBetweenTwoFiles(t *testing.T) {
	next := filepath.Join(t.TempDir(), "next.yaml")
	require.NoError(t, os.WriteFile(next, []byte(strings.Replace(readFile(t, grayshoal), "services: [sql]", "services: [sql, ssh]", 1)), 0o600))
	out := must(t, "plan", grayshoal, next)
	assert.Contains(t, out, "no flow is opened temporarily")
	assert.Contains(t, out, "open\n")
	assert.NotContains(t, out, "tighten")
	out = must(t, "plan", next, grayshoal)
	assert.Contains(t, out, "tighten\n")
	assert.NotContains(t, out, "open\n")
	assert.Equal(t, "nothing is to be written\n", must(t, "plan", grayshoal, grayshoal))
	_, err := command(t, "", "plan", grayshoal)
	assert.ErrorContains(t, err, "give two files")
}
