package proof

import (
	"encoding/binary"
	"net/netip"
	"slices"
	"strings"

	"github.com/bits-and-blooms/bitset"

	"bivium/core/classes"
	"bivium/core/estate"
	"bivium/core/intervals"
	"bivium/core/lists"
	"bivium/core/matrix"
	"bivium/core/native/config"
	"bivium/core/native/reader"
	"bivium/core/parallel"
	"bivium/core/paths"
	"bivium/core/space"
	"bivium/core/verdict"
)

// flat is one rule of a list of any provider.
type flat struct {
	out, allow bool
	own, peer  []*config.Set // nil for every address
	atoms      *bitset.BitSet
}

// unitProof is what one list, or the lists of one workload, are held to.
type unitProof struct {
	*prover
	network int
	rules   []flat
	own     []int // pieces of the network
	byWork  bool  // lists hang on workloads
	loose   bool  // no workload holds the pieces
	allows  bool  // no rule denies
	theirs  coverages
	known   map[string]*bitset.BitSet
}

// proveLists holds the lists of all networks to what they must pass and stop.
func (p *prover) proveLists() {
	scenes := p.newScenes()
	var jobs []func()
	for n := range p.s.Net.Networks {
		switch {
		case p.r.Networks[n] == nil:
		case p.stands(n):
			p.unheldAt = append(p.unheldAt, p.since.unheld[p.s.Net.Networks[n].Name]...)
		default:
			jobs = append(jobs, func() {
				for _, u := range p.units(n) {
					u.prove(scenes)
				}
			})
		}
	}
	parallel.Run(jobs)
}

// units returns the lists of a network with the pieces that they see.
func (p *prover) units(n int) []*unitProof {
	x := p.r.Networks[n]
	byKey, alike, theirs := map[string]*unitProof{}, map[string]*config.Set{}, coverages{}
	var out []*unitProof
	put := func(key string, piece int, rules func() []flat) *unitProof {
		u, ok := byKey[key]
		if !ok {
			u = &unitProof{prover: p, network: n, rules: rules(), known: map[string]*bitset.BitSet{}}
			u.allows = !slices.ContainsFunc(u.rules, func(r flat) bool { return !r.allow })
			byKey[key] = u
			out = append(out, u)
		}
		u.own = append(u.own, piece)
		return u
	}
	for i := range p.homes[n] {
		home := &p.homes[n][i]
		inside := p.inside(home)
		switch x.Provider {
		case config.Cirra:
			bound, is := x.Bearers[inside]
			held := x.Held[inside]
			key := "default"
			switch {
			case !is && held:
				key, bound = "unbound", x.Standard
			case !is:
				bound = x.Standard
			default:
				names := make([]string, len(bound))
				for k, l := range bound {
					names[k] = l.Name
				}
				key = "/" + strings.Join(names, "/")
			}
			u := put(key, i, func() []flat { return p.flatEntries(x, bound, alike) })
			u.byWork, u.loose, u.theirs = true, u.loose || !held, theirs
		case config.Stratok:
			put("", i, func() []flat { return p.flatRules(x, x.Whole) })
		case config.Velum, config.Premises:
			on := p.r.SubnetOf(n, inside)
			put(on, i, func() []flat { return p.flatRules(x, x.Subnets[on]) })
		}
	}
	return out
}

// inside returns the first address of a piece as its network has it.
func (p *prover) inside(x *piece) netip.Addr {
	if !p.s.Net.Translates(int(x.class.Network)) {
		return x.own.From
	}
	home, _ := p.s.Net.Home(x.class.End.Segment, x.own.From)
	return p.s.Net.Inside(home, x.own.From)
}

// flatRules returns an ordered list, with what its provider does where no rule matches.
func (p *prover) flatRules(n *reader.Network, l *config.List) []flat {
	var out []flat
	if l != nil {
		for i := range l.Rules {
			r := &l.Rules[i]
			out = append(out, flat{r.Out, r.Allow, r.Own, r.Peer, p.atoms(r.Services)})
		}
	}
	if n.Provider != config.Premises {
		out = append(out, flat{out: true, allow: true, atoms: p.atoms(nil)})
	}
	return out
}

