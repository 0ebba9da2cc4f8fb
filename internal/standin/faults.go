package standin

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"slices"
	"strconv"
	"sync"
	"time"

	"github.com/labstack/echo/v4"
)

// Fault is how an account's interface misbehaves, and for how many answers.
type Fault struct {
	Kind  string `json:"kind"`  // slow, wrong, half, torn, full, gone, expired, lost or refused; none for all well
	After int    `json:"after"` // answers that are well before it begins
	Times int    `json:"times"` // answers that it lasts for; 0 for good
	Wait  int    `json:"wait"`  // milliseconds that each answer takes, whatever else happens
}

var kinds = []string{"none", "slow", "wrong", "half", "torn", "full", "gone", "expired", "lost", "refused"}

type faults struct {
	mu    sync.Mutex
	fault Fault
	asked int
	turn  sync.RWMutex // see taking
}

// Fail lets an account's interface misbehave from now on.
func (w *World) Fail(account string, f Fault) error {
	if !slices.Contains(kinds, f.Kind) {
		return fmt.Errorf("there is no fault %q; it is one of %v", f.Kind, kinds)
	}
	return w.change(account, func(a *Account) {
		a.faults.mu.Lock()
		defer a.faults.mu.Unlock()
		a.faults.fault, a.faults.asked = f, 0
	})
}

// Turn gives a hub or a firewall of an account another state.
func (w *World) Turn(account string, p Part) error {
	found := false
	failed := w.change(account, func(a *Account) {
		for _, list := range []*[]Part{&a.Hubs, &a.Walls} {
			*list = slices.Clone(*list)
			for i := range *list {
				if x := &(*list)[i]; x.Name == p.Name {
					x.State, x.Why, found = p.State, p.Why, true
				}
			}
		}
	})
	if failed == nil && !found {
		return fmt.Errorf("the account has no hub or firewall %q", p.Name)
	}
	return failed
}

// now returns the fault of the next answer.
func (w *World) now(account string) (kind string, wait time.Duration) {
	w.mu.RLock()
	a := w.accounts[account]
	w.mu.RUnlock()
	if a == nil {
		return "none", 0
	}
	a.faults.mu.Lock()
	defer a.faults.mu.Unlock()
	f := a.faults.fault
	a.faults.asked++
	wait = time.Duration(f.Wait) * time.Millisecond
	if !a.rate.Allow() {
		return "full", wait
	}
	if n := a.faults.asked - f.After; n <= 0 || f.Times > 0 && n > f.Times {
		return "none", wait
	}
	return f.Kind, wait
}

// misbehave answers for an account with the fault that it has now.
func (w *World) misbehave(account func(*http.Request) string, next http.Handler) http.Handler {
	return http.HandlerFunc(func(out http.ResponseWriter, r *http.Request) {
		body, err := io.ReadAll(http.MaxBytesReader(out, r.Body, 16<<20)) // only then is it noticed when the caller leaves
		if err != nil {
			return
		}
		r.Body = io.NopCloser(bytes.NewReader(body))
		kind, wait := w.now(account(r))
		if wait > 0 {
			select {
			case <-time.After(wait):
			case <-r.Context().Done():
			}
		}
		if r.Context().Err() != nil { // nobody waits for it any more
			return
		}
		defer w.taking(account(r), r.Method != http.MethodGet)()
		switch kind {
		case "full":
			out.Header().Set("Retry-After", "1")
			http.Error(out, `{"error":"too many requests"}`, http.StatusTooManyRequests)
		case "gone":
			http.Error(out, "no backend", http.StatusServiceUnavailable)
		case "expired":
			http.Error(out, `{"error":"credential expired"}`, http.StatusUnauthorized)
		case "wrong":
			out.Header().Set("Content-Type", "application/json")
			fmt.Fprint(out, `{"items": [{"networkId": 7,, <html>`) //nolint:errcheck // the caller may have left
		case "half":
			answer := httptest.NewRecorder()
			next.ServeHTTP(answer, r)
			for key, values := range answer.Header() {
				out.Header()[key] = values
			}
			out.Header().Set("Content-Length", strconv.Itoa(answer.Body.Len()))
			out.Write(answer.Body.Bytes()[:answer.Body.Len()/2]) //nolint:errcheck // the caller may have left
			http.NewResponseController(out).Flush()              //nolint:errcheck // likewise
			panic(http.ErrAbortHandler)
		case "refused": // whatever is written
			if r.Method == http.MethodPut || r.URL.Path == "/write" {
				http.Error(out, `{"error":"the list is refused"}`, http.StatusUnprocessableEntity)
				return
			}
			next.ServeHTTP(out, r)
		case "torn": // a list is written in part, and then it breaks off
			if r.Method != http.MethodPut && r.URL.Path != "/write" {
				next.ServeHTTP(out, r)
				return
			}
			w.tear(account(r), func() { next.ServeHTTP(httptest.NewRecorder(), r) })
			http.Error(out, `{"error":"the list was written in part"}`, http.StatusInternalServerError)
		case "lost":
			w.forget(account(r), func() { next.ServeHTTP(out, r) })
		default:
			next.ServeHTTP(out, r)
		}
	})
}

