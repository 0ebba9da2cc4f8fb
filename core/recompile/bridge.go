package recompile

import (
	"slices"

	"bivium/core/estate"
	"bivium/core/lists"
	"bivium/core/parallel"
	"bivium/core/paths"
	"bivium/core/verdict"
)

// Bridge leads from a judge to that of an estate which has other hubs, segments,
// networks, exits, pools or rulebooks. Those have numbers in the order of their names,
// so that the others' numbers are others too when one comes or goes. Both judges of a
// bridge know all that either estate has, by the same numbers: what an estate does not
// have stands there idle, and nothing refers to it.
type Bridge struct{ Before, After *verdict.Judge }

// bridge returns what another judge of the family has anew, told by the judges of a
// bridge. It cannot tell where either estate refers to what comes or goes without having
// it, or has two things of one name.
func bridge(j *verdict.Judge, next *verdict.Judge) Revision {
	e, was := next.Estate, j.Estate
	b := &Bridge{Before: j, After: next}
	if before := withIdle(was, e); before != was {
		b.Before = verdict.Compile(before, j.Numbers, j)
	}
	if after := withIdle(e, was); after != e {
		b.After = verdict.Compile(after, j.Numbers, next)
	}
	var lost [2]bool
	var both parallel.Group
	both.Go(func() { lost[0] = loose(was, e) })
	both.Go(func() { lost[1] = loose(e, was) })
	if both.Wait(); lost[0] || lost[1] || !sameNames(b.Before, b.After) {
		return Revision{Whole: true}
	}
	r := revisionTo(b.Before, b.After)
	r.Bridge = b
	return r
}

// withIdle returns an estate that has, besides what it has, what another has in which
// nothing is or goes; it is the estate itself if there is no such thing.
func withIdle(e, other *estate.Estate) *estate.Estate {
	next := *e
	added := idle(&next.Hubs, other.Hubs, func(h estate.Hub) (string, estate.Hub) { return h.Name, h })
	added = idle(&next.Segments, other.Segments, func(s estate.Segment) (string, estate.Segment) { return s.Name, s }) || added
	added = idle(&next.Networks, other.Networks, func(n estate.Network) (string, estate.Network) {
		n.Subnets, n.Routes, n.Segment = nil, nil, ""
		return n.Name, n
	}) || added
	added = idle(&next.Exits, other.Exits, func(x estate.Exit) (string, estate.Exit) {
		return x.Name, estate.Exit{Name: x.Name, State: "down"}
	}) || added
	added = idle(&next.Pools, other.Pools, func(p estate.Pool) (string, estate.Pool) {
		return p.Name, estate.Pool{Name: p.Name, OnFailure: p.OnFailure}
	}) || added
	added = idle(&next.Rulebooks, other.Rulebooks, func(b estate.Rulebook) (string, estate.Rulebook) {
		return b.Name, estate.Rulebook{Name: b.Name}
	}) || added
	if !added {
		return e
	}
	return &next
}

// idle adds what stands for the things of another list that a list has none of the
// name of, and reports whether there are any. of returns a thing's name, and what
// stands for it.
func idle[T any](list *[]T, other []T, of func(T) (string, T)) bool {
	if lists.Same(*list, other) {
		return false
	}
	known := make(map[string]bool, len(*list))
	for _, x := range *list {
		name, _ := of(x)
		known[name] = true
	}
	next := slices.Clip(*list)
	for _, x := range other {
		if name, stand := of(x); !known[name] {
			next = append(next, stand)
		}
	}
	added := len(next) > len(*list)
	*list = next
	return added
}

