// Package proof compares what targets hold with what an estate says, over all flows: that of a
// translation, where nothing must differ, and that of accounts that are only observed.
package proof

import (
	"net/netip"
	"slices"
	"sync"

	"github.com/bits-and-blooms/bitset"

	"bivium/core/classes"
	"bivium/core/estate"
	"bivium/core/lists"
	"bivium/core/matrix"
	"bivium/core/native/config"
	"bivium/core/native/reader"
	"bivium/core/parallel"
	"bivium/core/space"
	"bivium/core/verdict"
)

// Proof is how a configuration compares with an estate, over all flows.
type Proof struct {
	Differences []Difference // what is meant and does not happen, or happens and is not meant
	Stricter    []Difference // what lists stop because they cannot tell it from what they must stop
	Unheld      []Unheld     // addresses that no workload holds, where lists hang on workloads
	// Incomplete says that so many flows were found to differ that not all are listed.
	Incomplete bool

	of      *matrix.Matrix
	read    *reader.Reader
	cuts    *cutting
	looked  []bool // by network: flows of its lists were looked at one by one
	differs bool   // some were found to differ, if only for a reason
}

// Difference is flows of which the first packet fares otherwise than is meant, all alike.
type Difference struct {
	From, To string // the segments; verdict.Internet for what is outside
	// Sources and Destinations are prefixes, as the source's segment sees them; of what routes
	// change, also names of groups and networks, or "any".
	Sources, Destinations []string
	Services              space.Services
	Witness               verdict.Flow
	Meant, Found          reader.Fate
	Change                Change
	Blur                  reader.Blur // of what is stricter
}

// Unheld is addresses of a network at which nothing passes that its machines' lists do not pass
// by default: a machine must come up first.
type Unheld struct {
	Network  string
	Prefixes []netip.Prefix
}

// Change is what a difference comes to.
type Change string

// The changes. Past is worse than Others: a pool is left out.
const (
	Opened Change = "opened" // arrives, and should not
	Closed Change = "closed" // does not arrive, and should
	Past   Change = "past"   // arrives past a pool
	Others Change = "others" // goes through other pools, or is stopped by another one
)

// Prove compares what a configuration does with the first packet of every flow with what an
// estate says, state and health being those of the estate. Each part of the configuration is
// held to what it has to do: match lists to what is intended, lists to what they must pass and
// stop, by classes of endpoints and atoms of services. Where one does something else, the
// flows are looked at one by one. Cost: that of the blocks of the matrix, and for each list its
// classes times the lines that they may have flows with; and each flow that may differ.
func Prove(s *matrix.Matrix, cfg *config.Config) *Proof { return Reprove(nil, s, cfg, nil) }

// newProver reads a configuration beside a matrix, whose services and addresses it cuts so that no
// list tells two of one piece apart. Where a configuration was cut before, only what differs from
// it is looked at.
func newProver(s *matrix.Matrix, cfg *config.Config, before *Proof) *prover {
	r, of := reader.New(s.Judge.Estate, cfg), s
	cuts := newCutting(cfg, r.Networks, before)
	s = s.Refine(termsThatCut(cuts.boxes(), s)...)
	p := &prover{of: of, s: s, r: r, cuts: cuts, looks: make([]bool, len(s.Net.Networks)), found: map[string]*differing{}, atomsOf: map[*space.Box]*bitset.BitSet{}, seen: map[pairKey]bool{}}
	p.all = p.every()
	p.views()
	p.expect()
	return p
}

type prover struct {
	of   *matrix.Matrix
	s    *matrix.Matrix // cut finer
	r    *reader.Reader
	cuts *cutting

	own      []view // by segment: its endpoints, by their own address
	in, out  []once[view]
	outside  view     // the internet
	outsides sync.Map // by set: its pieces of the internet
	homes    []view   // by network: its endpoints

	second, strict []*bitset.BitSet // by meaning: what is allowed or inspected, and what is allowed
	routed         []Difference     // of other routes
	unheldAt       []Unheld
	looks          []bool // by network: see Proof.looked
	since          *since // nil where nothing was proven before

	meant    []int32 // by rule set: what is meant, or -1
	meanings []meaning

	mu         sync.Mutex
	found      map[string]*differing
	seen       map[pairKey]bool
	looked     int
	incomplete bool
	atomsOf    map[*space.Box]*bitset.BitSet
	atomsOfBox sync.Map       // by box
	all        *bitset.BitSet // every atom
}

// meaning is what is intended for each atom, and what rulebooks make of it.
type meaning struct {
	action []estate.Action
	pools  [][]int
	passes [][]bool
}

// termsThatCut returns those of some services that cut atoms of the matrix, each a set of its own:
// two that overlap cut each other.
func termsThatCut(boxes []space.Box, s *matrix.Matrix) [][]estate.Term {
	var out [][]estate.Term
	for _, b := range boxes {
		for atom := range s.Atoms.Len() {
			if cuts(b, s.Atoms.Set(atom)) {
				out = append(out, termsOf(b))
				break
			}
		}
	}
	return out
}

