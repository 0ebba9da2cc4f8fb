// Package proposal writes what lists of clouds and premises do as policies and groups: the edit
// with which somebody begins who has rules, and no policies yet. It takes what
// core/native/reader observed, and speaks of labels, networks and subnets where they say it.
package proposal

import (
	"cmp"
	"fmt"
	"slices"

	"github.com/bits-and-blooms/bitset"
	"go4.org/netipx"

	"bivium/core/edit"
	"bivium/core/estate"
	"bivium/core/matrix"
	"bivium/core/native/proof"
	"bivium/core/space"
	"bivium/core/verdict"
)

// Relation is flows between two sides of one segment that lists pass and policies deny, or the
// other way round: on the same services between each unit of the one and each of the other.
type Relation struct {
	Segment  string
	Passes   bool  // lists pass the flows, and policies deny them
	From, To []int // units of the observation, sorted
	Services space.Services
	Any      bool // a rule for any service says the same: the others are decided so already
	Witness  verdict.Flow
}

// Relations returns what an observation comes to, in few relations: pairs of units that are alike
// from one side, then sides that are alike towards the other. It is not always the least number.
func Relations(o *proof.Observation) []Relation {
	out := relationsOf(o, true)
	out = append(out, relationsOf(o, false)...)
	return out
}

func relationsOf(o *proof.Observation, passes bool) []Relation {
	var best []*rectangle
	for _, turned := range []bool{false, true} {
		for _, filled := range []bool{false, true} {
			if list := cover(o, passes, turned, filled); best == nil || len(list) < len(best) {
				best = list
			}
		}
	}
	at := map[[2]int]*proof.Pair{}
	for i := range o.Pairs {
		at[[2]int{o.Pairs[i].From, o.Pairs[i].To}] = &o.Pairs[i]
	}
	for i := range o.Alike {
		at[[2]int{o.Alike[i].From, o.Alike[i].To}] = &o.Alike[i]
	}
	best = join(o, best, at, passes)
	var out []Relation
	for _, x := range best {
		r := Relation{Segment: o.Segment, Passes: passes, From: x.from, To: x.to, Services: o.Services(x.atoms), Any: true}
		shown := false
		for _, from := range x.from {
			for _, to := range x.to {
				p := at[[2]int{from, to}]
				if p == nil {
					continue // of one address to itself
				}
				if needs := needs(p, passes); !shown && needs.IntersectionCardinality(x.atoms) > 0 {
					r.Witness, shown = o.Witness(p, x.atoms.Intersection(needs)), true
				}
				r.Any = r.Any && int(x.atoms.Union(already(p, passes)).Count()) == o.Atoms()
			}
		}
		out = append(out, r)
	}
	slices.SortFunc(out, func(a, b Relation) int { return cmp.Or(slices.Compare(a.From, b.From), slices.Compare(a.To, b.To)) })
	return out
}

// needs returns the atoms of a pair that a policy must allow, or deny.
func needs(p *proof.Pair, passes bool) *bitset.BitSet {
	if passes {
		return p.More
	}
	return p.Less
}

// already returns the atoms of a pair that policies allow, or deny.
func already(p *proof.Pair, passes bool) *bitset.BitSet {
	if passes {
		return p.Allowed
	}
	return p.Intended.Complement()
}

// mostJoined is of how many rectangles each is tried with each.
const mostJoined = 120

// join puts two rectangles into one where that says nothing else: what it adds is decided so
// already. The first that can be joined are.
func join(o *proof.Observation, list []*rectangle, at map[[2]int]*proof.Pair, passes bool) []*rectangle {
	if len(list) > mostJoined || len(o.Alike) == 0 {
		return list
	}
	for i := 0; i < len(list); i++ {
		for k := i + 1; k < len(list); k++ {
			a, b := list[i], list[k]
			if !a.atoms.Equal(b.atoms) {
				continue
			}
			both := &rectangle{from: union(a.from, b.from), to: union(a.to, b.to), atoms: a.atoms}
			if says(o, both, at, passes) {
				list[i] = both
				list = slices.Delete(list, k, k+1)
				k = i
			}
		}
	}
	return list
}

func union(a, b []int) []int {
	out := slices.Concat(a, b)
	slices.Sort(out)
	return slices.Compact(out)
}

// says reports whether a policy may say what a rectangle says of all of its pairs.
func says(o *proof.Observation, x *rectangle, at map[[2]int]*proof.Pair, passes bool) bool {
	for _, from := range x.from {
		for _, to := range x.to {
			switch p := at[[2]int{from, to}]; {
			case p != nil:
				if !already(p, passes).Union(needs(p, passes)).IsSuperSet(x.atoms) {
					return false
				}
			case from == to && o.Units[from].Single(), o.Units[from].Four() != o.Units[to].Four():
			default:
				return false
			}
		}
	}
	return true
}

// rectangle is some units towards some others, on the same atoms.
type rectangle struct {
	from, to []int
	atoms    *bitset.BitSet
}