// flatEntries returns the entries of some lists, those of one service as one. Equal peers are one
// set, kept in alike.
func (p *prover) flatEntries(n *reader.Network, bound []*config.EntryList, alike map[string]*config.Set) []flat {
	var out []flat
	var peers [][]netip.Prefix
	at := map[entryKey]int{}
	for _, l := range bound {
		for i := range l.Entries {
			e := &l.Entries[i]
			k := entryKey{e.Out, e.Service}
			f, known := at[k]
			if !known {
				f = len(out)
				at[k] = f
				out, peers = append(out, flat{out: e.Out, allow: true, atoms: p.atomsIn(e.Service)}), append(peers, nil)
			}
			if e.Peers == "" {
				peers[f] = append(peers[f], e.Peer)
				continue
			}
			for _, a := range n.Bearing[e.Peers] {
				peers[f] = append(peers[f], netip.PrefixFrom(a, a.BitLen()))
			}
		}
	}
	var key []byte
	for f := range out {
		key = key[:0]
		for _, x := range peers[f] {
			key, _ = x.AppendBinary(key) //nolint:errcheck // a prefix that is valid
		}
		set, known := alike[string(key)]
		if !known {
			set = &config.Set{Prefixes: peers[f]}
			alike[string(key)] = set
		}
		out[f].peer = []*config.Set{set}
	}
	return out
}

// atomsIn returns the atoms of one box of services, which nobody is to write to.
func (p *prover) atomsIn(box space.Box) *bitset.BitSet {
	if known, ok := p.atomsOfBox.Load(box); ok {
		return known.(*bitset.BitSet)
	}
	out := bitset.New(uint(p.s.Atoms.Len()))
	for atom := range p.s.Atoms.Len() {
		protocol, sport, dport, _ := p.s.Atoms.Set(atom).Witness()
		out.SetTo(uint(atom), reader.InBox(box, verdict.Service{Protocol: protocol, SourcePort: sport, Port: dport}))
	}
	p.atomsOfBox.Store(box, out)
	return out
}

// ownGroup is own pieces that are alike to a list, and to all blocks.
type ownGroup struct {
	pieces []int
	rules  *bitset.BitSet // whose own side holds them
}

// prove holds the list to what it must do, segment by segment.
func (u *unitProof) prove(scenes *scenes) {
	if u.loose {
		u.unheld()
	}
	bySegment := map[int][]int{}
	for _, i := range u.own {
		s := u.homes[u.network][i].class.End.Segment
		bySegment[s] = append(bySegment[s], i)
	}
	for s, own := range bySegment {
		groups := u.ownGroups(own)
		for way := range 2 {
			x := scenes.at(s, way)
			near := u.nearby(x)
			q := u.peersOf(x, way == 1, near, groups)
			if !u.loose {
				u.far(s, groups, x, q)
			}
			u.near(groups, x, q, near)
		}
		u.toInternet(s, groups)
		u.fromInternet(s, groups)
	}
}

// unheld notes that no workload holds the addresses.
func (u *unitProof) unheld() {
	var of []intervals.Range
	for _, i := range u.own {
		of = append(of, u.homes[u.network][i].own)
	}
	u.mu.Lock()
	defer u.mu.Unlock()
	u.unheldAt = append(u.unheldAt, Unheld{u.s.Net.Networks[u.network].Name, prefixes(of)})
}

func (u *unitProof) ownGroups(own []int) []*ownGroup {
	at := map[string]*ownGroup{}
	var out []*ownGroup
	for _, i := range own {
		x := &u.homes[u.network][i]
		inside := u.inside(x)
		rules := bitset.New(uint(len(u.rules)))
		for n := range u.rules {
			rules.SetTo(uint(n), u.r.InSets(u.rules[n].own, inside))
		}
		key := binary.LittleEndian.AppendUint32(nil, uint32(x.class.Set))
		key = binary.LittleEndian.AppendUint32(key, uint32(x.class.PathClass))
		key = binary.LittleEndian.AppendUint32(key, uint32(x.class.Part))
		for _, seen := range x.class.Seen {
			key = append(key, byte(seen))
		}
		for _, w := range rules.Words() {
			key = binary.LittleEndian.AppendUint64(key, w)
		}
		g, known := at[string(key)]
		if !known {
			g = &ownGroup{rules: rules}
			at[string(key)] = g
			out = append(out, g)
		}
		g.pieces = append(g.pieces, i)
	}
	return out
}

