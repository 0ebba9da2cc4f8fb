package difference

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"

	"bivium/core/intervals"
	"bivium/core/lists"
	"bivium/core/matrix"

	"github.com/bits-and-blooms/bitset"
	"go4.org/netipx"
)

// Family is the address family that both ends of a flow are of.
type Family string

// The families.
const (
	IPv4         Family = "ipv4"
	IPv6         Family = "ipv6"
	BothFamilies Family = "both" // flows of either: none mixes them
)

// Block is all flows of a family from some endpoints to others, but for those from an
// address to itself.
type Block struct {
	Family   Family
	From, To Selection

	change   *change
	src, dst *bitset.BitSet // intersections
}

// Selection is some endpoints of one segment, or of the internet, in as few
// words as describe them: all of it, or some groups and networks and, for what
// none of them covers, prefixes. A name stands only for what it means both before
// and afterwards.
type Selection struct {
	Node     matrix.Node // the segment, or the internet
	All      bool
	AllBut   bool // it is everything but what follows
	Groups   []string
	Networks []string
	Prefixes []netip.Prefix // sorted
}

// MaxPrefixes is how many prefixes of a selection are written for people before the rest
// is counted.
const MaxPrefixes = 6

// Words returns all parts of a selection, each a name or a prefix.
func (s *Selection) Words() []string { return s.words(len(s.Prefixes)) }

// Folded is Words for people: of many prefixes it counts the rest.
func (s *Selection) Folded() []string { return s.words(MaxPrefixes) }

func (s *Selection) words(most int) []string {
	name := s.Node.Segment
	if s.Node.Kind == matrix.NodeInternet {
		name = "internet"
	}
	if s.All {
		return []string{"all of " + name}
	}
	var out []string
	for _, g := range s.Groups {
		out = append(out, name+":"+g)
	}
	for _, n := range s.Networks {
		out = append(out, name+":network "+n)
	}
	for _, p := range s.Prefixes[:min(len(s.Prefixes), most)] {
		out = append(out, name+":"+p.String())
	}
	if more := len(s.Prefixes) - most; more > 0 {
		out = append(out, fmt.Sprintf("%d more prefixes of %s", more, name))
	}
	if s.AllBut && len(out) > 0 {
		out[0] = "all of " + name + " but " + out[0]
	}
	return out
}

// Blocks returns the flows of a change, as blocks of sources by destinations:
// together they are its flows exactly, but for those from an address to itself.
func (d *Difference) Blocks(change *Change) []Block {
	from, to := d.Comparer.unitsOf(change.At[0]), d.Comparer.unitsOf(change.At[1])
	var out []Block
	for _, p := range change.Sets() {
		for _, four := range []bool{true, false} {
			if b := from.block(to, &p, four); b != nil {
				b.change = change.gathered
				out = append(out, *b)
			}
		}
	}
	return joinFamilies(out)
}

// joinFamilies puts blocks of either family that are written alike into one.
func joinFamilies(blocks []Block) []Block {
	out := blocks[:0]
	for _, b := range blocks {
		k := slices.IndexFunc(out, func(o Block) bool {
			return o.Family != BothFamilies && o.Family != b.Family && o.From.same(&b.From) && o.To.same(&b.To)
		})
		if k >= 0 {
			out[k].Family = BothFamilies
			continue
		}
		out = append(out, b)
	}
	return out
}

// block returns the flows of a patch that are of one family, nil for none.
func (u *units) block(to *units, p *SourcesByDestinations, four bool) *Block {
	src, dst := p.From.Intersection(u.family(four)), p.To.Intersection(to.family(four))
	if src.None() || dst.None() || u.itself(src) != (netip.Addr{}) && u.AlignedDomain == to.AlignedDomain && u.itself(src) == to.itself(dst) {
		return nil
	}
	b := &Block{Family: IPv6, From: u.selection(src, four), To: to.selection(dst, four), src: src, dst: dst}
	if four {
		b.Family = IPv4
	}
	return b
}

// itself returns the address of intersections that are one address, else none.
func (u *units) itself(intersections *bitset.BitSet) (a netip.Addr) {
	if first, _ := intersections.NextSet(0); intersections.Count() == 1 && u.Intersections[first].Size.One() {
		return u.Intersections[first].addrs[0]
	}
	return a
}

// family returns the intersections of a family.
func (u *units) family(four bool) *bitset.BitSet {
	out := bitset.New(uint(len(u.Intersections)))
	for i := range u.Intersections {
		out.SetTo(uint(i), u.Intersections[i].Four == four)
	}
	return out
}

// same reports whether two selections are written alike, by names alone.
func (s *Selection) same(o *Selection) bool {
	return s.All == o.All && s.AllBut == o.AllBut && len(s.Prefixes)+len(o.Prefixes) == 0 && slices.Equal(s.Groups, o.Groups) && slices.Equal(s.Networks, o.Networks)
}

