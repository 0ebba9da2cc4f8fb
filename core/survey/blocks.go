package survey

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"

	"github.com/bits-and-blooms/bitset"
	"go4.org/netipx"
)

// Block is all flows from some endpoints to others.
type Block struct{ From, To Selection }

// Selection is some endpoints of one segment, or of the internet, in as few
// words as describe them: all of it, or some groups and networks and, for what
// none of them covers, prefixes.
type Selection struct {
	Node     Node // the segment, or the internet
	All      bool
	AllBut   bool // it is everything but what follows
	Groups   []string
	Networks []string
	Ranges   []Range
}

// MaxPrefixes is how many prefixes a selection writes before it counts the rest.
const MaxPrefixes = 6

// Words returns the parts of a selection, each a name or a prefix.
func (s Selection) Words() []string {
	name := s.Node.Segment
	if s.Node.Kind == NodeInternet {
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
	var prefixes []netip.Prefix
	for _, r := range merged(s.Ranges) {
		prefixes = append(prefixes, netipx.IPRangeFrom(r.From, r.To).Prefixes()...)
	}
	for _, p := range prefixes[:min(len(prefixes), MaxPrefixes)] {
		out = append(out, name+":"+p.String())
	}
	if more := len(prefixes) - MaxPrefixes; more > 0 {
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
	from, to := d.comparer.unitsOf(change.at[0]), d.comparer.unitsOf(change.at[1])
	sets := change.sets()
	out := make([]Block, len(sets))
	for i, p := range sets {
		out[i] = Block{from.selection(p.from, to, p.to), to.selection(p.to, from, p.from)}
	}
	return out
}

// unit is a group or a network that may describe part of a selection.
type unit struct {
	name    string
	network bool
	joints  *bitset.BitSet
	size    float64 // in addresses, about
}

// units are what may describe endpoints of a territory.
type units struct {
	*territory
	all []unit
}

// unitsOf returns the groups and networks of a territory, as either survey has
// them: those of the most endpoints first, groups before networks.
func (c *comparer) unitsOf(land int) *units {
	if c.units == nil {
		c.units = make([]*units, len(c.lands))
	}
	if c.units[land] != nil {
		return c.units[land]
	}
	t := c.land(land)
	u := &units{territory: t}
	at := map[string]int{}
	add := func(name string, network bool, joint int) {
		key := fmt.Sprint(network, name)
		i, ok := at[key]
		if !ok {
			i = len(u.all)
			at[key] = i
			u.all = append(u.all, unit{name: name, network: network, joints: bitset.New(uint(len(t.joints)))})
		}
		u.all[i].joints.Set(uint(joint))
	}
	for i := range t.joints {
		j := &t.joints[i]
		for _, side := range []struct {
			s     *Survey
			class int
		}{{c.old, j.old}, {c.new, j.new}} {
			if side.class < 0 || t.node.Kind == NodeInternet {
				continue
			}
			names := side.s.judge.GroupNames()
			end := &side.s.classes[side.class].End
			for _, g := range end.Groups() {
				add(names[g], false, i)
			}
			add(side.s.net.Networks[end.Home.Network].Name, true, i)
		}
	}
	for i := range u.all {
		for k := range u.all[i].joints.EachSet() {
			u.all[i].size += t.joints[k].size.about()
		}
	}
	slices.SortFunc(u.all, func(a, b unit) int {
		if d := cmp.Compare(b.size, a.size); d != 0 {
			return d
		}
		if a.network != b.network {
			return oneIf(a.network) - oneIf(b.network)
		}
		return cmp.Compare(a.name, b.name)
	})
	c.units[land] = u
	return u
}

// selection describes joints of a territory: all of it, or all but some, else
// groups and networks that lie wholly inside, the largest first, and ranges for
// the rest. Endpoints of a family that the other side has none of do not count.
func (u *units) selection(joints *bitset.BitSet, other *units, far *bitset.BitSet) Selection {
	var families [2]bool
	for k := range far.EachSet() {
		families[oneIf(other.joints[k].four)] = true
	}
	counts := bitset.New(uint(len(u.joints)))
	for i := range u.joints {
		counts.SetTo(uint(i), families[oneIf(u.joints[i].four)])
	}
	s := u.cover(joints, counts)
	rest := counts.Difference(joints)
	if rest.None() {
		return Selection{Node: u.node, All: true}
	}
	if but := u.cover(rest, counts); but.words() < s.words() {
		but.AllBut = true
		return but
	}
	return s
}

// cover describes joints, among those that count.
func (u *units) cover(joints, counts *bitset.BitSet) Selection {
	s := Selection{Node: u.node}
	left := joints.Clone()
	for i := range u.all {
		x := &u.all[i]
		if left.None() {
			break
		}
		if left.IntersectionCardinality(x.joints) == 0 || !joints.IsSuperSet(x.joints.Intersection(counts)) {
			continue
		}
		left.InPlaceDifference(x.joints)
		if x.network {
			s.Networks = append(s.Networks, x.name)
		} else {
			s.Groups = append(s.Groups, x.name)
		}
	}
	for i := range left.EachSet() {
		s.Ranges = append(s.Ranges, u.joints[i].ranges...)
	}
	return s
}

// words returns about how many words a selection takes.
func (s *Selection) words() int { return len(s.Groups) + len(s.Networks) + len(merged(s.Ranges)) }

// merged returns ranges in order, those that meet as one.
func merged(ranges []Range) stretches {
	var b netipx.IPSetBuilder
	for _, r := range ranges {
		b.AddRange(netipx.IPRangeFrom(r.From, r.To))
	}
	return stretchesOf(&b)
}
