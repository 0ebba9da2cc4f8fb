// Package e2e drives the real server with a real browser.
package e2e

import (
	"bufio"
	"context"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/go-rod/rod"
	"github.com/go-rod/rod/lib/input"
	"github.com/go-rod/rod/lib/launcher"
	"github.com/go-rod/rod/lib/proto"
	"github.com/stretchr/testify/require"
)

const (
	binary   = "../bin/bivium"
	chromium = "/usr/bin/chromium"
	// patience is how long a test waits for a state before it fails.
	patience = 20 * time.Second
)

// serve starts the built binary on a database and a free port, with the demo
// estate, and returns its address and a function that stops it.
func serve(t *testing.T, db string) (address string, stop func()) {
	t.Helper()
	lines, stop := start(t, 1, "demo", "--quiet", "--listen", "127.0.0.1:0", "--db", db)
	return lines[0], stop
}

// secret is the password of the administrator of a server that is not the demo.
const secret = "four words are enough"

// serveOwn starts the built binary with a database of its own and some arguments, makes its
// first administrator by the link that it prints, and returns its address.
func serveOwn(t *testing.T, args ...string) string {
	t.Helper()
	lines, _ := start(t, 4, append([]string{"serve", "--quiet", "--listen", "127.0.0.1:0"}, args...)...)
	_, link, found := strings.Cut(lines[3], "?link=")
	require.True(t, found, "%v", lines)
	body := fmt.Sprintf(`{"link": %q, "name": "rune", "password": %q}`, link, secret)
	r, err := http.Post(lines[0]+"/api/sign-in/link", "application/json", strings.NewReader(body)) //nolint:noctx // the test's own server
	require.NoError(t, err)
	require.NoError(t, r.Body.Close())
	require.Equal(t, http.StatusOK, r.StatusCode)
	return lines[0]
}

// start starts the built binary with some arguments, and returns the first lines
// that it prints and a function that stops it.
func start(t *testing.T, lines int, args ...string) (printed []string, stop func()) {
	t.Helper()
	_, err := os.Stat(binary)
	require.NoError(t, err, "run make build first")
	ctx, cancel := context.WithCancel(context.Background())
	cmd := exec.CommandContext(ctx, binary, args...)
	cmd.Cancel = func() error { return cmd.Process.Signal(os.Interrupt) }
	cmd.WaitDelay = 10 * time.Second
	cmd.Stderr = os.Stderr
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	stopped := false
	stop = func() {
		if !stopped {
			stopped = true
			cancel()
			_ = cmd.Wait()
		}
	}
	t.Cleanup(stop)
	read := bufio.NewReader(out)
	for range lines {
		line, err := read.ReadString('\n')
		require.NoError(t, err)
		printed = append(printed, strings.TrimSpace(line))
	}
	return printed, stop
}

// user is a person at a browser.
type user struct {
	t    *testing.T
	page *rod.Page
	name string // as whom they sign in
	in   string // where they did
}

// browse opens a browser of its own, which leaves nothing behind and asks
// nothing of any other machine. A page error fails the test.
func browse(t *testing.T, width, height int) *user {
	t.Helper()
	_, err := os.Stat(chromium)
	require.NoError(t, err, "run make browser first")
	control := launcher.New().Bin(chromium).Headless(true).NoSandbox(true).UserDataDir(t.TempDir()).
		Set("disable-gpu").Set("disable-quic").Set("no-first-run").Set("disable-background-networking").
		Set("disable-component-update").Set("disable-sync").Set("host-resolver-rules", "MAP * ~NOTFOUND, EXCLUDE 127.0.0.1")
	address, err := control.Launch()
	require.NoError(t, err)
	browser := rod.New().ControlURL(address)
	require.NoError(t, browser.Connect())
	t.Cleanup(func() {
		_ = browser.Close()
		control.Kill()
	})
	page, err := browser.Page(proto.TargetCreateTarget{})
	require.NoError(t, err)
	require.NoError(t, page.SetViewport(&proto.EmulationSetDeviceMetricsOverride{Width: width, Height: height, DeviceScaleFactor: 1}))
	go page.EachEvent(func(e *proto.RuntimeExceptionThrown) {
		t.Errorf("the page failed: %s", e.ExceptionDetails.Exception.Description)
	}, func(e *proto.NetworkRequestWillBeSent) {
		if u := e.Request.URL; !strings.HasPrefix(u, "http://127.0.0.1:") && !strings.HasPrefix(u, "data:") {
			t.Errorf("a request left the machine: %s", u)
		}
	})()
	return &user{t: t, page: page, name: "rune"}
}