// cover returns rectangles of all pairs. Turned, it begins with those that have the same sources
// and not with those that have the same destinations. Filled, what a single address sends itself,
// which is nothing, is taken to be what it sends most others.
func cover(o *proof.Observation, passes, turned, filled bool) []*rectangle {
	rows := map[int]map[int]*bitset.BitSet{}
	put := func(a, b int, atoms *bitset.BitSet) {
		if turned {
			a, b = b, a
		}
		if rows[a] == nil {
			rows[a] = map[int]*bitset.BitSet{}
		}
		rows[a][b] = atoms
	}
	for i := range o.Pairs {
		p := &o.Pairs[i]
		if atoms := p.Less; passes && p.More.Any() {
			put(p.From, p.To, p.More)
		} else if !passes && atoms.Any() {
			put(p.From, p.To, atoms)
		}
	}
	if filled {
		fill(o, rows)
	}
	var list []*rectangle
	for a, row := range rows {
		byAtoms := map[string]*rectangle{}
		for b, atoms := range row {
			k := atoms.DumpAsBits()
			if byAtoms[k] == nil {
				byAtoms[k] = &rectangle{from: []int{a}, atoms: atoms}
				list = append(list, byAtoms[k])
			}
			byAtoms[k].to = append(byAtoms[k].to, b)
		}
	}
	for _, x := range list {
		slices.Sort(x.to)
	}
	alike := map[string]*rectangle{}
	var out []*rectangle
	slices.SortFunc(list, func(a, b *rectangle) int {
		return cmp.Or(cmp.Compare(a.from[0], b.from[0]), slices.Compare(a.to, b.to))
	})
	for _, x := range list {
		k := fmt.Sprint(x.to) + x.atoms.DumpAsBits()
		if first := alike[k]; first != nil {
			first.from = append(first.from, x.from...)
			continue
		}
		alike[k] = x
		out = append(out, x)
	}
	if turned {
		for _, x := range out {
			x.from, x.to = x.to, x.from
		}
	}
	return out
}

func fill(o *proof.Observation, rows map[int]map[int]*bitset.BitSet) {
	for u, row := range rows {
		if !o.Units[u].Single() || row[u] != nil {
			continue
		}
		count, best := map[string]int{}, ""
		is := map[string]*bitset.BitSet{}
		for other, atoms := range row {
			if o.Units[other].Network == "" {
				continue
			}
			k := atoms.DumpAsBits()
			is[k] = atoms
			if count[k]++; best == "" || count[k] > count[best] || count[k] == count[best] && k < best {
				best = k
			}
		}
		if best != "" {
			row[u] = is[best]
		}
	}
}

// Proposal is the edit that makes the policies of an estate say what lists do.
type Proposal struct {
	Edit      *edit.Edit
	Policies  int
	Groups    int // that the edit makes
	Relations []Relation
}

// Write returns the edit that makes policies say what was observed. Each relation becomes a policy
// of its segment, unless there is one that says the same and is overruled; its sides are groups
// that there are already, or that the edit makes.
func Write(s *matrix.Matrix, observations []*proof.Observation, description string) (*Proposal, error) {
	n := NewNamer(s)
	out := &Proposal{Edit: n.Edit}
	for _, o := range observations {
		for _, r := range Relations(o) {
			from, err := n.Group(o.Segment, AddressesOf(o, r.From))
			if err != nil {
				return nil, err
			}
			to, err := n.Group(o.Segment, AddressesOf(o, r.To))
			if err != nil {
				return nil, err
			}
			action := estate.Deny
			if r.Passes {
				action = estate.Allow
			}
			services := n.services(&r)
			if n.says(o.Segment, from, to, action, services) {
				continue // and others decide
			}
			name := n.free(estate.KindPolicy, fmt.Sprintf("%s-%s-to-%s", action, from, to))
			if err := n.put(estate.KindPolicy, map[string]any{
				"name": name, "segments": []string{o.Segment}, "from": []string{from}, "to": []string{to},
				"rules": []map[string]any{{"services": services, "action": action}}, "description": description,
			}); err != nil {
				return nil, err
			}
			out.Policies++
			out.Relations = append(out.Relations, r)
		}
	}
	out.Groups = len(n.Edit.Operations) - out.Policies
	return out, nil
}

// AddressesOf returns the addresses of some units, in their own segment.
func AddressesOf(o *proof.Observation, units []int) *netipx.IPSet {
	var b netipx.IPSetBuilder
	for _, u := range units {
		for _, r := range o.Units[u].Ranges {
			b.AddRange(netipx.IPRangeFrom(r.From, r.To))
		}
	}
	set, err := b.IPSet()
	if err != nil {
		return &netipx.IPSet{} // ranges are of one family each
	}
	return set
}

// services returns those of a relation as a document has them: by the name of a service that is
// the same, or else as terms.
func (n *Namer) services(r *Relation) []any {
	if r.Any {
		return []any{"any"}
	}
	for i := range n.e.Services {
		if space.OfTerms(n.e.Services[i].Terms).Equal(r.Services) {
			return []any{n.e.Services[i].Name}
		}
	}
	var out []any
	for _, b := range r.Services.Boxes() {
		for p := int(b.FirstProtocol); p <= int(b.LastProtocol); p++ {
			t := estate.Term{Protocol: uint8(p), Ports: b.Ports, SourcePorts: b.SourcePorts}
			if b.FirstProtocol != b.LastProtocol {
				t.Ports, t.SourcePorts = estate.PortsOf(uint8(p))
			}
			out = append(out, estate.ServiceRef{Term: t})
		}
	}
	return out
}

// says reports whether a policy says just that already.
func (n *Namer) says(segment, from, to string, action estate.Action, services []any) bool {
	words := fmt.Sprint(services...)
	return slices.ContainsFunc(n.e.Policies, func(p estate.Policy) bool {
		if !p.Enabled || p.Guardrail() || len(p.Rules) != 1 || p.Rules[0].Action != action || !slices.Equal(p.Segments.Names, []string{segment}) {
			return false
		}
		var has []any
		for _, s := range p.Rules[0].Services {
			has = append(has, s)
		}
		return slices.Equal(p.From.Groups, []string{from}) && slices.Equal(p.To.Groups, []string{to}) && fmt.Sprint(has...) == words
	})
}
