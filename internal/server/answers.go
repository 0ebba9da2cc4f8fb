package server

import (
	"bytes"
	"compress/gzip"
	"crypto/rand"
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"sync"

	"github.com/labstack/echo/v4"
	"golang.org/x/sync/singleflight"

	"bivium/core/limits"
	"bivium/internal/app/view"
)

// look works out an answer that depends on a snapshot and the question alone.
type look func(now *view.Snapshot, c echo.Context) (any, error)

// answers keeps what was answered of the last snapshots. A question that many ask at once
// is worked out once; one that was answered already is not worked out again; and whoever
// has the answer is told that it still holds.
type answers struct {
	start  string // tells this run of the server from others
	mu     sync.Mutex
	kept   map[int64]map[string]*answer // by snapshot
	order  []int64                      // of the snapshots, the one that was asked last at the end
	bytes  int
	flight singleflight.Group
}

// mostKept is of how many snapshots answers are kept: the estate, and some drafts.
const mostKept = 4

// answer is one, as it is sent.
type answer struct {
	plain, packed []byte // packed by gzip; nil where that is not worth while
	unfinished    bool   // there will be more to say of the same snapshot
}

// fewestPacked is from how many bytes on an answer is packed.
const fewestPacked = 1 << 10

func newAnswers() *answers {
	return &answers{start: rand.Text()[:8], kept: map[int64]map[string]*answer{}}
}

// to answers with what a look returns.
func (a *answers) to(current func(echo.Context) (*view.Snapshot, error), l look) echo.HandlerFunc {
	return func(c echo.Context) error {
		now, err := current(c)
		if err != nil {
			return err
		}
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

// known returns an answer that is kept, or nil.
func (a *answers) known(of int64, question string) *answer {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.kept[of][question]
}

// keep keeps an answer, as long as there is room. Those of the snapshot that was asked of
// least lately go first.
func (a *answers) keep(of int64, question string, x *answer) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.kept[of] == nil {
		a.kept[of] = map[string]*answer{}
	} else {
		a.order = slices.DeleteFunc(a.order, func(o int64) bool { return o == of })
	}
	a.order = append(a.order, of)
	size := x.size(question)
	for len(a.order) > 1 && (len(a.order) > mostKept || a.bytes+size > limits.AnswerBytes) {
		for q, gone := range a.kept[a.order[0]] {
			a.bytes -= gone.size(q)
		}
		delete(a.kept, a.order[0])
		a.order = slices.Delete(a.order, 0, 1)
	}
	if _, twice := a.kept[of][question]; !twice && a.bytes+size <= limits.AnswerBytes {
		a.kept[of][question] = x
		a.bytes += size
	}
}

// size returns how many bytes are kept with an answer.
func (x *answer) size(question string) int { return len(question) + len(x.plain) + len(x.packed) }

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
