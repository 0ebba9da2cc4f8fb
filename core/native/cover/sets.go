package cover

import (
	"slices"
	"sync"

	"github.com/bits-and-blooms/bitset"

	"bivium/core/lists"
	"bivium/core/space"
)

// Sets are sets of atoms, each known by one number. Number 0 is the empty set.
type Sets struct {
	mu    sync.Mutex
	byKey map[string]int32
	sets  []*bitset.BitSet
	rank  []int // by atom: its place in the order of services; atoms are numbered as edits came about
}

// NewSets returns the empty set of some atoms.
func NewSets(atoms *space.Atoms) *Sets {
	a := &Sets{byKey: map[string]int32{}, rank: ranks(atoms)}
	a.Number(bitset.New(uint(atoms.Len())))
	return a
}

func ranks(atoms *space.Atoms) []int {
	first, order := make([][3]int, atoms.Len()), lists.Below(atoms.Len())
	for i := range first {
		first[i] = [3]int{256}
		for _, b := range atoms.Set(i).Boxes() {
			if at := [3]int{int(b.FirstProtocol), int(b.SourcePorts.Lo), int(b.Ports.Lo)}; slices.Compare(at[:], first[i][:]) < 0 {
				first[i] = at
			}
		}
	}
	slices.SortFunc(order, func(a, b int32) int { return slices.Compare(first[a][:], first[b][:]) })
	out := make([]int, len(order))
	for place, atom := range order {
		out[atom] = place
	}
	return out
}

// first returns the place of the first atom of a set in the order of services.
func (a *Sets) first(set *bitset.BitSet) int {
	out := len(a.rank)
	for atom, ok := set.NextSet(0); ok; atom, ok = set.NextSet(atom + 1) {
		out = min(out, a.rank[atom])
	}
	return out
}

// Number returns the number of a set, which is not written to after that.
func (a *Sets) Number(set *bitset.BitSet) int32 {
	key := lists.BitsKey(set)
	a.mu.Lock()
	defer a.mu.Unlock()
	i, ok := a.byKey[key]
	if !ok {
		i = int32(len(a.sets))
		a.byKey[key] = i
		a.sets = append(a.sets, set)
	}
	return i
}

// At returns the set of a number, which is not to be written to.
func (a *Sets) At(i int32) *bitset.BitSet {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.sets[i]
}