// cuts reports whether a box has some services of a set, and not all.
func cuts(b space.Box, set space.Services) bool {
	some, all := false, true
	for _, x := range set.Boxes() {
		if x.FirstProtocol >= b.FirstProtocol && x.LastProtocol <= b.LastProtocol && within(x.SourcePorts, b.SourcePorts) && within(x.Ports, b.Ports) {
			some = true
			continue
		}
		all = false
		if x.FirstProtocol <= b.LastProtocol && b.FirstProtocol <= x.LastProtocol && meet(x.SourcePorts, b.SourcePorts) && meet(x.Ports, b.Ports) {
			some = true
		}
	}
	return some && !all
}

func within(a, b estate.Range) bool { return a.Lo >= b.Lo && a.Hi <= b.Hi }

func meet(a, b estate.Range) bool { return a.Lo <= b.Hi && b.Lo <= a.Hi }

func termsOf(b space.Box) []estate.Term {
	var out []estate.Term
	for protocol := int(b.FirstProtocol); protocol <= int(b.LastProtocol); protocol++ {
		ports, sources := estate.PortsOf(uint8(protocol))
		t := estate.Term{Protocol: uint8(protocol), Ports: common(ports, b.Ports), SourcePorts: common(sources, b.SourcePorts)}
		if t.Ports.Lo <= t.Ports.Hi && t.SourcePorts.Lo <= t.SourcePorts.Hi {
			out = append(out, t)
		}
	}
	return out
}

func common(a, b estate.Range) estate.Range {
	return estate.Range{Lo: max(a.Lo, b.Lo), Hi: min(a.Hi, b.Hi)}
}

// atoms returns the atoms of some services; nil, which is all of them, for nil.
func (p *prover) atoms(boxes []space.Box) *bitset.BitSet {
	if boxes == nil {
		return bitset.New(uint(p.s.Atoms.Len())).Complement()
	}
	p.mu.Lock()
	known, ok := p.atomsOf[&boxes[0]]
	p.mu.Unlock()
	if ok {
		return known
	}
	out := bitset.New(uint(p.s.Atoms.Len()))
	for atom := range p.s.Atoms.Len() {
		protocol, sport, dport, _ := p.s.Atoms.Set(atom).Witness()
		out.SetTo(uint(atom), reader.InServices(boxes, verdict.Service{Protocol: protocol, SourcePort: sport, Port: dport}))
	}
	p.mu.Lock()
	p.atomsOf[&boxes[0]] = out
	p.mu.Unlock()
	return out
}

// views makes the pieces of all segments and networks, by their own address.
func (p *prover) views() {
	inside := len(p.s.Inside)
	p.own, p.in, p.out, p.homes = make([]view, inside), make([]once[view], inside), make([]once[view], inside), make([]view, len(p.s.Net.Networks))
	for _, c := range p.s.Outside {
		p.outside = p.cut(p.outside, p.s.Classes[c], inside)
	}
	p.outside.sort()
	parallel.Shares(inside, 1, func(_, first, last int) {
		for s := first; s < last; s++ {
			for _, c := range p.s.Inside[s] {
				p.own[s] = p.cut(p.own[s], p.s.Classes[c], s)
			}
			p.own[s].sort()
		}
	})
	for _, v := range p.own {
		for i := range v {
			n := v[i].class.Network
			p.homes[n] = append(p.homes[n], v[i])
		}
	}
}

// heard returns all whose flows a segment may hear, by the address that it sees.
func (p *prover) heard(s int) view {
	return p.in[s].get(func() view {
		var all []view
		for of := range p.s.Inside {
			if p.s.Blocks.At(of, s) == nil {
				continue
			}
			if !p.s.Judge.Shows() { // all see the same addresses
				all = append(all, p.own[of])
				continue
			}
			var v view
			for _, c := range p.s.Inside[of] {
				v = p.cut(v, p.s.Classes[c], s)
			}
			v.sort()
			all = append(all, v)
		}
		return merged(all)
	})
}

// seenBy returns all that a segment may find, by the address that it sees.
func (p *prover) seenBy(s int) view {
	return p.out[s].get(func() view {
		var all []view
		for of := range p.s.Inside {
			if p.s.Blocks.At(s, of) == nil {
				continue
			}
			var v view
			for _, at := range p.s.SeenBy(s, of) {
				v = p.cut(v, p.s.Classes[p.s.Inside[of][at]], s)
			}
			v.sort()
			all = append(all, v)
		}
		return merged(all)
	})
}

