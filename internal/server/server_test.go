package server_test

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"testing/fstest"
	"time"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v3"

	"bivium/core/document"
	"bivium/core/estate"
	"bivium/core/limits"
	"bivium/core/matrix"
	"bivium/core/verdict"
	"bivium/demo"
	"bivium/internal/app"
	"bivium/internal/app/consequence"
	"bivium/internal/app/drafts"
	"bivium/internal/app/history"
	"bivium/internal/app/view"
	"bivium/internal/drivers"
	"bivium/internal/drivers/call"
	"bivium/internal/drivers/providers"
	"bivium/internal/people"
	"bivium/internal/server"
	"bivium/internal/store"
	"bivium/internal/vault"
	"bivium/internal/wording"
)

// world is a server on a database of its own, with a client that holds every
// answer against the OpenAPI description.
type world struct {
	t      testing.TB
	file   string
	first  func() (*estate.Estate, error)
	http   *httptest.Server
	app    *app.App
	db     *store.Store
	people *people.Register
	drafts *drafts.Desk
	spec   *jsonschema.Compiler
}

func open(t testing.TB, file string, first func() (*estate.Estate, error)) (*app.App, *store.Store) {
	t.Helper()
	s, err := store.Open(t.Context(), file)
	require.NoError(t, err)
	v, err := vault.Open(file + ".key")
	require.NoError(t, err)
	a, err := app.Open(t.Context(), app.Config{
		Store: s, Clock: time.Now, Vault: v, Log: slog.New(slog.DiscardHandler),
		First: first,
		Dial: func(provider string, a drivers.Access) (drivers.Driver, error) {
			return providers.Open(provider, a, func(c *call.Client) { c.Pause = time.Millisecond })
		},
	})
	require.NoError(t, err)
	return a, s
}

func start(t testing.TB) *world {
	return startWith(t, func() (*estate.Estate, error) { return document.Read([]byte(unguarded)) })
}

// unguarded is the demo without owners who must approve, so that any edit can be made at once.
var unguarded = strings.Replace(string(demo.Grayshoal), "owners: [farm-operations], approval: opened, ", "", 1)

// startGuarded starts a server with the demo as it is, and people of it.
func startGuarded(t testing.TB) *world {
	w := startWith(t, func() (*estate.Estate, error) { return document.Read(demo.Grayshoal) })
	w.cast()
	return w
}

// startWith starts a server with an estate to begin with.
func startWith(t testing.TB, first func() (*estate.Estate, error)) *world {
	t.Helper()
	w := &world{t: t, file: filepath.Join(t.TempDir(), "demo.db"), first: first, spec: jsonschema.NewCompiler()}
	var spec any
	require.NoError(t, yaml.Unmarshal(server.Specification, &spec))
	text, err := json.Marshal(spec)
	require.NoError(t, err)
	parsed, err := jsonschema.UnmarshalJSON(bytes.NewReader(text))
	require.NoError(t, err)
	require.NoError(t, w.spec.AddResource("urn:spec", parsed))
	w.serve()
	t.Cleanup(w.stop)
	return w
}

// serve opens the database and answers.
func (w *world) serve() {
	w.app, w.db = open(w.t, w.file, w.first)
	files := fstest.MapFS{"index.html": {Data: []byte("<p>page")}, "assets/a.js": {Data: []byte("1")}}
	v, err := vault.Open(w.file + ".key")
	require.NoError(w.t, err)
	w.people, err = people.Open(w.t.Context(), w.db, v, time.Now)
	require.NoError(w.t, err)
	everything := people.Person{Name: "tester", Active: true}
	for _, role := range people.Roles {
		everything.Grants = append(everything.Grants, people.Grant{Role: role})
	}
	require.NoError(w.t, w.people.Put(w.t.Context(), people.System("test"), everything))
	w.people.OpenDoors("tester")
	w.drafts, err = drafts.Open(w.t.Context(), w.app, w.people)
	require.NoError(w.t, err)
	w.http = httptest.NewServer(server.New(server.Config{App: w.app, People: w.people, Drafts: w.drafts, History: history.New(w.app, w.people, w.drafts), Store: w.db, Files: files, Log: slog.New(slog.DiscardHandler)}))
	w.be("tester")
}

// signedIn sends requests with the cookie of a session.
type signedIn struct {
	http.RoundTripper
	cookie *http.Cookie
}