// passes returns the atoms that the first of some rules that have them allows.
func (u *unitProof) passes(out bool, rules *bitset.BitSet) *bitset.BitSet {
	key := make([]byte, 0, 8*len(rules.Words())+1)
	if out {
		key = append(key, 1)
	}
	for _, w := range rules.Words() {
		key = binary.LittleEndian.AppendUint64(key, w)
	}
	if known, ok := u.known[string(key)]; ok {
		return known
	}
	passed, decided := bitset.New(uint(u.s.Atoms.Len())), bitset.New(uint(u.s.Atoms.Len()))
	for n, ok := rules.NextSet(0); ok; n, ok = rules.NextSet(n + 1) {
		r := &u.rules[n]
		if r.out != out {
			continue
		}
		if fresh := r.atoms.Difference(decided); r.allow {
			passed.InPlaceUnion(fresh)
		}
		decided.InPlaceUnion(r.atoms)
	}
	u.known[string(key)] = passed
	return passed
}

func (m *meaning) atoms(keep func(estate.Action) bool) *bitset.BitSet {
	out := bitset.New(uint(len(m.action)))
	for atom, a := range m.action {
		out.SetTo(uint(atom), keep(a))
	}
	return out
}

// far holds the list to the second line: it must pass what is allowed or inspected.
func (u *unitProof) far(s int, groups []*ownGroup, x *scene, q *peers) {
	if u.open(q.out) {
		return
	}
	whole, left := u.wholly(x, q.out), bitset.New(uint(len(x.groups)))
	for i, own := range groups {
		first := &u.homes[u.network][own.pieces[0]]
		for _, row := range u.rowsOf(x, first, s, q.out) {
			for _, n := range row {
				n.groups.CopyFull(left)
				left.InPlaceIntersection(x.family[lists.OneIf(first.class.Four)])
				for _, w := range whole {
					if has(w.atoms, n.atoms) {
						left.InPlaceDifference(w.groups)
					}
				}
				for g := range left.EachSet() {
					u.farGroup(i, own, x, q, int32(g), n.atoms)
				}
			}
		}
	}
}

// farGroup holds the list to what must pass between some own pieces and a far group.
func (u *unitProof) farGroup(i int, own *ownGroup, x *scene, q *peers, g int32, need *bitset.BitSet) {
	if least := q.atLeast(g); least == noRules || u.allows && has(q.passes(u, i, least), need) {
		return // all of it is near, or it passes whatever other rules there are
	}
	switch kind := q.far(g); kind {
	case mixed:
		alone := q.alone[g]
		for k, piece := range alone {
			u.must(own, x, alone[k:k+1], need, q.passes(u, i, q.lone[piece]), q.out)
		}
	default:
		u.must(own, x, x.groups[g].pieces, need, q.passes(u, i, kind), q.out)
	}
}

// open reports whether the first rule of one way passes everything.
func (u *unitProof) open(out bool) bool {
	for i := range u.rules {
		if r := &u.rules[i]; r.out == out {
			return r.allow && r.own == nil && r.peer == nil && r.atoms.Equal(u.all)
		}
	}
	return false
}

// must looks at flows that must pass and do not.
func (u *unitProof) must(own *ownGroup, x *scene, pieces []int, need, passes *bitset.BitSet, out bool) {
	if has(passes, need) {
		return
	}
	u.lookAll(own, x.view, pieces, need.Difference(passes), out)
}

func (u *unitProof) lookAll(own *ownGroup, v view, pieces []int, atoms *bitset.BitSet, out bool) {
	u.looks[u.network] = true
	for _, i := range own.pieces {
		for _, k := range pieces {
			if out {
				u.look(&u.homes[u.network][i], &v[k], atoms)
			} else {
				u.look(&v[k], &u.homes[u.network][i], atoms)
			}
		}
	}
}