// unit is a group or a network that may describe part of a selection.
type unit struct {
	name    string
	network bool
	was, is *bitset.BitSet // intersections, in either matrix
	size    intervals.Size
}

// units are what may describe endpoints of an aligned domain.
type units struct {
	*AlignedDomain
	all []unit
}

// unitsOf returns the groups and networks of an aligned domain that have the same endpoints in
// both matrices: those of the most endpoints first, groups before networks.
func (c *comparer) unitsOf(land int) *units {
	if c.units == nil {
		c.units = make([]*units, len(c.domains))
	}
	if c.units[land] != nil {
		return c.units[land]
	}
	t := c.Domain(land)
	u := &units{AlignedDomain: t}
	at := map[string]int{}
	add := func(name string, network bool, intersection, m int) {
		key := fmt.Sprint(network, name)
		i, ok := at[key]
		if !ok {
			i = len(u.all)
			at[key] = i
			u.all = append(u.all, unit{name: name, network: network, was: bitset.New(uint(len(t.Intersections))), is: bitset.New(uint(len(t.Intersections)))})
		}
		[2]*bitset.BitSet{u.all[i].was, u.all[i].is}[m].Set(uint(intersection))
	}
	for i := range t.Intersections {
		j := &t.Intersections[i]
		for k, s := range [2]*matrix.Matrix{c.old, c.new} {
			class := [2]int{j.old, j.new}[k]
			if class < 0 || t.node.Kind == matrix.NodeInternet {
				continue
			}
			names := s.Judge.GroupNames()
			end := &s.Classes[class].End
			for _, g := range end.Groups {
				add(names[g], false, i, k)
			}
			add(s.Net.Networks[end.Home.Network].Name, true, i, k)
		}
	}
	u.all = slices.DeleteFunc(u.all, func(x unit) bool { return !x.was.Equal(x.is) })
	for i := range u.all {
		for k := range u.all[i].is.EachSet() {
			u.all[i].size.Add(t.Intersections[k].Size)
		}
	}
	slices.SortFunc(u.all, func(a, b unit) int {
		return cmp.Or(b.size.Compare(a.size), lists.OneIf(a.network)-lists.OneIf(b.network), cmp.Compare(a.name, b.name))
	})
	c.units[land] = u
	return u
}

// selection describes intersections of one family of an aligned domain: all of it, or all but some, else
// groups and networks that lie wholly inside, the largest first, and prefixes for the rest.
func (u *units) selection(intersections *bitset.BitSet, four bool) Selection {
	counts := u.family(four)
	s := u.cover(intersections, counts)
	if !u.stays(counts) { // all of it is another set before than afterwards
		return s
	}
	rest := counts.Difference(intersections)
	if rest.None() {
		return Selection{Node: u.node, All: true}
	}
	if but := u.cover(rest, counts); but.length() < s.length() {
		but.AllBut = true
		return but
	}
	return s
}

// stays reports whether some intersections are there in both matrices.
func (u *units) stays(intersections *bitset.BitSet) bool {
	for i := range intersections.EachSet() {
		if u.Intersections[i].old < 0 || u.Intersections[i].new < 0 {
			return false
		}
	}
	return true
}

// cover describes intersections, among those that count.
func (u *units) cover(intersections, counts *bitset.BitSet) Selection {
	s := Selection{Node: u.node}
	left := intersections.Clone()
	for i := range u.all {
		x := u.all[i].is
		if left.None() {
			break
		}
		if left.IntersectionCardinality(x) == 0 || !intersections.IsSuperSet(x.Intersection(counts)) {
			continue
		}
		left.InPlaceDifference(x)
		if u.all[i].network {
			s.Networks = append(s.Networks, u.all[i].name)
		} else {
			s.Groups = append(s.Groups, u.all[i].name)
		}
	}
	var ranges []intervals.Range
	for i := range left.EachSet() {
		ranges = append(ranges, u.Intersections[i].Ranges...)
	}
	for _, r := range merged(ranges) {
		s.Prefixes = netipx.IPRangeFrom(r.From, r.To).AppendPrefixes(s.Prefixes)
	}
	return s
}

// length returns how many words a selection takes.
func (s *Selection) length() int { return len(s.Groups) + len(s.Networks) + len(s.Prefixes) }

// merged returns ranges in order, those that meet as one.
func merged(ranges []intervals.Range) intervals.Ranges {
	var b netipx.IPSetBuilder
	for _, r := range ranges {
		b.AddRange(netipx.IPRangeFrom(r.From, r.To))
	}
	return intervals.RangesOf(&b)
}