func (s signedIn) RoundTrip(r *http.Request) (*http.Response, error) {
	r = r.Clone(r.Context())
	if len(r.Cookies()) == 0 && r.Header.Get("Authorization") == "" {
		r.AddCookie(s.cookie)
	}
	return s.RoundTripper.RoundTrip(r)
}

// be sends what follows as one of the demo's people.
func (w *world) be(name string) {
	w.t.Helper()
	w.http.Client().Transport = signedIn{http.DefaultTransport, w.enter(name)}
}

// enter signs one of the demo's people in, and returns the cookie of the session.
func (w *world) enter(name string) *http.Cookie {
	w.t.Helper()
	r, err := http.Post(w.http.URL+"/api/sign-in/demo", "application/json", strings.NewReader(`{"name": "`+name+`"}`)) //nolint:noctx // the test ends it
	require.NoError(w.t, err)
	require.NoError(w.t, r.Body.Close())
	require.Equal(w.t, http.StatusOK, r.StatusCode)
	return r.Cookies()[0]
}

func (w *world) stop() {
	w.http.Close()
	w.app.Close()
	assert.NoError(w.t, w.db.Close())
}

// restart ends the server, and starts another one on the same database.
func (w *world) restart() {
	w.stop()
	w.serve()
}

// send sends a request, checks the answer against a schema of the description,
// and decodes it into out.
func (w *world) send(method, path, body string, header map[string]string, status int, schema string, out any) *http.Response {
	w.t.Helper()
	r, err := http.NewRequestWithContext(w.t.Context(), method, w.http.URL+path, strings.NewReader(body))
	require.NoError(w.t, err)
	if body != "" {
		r.Header.Set("Content-Type", "application/json")
	}
	for k, v := range header {
		r.Header.Set(k, v)
		if k == "Host" {
			r.Host = v
		}
	}
	response, err := w.http.Client().Do(r)
	require.NoError(w.t, err)
	defer response.Body.Close() //nolint:errcheck // it is read to its end
	text, err := io.ReadAll(response.Body)
	require.NoError(w.t, err)
	require.Equal(w.t, status, response.StatusCode, "%s %s: %s", method, path, text)
	if schema != "" {
		compiled, err := w.spec.Compile("urn:spec#/components/schemas/" + schema)
		require.NoError(w.t, err)
		value, err := jsonschema.UnmarshalJSON(bytes.NewReader(text))
		require.NoError(w.t, err, "%s", text)
		if list, ok := value.([]any); ok && schema != "Sentence" {
			for _, item := range list {
				require.NoError(w.t, compiled.Validate(item))
			}
		} else {
			require.NoError(w.t, compiled.Validate(value), "%s %s", method, path)
		}
	}
	if out != nil {
		require.NoError(w.t, json.Unmarshal(text, out))
	}
	return response
}

func (w *world) get(path, schema string, out any) {
	w.t.Helper()
	w.send(http.MethodGet, path, "", nil, http.StatusOK, schema, out)
}

func (w *world) ask(from, to, on string) view.Answer {
	w.t.Helper()
	var a view.Answer
	w.get("/api/ask?"+url.Values{"from": {from}, "to": {to}, "on": {on}}.Encode(), "Answer", &a)
	return a
}

