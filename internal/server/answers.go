package server

import (
	"bytes"
	"compress/gzip"
	"crypto/rand"
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"sync"

	"github.com/labstack/echo/v4"
	"golang.org/x/sync/singleflight"

	"bivium/core/limits"
	"bivium/internal/app/view"
)

// look works out an answer that depends on a snapshot and the question alone.
type look func(now *view.Snapshot, c echo.Context) (any, error)

// answers keeps what was answered of the current snapshot. A question that many ask at once
// is worked out once; one that was answered already is not worked out again; and whoever
// has the answer is told that it still holds.
type answers struct {
	start  string // tells this run of the server from others
	mu     sync.Mutex
	of     int64 // the snapshot that they are of
	kept   map[string]*answer
	bytes  int
	flight singleflight.Group
}

// answer is one, as it is sent.
type answer struct {
	plain, packed []byte // packed by gzip; nil where that is not worth while
	unfinished    bool   // there will be more to say of the same snapshot
}

// fewestPacked is from how many bytes on an answer is packed.
const fewestPacked = 1 << 10

func newAnswers() *answers { return &answers{start: rand.Text()[:8], kept: map[string]*answer{}} }

// to answers with what a look returns.
func (a *answers) to(current func() *view.Snapshot, l look) echo.HandlerFunc {
	return func(c echo.Context) error {
		now := current()
		tag := fmt.Sprintf("%q", fmt.Sprint(a.start, "-", now.Shown))
		h := c.Response().Header()
		h.Set("Cache-Control", "private, no-cache")
		h.Set("Vary", "Accept-Encoding")
		h.Set("ETag", tag)
		r := c.Request()
		if holds(r.Header.Get("If-None-Match"), tag) {
			return c.NoContent(http.StatusNotModified)
		}
		x, err := a.find(now, r.URL.RequestURI(), func() (any, error) { return l(now, c) })
		if err != nil {
			h.Del("ETag")
			return err
		}
		if x.unfinished {
			h.Del("ETag")
		}
		if x.packed != nil && strings.Contains(r.Header.Get("Accept-Encoding"), "gzip") {
			h.Set("Content-Encoding", "gzip")
			return c.Blob(http.StatusOK, echo.MIMEApplicationJSON, x.packed)
		}
		return c.Blob(http.StatusOK, echo.MIMEApplicationJSON, x.plain)
	}
}

// holds reports whether a client has what a tag stands for. Tags are compared weakly (RFC
// 9110, 13.1.2).
func holds(had, tag string) bool {
	for one := range strings.SplitSeq(had, ",") {
		if one = strings.TrimSpace(one); one == "*" || strings.TrimPrefix(one, "W/") == tag {
			return true
		}
	}
	return false
}

// find returns the answer to a question about a snapshot.
func (a *answers) find(now *view.Snapshot, question string, work func() (any, error)) (*answer, error) {
	if x := a.known(now.Shown, question); x != nil {
		return x, nil
	}
	x, err, _ := a.flight.Do(fmt.Sprint(now.Shown, " ", question), func() (any, error) {
		if x := a.known(now.Shown, question); x != nil { // it was, just now
			return x, nil
		}
		value, err := work()
		if err != nil {
			return nil, err
		}
		x, err := packed(value)
		if u, may := value.(interface{ Unfinished() bool }); may && err == nil {
			x.unfinished = u.Unfinished()
		}
		if err == nil && !x.unfinished {
			a.keep(now.Shown, question, x)
		}
		return x, err
	})
	if err != nil {
		return nil, err
	}
	return x.(*answer), nil //nolint:forcetypeassert // so it was returned above
}

// known returns an answer that is kept, or nil. Those of snapshots before are forgotten.
func (a *answers) known(of int64, question string) *answer {
	a.mu.Lock()
	defer a.mu.Unlock()
	if of > a.of {
		a.of, a.bytes = of, 0
		clear(a.kept)
	}
	if of < a.of {
		return nil
	}
	return a.kept[question]
}

// keep keeps an answer, as long as there is room.
func (a *answers) keep(of int64, question string, x *answer) {
	a.mu.Lock()
	defer a.mu.Unlock()
	size := len(question) + len(x.plain) + len(x.packed)
	if of == a.of && a.bytes+size <= limits.AnswerBytes {
		a.kept[question] = x
		a.bytes += size
	}
}

// packed returns a value as it is sent.
func packed(value any) (*answer, error) {
	plain, err := json.Marshal(value)
	if err != nil {
		return nil, err
	}
	x := &answer{plain: append(plain, '\n')}
	if len(plain) < fewestPacked {
		return x, nil
	}
	var b bytes.Buffer
	w, err := gzip.NewWriterLevel(&b, gzip.BestSpeed)
	if err != nil {
		return nil, err
	}
	if _, err = w.Write(x.plain); err == nil {
		err = w.Close()
	}
	x.packed = b.Bytes()
	return x, err
}