// near holds the list to what is intended where paths may pass no hub: there it must stop what
// is not allowed, too.
func (u *unitProof) near(groups []*ownGroup, x *scene, q *peers, near []int) {
	for _, k := range near {
		if !u.loose && u.shut(&x.view[k]) {
			continue // whatever this list says; what is stricter there is told once
		}
		for i, own := range groups {
			src, dst := u.homes[u.network][own.pieces[0]].class, x.view[k].class
			if !q.out {
				src, dst = dst, src
			}
			passes := q.passes(u, i, q.lone[k])
			if u.unheard(&u.homes[u.network][own.pieces[0]], &x.view[k]) {
				passes = u.all
			}
			u.nearPair(own, x, k, src, dst, passes, q.out)
		}
	}
}

// shut reports whether no workload holds a piece, where lists hang on workloads, and nothing passes
// to and from a machine that nobody bound a list to.
func (u *unitProof) shut(x *piece) bool {
	n := u.r.Networks[x.class.Network]
	if n == nil || n.Provider != config.Cirra {
		return false
	}
	inside := u.inside(x)
	_, bound := n.Bearers[inside]
	return !bound && !n.Held[inside] && !slices.ContainsFunc(n.Standard, func(l *config.EntryList) bool { return len(l.Entries) > 0 })
}

// nearby returns the pieces of a scene that are of the network itself, and of those that it is
// peered with.
func (u *unitProof) nearby(x *scene) []int {
	out := slices.Clone(x.near[int32(u.network)])
	for _, peer := range u.s.Net.Networks[u.network].Peers {
		out = append(out, x.near[int32(peer.Network)]...)
	}
	return out
}

// unheard reports whether flows between two pieces leave no subnet, where lists hang on subnets.
func (u *unitProof) unheard(a, b *piece) bool {
	provider := u.r.Networks[u.network].Provider
	if provider != config.Velum && provider != config.Premises || a.class.Network != b.class.Network || a.class.End.Segment != b.class.End.Segment {
		return false
	}
	x, _ := u.s.Net.Home(a.class.End.Segment, a.own.From)
	y, _ := u.s.Net.Home(b.class.End.Segment, b.own.From)
	return x.Subnet == y.Subnet
}

func (u *unitProof) nearPair(own *ownGroup, x *scene, k int, src, dst *classes.Class, passes *bitset.BitSet, out bool) {
	if src.Four != dst.Four || src.End.Segment != dst.End.Segment && dst.Seen[src.End.Segment] != classes.SeesIt {
		return
	}
	c, ok := u.s.CombinationOf(&src.Header, &dst.Header)
	if !ok {
		return
	}
	wrong := u.wrong(c, passes)
	if wrong == nil {
		return
	}
	if out == u.listed(int(dst.Network)) {
		wrong.InPlaceDifference(passes) // the lists of the other side are held to what must be stopped
	}
	if wrong.Any() {
		u.lookAll(own, x.view, []int{k}, wrong, out)
	}
}

// listed reports whether a network has lists that are held to what is intended there.
func (u *unitProof) listed(network int) bool {
	if x := u.r.Networks[network]; x == nil || !slices.Contains([]string{config.Cirra, config.Velum, config.Stratok, config.Premises}, x.Provider) {
		return false
	}
	return u.s.Net.Networks[network].Enforces != estate.EnforceNone
}

// wrong returns the atoms that a list passes and must not, or stops and must not, on paths of
// the effect of a combination; nil for none.
func (u *unitProof) wrong(c matrix.Combination, passes *bitset.BitSet) *bitset.BitSet {
	var wrong *bitset.BitSet
	switch e := u.s.Interner.EffectAt(c.Effect); {
	case e.Kind == paths.HubPath || e.Kind == paths.NoPath:
		need := u.second[u.meant[c.RuleSet]]
		if has(passes, need) {
			return nil
		}
		wrong = need.Difference(passes)
	case e.Enforced:
		if need := u.strict[u.meant[c.RuleSet]]; !passes.Equal(need) {
			wrong = need.SymmetricDifference(passes)
		}
	case !passes.Equal(u.all):
		wrong = passes.Complement()
	}
	if wrong != nil && u.loose { // what is stricter for want of a workload is told once
		wrong.InPlaceIntersection(passes)
	}
	return wrong
}

// has reports whether a set has all of another of the same size.
func has(set, other *bitset.BitSet) bool {
	words := set.Words()
	for i, w := range other.Words() {
		if w&^words[i] != 0 {
			return false
		}
	}
	return true
}