func TestQuestions(t *testing.T) {
	w := start(t)
	for _, c := range []struct{ from, to, on, expect string }{
		{"operator-1", "kelp-plc-1", "modbus", "Inspected by breakwater at fjord (policy operators-control, rule 1)."},
		{"turbine:10.20.0.11", "10.11.1.11", "tcp/502", "Inspected by breakwater at fjord (policy operators-control, rule 1)."},
		{"jump-1", "kelp-plc-1", "ssh", "Denied by policy consoles-no-shell, rule 1. Policies conflict."},
		{"internet", "203.0.113.20", "tcp/443", "Inspected by tidegate at delta (policy public-portal, rule 1)."},
		{"internet:198.51.100.9", "portal-web-1", "tcp/22", "Unrouted: no publication makes portal-web-1 reachable from the internet."},
		{"model-dev-1", "198.51.100.7", "tcp/443", "Allowed, although no policy permits it, and the internet is closed by default: nothing on the internet gateway of network forecast-dev enforces it."},
		{"staff-1", "archive-1", "sql", "Unrouted: packets reach archive-1, but there is no return path."},
		{"collector-1", "outer-plc-1", "modbus", "Unrouted: outer-plc-1 cannot be reached: network outer-sound has no attachment that is up, and no peer advertises its prefix."},
		{"staff-1", "10.99.0.1", "web", "Unrouted: destination unknown in segment office: 10.99.0.1 is in none of its networks, and no share makes it reachable."},
		{"slip-office-1", "198.51.100.7", "udp/443", "Blocked by tidegate at delta: rulebook crew-web rule 1 rejects it."},
		{"blade-crew-1", "jump-1", "rdp", "Inspected by breakwater at fjord (share jump-to-bladeworks, rule 1)."},
	} {
		a := w.ask(c.from, c.to, c.on)
		assert.Equal(t, c.expect, wording.Plain(a.Sentence), "%s to %s on %s", c.from, c.to, c.on)
	}
	depends := w.ask("crews", "internet", "any")
	assert.Len(t, depends.Marks, 3)
	assert.Greater(t, len(depends.Lines), 2)
	refined := w.ask("crews", "internet", "tcp/440-450")
	assert.Len(t, refined.Lines, 2, "a term that no rule has is cut out exactly")
	assert.Equal(t, []string{"tcp/443"}, refined.Lines[0].Services.Terms)
}

func TestQuestionsThatCannotBeAskedSayWhyAtTheField(t *testing.T) {
	w := start(t)
	for _, c := range []struct{ from, to, on, at, message string }{
		{"nobody", "internet", "web", "from", `unknown name "nobody"`},
		{"crews", "internat", "web", "to", "did you mean internet?"},
		{"crews", "internet", "wbe", "on", "did you mean web?"},
		{"crews", "internet", "tcp/99999", "on", "0 to 65535"},
		{"10.40.9.11", "internet", "web", "from", "contractor:10.40.9.11"},
		{"8.8.8.8", "internet", "web", "from", "internet:8.8.8.8"},
		{"internet", "internet", "web", "to", "choose one endpoint inside the estate"},
		{"tide-gauge-1", "internet", "web", "from", "workload tide-gauge-1 is in no segment"},
		{"", "internet", "web", "from", "the endpoint is missing"},
	} {
		var p struct{ Problems []view.Problem }
		w.send(http.MethodGet, "/api/ask?"+url.Values{"from": {c.from}, "to": {c.to}, "on": {c.on}}.Encode(), "", nil, http.StatusUnprocessableEntity, "Problem", &p)
		if assert.Len(t, p.Problems, 1, c.message) {
			assert.Equal(t, c.at, p.Problems[0].At)
			assert.Contains(t, p.Problems[0].Message+"; "+p.Problems[0].Fix, c.message)
		}
	}
}

func TestBoardAndItsCellsAgree(t *testing.T) {
	w := start(t)
	var b view.Board
	const open = "open=turbine,office,market,contractor"
	w.get("/api/board?"+open, "Board", &b)
	require.Greater(t, len(b.Nodes), view.PieceSize, "the board takes more than one piece")
	cells := map[[2]int][]matrix.Mark{}
	for row := 0; row < len(b.Nodes); row += view.PieceSize {
		for col := 0; col < len(b.Nodes); col += view.PieceSize {
			var piece view.Cells
			w.get(fmt.Sprintf("/api/cells?%s&row=%d&col=%d", open, row, col), "Cells", &piece)
			for i, line := range piece.Cells {
				for k, look := range line {
					cells[[2]int{row + i, col + k}] = piece.Looks[look]
				}
			}
		}
	}
	require.Len(t, cells, len(b.Nodes)*len(b.Nodes))
	w.send(http.MethodGet, fmt.Sprintf("/api/cells?row=0&col=%d", len(b.Nodes)), "", nil, http.StatusUnprocessableEntity, "Problem", nil)
	opened := 0
	for i, row := range b.Nodes {
		for k, col := range b.Nodes {
			if row.Kind == "rest" || (i+k)%7 != 0 {
				continue // a seventh of the cells is enough
			}
			var c view.Cell
			w.get("/api/cell?"+url.Values{"row": {row.ID}, "col": {col.ID}}.Encode(), "Cell", &c)
			assert.Equal(t, cells[[2]int{i, k}], c.Marks, "%s to %s", row.ID, col.ID)
			for _, l := range c.Lines {
				for _, p := range l.Parts {
					opened++
					var r view.Road
					q := url.Values{"from": {p.Witness.From}, "to": {p.Witness.To}, "on": {p.Witness.On}, "publication": {p.Witness.Publication}}
					w.get("/api/trace?"+q.Encode(), "Road", &r)
					assert.Equal(t, p.Verdict, r.Trace.Verdict, "the witness of %s to %s on %v", row.ID, col.ID, l.Services)
				}
			}
		}
	}
	assert.Greater(t, opened, 200)
}

