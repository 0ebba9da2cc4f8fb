package proof

import (
	"encoding/binary"
	"net/netip"
	"slices"

	"github.com/bits-and-blooms/bitset"

	"bivium/core/classes"
	"bivium/core/estate"
	"bivium/core/intervals"
	"bivium/core/matrix"
	"bivium/core/native/config"
	"bivium/core/paths"
	"bivium/core/space"
	"bivium/core/verdict"
)

// Observation is what the lists of some networks do in one segment, beside what policies intend
// there: by pairs of units, only those between which the two differ.
type Observation struct {
	Segment    string
	Units      []Unit
	Pairs      []Pair
	Alike      []Pair // pairs that were compared and do not differ; left out where there are very many units
	Incomplete bool   // there were more units than are compared
	services   *space.Atoms
}

// Unit is endpoints that no list which is observed, and no policy, tells apart.
type Unit struct {
	Classes  []*classes.Class
	Ranges   []intervals.Range // their addresses in their own segment
	Network  string            // whose they are; "" for the internet
	Observed bool              // the network is one of those that are observed
}

// Pair is the services on which what lists do from one unit to another is not what is intended.
// Their atoms are those of the observation.
type Pair struct {
	From, To int
	More     *bitset.BitSet // lists pass them, and policies deny them
	Less     *bitset.BitSet // lists stop them, and policies allow or inspect them
	Intended *bitset.BitSet // policies allow or inspect them
	Allowed  *bitset.BitSet // policies allow them
}

// Atoms returns how many atoms there are.
func (o *Observation) Atoms() int { return o.services.Len() }

// Services returns the services that some atoms stand for.
func (o *Observation) Services(atoms *bitset.BitSet) space.Services { return o.services.Union(atoms) }

// Witness returns a flow of a pair, on the first of some atoms.
func (o *Observation) Witness(p *Pair, atoms *bitset.BitSet) verdict.Flow {
	atom, _ := atoms.NextSet(0)
	protocol, sport, dport, _ := o.services.Set(int(atom)).Witness()
	f := verdict.Flow{Segment: o.Segment, Source: o.Units[p.From].first(), Destination: o.Units[p.To].first(), Service: verdict.Service{Protocol: protocol, SourcePort: sport, Port: dport}}
	if f.Source == f.Destination {
		f.Destination = o.Units[p.To].another(f.Source)
	}
	return f
}

// first returns an address of a unit: that of a workload, if it has any.
func (u *Unit) first() netip.Addr {
	for _, c := range u.Classes {
		if a := c.End.Addr; len(c.Workloads) > 0 && slices.ContainsFunc(u.Ranges, func(r intervals.Range) bool { return r.From.Compare(a) <= 0 && a.Compare(r.To) <= 0 }) {
			return a
		}
	}
	return u.Ranges[0].From
}

// another returns an address of a unit that is not a given one.
func (u *Unit) another(than netip.Addr) netip.Addr {
	for _, r := range u.Ranges {
		if r.From != than {
			return r.From
		}
		if r.To != than {
			return r.To
		}
	}
	return than
}

// mostUnits is how many units of a segment are compared with each other, and mostAlike of how many
// the pairs are kept that do not differ.
const (
	mostUnits = 4000
	mostAlike = 400
)

// Observe compares what the lists of some networks pass with what policies intend, over all flows
// inside a segment and from it to the internet that begin or end in one of those networks. Of two
// ends each has a word: a network that is observed that of its lists, one whose lists are written
// from policies that of the policies, any other none. Lists have no word on flows that they do not
// see, inside a subnet where they hang on subnets. To the internet, an exit of a hub has the word
// of the policies. Cost: the square of the units of each segment, times the words of a bit set.
func Observe(s *matrix.Matrix, cfg *config.Config, observed func(network string) bool) []*Observation {
	p := newProver(s, cfg, nil)
	var lists []*unitProof
	for n := range p.s.Net.Networks {
		if p.r.Networks[n] != nil && observed(p.s.Net.Networks[n].Name) {
			lists = append(lists, p.units(n)...)
		}
	}
	var out []*Observation
	for i := range p.s.Inside {
		if o := p.observe(i, lists); o != nil {
			out = append(out, o)
		}
	}
	return out
}

// observer compares in one segment.
type observer struct {
	*prover
	*Observation
	units []listed
}

// listed is a unit with the list that sees it.
type listed struct {
	first *piece
	list  *unitProof // nil where none that is observed does
	own   *bitset.BitSet
	peers map[*unitProof]*bitset.BitSet // the rules of other lists whose other side has it
}

func (p *prover) observe(segment int, lists []*unitProof) *Observation {
	all := append(slices.Clone(p.own[segment]), p.seenOutside(segment)...)
	listOf := map[netip.Addr]*unitProof{}
	for _, u := range lists {
		for _, i := range u.own {
			if x := &p.homes[u.network][i]; x.class.End.Segment == segment {
				listOf[x.own.From] = u
			}
		}
	}
	if len(listOf) == 0 {
		return nil
	}
	var here []*unitProof
	for _, u := range lists {
		if slices.ContainsFunc(u.own, func(i int) bool { return p.homes[u.network][i].class.End.Segment == segment }) {
			here = append(here, u)
		}
	}
	o := &observer{prover: p, Observation: &Observation{Segment: p.s.Net.Segments[segment], services: p.s.Atoms}}
	o.divide(all, listOf, o.rulesAt(all, here), here)
	if o.Incomplete = len(o.units) > mostUnits; o.Incomplete {
		o.Units = nil
		return o.Observation
	}
	for a := range o.units {
		for b := range o.units {
			o.compare(a, b)
		}
	}
	return o.Observation
}

