// Package classes divides all endpoints of an estate into equivalence classes: endpoints of
// one class are in the same groups, have the same paths, and are seen by the same segments.
// An edit touches some addresses; only the classes that have some of those are made anew.
package classes

import (
	"maps"
	"math/big"
	"net/netip"
	"slices"

	"bivium/core/intervals"
	"bivium/core/membership"
	"bivium/core/paths"
)

// Class is a set of endpoints of one segment, or of external endpoints, that
// no rule, no route and no share tells apart. Classes of one side are disjoint,
// and together they are all endpoints.
type Class struct {
	End       membership.Endpoint // one of them: a workload, if any is
	Workloads []int               // of the estate, sorted; each once
	Ranges    []intervals.Range   // sorted, disjoint

	Header
	Amount    intervals.Size
	Weight    float64      // size, about
	Four      bool         // of IPv4
	PathClass int          // number of what its paths through the hubs depend on
	Seen      []Visibility // by segment: what an address of the class is there
}

// Header is what blocks ask of a class. It is small, for where classes are gone
// through by the million.
type Header struct {
	Domain      int32 // the segment, or the internet after them
	Network     int32 // of the home, or paths.None
	At          int32 // its place among the classes of its domain
	Set         int32 // number of its set of groups among those of its segment
	PathClassAt int32 // number of its path class among those of its domain
	Part        int32 // what tells it apart on local paths: see paths.Net.LocalPart
}

// Size returns how many addresses the class has.
func (c *Class) Size() *big.Int { return c.Amount.Big() }

// Internal reports whether the class is of internal endpoints.
func (c *Class) Internal() bool { return c.End.Internal() }

// Visibility is what a segment finds under the addresses of a class (M6.4).
type Visibility uint8

const (
	SeesOther   Visibility = iota // an endpoint of another class: the address is used twice
	SeesNothing                   // nothing has the address there
	SeesIt                        // the class itself
)

// Partition is all endpoints of an estate, in classes. Domains are the segments,
// by number, and the internet after them.
type Partition struct {
	Net           *paths.Net
	Classes       []*Class  // by number; shared with partitions that come of this one
	Inside        [][]int   // by segment: its classes
	Outside       []int     // the external classes
	Sets          [][]int   // the different sets of groups
	Local         []setList // by segment: its sets of groups
	PathClasses   []PathClass
	PathClassesIn [][]int // by domain: its path classes

	Alike      map[string]int // numbers of what makes paths alike, see spotKey
	Split      []int          // networks that alike tells apart though their classes have one number yet
	RouteMarks *paths.RouteMarks
	Update     *Update // how it came of another, if it did

	ID        int64 // no partition of other classes has it
	Numbering int64 // nor this, if segments and networks have other numbers

	Stores    *ColumnStore
	Addresses *Directory
	spans     *spans
	Numbers   *Numbers
}

// setList is the different sets of groups that a segment's endpoints have.
type setList struct {
	Sets    []int     // among those of the partition
	byGroup [][]int32 // by group: which of the list hold it
	Classes [][]int   // by place in the list: the classes that have it
	at      map[int]int32
	indexed int // of how many sets byGroup tells
}

// SomeoneIn reports whether somebody is in a group.
func (l *setList) SomeoneIn(group int) bool {
	return slices.ContainsFunc(l.With(group), func(set int32) bool { return len(l.Classes[set]) > 0 })
}

// clone returns a list to which sets can be added, and not to this one.
func (l *setList) clone() setList {
	return setList{Sets: slices.Clip(l.Sets), byGroup: l.byGroup, indexed: l.indexed, Classes: slices.Clip(l.Classes), at: maps.Clone(l.at)}
}

// noteClasses notes which classes each set has, of all of its segment. setOf tells the set of the
// class at a place.
func (l *setList) noteClasses(classes []int, setOf func(at int) int32) {
	sets, count := make([]int32, len(classes)), make([]int, len(l.Sets))
	for at := range classes {
		sets[at] = setOf(at)
		count[sets[at]]++
	}
	l.Classes = make([][]int, len(l.Sets))
	all := make([]int, len(classes))
	for set, n := range count {
		l.Classes[set], all = all[:0:n], all[n:]
	}
	for at, n := range classes {
		l.Classes[sets[at]] = append(l.Classes[sets[at]], n)
	}
}

// add returns the place of a set in the list.
func (l *setList) add(set int) int32 {
	i, ok := l.at[set]
	if !ok {
		if l.at == nil {
			l.at = map[int]int32{}
		}
		i = int32(len(l.Sets))
		l.at[set] = i
		l.Sets = append(l.Sets, set)
	}
	return i
}

// index finds the sets of each group.
func (l *setList) index(sets [][]int, groups int) {
	if l.indexed == len(l.Sets) && len(l.byGroup) == groups {
		return // sets never change
	}
	l.indexed = len(l.Sets)
	l.byGroup = make([][]int32, groups)
	for i, set := range l.Sets {
		for _, g := range sets[set] {
			if g < groups { // else it is gone, and so are those who were in it
				l.byGroup[g] = append(l.byGroup[g], int32(i))
			}
		}
	}
}

// With returns the sets of a group, also those that nobody has any more: none of a group
// that the list does not know.
func (l *setList) With(group int) []int32 {
	if group >= len(l.byGroup) {
		return nil
	}
	return l.byGroup[group]
}

// DomainOf returns the number of the domain of a class.
func (p *Partition) DomainOf(c *Class) int { return int(c.Header.Domain) }

// ClassesIn returns the classes of a domain.
func (p *Partition) ClassesIn(domain int) []int {
	if domain < len(p.Inside) {
		return p.Inside[domain]
	}
	return p.Outside
}

// InUse returns the numbers of all classes that have endpoints: a partition that was brought up to
// date keeps numbers of classes that have none any more.
func (p *Partition) InUse() []int {
	return append(slices.Concat(p.Inside...), p.Outside...)
}

// PathClass is what the paths of endpoints through the hubs depend on, with one of
// them, and another of a different network if there is one.
type PathClass struct {
	PathKey
	One, Other membership.Endpoint // other has no address if all are of one network
	At         int                 // its place among the path classes of its domain
}

type PathKey struct {
	Segment, Likeness, mark int
	Four, subnet            bool
	public                  bool // a segment that comes takes its addresses for the internet's, and others for nobody's
}

// examples are addresses set aside for documentation (RFC 5737, RFC 3849),
// preferred for witnesses because they are nobody's.
var examples = []netip.Addr{netip.MustParseAddr("198.51.100.7"), netip.MustParseAddr("2001:db8:ffff::7")}

// Holding returns the one of some classes that holds an address, or false.
func (p *Partition) Holding(classes []int, a netip.Addr) (int, bool) {
	for _, c := range classes {
		if p.Classes[c].Holds(a) {
			return c, true
		}
	}
	return 0, false
}

func (c *Class) Holds(a netip.Addr) bool {
	i, exact := slices.BinarySearchFunc(c.Ranges, a, func(r intervals.Range, a netip.Addr) int { return r.From.Compare(a) })
	if !exact {
		i--
	}
	return i >= 0 && c.Ranges[i].To.Compare(a) >= 0
}

// Number returns the number of a key, the next one for a new key.
func Number[K comparable](of map[K]int, key K) int {
	i, _ := Numbered(of, key, len(of))
	return i
}

// Numbered returns the number of a key; a new key gets the next one, and is fresh.
func Numbered[K comparable](of map[K]int, key K, next int) (i int, fresh bool) {
	i, known := of[key]
	if !known {
		i = next
		of[key] = i
	}
	return i, !known
}