// issues returns all issues, from as many pages as there are.
func (w *world) issues() []view.Issue {
	w.t.Helper()
	var first view.IssuePage
	w.get("/api/issues", "Issues", &first)
	var out []view.Issue
	known := map[string]bool{}
	for _, k := range first.Kinds {
		list := k.List
		for len(list) < k.Count {
			var more view.IssuePage
			w.get(fmt.Sprintf("/api/issues?code=%s&from=%d", k.Code, len(list)), "Issues", &more)
			require.Len(w.t, more.Kinds, 1)
			require.NotEmpty(w.t, more.Kinds[0].List)
			list = append(list, more.Kinds[0].List...)
		}
		require.Len(w.t, list, k.Count)
		for _, x := range list {
			require.False(w.t, known[x.Key], x.Key)
			known[x.Key] = true
		}
		out = append(out, list...)
	}
	require.Len(w.t, out, first.Faults+first.Findings)
	var asked view.IssuePage
	if len(out) > 0 {
		w.get("/api/issues?key="+url.QueryEscape(out[len(out)-1].Key), "Issues", &asked)
		require.Equal(w.t, out[len(out)-1], *asked.Asked)
	}
	return out
}

func TestIssuesLeadToRoads(t *testing.T) {
	w := start(t)
	var page view.IssuePage
	w.get("/api/issues", "Issues", &page)
	assert.Zero(t, page.Faults)
	require.Greater(t, page.Findings, 10)
	roads := 0
	for _, f := range w.issues() {
		if f.Witness == nil {
			continue
		}
		roads++
		var r view.Road
		q := url.Values{"from": {f.Witness.From}, "to": {f.Witness.To}, "on": {f.Witness.On}, "publication": {f.Witness.Publication}}
		w.get("/api/trace?"+q.Encode(), "Road", &r)
		if f.Code == "contested" {
			assert.True(t, r.Trace.Verdict.Contested, f.Message)
		}
		if f.Code == "unenforced" {
			assert.Equal(t, verdict.ReasonUnenforced, r.Trace.Verdict.Reason, f.Message)
		}
	}
	assert.Greater(t, roads, 5)
}

// switchedOff returns the body that switches a policy of the demo off.
func switchedOff(w *world) string {
	return putPolicy(w, "crews-web", func(p object) { p["enabled"] = false })
}

func TestAnEditIsTriedSavedAndKept(t *testing.T) {
	w := start(t)
	require.Equal(t, "inspected", string(w.ask("crew-1", "198.51.100.7", "tcp/443").Marks[0].Outcome))

	edit := switchedOff(w)
	var tried consequence.Consequence
	w.send(http.MethodPost, "/api/edit/try", edit, nil, http.StatusOK, "Consequence", &tried)
	assert.Len(t, tried.Effect.Cells, 2, "office to internet, and crews to internet")
	require.Len(t, tried.Effect.Expectations, 1)
	broken := tried.Effect.Expectations[0]
	assert.Equal(t, consequence.Expectation{Name: "crews-web-inspected", Before: view.Holds, After: view.Breaks, Witness: broken.Witness}, broken)
	require.NotNil(t, broken.Witness)
	assert.Equal(t, "inspected", string(w.ask(broken.Witness.From, broken.Witness.To, broken.Witness.On).Marks[0].Outcome), "its flow is one that is inspected now")
	assert.Equal(t, "inspected", string(w.ask("crew-1", "198.51.100.7", "tcp/443").Marks[0].Outcome), "trying stores nothing")

	w.send(http.MethodPost, "/api/edit", edit, map[string]string{"If-Match": `"1"`}, http.StatusOK, "Consequence", &tried)
	assert.Equal(t, int64(2), tried.Revision)
	assert.Equal(t, "denied", string(w.ask("crew-1", "198.51.100.7", "tcp/443").Marks[0].Outcome))

	w.send(http.MethodPost, "/api/edit", edit, map[string]string{"If-Match": `"1"`}, http.StatusConflict, "Problem", nil)
	w.send(http.MethodPost, "/api/edit", edit, nil, http.StatusPreconditionRequired, "Problem", nil)

	w.restart()
	kept, _ := w.opened("policy", "crews-web")
	assert.Equal(t, false, kept["enabled"], "another start finds the edit")
	assert.Equal(t, int64(2), w.app.Now().Revision)
}

