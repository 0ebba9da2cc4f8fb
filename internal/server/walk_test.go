package server_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v3"
	"pgregory.net/rapid"

	"bivium/core/document"
	"bivium/core/estate"
	"bivium/core/expectation"
	"bivium/core/findings"
	"bivium/core/matrix"
	"bivium/core/query"
	"bivium/core/synth"
	"bivium/core/testing/draw"
	"bivium/core/testing/meet"
	"bivium/core/verdict"
	"bivium/demo"
	"bivium/internal/app"
	"bivium/internal/server"
	"bivium/internal/standin"
)

// walker takes random steps on a server.
type walker struct {
	*caller
	*world
	met     meet.Met
	outside *standin.World
	account app.Connection
}

// TestARandomWalk edits drawn, generated and the demo's estates over HTTP in every way there
// is, well and badly, with restarts, imports, undoing, and accounts that answer odd things.
// No answer is a fault of the server's; after each step the survey says what one from the
// ground says, and the database and the export hold what is shown.
func TestARandomWalk(t *testing.T) {
	var spec object
	require.NoError(t, yaml.Unmarshal(server.Specification, &spec))
	wants := meet.Often(2, "restarted", "imported", "undone", "synced", "wired", "wired by odd values", "a policy saved", "a drawn request")
	meet.Check(t, wants, func(rt *rapid.T, met meet.Met) {
		first := drawFirst(rt)
		world, c := outside(t, "velum", rapid.IntRange(0, 40).Draw(rt, "machines"))
		w := &walker{
			caller: &caller{t: rt, spec: spec}, met: met, outside: world, account: c,
			world: startWith(t, func() (*estate.Estate, error) { return first, nil }),
		}
		for range *steps {
			w.caller.base, w.caller.words = w.http.URL, wordsOf(w.app.Now().Estate)
			w.step()
			w.holdsTogether()
		}
	})
}

func drawFirst(t *rapid.T) *estate.Estate {
	switch rapid.IntRange(0, 2).Draw(t, "kind of estate") {
	case 0:
		e, err := document.Read(demo.Grayshoal)
		require.NoError(t, err)
		return e
	case 1:
		return synth.New("generated", synth.Sizes["S"], rapid.Uint64Range(0, 1<<20).Draw(t, "seed"))
	}
	return draw.Faultless(t, func(e *estate.Estate) []estate.Fault {
		return append(estate.Check(e), findings.ShareFaults(verdict.New(e))...)
	})
}

func (w *walker) step() {
	t := w.caller.t
	now := w.app.Now()
	switch rapid.IntRange(0, 9).Draw(t, "step") {
	case 0:
		w.restart()
		w.met["restarted"]++
	case 1:
		w.met.If(w.try(http.MethodPost, "/api/undo", nil), "undone")
	case 2:
		next, _ := draw.Edit(t, now.Estate)
		text, err := document.WriteJSON(next)
		require.NoError(t, err)
		w.met.If(w.try(http.MethodPost, "/api/import", json.RawMessage(text)), "imported")
	case 3:
		w.sync()
	case 4, 5:
		x := w.wiring()
		w.met.If(w.try(http.MethodPost, "/api/edit", object{"wiring": []any{x}}), "wired")
	case 6:
		x := w.wiring()
		for key, value := range w.oddValues() {
			x[key] = value
		}
		w.try(http.MethodPost, "/api/edit", object{"wiring": []any{x}})
		w.met["wired by odd values"]++
	case 7:
		w.policy(now.Estate)
	default:
		x := w.request()
		w.send1(x.method, x.path, x.body)
		w.met["a drawn request"]++
	}
}

