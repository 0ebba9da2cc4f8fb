package reader

import (
	"net/netip"
	"sync"

	"github.com/bits-and-blooms/bitset"
	"github.com/gaissmai/bart"

	"bivium/core/native/config"
)

// hubList is the match list of a segment, with which of its rules hold an address.
type hubList struct {
	*config.Segment
	once     sync.Once
	from, to map[string]*sideIndex // by exit; "" for those inside
}

// sideIndex is which rules hold an address on one side. Rules share sets, and sets prefixes.
type sideIndex struct {
	sets   bart.Table[[]int32] // by prefix
	rules  [][]int32           // by set
	always []int32             // the rules that hold every address
}

// holding returns the rules that hold both ends, in order. Cost: the sets that hold either, and the
// rules of those.
func (l *hubList) holding(from, to netip.Addr, fromExit, toExit string) []int {
	l.once.Do(l.index)
	a, b := l.from[fromExit], l.to[toExit]
	if a == nil || b == nil {
		return nil
	}
	both := a.holding(from, len(l.Rules))
	both.InPlaceIntersection(b.holding(to, len(l.Rules)))
	out := make([]int, 0, both.Count())
	for n := range both.EachSet() {
		out = append(out, int(n))
	}
	return out
}

func (l *hubList) index() {
	l.from, l.to = map[string]*sideIndex{}, map[string]*sideIndex{}
	numbers := [2]map[string]map[*config.Set]int32{{}, {}}
	for n := range l.Rules {
		for side, ends := range [2][]config.End{l.Rules[n].From, l.Rules[n].To} {
			by := [2]map[string]*sideIndex{l.from, l.to}[side]
			for _, e := range ends {
				if by[e.Exit] == nil {
					by[e.Exit], numbers[side][e.Exit] = &sideIndex{}, map[*config.Set]int32{}
				}
				by[e.Exit].add(e.Set, int32(n), numbers[side][e.Exit])
			}
		}
	}
}

func (x *sideIndex) add(s *config.Set, rule int32, numbers map[*config.Set]int32) {
	if s == nil {
		x.always = append(x.always, rule)
		return
	}
	n, known := numbers[s]
	if !known {
		n = int32(len(x.rules))
		numbers[s] = n
		x.rules = append(x.rules, nil)
		for _, p := range s.Prefixes {
			others, _ := x.sets.Get(p)
			x.sets.Insert(p, append(others, n))
		}
	}
	x.rules[n] = append(x.rules[n], rule)
}

func (x *sideIndex) holding(a netip.Addr, rules int) *bitset.BitSet {
	out := bitset.New(uint(rules))
	for _, n := range x.always {
		out.Set(uint(n))
	}
	for _, sets := range x.sets.Supernets(netip.PrefixFrom(a, a.BitLen())) {
		for _, s := range sets {
			for _, n := range x.rules[s] {
				out.Set(uint(n))
			}
		}
	}
	return out
}