func TestABadEditIsRefusedAtItsFieldAndNothingIsLost(t *testing.T) {
	w := start(t)
	good := putPolicy(w, "crews-web", func(p object) { p["description"] = "once more" })
	for _, c := range []struct{ old, new, at, message string }{
		{`"web"`, `"wbe"`, "rules[0].services[0]", `unknown service "wbe"`},
		{`["crews"]`, `["crew"]`, "from[0]", `unknown group "crew"`},
		{`"tidegate"`, `"tidegates"`, "rules[0].pool", `unknown pool "tidegates"`},
		{`,"pool":"tidegate"`, ``, "rules[0]", "inspects, but names no pool"},
		{`"deny"`, `"refuse"`, "rules[1].action", "no action"},
		{`["office"]`, `["ofice"]`, "segments[0]", `unknown segment "ofice"`},
		{`"segments"`, `"segmens"`, "", "unknown key"},
		{`"crews-web"`, `"Crews web"`, "name", "does not start with a lower-case letter"},
	} {
		body := strings.Replace(good, c.old, c.new, 1)
		require.NotEqual(t, good, body)
		at := strings.TrimSuffix("operations[0].object."+c.at, ".")
		var p struct{ Problems []view.Problem }
		w.send(http.MethodPost, "/api/edit", body, map[string]string{"If-Match": `"1"`}, http.StatusUnprocessableEntity, "Problem", &p)
		if assert.NotEmpty(t, p.Problems, c.message) {
			assert.Equal(t, at, p.Problems[0].At)
			assert.Contains(t, p.Problems[0].Message, c.message)
		}
		w.send(http.MethodPost, "/api/edit/try", good, nil, http.StatusOK, "Consequence", nil)
	}
	kept, _ := w.opened("policy", "crews-web")
	assert.NotEqual(t, "once more", kept["description"])
	assert.Equal(t, int64(1), w.app.Now().Revision)
}

func TestNamesAndSummary(t *testing.T) {
	w := start(t)
	var summary view.Summary
	w.get("/api/estate", "Estate", &summary)
	assert.Equal(t, "grayshoal", summary.Name)
	assert.Empty(t, summary.Faults)
	w.get("/api/rules", "Rules", nil)
	var found []view.Completion
	w.get("/api/complete?field=from&text=crew-", "Completion", &found)
	require.NotEmpty(t, found)
	assert.Equal(t, "crew-1", found[0].Text)
	w.get("/api/complete?field=to&text=10.40.9.11", "Completion", &found)
	assert.Contains(t, found[0].Hint, "contractor · bladeworks · blade-crew-1; office · head-office")
	w.get("/api/complete?field=on&text=tcp/8", "Completion", &found)
	assert.Equal(t, "tcp/8", found[0].Text)
}

