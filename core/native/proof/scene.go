package proof

import (
	"sort"
	"sync"

	"github.com/bits-and-blooms/bitset"

	"bivium/core/lists"
	"bivium/core/matrix"
	"bivium/core/native/config"
)

// scene is what lists of one segment see of the other side, one way.
type scene struct {
	view
	groups   []farGroup
	of       []int32         // by piece: its group
	near     map[int32][]int // by network: its pieces
	blocks   []*matrix.Block
	groupsOf [][]int32         // by block: its groups
	family   [2]*bitset.BitSet // the groups of IPv6, and of IPv4
	rows     map[rowKey][]need // what must pass, once it is asked for
	mu       sync.Mutex
	covered  map[*config.Set]*coverage
}

// farGroup is the pieces of one line of a block, of one address family.
type farGroup struct {
	block  *matrix.Block
	line   int32
	four   bool
	pieces []int
}

// coverage is what a set has of a scene.
type coverage struct {
	spans  []span
	whole  *bitset.BitSet // the groups that it has wholly
	partly map[int32]int  // those of which it has a part: how many pieces
}

// holds reports whether a piece is in the set.
func (c *coverage) holds(at int) bool {
	i := sort.Search(len(c.spans), func(i int) bool { return c.spans[i].last > at })
	return i < len(c.spans) && c.spans[i].first <= at
}

// scenes are those of each segment and way, made when they are asked for.
type scenes struct {
	*prover
	once [][2]sync.Once
	is   [][2]*scene
}

func (p *prover) newScenes() *scenes {
	return &scenes{p, make([][2]sync.Once, len(p.s.Inside)), make([][2]*scene, len(p.s.Inside))}
}

func (x *scenes) at(s, way int) *scene {
	x.once[s][way].Do(func() { x.is[s][way] = x.sceneOf(s, way == 1) })
	return x.is[s][way]
}

// sceneOf returns the scene of a segment: of what it may find, or of what it may hear.
func (p *prover) sceneOf(s int, out bool) *scene {
	x := &scene{near: map[int32][]int{}, covered: map[*config.Set]*coverage{}, rows: map[rowKey][]need{}}
	if x.view = p.heard(s); out {
		x.view = p.seenBy(s)
	}
	type key struct {
		of   int
		line int32
		four bool
	}
	at := map[key]int32{}
	x.of = make([]int32, len(x.view))
	for i := range x.view {
		c := x.view[i].class
		b := p.s.Blocks.At(c.End.Segment, s)
		if out {
			b = p.s.Blocks.At(s, c.End.Segment)
		}
		k := key{c.End.Segment, 0, c.Four}
		if out {
			k.line = b.Dst.Line(&c.Header)
		} else {
			k.line = b.Src.Line(&c.Header)
		}
		g, known := at[k]
		if !known {
			g = int32(len(x.groups))
			at[k] = g
			x.groups = append(x.groups, farGroup{block: b, line: k.line, four: k.four})
		}
		x.of[i] = g
		x.groups[g].pieces = append(x.groups[g].pieces, i)
		x.near[c.Network] = append(x.near[c.Network], i)
	}
	blockAt := map[*matrix.Block]int{}
	x.family = [2]*bitset.BitSet{bitset.New(uint(len(x.groups))), bitset.New(uint(len(x.groups)))}
	for g := range x.groups {
		b := x.groups[g].block
		i, known := blockAt[b]
		if !known {
			i = len(x.blocks)
			blockAt[b] = i
			x.blocks, x.groupsOf = append(x.blocks, b), append(x.groupsOf, nil)
		}
		x.groupsOf[i] = append(x.groupsOf[i], int32(g))
		x.family[lists.OneIf(x.groups[g].four)].Set(uint(g))
	}
	return x
}

// cover returns what a set has of the scene, which is kept: by itself, or in coverages of lists that
// nobody else has, if there are any.
func (x *scene) cover(set *config.Set, theirs coverages) *coverage {
	if theirs != nil {
		key := sceneSet{x, set}
		if theirs[key] == nil {
			theirs[key] = x.covers(set)
		}
		return theirs[key]
	}
	x.mu.Lock()
	known, ok := x.covered[set]
	x.mu.Unlock()
	if !ok {
		known = x.covers(set)
		x.mu.Lock()
		x.covered[set] = known
		x.mu.Unlock()
	}
	return known
}

// coverages are what the sets of some lists have of scenes.
type coverages map[sceneSet]*coverage

type sceneSet struct {
	*scene
	set *config.Set
}

func (x *scene) covers(set *config.Set) *coverage {
	c := &coverage{spans: x.spans(set.Prefixes), whole: bitset.New(uint(len(x.groups))), partly: map[int32]int{}}
	count := make([]int, len(x.groups))
	for _, s := range c.spans {
		for _, g := range x.of[s.first:s.last] {
			count[g]++
		}
	}
	for g, n := range count {
		switch n {
		case 0:
		case len(x.groups[g].pieces):
			c.whole.Set(uint(g))
		default:
			c.partly[int32(g)] = n
		}
	}
	return c
}
