package server_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v3"

	"bivium/internal/app"
	"bivium/internal/app/view"
	"bivium/internal/server"
	"bivium/internal/standin"
)

type problem struct{ Problems []view.Problem }

const secret = "many-secret-nobody-should-see"

// outside plays an account of a provider, of so many workloads.
func outside(t testing.TB, provider string, workloads int) (*standin.World, app.Connection) {
	t.Helper()
	world := &standin.World{}
	a := standin.Many("many", provider, 2, workloads)
	a.Secret = secret
	a.Hubs = []standin.Part{{Name: "fjord", Region: "north", State: "down", Why: "a test"}}
	world.Add(a)
	s := httptest.NewServer(map[string]http.Handler{"cirra": world.Cirra(), "velum": world.Velum(), "stratok": world.Stratok()}[provider])
	t.Cleanup(s.Close)
	return world, app.Connection{Name: "many", Provider: provider, Endpoint: s.URL, Account: "many", Key: a.Key, Secret: secret}
}

func body(t testing.TB, v any) string {
	t.Helper()
	b, err := json.Marshal(v)
	require.NoError(t, err)
	return string(b)
}

// reading waits until no sync of the account runs, and returns the last.
func (w *world) reading(account string) *app.ReadingView {
	w.t.Helper()
	var last *app.ReadingView
	require.Eventually(w.t, func() bool {
		var all struct{ Accounts []app.AccountView }
		w.send(http.MethodGet, "/api/accounts", "", nil, http.StatusOK, "Accounts", &all)
		for _, a := range all.Accounts {
			if a.Name == account {
				last = a.Reading
			}
		}
		return last != nil && last.State != "running"
	}, 20*time.Second, 20*time.Millisecond)
	return last
}

func (w *world) revision() map[string]string {
	w.t.Helper()
	var e view.Summary
	w.send(http.MethodGet, "/api/estate", "", nil, http.StatusOK, "Estate", &e)
	return map[string]string{"If-Match": fmt.Sprintf(`"%d"`, e.Revision)}
}