// taking lets requests to an account that may write come one after another, each alone, and returns
// what ends one.
func (w *World) taking(account string, writes bool) (end func()) {
	w.mu.RLock()
	a := w.accounts[account]
	w.mu.RUnlock()
	switch {
	case a == nil:
		return func() {}
	case writes:
		a.faults.turn.Lock()
		return a.faults.turn.Unlock
	}
	a.faults.turn.RLock()
	return a.faults.turn.RUnlock
}

// forget lets something be answered, and takes back what it wrote.
func (w *World) forget(account string, f func()) {
	w.after(account, f, func(a, was *Account) { a.native, a.Networks = was.native, was.Networks })
}

// tear lets something be written, and leaves the first half of the rules of each list that it wrote.
func (w *World) tear(account string, f func()) {
	half := func(before, after *List) *List {
		if before == after || after == nil {
			return after
		}
		return &List{Version: after.Version, Lines: after.Lines[:len(after.Lines)/2]}
	}
	w.after(account, f, func(a, was *Account) {
		a.native = a.native.clone()
		for key, l := range a.native.lists {
			a.native.lists[key] = half(was.native.lists[key], l)
		}
		for name, l := range a.native.entries {
			a.native.entries[name] = half(was.native.entries[name], l)
		}
	})
}

// after lets something be answered, and then changes an account; was is as it was before.
func (w *World) after(account string, f func(), change func(a, was *Account)) {
	w.mu.RLock()
	a := w.accounts[account]
	if a == nil {
		w.mu.RUnlock()
		f()
		return
	}
	was := &Account{native: a.native, Networks: a.Networks}
	w.mu.RUnlock()
	f()
	w.mu.Lock()
	defer w.mu.Unlock()
	change(a, was)
}

// Play returns the interface through which the world is played with: machines
// that come and go, and faults.
//
//	PUT    /accounts/A/fault        a Fault
//	PUT    /accounts/A/machines     a Machine
//	PUT    /accounts/A/parts/P      {"state", "why"} of a hub or firewall
//	POST   /packets                 a Packet; what came of it is answered
//	POST   /accounts/A/rules        a Rule, as somebody writes it by hand
//	DELETE /accounts/A/machines/M
//	DELETE /accounts/A/networks/N
//	PUT    /sites/N/router          a Said
func (w *World) Play() http.Handler {
	e := echo.New()
	told := func(c echo.Context, err error) error {
		if err != nil {
			return echo.NewHTTPError(http.StatusUnprocessableEntity, err.Error())
		}
		return c.NoContent(http.StatusNoContent)
	}
	e.PUT("/sites/:site/router", func(c echo.Context) error {
		var s Said
		if err := json.NewDecoder(c.Request().Body).Decode(&s); err != nil {
			return echo.NewHTTPError(http.StatusBadRequest, err.Error())
		}
		return told(c, w.Say(c.Param("site"), &s))
	})
	e.PUT("/accounts/:account/fault", func(c echo.Context) error {
		var f Fault
		if err := json.NewDecoder(c.Request().Body).Decode(&f); err != nil {
			return told(c, err)
		}
		return told(c, w.Fail(c.Param("account"), f))
	})
	e.POST("/packets", func(c echo.Context) error {
		var p Packet
		if err := json.NewDecoder(c.Request().Body).Decode(&p); err != nil {
			return echo.NewHTTPError(http.StatusBadRequest, err.Error())
		}
		return c.JSON(http.StatusOK, w.Send(p))
	})
	e.POST("/accounts/:account/rules", func(c echo.Context) error {
		var r Rule
		if err := json.NewDecoder(c.Request().Body).Decode(&r); err != nil {
			return told(c, err)
		}
		return told(c, w.Hand(c.Param("account"), r))
	})
	e.PUT("/accounts/:account/parts/:part", func(c echo.Context) error {
		var p Part
		if err := json.NewDecoder(c.Request().Body).Decode(&p); err != nil {
			return told(c, err)
		}
		p.Name = c.Param("part")
		return told(c, w.Turn(c.Param("account"), p))
	})
	e.PUT("/accounts/:account/machines", func(c echo.Context) error {
		var m Machine
		if err := json.NewDecoder(c.Request().Body).Decode(&m); err != nil {
			return told(c, err)
		}
		return told(c, w.Start(c.Param("account"), &m))
	})
	e.DELETE("/accounts/:account/machines/:machine", func(c echo.Context) error {
		return told(c, w.Stop(c.Param("account"), c.Param("machine")))
	})
	e.DELETE("/accounts/:account/networks/:network", func(c echo.Context) error {
		return told(c, w.Drop(c.Param("account"), c.Param("network")))
	})
	return e
}
