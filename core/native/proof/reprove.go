package proof

import (
	"reflect"
	"slices"

	"bivium/core/lists"
	"bivium/core/matrix"
	"bivium/core/native/config"
	"bivium/core/native/reader"
	"bivium/core/parallel"
	"bivium/core/touched"
)

// Reprove is Prove for a matrix that was revised from that of another proof. Where the edit cannot
// have touched what is meant for the flows of a list, and the target holds the very list that was
// proven, it is not proven again. What is touched may be known already, or nil. Cost: that of Prove
// for the other lists, and of finding them.
func Reprove(before *Proof, s *matrix.Matrix, cfg *config.Config, touches *touched.Touched) *Proof {
	p := newProver(s, cfg, before)
	if before != nil && before.of != nil && len(before.Differences) == 0 && !before.Incomplete {
		p.since = sinceOf(before, p, touches)
	}
	parallel.Run([]func(){p.proveHubs, p.proveLists, p.proveWiring})
	return p.proof()
}

// since is what was proven before, and what may be otherwise now.
type since struct {
	before  *Proof
	touches *touched.Touched
	books   bool // rulebooks are the same
	unheld  map[string][]Unheld
}

func sinceOf(before *Proof, p *prover, touches *touched.Touched) *since {
	if !touches.Between(before.of, p.of) {
		touches = touched.Compare(before.of, p.of)
	}
	x := &since{before: before, touches: touches, books: reflect.DeepEqual(before.read.Config.Pools, p.r.Config.Pools), unheld: map[string][]Unheld{}}
	for _, u := range before.Unheld {
		x.unheld[u.Network] = append(x.unheld[u.Network], u)
	}
	return x
}

// stands reports whether the lists of a network are proven already.
func (p *prover) stands(n int) bool {
	return p.since != nil && !p.since.touches.Network(n) && !p.since.before.looked[n] && sameLists(p.since.before.read.Networks[n], p.r.Networks[n])
}

// listStands reports whether the match list of a segment is proven already.
func (p *prover) listStands(s int) bool {
	if p.since == nil || p.since.touches.Segment(s) || !p.since.books || p.since.before.differs {
		return false
	}
	was, is := p.since.before.read.List(s), p.r.List(s)
	return was != nil && is != nil && lists.Same(was.Rules, is.Rules)
}

// importsStand reports whether what a segment finds of others is proven already.
func (p *prover) importsStand(s int) bool {
	if p.since == nil || p.since.touches.Segment(s) || p.since.before.differs {
		return false
	}
	was, is := p.since.before.read.List(s), p.r.List(s)
	return was != nil && is != nil && slices.Equal(was.Imports, is.Imports)
}

// sameLists reports whether two networks have the very same lists in memory.
func sameLists(a, b *reader.Network) bool {
	if a == nil || b == nil || a.Provider != b.Provider || len(a.Bearers) != len(b.Bearers) || len(a.Held) != len(b.Held) {
		return false
	}
	same := slices.EqualFunc(a.Lists, b.Lists, func(x, y config.List) bool { return x.On == y.On && lists.Same(x.Rules, y.Rules) }) && sameEntries(a.Standard, b.Standard)
	for address, bound := range b.Bearers {
		was, is := a.Bearers[address]
		same = same && is && sameEntries(was, bound)
	}
	for address := range b.Held {
		same = same && a.Held[address]
	}
	return same
}

func sameEntries(a, b []*config.EntryList) bool {
	return slices.EqualFunc(a, b, func(x, y *config.EntryList) bool {
		return lists.Same(x.Entries, y.Entries) && !slices.ContainsFunc(x.Entries, func(e config.Entry) bool { return e.Peers != "" }) // who bears those may be others
	})
}