// TestAnAccountOverHTTP connects, reads, maps, labels and groups, and looks for
// the credential in all that comes out.
func TestAnAccountOverHTTP(t *testing.T) {
	w := start(t)
	world, c := outside(t, "velum", 900)
	wrong := c
	wrong.Secret = "another"
	var p problem
	w.send(http.MethodPost, "/api/accounts", body(t, wrong), nil, http.StatusUnprocessableEntity, "Problem", &p)
	require.Equal(t, "secret", p.Problems[0].At)
	wrong = app.Connection{Name: "No Name", Provider: "nobody", Endpoint: "http://169.254.169.254/"}
	w.send(http.MethodPost, "/api/accounts", body(t, wrong), nil, http.StatusUnprocessableEntity, "Problem", &p)
	assert.Len(t, p.Problems, 4)
	w.send(http.MethodPost, "/api/accounts/many/reading", "", map[string]string{"Content-Type": "application/json"}, http.StatusUnprocessableEntity, "Problem", &p)

	var account app.AccountView
	w.send(http.MethodPost, "/api/accounts", body(t, c), nil, http.StatusCreated, "Account", &account)
	assert.NotContains(t, body(t, account), secret)
	for _, file := range []string{w.file, w.file + "-wal"} {
		stored, err := os.ReadFile(file)
		require.NoError(t, err)
		assert.False(t, bytes.Contains(stored, []byte(secret)), "%s holds the secret", file)
	}

	// Cut short, what was read is kept as partial, and it goes on from there.
	require.NoError(t, world.Fail("many", standin.Fault{Kind: "gone", After: 2}))
	asJSON := map[string]string{"Content-Type": "application/json"}
	w.send(http.MethodPost, "/api/accounts/many/reading", "", asJSON, http.StatusAccepted, "Reading", nil)
	r := w.reading("many")
	assert.Equal(t, "partial", r.State)
	assert.True(t, r.GoesOn)
	assert.Contains(t, r.Report.Why, "did not answer")
	assert.Equal(t, [2]int{2, 500}, r.Report.Read)
	require.NoError(t, world.Fail("many", standin.Fault{Kind: "none"}))
	w.send(http.MethodPost, "/api/accounts/many/reading?goOn=true", "", asJSON, http.StatusAccepted, "Reading", nil)
	r = w.reading("many")
	assert.Equal(t, "done", r.State)
	assert.Equal(t, 900, r.Workloads)
	assert.Equal(t, 400, r.Report.Counts[0].Count, "those of the first pages are there already")

	var tagged app.Tagged
	w.send(http.MethodGet, "/api/tags", "", nil, http.StatusOK, "Tagged", &tagged)
	assert.Equal(t, 900, tagged.Unlabelled)
	rules := `{"rules":[{"key":"env|stage|environment","label":"env"},{"key":"app","label":"app"}]}`
	w.send(http.MethodPost, "/api/tags/try", rules, nil, http.StatusOK, "Tagged", &tagged)
	assert.Zero(t, tagged.Unlabelled)
	w.send(http.MethodPost, "/api/tags/try", `{"rules":[{"key":"","label":"a b"}]}`, nil, http.StatusUnprocessableEntity, "Problem", &p)
	require.Equal(t, "rules[0].key", p.Problems[0].At)
	w.send(http.MethodPost, "/api/edit", operation(mapping(object{"key": "", "label": "a b"})), w.revision(), http.StatusUnprocessableEntity, "Problem", &p)
	require.Equal(t, "operations[0].object.rules[0].key", p.Problems[0].At)
	w.send(http.MethodPost, "/api/edit", operation(mapping(object{"key": "env|stage|environment", "label": "env"}, object{"key": "app", "label": "app"})), w.revision(), http.StatusOK, "Consequence", nil)
	stale := mapping(object{"key": "app", "label": "app"})
	stale["base"] = "5d41402abc4b2a76b9719d91"
	w.send(http.MethodPost, "/api/edit", operation(stale), w.revision(), http.StatusConflict, "Problem", nil)

	machine, base := w.opened("workload", "machine-000007")
	machine["labels"] = object{"app": "mine"}
	w.send(http.MethodPost, "/api/edit", operation(object{"op": "put", "kind": "workload", "object": machine, "base": base}), w.revision(), http.StatusOK, "Consequence", nil)
	renamed, _ := w.opened("workload", "machine-000450") // and given a label, in one edit
	renamed["name"], renamed["labels"] = "clock", object{"app": "clock"}
	w.send(http.MethodPost, "/api/edit", operation(object{"op": "rename", "kind": "workload", "name": "machine-000450", "to": "clock"}, object{"op": "put", "kind": "workload", "object": renamed}), w.revision(), http.StatusOK, "Consequence", nil)
	w.send(http.MethodPost, "/api/accounts/many/reading", "", asJSON, http.StatusAccepted, "Reading", nil)
	require.Equal(t, "done", w.reading("many").State)
	var sheet view.Sheet
	w.send(http.MethodGet, "/api/sheet?kind=workload&name=machine-000007", "", nil, http.StatusOK, "Sheet", &sheet)
	assert.Equal(t, map[string]string{"app": "mine"}, sheet.Labels, "what was set and taken off by hand holds when the account is synced")
	assert.Equal(t, sheet.Labels, sheet.Hand)
	var clock view.Sheet
	w.send(http.MethodGet, "/api/sheet?kind=workload&name=clock", "", nil, http.StatusOK, "Sheet", &clock)
	assert.Equal(t, map[string]string{"app": "clock"}, clock.Hand)
	assert.Equal(t, "app-007", sheet.Tags["App"])
	require.GreaterOrEqual(t, len(sheet.History), 3, "read, mapped, labelled")

	w.send(http.MethodPost, "/api/edit", putGroup("mine", "app=mine"), w.revision(), http.StatusOK, "Consequence", nil)
	w.send(http.MethodPost, "/api/edit", putGroup("mine", "app=mine"), w.revision(), http.StatusUnprocessableEntity, "Problem", nil)
	w.send(http.MethodGet, "/api/sheet?kind=group&name=mine", "", nil, http.StatusOK, "Sheet", &sheet)
	assert.Equal(t, []string{"machine-000007"}, sheet.Some)

	var rows view.Rows
	w.send(http.MethodPost, "/api/rows", `{"open":[],"find":"mine","unplaced":true,"from":0}`, nil, http.StatusOK, "Rows", &rows)
	require.Equal(t, 1, rows.Found)
	assert.Equal(t, "workload:machine-000007", rows.Rows[len(rows.Rows)-1].ID)
	var lists []any
	w.send(http.MethodPost, "/api/networks/net-00000/rules", "{}", nil, http.StatusOK, "RuleList", &lists)
	assert.Len(t, lists, 1)
	w.send(http.MethodPost, "/api/networks/telemetry/rules", "{}", nil, http.StatusUnprocessableEntity, "Problem", nil)
	var states []any
	w.send(http.MethodPost, "/api/accounts/many/health", "{}", nil, http.StatusOK, "Health", &states)
	assert.NotEmpty(t, states)

	// Disconnected, the credential is gone, and what was read stays.
	w.send(http.MethodDelete, "/api/accounts/many", "", asJSON, http.StatusNoContent, "", nil)
	w.send(http.MethodPost, "/api/accounts/many/reading", "", asJSON, http.StatusUnprocessableEntity, "Problem", &p)
	var all struct{ Accounts []app.AccountView }
	w.send(http.MethodGet, "/api/accounts", "", nil, http.StatusOK, "Accounts", &all)
	for _, a := range all.Accounts {
		if a.Name == "many" {
			assert.Empty(t, a.Endpoint)
			assert.Equal(t, 900, a.Workloads)
		}
	}
}