func TestWhatComesFromElsewhereIsRefused(t *testing.T) {
	w := start(t)
	put := func(header map[string]string, status int) {
		t.Helper()
		header["If-Match"] = `"1"`
		w.send(http.MethodPost, "/api/edit", switchedOff(w), header, status, "Problem", nil)
	}
	put(map[string]string{"Origin": "http://elsewhere.example"}, http.StatusForbidden)
	put(map[string]string{"Sec-Fetch-Site": "cross-site"}, http.StatusForbidden)
	put(map[string]string{"Content-Type": "text/plain"}, http.StatusUnsupportedMediaType)
	put(map[string]string{"Host": "elsewhere.example"}, http.StatusMisdirectedRequest)
	for _, header := range []map[string]string{
		{"Content-Type": "application/json; charset=utf-8"}, {"Host": "LOCALHOST:8420"}, {"Host": "LocalHost"}, {"Host": "[::1]"}, {"Host": "[::1]:8420"}, {"Host": "127.0.0.1"},
	} {
		w.send(http.MethodPost, "/api/edit/try", switchedOff(w), header, http.StatusOK, "", nil)
	}
	big := `{"name": "` + strings.Repeat("x", 2<<20) + `"}`
	w.send(http.MethodPost, "/api/edit/try", big, nil, http.StatusRequestEntityTooLarge, "Problem", nil)
	w.send(http.MethodGet, "/api/nothing", "", nil, http.StatusNotFound, "Problem", nil)
	r := w.send(http.MethodGet, "/board?from=x", "", nil, http.StatusOK, "", nil)
	assert.Contains(t, r.Header.Get("Content-Security-Policy"), "default-src 'none'")
	assert.NotEmpty(t, r.Header.Get("X-Request-Id"))
	r = w.send(http.MethodGet, "/board", "", map[string]string{"X-Request-Id": "mine"}, http.StatusOK, "", nil)
	assert.NotEqual(t, "mine", r.Header.Get("X-Request-Id"))
	w.send(http.MethodGet, "/assets/missing.js", "", nil, http.StatusNotFound, "", nil)
}

// TestManyDocumentsWait holds the bodies of as many documents open as may be: further ones
// are told to come back, everything else is answered, and when they are given up, others
// are looked at.
func TestManyDocumentsWait(t *testing.T) {
	w := start(t)
	var wait sync.WaitGroup
	var open []*io.PipeWriter
	for range limits.Documents {
		reader, writer := io.Pipe()
		r, err := http.NewRequestWithContext(t.Context(), http.MethodPost, w.http.URL+"/api/import/try", reader)
		require.NoError(t, err)
		r.Header.Set("Content-Type", "application/yaml")
		wait.Go(func() {
			response, err := w.http.Client().Do(r)
			if err == nil {
				_ = response.Body.Close()
			}
		})
		_, err = writer.Write([]byte("bivium: 1\n" + strings.Repeat("#\n", 8<<20))) // more than waits on the way: it is being read then
		require.NoError(t, err)
		open = append(open, writer)
	}
	asYAML := map[string]string{"Content-Type": "application/yaml"}
	require.Eventually(t, func() bool {
		return w.try(http.MethodPost, "/api/import/try", "bivium: 1", asYAML) == http.StatusServiceUnavailable
	}, 10*time.Second, 10*time.Millisecond)
	w.revision()
	for _, one := range open {
		require.NoError(t, one.CloseWithError(errors.New("given up")))
	}
	wait.Wait()
	require.Eventually(t, func() bool {
		return w.try(http.MethodPost, "/api/import/try", "bivium: 1\nestate: x\n", asYAML) == http.StatusOK
	}, 10*time.Second, 10*time.Millisecond)
}

// try sends a request, and returns the status of its answer.
func (w *world) try(method, path, body string, header map[string]string) int {
	w.t.Helper()
	r, err := http.NewRequestWithContext(w.t.Context(), method, w.http.URL+path, strings.NewReader(body))
	require.NoError(w.t, err)
	for k, v := range header {
		r.Header.Set(k, v)
	}
	response, err := w.http.Client().Do(r)
	require.NoError(w.t, err)
	require.NoError(w.t, response.Body.Close())
	return response.StatusCode
}

func TestServeFinishesWhatIsUnderWay(t *testing.T) {
	l, err := new(net.ListenConfig).Listen(t.Context(), "tcp", "127.0.0.1:0")
	require.NoError(t, err)
	ctx, stop := context.WithCancel(t.Context())
	entered := make(chan struct{})
	release := make(chan struct{})
	slow := http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		close(entered)
		<-release
		_, _ = w.Write([]byte("done"))
	})
	served := make(chan error, 1)
	go func() { served <- server.Serve(ctx, l, slow) }()
	answer := make(chan string, 1)
	go func() {
		r, err := http.Get("http://" + l.Addr().String()) //nolint:noctx // the test ends it
		if err != nil {
			answer <- err.Error()
			return
		}
		defer r.Body.Close() //nolint:errcheck // it is read to its end
		text, _ := io.ReadAll(r.Body)
		answer <- string(text)
	}()
	<-entered
	stop()
	close(release)
	assert.Equal(t, "done", <-answer)
	assert.NoError(t, <-served)
}