// seenOutside returns the pieces of the internet that a segment sees.
func (p *prover) seenOutside(segment int) view {
	return slices.DeleteFunc(slices.Clone(p.outside), func(x piece) bool { return x.class.Seen[segment] != classes.SeesIt })
}

// rulesAt returns, by list and piece, the rules whose other side has the piece.
func (o *observer) rulesAt(all view, lists []*unitProof) [][]*bitset.BitSet {
	sorted := make([]int, len(all))
	for i := range sorted {
		sorted[i] = i
	}
	slices.SortFunc(sorted, func(a, b int) int { return all[a].own.From.Compare(all[b].own.From) })
	ordered := make(view, len(all))
	for i, k := range sorted {
		ordered[i] = all[k]
	}
	out := make([][]*bitset.BitSet, len(lists))
	for n, u := range lists {
		out[n] = make([]*bitset.BitSet, len(all))
		for i := range all {
			out[n][i] = bitset.New(uint(len(u.rules)))
		}
		for rule := range u.rules {
			if u.rules[rule].peer == nil {
				for i := range all {
					out[n][i].Set(uint(rule))
				}
				continue
			}
			for _, set := range u.rules[rule].peer {
				for _, span := range ordered.spans(set.Prefixes) {
					for _, i := range sorted[span.first:span.last] {
						out[n][i].Set(uint(rule))
					}
				}
			}
		}
	}
	return out
}

// divide makes units of pieces that are alike.
func (o *observer) divide(all view, listOf map[netip.Addr]*unitProof, rules [][]*bitset.BitSet, lists []*unitProof) {
	at := map[string]int{}
	for i := range all {
		x := &all[i]
		unit := listed{first: x, list: listOf[x.own.From], peers: map[*unitProof]*bitset.BitSet{}}
		key := []byte{}
		put := func(n int32) { key = binary.LittleEndian.AppendUint32(key, uint32(n)) }
		put(x.class.Set)
		put(int32(x.class.PathClass))
		put(x.class.Part)
		put(x.class.Network)
		if !x.class.Internal() {
			put(x.class.At)
		}
		if x.class.Four {
			put(4)
		}
		if unit.list != nil && x.class.Internal() {
			put(int32(slices.Index(lists, unit.list)))
			unit.own = bitset.New(uint(len(unit.list.rules)))
			inside := o.inside(x)
			for n := range unit.list.rules {
				unit.own.SetTo(uint(n), o.r.InSets(unit.list.rules[n].own, inside))
			}
			key = appendWords(key, unit.own)
		}
		for n, u := range lists {
			unit.peers[u] = rules[n][i]
			key = appendWords(key, rules[n][i])
		}
		k, known := at[string(key)]
		if !known {
			k = len(o.units)
			at[string(key)] = k
			o.units = append(o.units, unit)
			o.Units = append(o.Units, Unit{Observed: unit.list != nil})
			if x.class.Internal() {
				o.Units[k].Network = o.s.Net.Networks[x.class.Network].Name
			}
		}
		if !slices.Contains(o.Units[k].Classes, x.class) {
			o.Units[k].Classes = append(o.Units[k].Classes, x.class)
		}
		o.Units[k].Ranges = append(o.Units[k].Ranges, x.own)
	}
}

func appendWords(key []byte, b *bitset.BitSet) []byte {
	for _, w := range b.Words() {
		key = binary.LittleEndian.AppendUint64(key, w)
	}
	return key
}

// compare notes the services on which what lists do from one unit to another is not what is
// intended.
func (o *observer) compare(from, to int) {
	a, b := &o.units[from], &o.units[to]
	switch {
	case a.list == nil && b.list == nil, !a.first.class.Internal(), a.first.class.Four != b.first.class.Four:
		return
	case from == to && o.Units[from].Single(), o.sameSubnet(a, b):
		return
	}
	c, ok := o.s.CombinationOf(&a.first.class.Header, &b.first.class.Header)
	if !ok {
		return
	}
	intended := o.second[o.meant[c.RuleSet]]
	passed := o.every()
	if a.list != nil {
		passed = passed.Intersection(a.list.passes(true, a.own.Intersection(b.peers[a.list])))
	}
	if b.list != nil {
		passed = passed.Intersection(b.list.passes(false, b.own.Intersection(a.peers[b.list])))
	}
	if o.policiesSay(a, b, c) {
		passed = passed.Intersection(intended)
	}
	p := Pair{From: from, To: to, More: passed.Difference(intended), Less: intended.Difference(passed), Intended: intended, Allowed: o.strict[o.meant[c.RuleSet]]}
	if p.More.Any() || p.Less.Any() {
		o.Pairs = append(o.Pairs, p)
	} else if len(o.units) <= mostAlike {
		o.Alike = append(o.Alike, p)
	}
}

// policiesSay reports whether an end of a flow has the word of policies.
func (o *observer) policiesSay(a, b *listed, c matrix.Combination) bool {
	if !b.first.class.Internal() {
		return o.s.Interner.EffectAt(c.Effect).Kind != paths.Bypass
	}
	for _, x := range []*listed{a, b} {
		if x.list == nil && o.s.Net.Networks[x.first.class.Network].Enforces != estate.EnforceNone {
			return true
		}
	}
	return false
}

// sameSubnet reports whether lists that hang on subnets do not see flows between two units.
func (o *observer) sameSubnet(a, b *listed) bool {
	return b.first.class.Internal() && a.list != nil && a.list.unheard(a.first, b.first)
}

// Single reports whether a unit is one address.
func (u *Unit) Single() bool {
	return len(u.Ranges) == 1 && u.Ranges[0].From == u.Ranges[0].To
}

// Four reports whether a unit is of IPv4.
func (u *Unit) Four() bool { return u.Ranges[0].From.Is4() }