// TestAnAccountThatIsGone imports a document without an account that is connected: its
// credential is listed, nothing is sent with it, and it can be removed.
func TestAnAccountThatIsGone(t *testing.T) {
	w := start(t)
	asked := w.connectCounted()
	w.send(http.MethodPost, "/api/import", "bivium: 1\nestate: another\n", w.revision(), http.StatusOK, "Import", nil)
	before := asked.Load()
	var all struct{ Accounts []app.AccountView }
	w.get("/api/accounts", "Accounts", &all)
	require.Len(t, all.Accounts, 1)
	assert.True(t, all.Accounts[0].Gone)
	assert.NotEmpty(t, all.Accounts[0].Endpoint)
	var p problem
	for _, path := range []string{"/api/accounts/many/reading", "/api/accounts/many/health"} {
		w.send(http.MethodPost, path, "{}", nil, http.StatusUnprocessableEntity, "Problem", &p)
		assert.Contains(t, p.Problems[0].Message, "no longer in the estate")
	}
	w.send(http.MethodPost, "/api/states", "{}", nil, http.StatusOK, "States", nil)
	assert.Equal(t, before, asked.Load(), "nothing was sent")
	w.send(http.MethodDelete, "/api/accounts/many", "{}", nil, http.StatusNoContent, "", nil)
	w.get("/api/accounts", "Accounts", &all)
	assert.Empty(t, all.Accounts)
	w.send(http.MethodDelete, "/api/accounts/many", "{}", nil, http.StatusNotFound, "Problem", nil)
}

// connectCounted connects an account, and returns how often its provider was asked.
func (w *world) connectCounted() *atomic.Int64 {
	world, c := outside(w.t, "cirra", 100)
	asked := &atomic.Int64{}
	s := httptest.NewServer(http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		asked.Add(1)
		world.Cirra().ServeHTTP(rw, r)
	}))
	w.t.Cleanup(s.Close)
	c.Endpoint = s.URL
	w.send(http.MethodPost, "/api/accounts", body(w.t, c), nil, http.StatusCreated, "Account", nil)
	return asked
}

// TestGETNeverCallsAProvider gets every address of the description, with and without what
// it asks about, and counts what the provider of a connected account is asked.
func TestGETNeverCallsAProvider(t *testing.T) {
	w := start(t)
	asked := w.connectCounted()
	var spec struct {
		Paths map[string]map[string]any
	}
	require.NoError(t, yaml.Unmarshal(server.Specification, &spec))
	before, got := asked.Load(), 0
	for path, methods := range spec.Paths {
		if _, ok := methods["get"]; !ok {
			continue
		}
		for _, name := range []string{"many", "net-00000"} {
			r, err := w.http.Client().Get(w.http.URL + strings.ReplaceAll(path, "{name}", name) + "?kind=account&name=many&network=" + name)
			require.NoError(t, err)
			require.NoError(t, r.Body.Close())
			got++
		}
	}
	assert.Greater(t, got, 20)
	assert.Equal(t, before, asked.Load())
}