// fresh gives the next steps the whole of the patience again.
func (u *user) fresh() *rod.Page { return u.page.Timeout(patience) }

func (u *user) goTo(address string) {
	u.t.Helper()
	if base := regexp.MustCompile(`^https?://[^/]+`).FindString(address); u.in != base {
		u.signIn(base)
	}
	require.NoError(u.t, u.fresh().Navigate(address))
	require.NoError(u.t, u.fresh().WaitLoad())
}

// signIn signs in, as the demo lets anybody, or else with the password, without looking at
// the page.
func (u *user) signIn(base string) {
	u.t.Helper()
	require.NoError(u.t, u.fresh().Navigate(base+"/healthz"))
	require.NoError(u.t, u.fresh().WaitLoad())
	done, err := u.fresh().Evaluate(rod.Eval(`async (name, password) => {
		const post = (path, body) => fetch(path, { method: "POST", headers: { "Content-Type": "application/json" }, body: JSON.stringify(body) });
		return (await post("/api/sign-in/demo", { name })).ok || (await post("/api/sign-in", { name, password })).ok;
	}`, u.name, secret).ByPromise())
	require.NoError(u.t, err)
	require.True(u.t, done.Value.Bool(), "sign in as %s", u.name)
	u.in = base
}

// becomes signs in as another person from now on.
func (u *user) becomes(name string) {
	u.t.Helper()
	u.name = name
	u.signIn(u.in)
}

func (u *user) reload() {
	u.t.Helper()
	require.NoError(u.t, u.fresh().Reload())
	require.NoError(u.t, u.fresh().WaitLoad())
}

func (u *user) find(selector string) *rod.Element {
	u.t.Helper()
	e, err := u.fresh().Element(selector)
	require.NoError(u.t, err, "waiting for %s", selector)
	return e
}

// sees waits until an element holds a text.
func (u *user) sees(selector, text string) *rod.Element {
	u.t.Helper()
	e, err := u.fresh().ElementR(selector, regexp.QuoteMeta(text))
	require.NoError(u.t, err, "waiting for %q in %s; the page says:\n%s", text, selector, u.page.MustInfo().URL+"\n"+u.page.MustElement("body").MustText())
	return e
}

// steps waits until the draft that is looked at has some steps.
func (u *user) steps(n int) {
	u.t.Helper()
	words := fmt.Sprintf("%d steps", n)
	if n == 1 {
		words = "1 step ·"
	}
	u.sees("[data-testid=draft-summary]", words)
}

// applies applies the draft that is looked at.
func (u *user) applies() {
	u.t.Helper()
	u.clicksOn("[aria-label^=Draft] a", "Review")
	u.clicksOn("button:not([disabled])", "Apply draft")
	u.sees("[data-testid=state]", "applied as revision")
	u.gone("[data-testid=draft-summary]")
}

// gone waits until no element matches.
func (u *user) gone(selector string) {
	u.t.Helper()
	require.NoError(u.t, u.fresh().Wait(rod.Eval(`(s) => !document.querySelector(s)`, selector)), "waiting for %s to go", selector)
}

// clicksOn clicks on an element that holds a text. One that is drawn anew just
// then is looked for again, as a person would.
func (u *user) clicksOn(selector, text string) {
	u.t.Helper()
	var err error
	for range 5 {
		if err = u.sees(selector, text).Timeout(patience).Click(proto.InputMouseButtonLeft, 1); err == nil {
			return
		}
	}
	require.NoError(u.t, err, "clicking on %q in %s", text, selector)
}

