package survey

import (
	"maps"
	"math/big"
	"net/netip"
	"slices"

	"bivium/core/paths"
	"bivium/core/verdict"
)

// Class is a set of endpoints of one segment, or of external endpoints, that
// no rule, no route and no share tells apart. Classes of one side are disjoint,
// and together they are all endpoints.
type Class struct {
	End       verdict.Endpoint // one of them: a workload, if any is
	Workloads []int            // of the estate, sorted; each once
	Ranges    []Range          // sorted, disjoint

	ticket
	size   size
	weight float64 // size, about
	four   bool    // of IPv4
	spot   int     // number of what its ways through the hubs depend on
	seen   []see   // by segment: what an address of the class is there
}

// ticket is what blocks ask of a class. It is small, for where classes are gone
// through by the million.
type ticket struct {
	domain  int32 // the segment, or the internet after them
	network int32 // of the home, or paths.None
	at      int32 // its place among the classes of its domain
	set     int32 // number of its set of groups among those of its segment
	spotAt  int32 // number of its spot among those of its domain
	part    int32 // what tells it apart on local paths: see paths.Net.LocalPart
}

// Size returns how many addresses the class has.
func (c *Class) Size() *big.Int { return c.size.big() }

// Internal reports whether the class is of internal endpoints.
func (c *Class) Internal() bool { return c.End.Internal() }

// see is what a segment finds under the addresses of a class (M6.4).
type see uint8

const (
	seesOther   see = iota // an endpoint of another class: the address is used twice
	seesNothing            // nothing has the address there
	seesIt                 // the class itself
)

// partition is all endpoints of an estate, in classes. Domains are the segments,
// by number, and the internet after them.
type partition struct {
	net     *paths.Net
	classes []*Class  // by number; shared with partitions that come of this one
	inside  [][]int   // by segment: its classes
	outside []int     // the external classes
	sets    [][]int   // the different sets of groups
	local   []setList // by segment: its sets of groups
	spots   []spot
	spotIn  [][]int // by domain: its spots

	alike map[string]int // numbers of what makes ways alike, see spotKey
	split []int          // networks that alike tells apart though their classes have one number yet
	roads *paths.RouteMarks
	graft *graft // how it came of another, if it did

	id        int64 // no partition of other classes has it
	numbering int64 // nor this, if segments and networks have other numbers

	rolls     *rolls
	addresses *directory
	spans     *spans
	numbers   *numbers
}

// setList is the different sets of groups that a segment's endpoints have.
type setList struct {
	sets    []int     // among those of the partition
	byGroup [][]int32 // by group: which of the list hold it
	classes [][]int   // by place in the list: the classes that have it
	at      map[int]int32
	indexed int // of how many sets byGroup tells
}

// held reports whether somebody is in a group.
func (l *setList) held(group int) bool {
	return slices.ContainsFunc(l.of(group), func(set int32) bool { return len(l.classes[set]) > 0 })
}

// clone returns a list to which sets can be added, and not to this one.
func (l *setList) clone() setList {
	return setList{sets: slices.Clip(l.sets), byGroup: l.byGroup, indexed: l.indexed, classes: slices.Clip(l.classes), at: maps.Clone(l.at)}
}

// hold notes which classes each set has, of all of its segment. setOf tells the set of the
// class at a place.
func (l *setList) hold(classes []int, setOf func(at int) int32) {
	sets, count := make([]int32, len(classes)), make([]int, len(l.sets))
	for at := range classes {
		sets[at] = setOf(at)
		count[sets[at]]++
	}
	l.classes = make([][]int, len(l.sets))
	all := make([]int, len(classes))
	for set, n := range count {
		l.classes[set], all = all[:0:n], all[n:]
	}
	for at, n := range classes {
		l.classes[sets[at]] = append(l.classes[sets[at]], n)
	}
}

// add returns the place of a set in the list.
func (l *setList) add(set int) int32 {
	i, ok := l.at[set]
	if !ok {
		if l.at == nil {
			l.at = map[int]int32{}
		}
		i = int32(len(l.sets))
		l.at[set] = i
		l.sets = append(l.sets, set)
	}
	return i
}

// index finds the sets of each group.
func (l *setList) index(sets [][]int, groups int) {
	if l.indexed == len(l.sets) && len(l.byGroup) == groups {
		return // sets never change
	}
	l.indexed = len(l.sets)
	l.byGroup = make([][]int32, groups)
	for i, set := range l.sets {
		for _, g := range sets[set] {
			if g < groups { // else it is gone, and so are those who were in it
				l.byGroup[g] = append(l.byGroup[g], int32(i))
			}
		}
	}
}

// of returns the sets of a group, also those that nobody has any more: none of a group
// that the list does not know.
func (l *setList) of(group int) []int32 {
	if group >= len(l.byGroup) {
		return nil
	}
	return l.byGroup[group]
}

// domain returns the number of the domain of a class.
func (p *partition) domain(c *Class) int { return int(c.ticket.domain) }

// of returns the classes of a domain.
func (p *partition) of(domain int) []int {
	if domain < len(p.inside) {
		return p.inside[domain]
	}
	return p.outside
}

// spot is what the ways of endpoints through the hubs depend on, with one of
// them, and another of a different network if there is one.
type spot struct {
	spotKey
	one, other verdict.Endpoint // other has no address if all are of one network
	at         int              // its place among the spots of its domain
}

type spotKey struct {
	segment, likeness, mark int
	four, subnet            bool
	public                  bool // a segment that comes takes its addresses for the internet's, and others for nobody's
}

// examples are addresses set aside for documentation (RFC 5737, RFC 3849),
// preferred for witnesses because they are nobody's.
var examples = []netip.Addr{netip.MustParseAddr("198.51.100.7"), netip.MustParseAddr("2001:db8:ffff::7")}

// holding returns the one of some classes that holds an address, or false.
func (p *partition) holding(classes []int, a netip.Addr) (int, bool) {
	for _, c := range classes {
		if p.classes[c].holds(a) {
			return c, true
		}
	}
	return 0, false
}

func (c *Class) holds(a netip.Addr) bool {
	i, exact := slices.BinarySearchFunc(c.Ranges, a, func(r Range, a netip.Addr) int { return r.From.Compare(a) })
	if !exact {
		i--
	}
	return i >= 0 && c.Ranges[i].To.Compare(a) >= 0
}

// number returns the number of a key, the next one for a new key.
func number[K comparable](of map[K]int, key K) int {
	i, _ := numbered(of, key, len(of))
	return i
}

// numbered returns the number of a key; a new key gets the next one, and is fresh.
func numbered[K comparable](of map[K]int, key K, next int) (i int, fresh bool) {
	i, known := of[key]
	if !known {
		i = next
		of[key] = i
	}
	return i, !known
}