// TestAReadingThatWasCutOff kills nothing, but does what a crash does: the server
// that reads is forgotten, and another opens its database.
func TestAReadingThatWasCutOff(t *testing.T) {
	w := start(t)
	world, c := outside(t, "cirra", 2600)
	w.send(http.MethodPost, "/api/accounts", body(t, c), nil, http.StatusCreated, "Account", nil)
	require.NoError(t, world.Fail("many", standin.Fault{Kind: "slow", After: 3, Wait: 40}))
	w.send(http.MethodPost, "/api/accounts/many/reading", "", map[string]string{"Content-Type": "application/json"}, http.StatusAccepted, "Reading", nil)
	copied := w.file + ".copy"
	require.Eventually(t, func() bool {
		var all struct{ Accounts []app.AccountView }
		w.send(http.MethodGet, "/api/accounts", "", nil, http.StatusOK, "Accounts", &all)
		for _, a := range all.Accounts {
			if a.Name == "many" && a.Reading != nil && a.Reading.Workloads >= 500 {
				return true
			}
		}
		return false
	}, 20*time.Second, time.Millisecond)
	for _, part := range []string{"", "-wal", ".key"} { // what is on disk when the power goes
		b, err := os.ReadFile(w.file + part)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(copied+part, b, 0o600))
	}
	w.reading("many")

	other, _ := open(t, copied, w.first)
	accounts, err := other.Accounts(t.Context())
	require.NoError(t, err)
	var last *app.ReadingView
	for _, a := range accounts {
		if a.Name == "many" {
			last = a.Reading
		}
	}
	require.Equal(t, "cut-off", last.State)
	assert.True(t, last.GoesOn)
	_, err = other.Read(t.Context(), "many", "tester", true)
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		accounts, err = other.Accounts(t.Context())
		require.NoError(t, err)
		for _, a := range accounts {
			if a.Name == "many" {
				last = a.Reading
			}
		}
		return last.State == "done"
	}, 20*time.Second, 20*time.Millisecond)
	assert.Equal(t, 2600, last.Workloads)
	for _, a := range accounts {
		if a.Name == "many" {
			assert.Equal(t, 2600, a.Workloads)
		}
	}
}

// TestEveryThingHasASheet follows every link that faults and findings offer.
func TestEveryThingHasASheet(t *testing.T) {
	w := start(t)
	kinds := map[string]bool{}
	for _, x := range w.issues() {
		for _, thing := range x.Refs {
			kinds[thing.Kind] = true
			var sheet view.Sheet
			w.send(http.MethodGet, "/api/sheet?kind="+thing.Kind+"&name="+url.QueryEscape(thing.Name), "", nil, http.StatusOK, "Sheet", &sheet)
			require.NotEmpty(t, sheet.Document, "%v", thing)
		}
	}
	assert.Greater(t, len(kinds), 6, "%v", kinds)
	w.send(http.MethodGet, "/api/sheet?kind=network&name=nowhere", "", nil, http.StatusNotFound, "Problem", nil)
	w.send(http.MethodGet, "/api/sheet?kind=wish&name=x", "", nil, http.StatusNotFound, "Problem", nil)
}

// TestADocumentIsSeenBeforeItReplaces tries what is exported, an edit of it, and
// one that cannot be read.
func TestADocumentIsSeenBeforeItReplaces(t *testing.T) {
	w := start(t)
	r, err := w.http.Client().Get(w.http.URL + "/api/export")
	require.NoError(t, err)
	var exported bytes.Buffer
	_, err = exported.ReadFrom(r.Body)
	require.NoError(t, err)
	require.NoError(t, r.Body.Close())
	asYAML := map[string]string{"Content-Type": "application/yaml"}
	var imported app.Import
	w.send(http.MethodPost, "/api/import/try", exported.String(), asYAML, http.StatusOK, "Import", &imported)
	assert.Empty(t, imported.Changes)
	assert.Empty(t, imported.Effect.Flows)

	var p problem
	w.send(http.MethodPost, "/api/import/try", "bivium: 1\nestate: x\nnetworks:\n  - {name: n, kind: cloud, colour: red}\n", asYAML, http.StatusUnprocessableEntity, "Problem", &p)
	require.Contains(t, p.Problems[0].At, "line 4")

	edited := bytes.Replace(exported.Bytes(), []byte("default: allow"), []byte("default: deny"), 1)
	require.NotEqual(t, exported.Bytes(), edited)
	w.send(http.MethodPost, "/api/import/try", string(edited), asYAML, http.StatusOK, "Import", &imported)
	assert.Equal(t, [3]int{0, 1, 0}, imported.Counts["segments"])
	assert.NotEmpty(t, imported.Effect.Flows)
	based := w.revision()
	based["Content-Type"] = "application/yaml"
	w.send(http.MethodPost, "/api/import", string(edited), based, http.StatusOK, "Import", nil)
	w.send(http.MethodPost, "/api/import", string(edited), based, http.StatusConflict, "Problem", nil)
}
