package matrix

import (
	"cmp"
	"encoding/binary"
	"slices"
	"sync"

	"github.com/bits-and-blooms/bitset"

	"bivium/core/parallel"
	"bivium/core/space"
)

// UnionCache keeps the services of sets of atoms: changes have few different ones, and
// those of one edit are nearly those of the next.
type UnionCache struct {
	atoms *space.Atoms
	mu    sync.Mutex
	known map[string]*Union
	// Where vectors of the book differ that goes with the atoms: edits of one estate meet
	// nearly the same pairs of them.
	deltas  map[[2]int32][]Delta
	holders int // by how many who take a union for the same set to be the same
}

// Union is the services of a set of atoms, with what they are ordered by.
type Union struct {
	once     parallel.Once
	Set      *bitset.BitSet
	Services space.Services
	Count    uint64
	words    []string
}

func (x *Union) Compare(o *Union) int {
	if x == o {
		return 0
	}
	return cmp.Or(cmp.Compare(x.Count, o.Count), slices.Compare(x.words, o.words))
}

// mostUnions is how many are kept: after that, all are forgotten when nobody holds them.
const mostUnions = 1 << 14

func NewUnions(atoms *space.Atoms) *UnionCache {
	return &UnionCache{atoms: atoms, known: map[string]*Union{}, deltas: map[[2]int32][]Delta{}}
}

// mostDeltas is of how many pairs of vectors is kept where they differ.
const mostDeltas = 1 << 16

// Between returns where two vectors differ, if that is known.
func (u *UnionCache) Between(vectors [2]int32) (list []Delta, known bool) {
	u.mu.Lock()
	defer u.mu.Unlock()
	list, known = u.deltas[vectors]
	return list, known
}

// Differ notes where two vectors differ.
func (u *UnionCache) Differ(vectors [2]int32, list []Delta) {
	u.mu.Lock()
	defer u.mu.Unlock()
	if len(u.deltas) >= mostDeltas {
		clear(u.deltas)
	}
	u.deltas[vectors] = list
}

// Hold keeps unions from being forgotten, until what it returns is called.
func (u *UnionCache) Hold() (release func()) {
	add := func(n int) {
		u.mu.Lock()
		defer u.mu.Unlock()
		u.holders += n
	}
	add(1)
	return func() { add(-1) }
}

// Services returns the services of some atoms.
func (u *UnionCache) Services(set *bitset.BitSet) space.Services {
	return u.Union(set.Words(), uint(u.atoms.Len())).Services
}

// Union returns the union of some atoms, of which it takes the words as they are now.
func (u *UnionCache) Union(words []uint64, atoms uint) *Union {
	var room [256]byte
	key := room[:0]
	for _, w := range words {
		key = binary.LittleEndian.AppendUint64(key, w)
	}
	u.mu.Lock()
	x, ok := u.known[string(key)]
	if !ok {
		if len(u.known) >= mostUnions && u.holders == 0 {
			clear(u.known)
			clear(u.deltas)
		}
		x = &Union{Set: bitset.FromWithLength(atoms, slices.Clone(words))}
		u.known[string(key)] = x
	}
	u.mu.Unlock()
	x.once.Do(func() {
		x.Services = u.atoms.Union(x.Set)
		x.Count, x.words = x.Services.Count(), x.Services.Words()
	})
	return x
}

// Delta is the services for which one vector has another result than another.
type Delta struct {
	Before, After int32 // results, or -1
	Services      *Union
}
