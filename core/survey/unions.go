package survey

import (
	"cmp"
	"encoding/binary"
	"slices"
	"sync"

	"github.com/bits-and-blooms/bitset"

	"bivium/core/parallel"
	"bivium/core/space"
)

// unions keeps the services of sets of atoms: changes have few different ones, and
// those of one edit are nearly those of the next.
type unions struct {
	atoms *space.Atoms
	mu    sync.Mutex
	known map[string]*union
	// Where vectors of the book differ that goes with the atoms: edits of one estate meet
	// nearly the same pairs of them.
	deltas map[[2]int32][]delta
	held   int // by how many who take a union for the same set to be the same
}

// union is the services of a set of atoms, with what they are ordered by.
type union struct {
	once     parallel.Once
	set      *bitset.BitSet
	services space.Services
	count    uint64
	words    []string
}

func (x *union) compare(o *union) int {
	if x == o {
		return 0
	}
	return cmp.Or(cmp.Compare(x.count, o.count), slices.Compare(x.words, o.words))
}

// mostUnions is how many are kept: after that, all are forgotten when nobody holds them.
const mostUnions = 1 << 14

func newUnions(atoms *space.Atoms) *unions {
	return &unions{atoms: atoms, known: map[string]*union{}, deltas: map[[2]int32][]delta{}}
}

// mostDeltas is of how many pairs of vectors is kept where they differ.
const mostDeltas = 1 << 16

// between returns where two vectors differ, if that is known.
func (u *unions) between(vectors [2]int32) (list []delta, known bool) {
	u.mu.Lock()
	defer u.mu.Unlock()
	list, known = u.deltas[vectors]
	return list, known
}

// differ notes where two vectors differ.
func (u *unions) differ(vectors [2]int32, list []delta) {
	u.mu.Lock()
	defer u.mu.Unlock()
	if len(u.deltas) >= mostDeltas {
		clear(u.deltas)
	}
	u.deltas[vectors] = list
}

// hold keeps unions from being forgotten, until what it returns is called.
func (u *unions) hold() (release func()) {
	add := func(n int) {
		u.mu.Lock()
		defer u.mu.Unlock()
		u.held += n
	}
	add(1)
	return func() { add(-1) }
}

// of returns the services of some atoms.
func (u *unions) of(set *bitset.BitSet) space.Services {
	return u.union(set.Words(), uint(u.atoms.Len())).services
}

// union returns the union of some atoms, of which it takes the words as they are now.
func (u *unions) union(words []uint64, atoms uint) *union {
	var room [256]byte
	key := room[:0]
	for _, w := range words {
		key = binary.LittleEndian.AppendUint64(key, w)
	}
	u.mu.Lock()
	x, ok := u.known[string(key)]
	if !ok {
		if len(u.known) >= mostUnions && u.held == 0 {
			clear(u.known)
			clear(u.deltas)
		}
		x = &union{set: bitset.FromWithLength(atoms, slices.Clone(words))}
		u.known[string(key)] = x
	}
	u.mu.Unlock()
	x.once.Do(func() {
		x.services = u.atoms.Union(x.set)
		x.count, x.words = x.services.Count(), x.services.Words()
	})
	return x
}

// delta is the services for which one vector has another result than another.
type delta struct {
	before, after int32 // results, or -1
	services      *union
}
