package proof

import (
	"github.com/bits-and-blooms/bitset"

	"bivium/core/lists"
)

// peers tells which rules of one way of a list hold the pieces of a scene on their other side.
// Pieces that the same rules hold are alike to the list: what it passes is worked out once for
// each such kind and group of own pieces.
type peers struct {
	*holdings
	out    bool
	kinds  []*bitset.BitSet // different rules, of which there are few
	known  map[string]int32 // their numbers
	least  map[int32]int32  // by group: the kind of rules that hold all of its far pieces
	kindOf map[int32]int32  // by group: the kind of its far pieces, once it is asked for
	alone  map[int32][]int  // the far pieces of mixed groups
	lone   map[int]int32    // the kinds of those, and of near pieces

	groups []*ownGroup
	passed [][]*bitset.BitSet // by own group, then kind: what passes, once it is asked for
}

const (
	mixed   int32 = -1 // not all of one kind
	noRules int32 = -2 // no far pieces
)

// peersOf returns what the rules of one way have of a scene. Near pieces are looked at by
// themselves.
func (u *unitProof) peersOf(x *scene, out bool, near []int, groups []*ownGroup) *peers {
	h := &holdings{scene: x, near: map[int32][]int{}, piece: map[int]*bitset.BitSet{}, parts: map[int32][]partHeld{}, rules: uint(len(u.rules))}
	h.whole, h.besides = h.each(len(x.groups)), make([]*bitset.BitSet, len(x.groups))
	for _, k := range near {
		h.near[x.of[k]] = append(h.near[x.of[k]], k)
		h.piece[k] = bitset.New(h.rules)
	}
	for rule := range u.rules {
		r := &u.rules[rule]
		switch {
		case r.out != out:
		case r.peer == nil:
			for g := range h.whole {
				h.whole[g].Set(uint(rule))
			}
		default:
			for _, set := range r.peer {
				h.hold(uint(rule), x.cover(set, u.theirs))
			}
		}
	}
	q := &peers{holdings: h, out: out, known: map[string]int32{}, least: map[int32]int32{}, kindOf: map[int32]int32{}, alone: map[int32][]int{}, lone: map[int]int32{}, groups: groups, passed: make([][]*bitset.BitSet, len(groups))}
	for _, k := range near {
		q.lone[k] = q.kind(h.whole[x.of[k]].Union(h.piece[k]))
	}
	return q
}

// holdings is which rules hold what of a scene.
type holdings struct {
	*scene
	rules   uint                   // how many there are
	whole   []*bitset.BitSet       // by group: those that hold all of it
	besides []*bitset.BitSet       // by group: those that hold just all of its far pieces; nil for none
	parts   map[int32][]partHeld   // by group: those that hold some of its far pieces
	near    map[int32][]int        // by group: its near pieces
	piece   map[int]*bitset.BitSet // by near piece: those that hold it, and not all of its group
}

// partHeld is that one set of a rule holds a part of a group.
type partHeld struct {
	rule uint
	*coverage
}

func (h *holdings) each(n int) []*bitset.BitSet {
	out := make([]*bitset.BitSet, n)
	for i := range out {
		out[i] = bitset.New(h.rules)
	}
	return out
}

// hold notes what one set of a rule holds.
func (h *holdings) hold(rule uint, c *coverage) {
	for g, ok := c.whole.NextSet(0); ok; g, ok = c.whole.NextSet(g + 1) {
		h.whole[g].Set(rule)
	}
	for g, n := range c.partly {
		for _, k := range h.near[g] {
			if c.holds(k) {
				h.piece[k].Set(rule)
				n--
			}
		}
		switch n {
		case 0:
		case len(h.groups[g].pieces) - len(h.near[g]):
			if h.besides[g] == nil {
				h.besides[g] = bitset.New(h.rules)
			}
			h.besides[g].Set(rule)
		default:
			h.parts[g] = append(h.parts[g], partHeld{rule, c})
		}
	}
}

// kind returns the number of some rules.
func (q *peers) kind(rules *bitset.BitSet) int32 {
	key := lists.BitsKey(rules)
	k, ok := q.known[key]
	if !ok {
		k = int32(len(q.kinds))
		q.known[key] = k
		q.kinds = append(q.kinds, rules)
	}
	return k
}

// far returns the kind of all far pieces of a group, and mixed, with the kind of each kept, where
// they differ.
func (q *peers) far(g int32) int32 {
	kind, ok := q.kindOf[g]
	if !ok {
		kind = q.find(g)
		q.kindOf[g] = kind
	}
	return kind
}

// atLeast returns the kind of the rules that hold all far pieces of a group, and noRules where it
// has none.
func (q *peers) atLeast(g int32) int32 {
	kind, ok := q.least[g]
	if ok {
		return kind
	}
	switch rules := q.whole[g]; {
	case len(q.near[g]) == len(q.scene.groups[g].pieces):
		kind = noRules
	case q.besides[g] != nil:
		kind = q.kind(rules.Union(q.besides[g]))
	default:
		kind = q.kind(rules)
	}
	q.least[g] = kind
	return kind
}

func (q *peers) find(g int32) int32 {
	least := q.atLeast(g)
	if least == noRules || len(q.parts[g]) == 0 {
		return least
	}
	common := noRules
	var far []int
	for _, k := range q.scene.groups[g].pieces {
		if q.piece[k] != nil {
			continue
		}
		rules := q.kinds[least].Clone()
		for _, part := range q.parts[g] {
			if part.holds(k) {
				rules.Set(part.rule)
			}
		}
		far, q.lone[k] = append(far, k), q.kind(rules)
		switch common {
		case noRules:
			common = q.lone[k]
		case q.lone[k]:
		default:
			common = mixed
		}
	}
	if common == mixed {
		q.alone[g] = far
	}
	return common
}

// passes returns what passes between own pieces and those of a kind.
func (q *peers) passes(u *unitProof, own int, kind int32) *bitset.BitSet {
	if n := len(q.kinds) - len(q.passed[own]); n > 0 {
		q.passed[own] = append(q.passed[own], make([]*bitset.BitSet, n)...)
	}
	at := &q.passed[own][kind]
	if *at == nil {
		*at = u.passes(q.out, q.groups[own].rules.Intersection(q.kinds[kind]))
	}
	return *at
}