// expect works out what is meant by all rule sets of the blocks.
func (p *prover) expect() {
	n, _ := p.s.Interner.Len()
	p.meant = slices.Repeat([]int32{-1}, n)
	var wanted []int32
	for _, row := range p.s.Blocks {
		for _, b := range row.Is {
			for _, r := range b.RuleSets {
				if p.meant[r] < 0 {
					p.meant[r] = int32(len(wanted))
					wanted = append(wanted, r)
				}
			}
		}
	}
	p.meanings = make([]meaning, len(wanted))
	p.second, p.strict = make([]*bitset.BitSet, len(wanted)), make([]*bitset.BitSet, len(wanted))
	parallel.Shares(len(wanted), 8, func(_, first, last int) {
		memo := p.s.Judge.NewMemo(p.s.RuleIndex)
		var terms []verdict.Term
		for i := first; i < last; i++ {
			var context verdict.Context
			context, terms = p.s.Interner.RuleSetAt(wanted[i], terms[:0])
			intents := memo.Intents(context, terms)
			m := meaning{make([]estate.Action, len(intents)), make([][]int, len(intents)), make([][]bool, len(intents))}
			for atom, intent := range intents {
				m.action[atom], m.pools[atom] = memo.Intended(intent)
				if m.action[atom] == estate.Inspect {
					m.passes[atom] = memo.BookPasses(intent)
				}
			}
			p.meanings[i] = m
			p.second[i], p.strict[i] = m.atoms(func(a estate.Action) bool { return a != estate.Deny }), m.atoms(func(a estate.Action) bool { return a == estate.Allow })
		}
	})
	known := map[string]*bitset.BitSet{}
	for i, atoms := range p.second { // equal ones are one
		key := lists.BitsKey(atoms)
		if known[key] == nil {
			known[key] = atoms
		}
		p.second[i] = known[key]
	}
}

func (p *prover) meaningOf(ruleSet int32) *meaning { return &p.meanings[p.meant[ruleSet]] }

// pairKey is flows that were looked at: two pieces, an atom, and a publication.
type pairKey struct {
	src, dst    netip.Addr
	from, to    int
	atom        int32
	publication int32
}

// mostLooked is how many flows are looked at one by one at most.
const mostLooked = 400000

// look looks at the flows between two pieces, of some atoms, one by one: no list tells those of
// one atom apart.
func (p *prover) look(src, dst *piece, atoms *bitset.BitSet) {
	if src.class.Four != dst.class.Four {
		return
	}
	for atom, ok := atoms.NextSet(0); ok; atom, ok = atoms.NextSet(atom + 1) {
		protocol, sport, dport, _ := p.s.Atoms.Set(int(atom)).Witness()
		f := verdict.Flow{Segment: verdict.Internet, Source: src.own.From, Destination: dst.own.From, Service: verdict.Service{Protocol: protocol, SourcePort: sport, Port: dport}}
		if !src.class.Internal() {
			for i, name := range p.publications(dst) {
				f.Publication = name
				p.lookAt(&f, src, dst, int32(atom), int32(i))
			}
			continue
		}
		f.Segment = p.s.Net.Segments[src.class.End.Segment]
		if dst.class.Internal() {
			f.Destination = p.seenFrom(dst, src.class.End.Segment)
		}
		p.lookAt(&f, src, dst, int32(atom), -1)
	}
}

// lookSeen looks at the flows of all services to an endpoint under an address by which nothing
// should be found.
func (p *prover) lookSeen(src, dst *piece, seen netip.Addr) {
	for atom := range p.s.Atoms.Len() {
		protocol, sport, dport, _ := p.s.Atoms.Set(atom).Witness()
		f := verdict.Flow{Segment: p.s.Net.Segments[src.class.End.Segment], Source: src.own.From, Destination: seen, Service: verdict.Service{Protocol: protocol, SourcePort: sport, Port: dport}}
		p.lookAt(&f, src, dst, int32(atom), -2)
	}
}

// seenFrom returns the first address of a piece as a segment sees it.
func (p *prover) seenFrom(x *piece, by int) netip.Addr {
	return classes.AsSeen(p.s.Judge, x.class, x.own.From, by)
}

// publications returns the names of those that may lead to a piece, as it is meant or found; ""
// alone for none.
func (p *prover) publications(dst *piece) []string {
	var out []string
	e := p.s.Judge.Estate
	for i := range e.Publications {
		if x := &e.Publications[i]; x.Enabled && x.To.Segment == p.s.Net.Segments[dst.class.End.Segment] {
			out = append(out, x.Name)
		}
	}
	for i := range p.r.Publications {
		if x := &p.r.Publications[i]; x.Of == dst.class.End.Segment && !slices.Contains(out, x.Name) {
			out = append(out, x.Name)
		}
	}
	return out
}

func (p *prover) lookAt(f *verdict.Flow, src, dst *piece, atom, publication int32) {
	if f.Source == f.Destination { // an endpoint has no flow to itself, but the next of its piece may
		if x := src.own; x.From != x.To {
			f.Source = x.To
		} else if x := dst.own; x.From != x.To {
			f.Destination = offset(x.To, x.From, f.Destination)
		} else {
			return
		}
	}
	key := pairKey{src.own.From, dst.own.From, src.class.End.Segment, dst.class.End.Segment, atom, publication}
	p.mu.Lock()
	if p.seen[key] || p.looked >= mostLooked {
		p.incomplete = p.incomplete || !p.seen[key]
		p.mu.Unlock()
		return
	}
	p.seen[key] = true
	p.looked++
	p.mu.Unlock()
	meant, found := Expected(p.s.Judge, f), p.r.Carry(f)
	if meant.Same(&found) {
		return
	}
	p.note(f, src, dst, atom, &meant, &found)
}