// wiring draws an edit of the wiring that can be made, mostly.
func (w *walker) wiring() object {
	network, hub, segment := w.text("network"), w.text("hub"), w.text("segment")
	if at := w.app.Now().Estate.Attachments; len(at) > 0 && rapid.Bool().Draw(w.caller.t, "attached") {
		a := rapid.SampledFrom(at).Draw(w.caller.t, "attachment")
		network, hub = a.Network, a.Hub
	}
	return rapid.SampledFrom([]object{
		{"op": "attach", "network": network, "hub": hub, "cost": 7},
		{"op": "detach", "network": network, "hub": hub},
		{"op": "live", "network": network, "segment": segment},
		{"op": "link", "hub": hub, "other": w.text("hub"), "cost": 3},
		{"op": "unlink", "hub": hub, "other": w.text("hub")},
		{"op": "bring", "network": network, "hub": hub, "prefix": w.text("prefix"), "segment": segment},
		{"op": "filter", "network": network, "hub": hub, "accepts": []string{w.text("prefix")}, "announces": nil},
		{"op": "filter", "network": network, "hub": hub, "accepts": []string{}},
		{"op": "set-route", "network": network, "prefix": w.text("prefix"), "via": "none"},
		{"op": "open-exit", "name": "way-out", "hub": hub, "segments": []string{segment}},
		{"op": "close-exit", "name": "way-out"},
		{"op": "translate", "network": network, "hub": hub, "segment": segment, "prefix": w.text("prefix"), "outside": "100.99.0.0/24"},
		{"op": "add-segment", "name": "fresh"},
		{"op": "drop-segment", "name": segment},
		{"op": "add-hub", "name": "fresh"},
		{"op": "speak", "name": hub, "as": 4294967295, "speaker": "127.0.9.9"},
		{"op": "hear", "network": network, "hub": hub, "router": "127.0.2.77", "as": 64999, "segment": segment, "may": []string{"10.200.0.0/16"}},
		{"op": "quiet", "network": network, "hub": hub, "router": "127.0.2.77"},
	}).Draw(w.caller.t, "edit")
}

// oddValues draws keys of an edit with values that are read, and must not be kept, or only
// with care.
func (w *walker) oddValues() object {
	return rapid.SampledFrom([]object{
		{"cost": 3_000_000_000}, {"cost": -1}, {"as": 1 << 33}, {"limit": 1 << 40}, {"uplink": "two cans"}, {"prefix": "::ffff:10.77.0.0/112"},
		{"outside": "::ffff:10.77.0.0/112"}, {"may": []string{"::ffff:10.0.0.0/104"}}, {"router": "::ffff:127.0.0.1"}, {"prefix": "10.0.0.1/8"}, {"prefix": "0.0.0.0/0"},
		{"name": strings.Repeat("n", 63)}, {"name": "internet"}, {"name": "Ä"}, {"region": "\x00\u2028"}, {"accepts": []string{"::/0", "0.0.0.0/0"}}, {"speaker": "fe80::1%eth0"},
	}).Draw(w.caller.t, "odd values")
}

// policy saves one, with something changed.
func (w *walker) policy(e *estate.Estate) {
	if len(e.Policies) == 0 {
		return
	}
	t := w.caller.t
	p := rapid.SampledFrom(e.Policies).Draw(t, "policy")
	text, err := document.WriteJSON(p)
	require.NoError(t, err)
	body := object{}
	require.NoError(t, json.Unmarshal(text, &body))
	switch rapid.IntRange(0, 3).Draw(t, "change") {
	case 0, 1:
		body["enabled"] = !p.Enabled
	case 2:
		body["to"] = "any"
	case 3:
		body["rules"] = []any{object{"services": []string{"tcp/1-65535"}, "action": "deny"}}
	}
	put := object{"op": "put", "kind": "policy", "object": body}
	w.met.If(w.try(http.MethodPost, "/api/edit", object{"operations": []any{put}}), "a policy saved")
}

