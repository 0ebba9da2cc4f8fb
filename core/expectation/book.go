package expectation

import (
	"slices"
	"sync"

	"bivium/core/difference"
	"bivium/core/estate"
	"bivium/core/matrix"
	"bivium/core/parallel"
	"bivium/core/verdict"
)

// Book is how the expectations of an estate come out, worked out when that is first asked for.
// It is safe for concurrent use.
type Book struct {
	matrix *matrix.Matrix
	mu     sync.Mutex
	known  bool
	list   []Result
	before []Result               // how they came out before the edit that the matrix came of
	since  *difference.Difference // and what that has changed; nil if it is not known
}

// NewBook returns the book of a matrix.
func NewBook(s *matrix.Matrix) *Book { return &Book{matrix: s} }

// All returns how the expectations of the estate come out, in its order.
func (b *Book) All() []Result {
	b.mu.Lock()
	defer b.mu.Unlock()
	if !b.known {
		b.list, b.known = b.workOut(), true
		b.before, b.since = nil, nil
	}
	return slices.Clone(b.list)
}

// After returns the book of the matrix of an edit that a difference tells of: if it is known
// how the expectations came out before, only those are looked at again that it touches.
func (b *Book) After(next *matrix.Matrix, d *difference.Difference) *Book {
	b.mu.Lock()
	defer b.mu.Unlock()
	if !b.known {
		return NewBook(next)
	}
	return &Book{matrix: next, before: b.list, since: d}
}

func (b *Book) workOut() []Result {
	list := b.matrix.Judge.Estate.Expectations
	out := make([]Result, len(list))
	jobs := make([]func(), len(list))
	for i := range list {
		jobs[i] = func() { out[i] = b.one(&list[i], i) }
	}
	parallel.Run(jobs)
	return out
}

// one returns how an expectation comes out, of which it is known where it stood before the edit,
// most likely.
func (b *Book) one(x *estate.Expectation, at int) Result {
	if at >= len(b.before) || b.before[at].Expectation != x { // it was elsewhere, or is new
		at = slices.IndexFunc(b.before, func(h Result) bool { return h.Expectation == x })
	}
	if at >= 0 {
		if was := b.before[at]; !was.touchedBy(b.since) {
			was.details = &Details{matrix: b.matrix}
			return was
		}
	}
	return Expect(b.matrix, x)
}

// touchedBy reports whether an expectation may have another verdict after an edit. It is false
// where none of the flows that the edit changes, of those that it is about, could make it
// do so.
func (h *Result) touchedBy(d *difference.Difference) bool {
	x := h.Expectation
	return d.Touches(x.From, x.To, x.Services, h.mayTurn)
}

// mayTurn reports whether an expectation may have another verdict if flows that it is about
// come out as a change says.
func (h *Result) mayTurn(c *difference.Change) bool {
	is := func(v *verdict.Verdict) (flow, holds, routing bool) {
		if v == nil {
			return false, false, false
		}
		holds, routing = Meets(h.Expectation, v)
		return true, holds, routing
	}
	was, held, saved := is(c.Before)
	stays, holds, routing := is(c.After)
	switch {
	case h.Expectation.From.Internet:
		return true // of some of its flows it is nothing to it how they come out
	case !h.Holds:
		return was && !held // one less that fails
	case h.Vacuous:
		return !was
	case stays && !holds, !stays:
		return true // it fails, or this was its last flow
	case h.ByRouting:
		return saved && !routing
	}
	return routing
}