// loose reports whether an estate refers to something that it has not, and another has.
func loose(e, other *estate.Estate) bool {
	missing := estate.Missing(e)
	if len(missing) == 0 {
		return false
	}
	has := map[estate.Ref]bool{}
	refer(has, estate.KindHub, other.Hubs, func(h *estate.Hub) string { return h.Name })
	refer(has, estate.KindSegment, other.Segments, func(s *estate.Segment) string { return s.Name })
	refer(has, estate.KindNetwork, other.Networks, func(n *estate.Network) string { return n.Name })
	refer(has, estate.KindExit, other.Exits, func(x *estate.Exit) string { return x.Name })
	refer(has, estate.KindPool, other.Pools, func(p *estate.Pool) string { return p.Name })
	refer(has, estate.KindRulebook, other.Rulebooks, func(b *estate.Rulebook) string { return b.Name })
	return slices.ContainsFunc(missing, func(r estate.Ref) bool { return has[r] })
}

// refer adds references to the things of a list.
func refer[T any](has map[estate.Ref]bool, kind estate.Kind, list []T, name func(*T) string) {
	for i := range list {
		has[estate.Ref{Kind: kind, Name: name(&list[i])}] = true
	}
}

// Numbers are those that things have now: by the number that each had, or None for what
// is gone. To is nil if they are the same things with the same numbers.
type Numbers struct {
	To    []int
	Count int // how many there are now
}

// Same reports whether nothing has another number, and there is nothing else.
func (n *Numbers) Same() bool { return n.To == nil }

// Of returns the number that a thing has now; what was nothing is.
func (n *Numbers) Of(was int) int {
	if n.To == nil || was < 0 {
		return was
	}
	return n.To[was]
}

// Renumbering is the numbers that things have for another judge of the family.
type Renumbering struct{ Segments, Networks, Exits, pools, books Numbers }

// NewRenumbering returns the numbers that things have for another judge of the family.
// Hubs are in no effect and in no term.
func NewRenumbering(j *verdict.Judge, next *verdict.Judge) *Renumbering {
	a, b := j.Net, next.Net
	itself := func(s *string) string { return *s }
	return &Renumbering{
		Segments: numbersIn(a.Segments, b.Segments, itself),
		Networks: numbersIn(a.Networks, b.Networks, func(n *paths.Network) string { return n.Name }),
		Exits:    numbersIn(a.Exits, b.Exits, func(x *paths.Exit) string { return x.Name }),
		pools:    numbersIn(j.Pools, next.Pools, func(p *verdict.Pool) string { return p.Name }),
		books:    numbersIn(j.Books, next.Books, func(b *verdict.Book) string { return b.Name }),
	}
}

func numbersIn[T any](was, is []T, name func(*T) string) Numbers {
	if slices.EqualFunc(was, is, func(a, b T) bool { return name(&a) == name(&b) }) {
		return Numbers{Count: len(is)}
	}
	return Numbers{placesIn(was, is, name), len(is)}
}

// SameEffects reports whether effects mean the same for both judges.
func (r *Renumbering) SameEffects() bool { return r.Exits.Same() && r.pools.Same() }

// SameTerms reports whether terms mean the same for both judges.
func (r *Renumbering) SameTerms() bool { return r.books.Same() }

// noEffect is the effect of no way.
var noEffect = verdict.Effect{Exit: paths.None - 1}

// Effect returns what an effect is for the other judge: false if it is none there, for
// it is of something that is gone.
func (r *Renumbering) Effect(e verdict.Effect) (verdict.Effect, bool) {
	if e.Exit != paths.None {
		if e.Exit = r.Exits.Of(e.Exit); e.Exit < 0 {
			return noEffect, false
		}
	}
	if r.pools.Same() || e.Reach == "" && e.Kind != paths.HubPath {
		return e, true
	}
	reach := slices.Repeat([]byte{'0'}, r.pools.Count)
	for p := range e.Reach {
		switch to := r.pools.Of(p); {
		case to != paths.None:
			reach[to] = e.Reach[p]
		case e.Reach[p] == '1':
			return noEffect, false
		}
	}
	e.Reach = string(reach)
	return e, true
}

// Term returns what a term is for the other judge: false if it is of a rulebook that
// is gone.
func (r *Renumbering) Term(v verdict.Term) (verdict.Term, bool) {
	if v.Kind == verdict.RulebookTerm {
		v.Which = r.books.Of(v.Which)
		return v, v.Which != paths.None
	}
	return v, true
}