func (u *user) clicks(selector string) {
	u.t.Helper()
	require.NoError(u.t, u.find(selector).Click(proto.InputMouseButtonLeft, 1))
}

// types enters a text key by key, as a keyboard does.
func (u *user) types(text string) {
	u.t.Helper()
	for _, r := range text {
		require.NoError(u.t, u.fresh().Keyboard.Type(input.Key(r)))
	}
}

// writes puts a text in the place of what a field holds.
func (u *user) writes(field, text string) {
	u.t.Helper()
	e := u.find(field)
	require.NoError(u.t, e.SelectAllText())
	require.NoError(u.t, e.Input(text))
}

func (u *user) presses(keys ...input.Key) {
	u.t.Helper()
	require.NoError(u.t, u.fresh().Keyboard.Type(keys...))
}

// over moves the pointer to a cell of the board, found by its heads as a reader
// finds it, and returns where it is.
func (u *user) over(cell string) proto.Point {
	u.t.Helper()
	row, col, _ := strings.Cut(cell, ">")
	where := `(row, col) => {
		const grid = document.querySelector("[role=grid]"), sees = grid.getBoundingClientRect();
		grid.scrollLeft += Math.max(0, document.querySelector(col).getBoundingClientRect().right - sees.right);
		grid.scrollTop += Math.max(0, document.querySelector(row).getBoundingClientRect().bottom - sees.bottom);
		const middle = (e) => { const b = e.getBoundingClientRect(); return { x: b.x + b.width / 2, y: b.y + b.height / 2 }; };
		return { x: middle(document.querySelector(col)).x, y: middle(document.querySelector(row)).y };
	}`
	row, col = fmt.Sprintf("[data-row=%q]", row), fmt.Sprintf("[data-col=%q]", col)
	u.find(row)
	u.find(col)
	at, err := u.fresh().Eval(where, row, col)
	require.NoError(u.t, err)
	point := proto.Point{X: at.Value.Get("x").Num(), Y: at.Value.Get("y").Num()}
	require.NoError(u.t, u.fresh().Mouse.MoveTo(point))
	u.find(fmt.Sprintf(`[data-cell=%q]`, cell))
	return point
}

func (u *user) clicksCell(cell string) {
	u.t.Helper()
	u.over(cell)
	require.NoError(u.t, u.fresh().Mouse.Click(proto.InputMouseButtonLeft, 1))
}

// marks waits until a cell of the board has some marks, in any order.
func (u *user) marks(cell string, want ...string) {
	u.t.Helper()
	u.over(cell)
	selector := fmt.Sprintf(`[data-cell=%q]`, cell)
	wait := `(selector, want) => {
		const have = document.querySelector(selector)?.dataset.marks ?? "";
		return have.split(" ").sort().join() === [...want].sort().join();
	}`
	err := u.fresh().Wait(rod.Eval(wait, selector, want))
	if err != nil {
		html, _ := u.find(selector).HTML()
		require.NoError(u.t, err, "%s should have %v: %s", cell, want, html)
	}
}

// settles waits until the page has everything that it asked for, and nothing on it moves.
func (u *user) settles() {
	u.t.Helper()
	still := `() => document.documentElement.dataset.busy === "no" && document.fonts.status === "loaded" &&
		!document.querySelector("[data-piece=waiting]") && document.getAnimations().every((a) => a.playState !== "running")`
	require.NoError(u.t, u.fresh().Wait(rod.Eval(still)), "the page does not come to rest")
	_, err := u.fresh().Eval(`() => new Promise((drawn) => requestAnimationFrame(() => requestAnimationFrame(drawn)))`)
	require.NoError(u.t, err)
}

func (u *user) photograph(file string) {
	u.t.Helper()
	u.settles()
	picture, err := u.fresh().Screenshot(false, nil)
	require.NoError(u.t, err)
	require.NoError(u.t, os.MkdirAll(filepath.Dir(file), 0o755))
	require.NoError(u.t, os.WriteFile(file, picture, 0o644))
}

func TestMain(m *testing.M) {
	http.DefaultClient.Timeout = patience
	os.Exit(m.Run())
}