// sync lets an account have odd things, and reads it.
func (w *walker) sync() {
	t := w.caller.t
	twin := strings.Repeat("x", 62)
	for i := range rapid.IntRange(0, 4).Draw(t, "odd machines") {
		m := &standin.Machine{ID: fmt.Sprint("odd-", i), Name: rapid.SampledFrom([]string{twin, twin, "Ä Ö", "", "internet", "-", "\xff\xfe"}).Draw(t, "name"), Network: "net-00000"}
		m.Addresses = rapid.SampledFrom([][]netip.Addr{nil, {netip.MustParseAddr("10.0.0.9")}, {netip.MustParseAddr("::ffff:10.0.0.9")}, {netip.MustParseAddr("fe80::1%e")}}).Draw(t, "addresses")
		m.Tags = map[string]string{"env\x00": "prod\x00", strings.Repeat("k", 300): strings.Repeat("v", 300)}
		_ = w.outside.Start(w.account.Account, m) // one that is refused is as good
	}
	if !w.try(http.MethodPost, "/api/accounts", w.account) {
		return
	}
	if w.try(http.MethodPost, "/api/accounts/"+w.account.Name+"/reading", nil) {
		w.reading(w.account.Name)
		w.met["synced"]++
	}
}

// try sends a write at the current revision, and reports whether it was done.
func (w *walker) try(method, path string, body any) bool {
	text := []byte{}
	if body != nil {
		var err error
		text, err = json.Marshal(body)
		require.NoError(w.caller.t, err)
	}
	return w.send1(method, path, string(text)) < 300
}

// send1 sends a request at the current revision, and returns how it was answered.
func (w *walker) send1(method, path, body string) int {
	t := w.caller.t
	r, err := http.NewRequest(method, w.http.URL+path, strings.NewReader(body)) //nolint:noctx // the test ends it
	require.NoError(t, err)
	if method != http.MethodGet {
		r.Header.Set("Content-Type", "application/json")
		r.Header.Set("If-Match", fmt.Sprintf(`"%d"`, w.app.Now().Revision))
	}
	response, err := w.http.Client().Do(r)
	require.NoError(t, err, "%s %s %s", method, path, body)
	defer response.Body.Close() //nolint:errcheck // it is read to its end
	text, err := io.ReadAll(response.Body)
	require.NoError(t, err)
	require.Less(t, response.StatusCode, 500, "%s %s %s: %s", method, path, body, text)
	return response.StatusCode
}

// holdsTogether holds what is shown to the database, the export, and a survey from the ground.
func (w *walker) holdsTogether() {
	t := w.caller.t
	now := w.app.Now()
	exported, err := app.Export(now)
	require.NoError(t, err)
	stored, revision, aside, err := w.db.Get(w.world.t.Context())
	require.NoError(t, err)
	require.Empty(t, aside)
	require.Equal(t, now.Revision, revision)
	text, err := document.Write(stored)
	require.NoError(t, err)
	require.Equal(t, string(exported), string(text))
	again, err := document.Read(exported)
	require.NoError(t, err, "%s", exported)
	text, err = document.Write(again)
	require.NoError(t, err)
	require.Equal(t, string(exported), string(text))

	ground := matrix.New(verdict.New(now.Estate))
	nodes := query.Nodes(ground, func(string) bool { return false })
	require.Equal(t, nodes, query.Nodes(now.Matrix, func(string) bool { return false }))
	for _, row := range nodes {
		for _, col := range nodes {
			require.Equal(t, sortedMarks(ground.Between(row, col)), sortedMarks(now.Matrix.Between(row, col)), "%v to %v", row, col)
		}
	}
	want, got := expectation.NewBook(ground).All(), now.Analysis.Expectations.All()
	require.Len(t, got, len(want))
	for i := range want {
		require.Equal(t, want[i].Holds, got[i].Holds, want[i].Expectation.Name)
	}
}

// sortedMarks returns marks in an order of their own.
func sortedMarks(marks []matrix.Mark) string {
	seen := map[string]bool{}
	for _, m := range marks {
		seen[fmt.Sprint(m)] = true
	}
	var b bytes.Buffer
	_ = json.NewEncoder(&b).Encode(seen) // keys are sorted
	return b.String()
}
