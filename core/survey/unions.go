package survey

import (
	"sync"

	"github.com/bits-and-blooms/bitset"

	"bivium/core/space"
)

// unions keeps the services of sets of atoms: changes have few different ones, and
// those of one edit are nearly those of the next.
type unions struct {
	atoms *space.Atoms
	mu    sync.Mutex
	known map[string]*union
}

type union struct {
	once     sync.Once
	services space.Services
}

// mostUnions is how many are kept: after that, all are forgotten.
const mostUnions = 1 << 14

func newUnions(atoms *space.Atoms) *unions {
	return &unions{atoms: atoms, known: map[string]*union{}}
}

// of returns the services of some atoms.
func (u *unions) of(set *bitset.BitSet) space.Services {
	key := bitsKey(set)
	u.mu.Lock()
	x, ok := u.known[key]
	if !ok {
		if len(u.known) >= mostUnions {
			clear(u.known)
		}
		x = &union{}
		u.known[key] = x
	}
	u.mu.Unlock()
	x.once.Do(func() { x.services = u.atoms.Union(set) })
	return x.services
}
