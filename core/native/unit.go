package native

import (
	"net/netip"
	"slices"

	"github.com/bits-and-blooms/bitset"

	"bivium/core/classes"
	"bivium/core/estate"
	"bivium/core/intervals"
	"bivium/core/matrix"
	"bivium/core/native/config"
	"bivium/core/paths"
)

// part is what one list must pass and stop for the endpoints of one segment.
type part struct {
	segment int
	own     []*classes.Class
	ways    [2]way                 // inward and outward
	owns    map[string]*config.Set // own sides of rules, by the classes: rules share them
}

// way is the flows of one direction. Near are addresses that may be reached by paths that
// pass no hub; there a list decides. For the others it is a second line.
type way struct {
	near   []slot
	far    []column
	strips []strip                  // of the columns, once they are asked for
	peers  map[string][]*config.Set // other sides of the second line, by the columns: rules share them
}

// slot is some addresses of the other side, with what passes for each class of the own. Free are
// addresses that no workload holds, where lists hang on workloads: there nothing passes, whatever
// the lists of others say.
type slot struct {
	intervals.Range
	free     bool
	passes   []int32 // by own class: a number of an atom set, or unasked where there is no flow
	ruleSets []int32 // by own class, or paths.None
}

// unasked stands where there is no flow that could pass.
const unasked int32 = -1

// column is the addresses of one line of another side, and the rule sets of each own class: one,
// or some where flows go by different exits.
type column struct {
	set      *config.Set
	passes   []int32
	ruleSet  func(*classes.Class) int32
	ruleSets [][]int32
}

// ask asks for the rule sets of an own class.
func (c *column) ask(g *grounds, p *part, own int) {
	if c.ruleSet != nil {
		g.asked.pick(c.ruleSet(p.own[own]))
		return
	}
	for _, r := range c.ruleSets[own] {
		g.asked.pick(r)
	}
}

// partsOf returns what the lists of a network must do, segment by segment, for those of its
// classes that keep says.
func (t *translator) partsOf(network int, keep func(*classes.Class) bool) []*part {
	var out []*part
	for _, c := range t.in[network] {
		c := t.s.Classes[c]
		if !keep(c) {
			continue
		}
		if n := len(out); n == 0 || out[n-1].segment != c.End.Segment {
			out = append(out, &part{segment: c.End.Segment})
		}
		p := out[len(out)-1]
		p.own = append(p.own, c)
	}
	for _, p := range out {
		t.fill(p, network)
	}
	return out
}

func (t *translator) fill(p *part, network int) {
	outside := len(t.s.Inside)
	peers := map[int32]bool{int32(network): true}
	for _, peer := range t.net.Networks[network].Peers {
		peers[int32(peer.Network)] = true
	}
	for other := range outside {
		if b := t.s.Blocks.At(other, p.segment); b != nil {
			t.inward(p, b, peers)
		}
		if b := t.s.Blocks.At(p.segment, other); b != nil {
			t.outward(p, b, peers)
		}
	}
	t.fromInternet(p)
	t.toInternet(p)
	for i := range p.ways {
		w := &p.ways[i]
		w.near = t.apart(w.near)
		slices.SortStableFunc(w.far, func(a, b column) int { return compareSets(a.set, b.set) })
	}
}

// inward adds the flows of a block that come in.
func (t *translator) inward(p *part, b *matrix.Block, near map[int32]bool) {
	w := &p.ways[0]
	sees := func(c *classes.Class) bool { return b.From == p.segment || c.Seen[b.From] == classes.SeesIt }
	if !slices.ContainsFunc(p.own, sees) {
		return
	}
	for row, set := range t.setsOf(b, 0, p.segment, paths.None) {
		if set == nil {
			continue
		}
		t.addColumn(w, p, set, func(c *classes.Class) int32 {
			if !sees(c) {
				return paths.None
			}
			return b.RuleSet(int32(row), b.Dst.Line(&c.Header))
		})
	}
	t.addNetworks(w, p, b.From, near, func(other, own *classes.Class) (int32, int32) { return t.between(other, own, false) })
}

// outward adds the flows of a block that go out.
func (t *translator) outward(p *part, b *matrix.Block, near map[int32]bool) {
	w := &p.ways[1]
	for col, set := range t.setsOf(b, 1, p.segment, paths.None) {
		if set == nil {
			continue
		}
		t.addColumn(w, p, set, func(c *classes.Class) int32 { return b.RuleSet(b.Src.Line(&c.Header), int32(col)) })
	}
	t.addNetworks(w, p, b.To, near, func(other, own *classes.Class) (int32, int32) { return t.between(own, other, true) })
}

// addNetworks adds slots for what some networks have in a segment.
func (t *translator) addNetworks(w *way, p *part, segment int, near map[int32]bool, between func(other, own *classes.Class) (int32, int32)) {
	for network := range near {
		for _, c := range t.in[network] {
			other := t.s.Classes[c]
			if other.End.Segment != segment {
				continue
			}
			s := slot{free: t.unheld(other), passes: make([]int32, len(p.own)), ruleSets: make([]int32, len(p.own))}
			for i, own := range p.own {
				s.passes[i], s.ruleSets[i] = between(other, own)
			}
			w.addNear(t.seen(other, p.segment), s)
		}
	}
}

// unheld reports whether no workload holds the addresses of a class, in a network where lists hang
// on workloads, and those of machines that nobody bound anything to pass nothing.
func (t *translator) unheld(c *classes.Class) bool {
	return c.Internal() && len(c.Workloads) == 0 && t.onWorkloads[c.Network]
}

// addColumn adds a column of far addresses, if something passes.
func (t *translator) addColumn(w *way, p *part, set *config.Set, ruleSet func(*classes.Class) int32) {
	c := column{set: set, passes: make([]int32, len(p.own)), ruleSet: ruleSet}
	some := false
	for i, own := range p.own {
		if r := ruleSet(own); r != paths.None {
			c.passes[i] = t.all[t.of[r]].passes[secondLine]
			some = some || c.passes[i] != 0
		}
	}
	if some {
		w.far = append(w.far, c)
	}
}

// addNear adds slots for some ranges, if there is a flow.
func (w *way) addNear(ranges []intervals.Range, s slot) {
	if !slices.ContainsFunc(s.passes, func(set int32) bool { return set != unasked }) {
		return
	}
	for _, r := range ranges {
		s.Range = r
		w.near = append(w.near, s)
	}
}

// between returns what a list must pass of the flows from one class to another: on the way out,
// it leaves what passes no hub to the lists of the destination, where those hold it.
func (t *translator) between(src, dst *classes.Class, out bool) (passes, ruleSet int32) {
	if src.Four != dst.Four || src.End.Segment != dst.End.Segment && dst.Seen[src.End.Segment] != classes.SeesIt {
		return unasked, paths.None
	}
	c, ok := t.s.CombinationOf(&src.Header, &dst.Header)
	if !ok {
		return unasked, paths.None
	}
	m := t.modeOf(c.Effect)
	if m == enforced && out && t.enforces[dst.Network] {
		m = everything
	}
	return t.all[t.of[c.RuleSet]].passes[m], c.RuleSet
}

// modeOf returns how much a list must pass on paths of an effect.
func (t *translator) modeOf(effect int32) mode {
	switch e := t.s.Interner.EffectAt(effect); {
	case e.Kind == paths.HubPath || e.Kind == paths.NoPath:
		return secondLine
	case e.Enforced:
		return enforced
	}
	return everything
}

// toInternet adds the flows to the internet: through exits, of which any may be up, or by
// the network's own gateway.
func (t *translator) toInternet(p *part) {
	b := t.s.Blocks.At(p.segment, len(t.s.Inside))
	if b == nil {
		return
	}
	for _, at := range t.s.SeenBy(p.segment, len(t.s.Inside)) {
		dst := t.s.Classes[t.s.Outside[at]]
		near := slot{passes: make([]int32, len(p.own)), ruleSets: make([]int32, len(p.own))}
		far := column{passes: make([]int32, len(p.own)), ruleSets: make([][]int32, len(p.own))}
		bypass, some := false, false
		for i, src := range p.own {
			near.passes[i], near.ruleSets[i] = unasked, paths.None
			if src.Four != dst.Four {
				continue
			}
			far.passes[i], far.ruleSets[i] = t.throughExits(p.segment, func(exit int) int32 {
				return b.RuleSet(b.Src.Line(&src.Header), b.Dst.LineAt(t.net, int(at), exit))
			})
			near.passes[i] = far.passes[i]
			if len(far.ruleSets[i]) > 0 {
				near.ruleSets[i] = far.ruleSets[i][0]
			}
			some = some || far.passes[i] != 0
			if c, ok := t.s.CombinationOf(&src.Header, &dst.Header); ok && t.s.Interner.EffectAt(c.Effect).Kind == paths.Bypass {
				bypass = true
				near.passes[i], near.ruleSets[i] = t.all[t.of[c.RuleSet]].passes[t.modeOf(c.Effect)], c.RuleSet
			}
		}
		switch {
		case bypass:
			p.ways[1].addNear(dst.Ranges, near)
		case some:
			far.set = named(t.domain(len(t.s.Inside)), prefixesOf(dst.Ranges))
			p.ways[1].far = append(p.ways[1].far, far)
		}
	}
}

// throughExits returns what passes through some exit that serves a segment, and by which rule
// sets.
func (t *translator) throughExits(segment int, ruleSet func(exit int) int32) (passes int32, ruleSets []int32) {
	var union *bitset.BitSet
	for x := range t.net.Exits {
		r := paths.None
		if t.net.Exits[x].Serves(segment) {
			r = int(ruleSet(x))
		}
		if r == paths.None || slices.Contains(ruleSets, int32(r)) {
			continue
		}
		ruleSets = append(ruleSets, int32(r))
		if set := t.sets.At(t.all[t.of[r]].passes[secondLine]); union == nil {
			union = set.Clone()
		} else {
			union.InPlaceUnion(set)
		}
	}
	if union == nil {
		return 0, ruleSets
	}
	return t.sets.Number(union), ruleSets
}

// fromInternet adds the flows that publications let in, whether their exits are up or not.
func (t *translator) fromInternet(p *part) {
	b := t.s.Blocks.At(len(t.s.Inside), p.segment)
	if b == nil {
		return
	}
	columns := make([]column, len(t.s.Outside))
	for i := range t.e.Publications {
		pub := &t.e.Publications[i]
		exit := t.net.Exit(pub.Exit)
		if !pub.Enabled || pub.To.Segment != t.net.Segments[p.segment] || exit == paths.None || !t.net.Exits[exit].Serves(p.segment) {
			continue
		}
		admits, _ := t.s.Atoms.Covered(t.termsOf(pub.Services))
		for k, dst := range p.own {
			if !t.holds(pub.To.Groups, dst) {
				continue
			}
			for at, n := range t.s.Outside {
				if src := t.s.Classes[n]; src.Four == dst.Four {
					r := b.RuleSet(b.Src.LineAt(t.net, at, exit), b.Dst.Line(&dst.Header))
					c := &columns[at]
					if c.set == nil {
						*c = column{set: named(t.domain(len(t.s.Inside)), prefixesOf(src.Ranges)), passes: make([]int32, len(p.own)), ruleSets: make([][]int32, len(p.own))}
					}
					passes := t.sets.At(t.all[t.of[r]].passes[secondLine]).Intersection(admits)
					c.passes[k] = t.sets.Number(passes.Union(t.sets.At(c.passes[k])))
					c.ruleSets[k] = append(c.ruleSets[k], r)
				}
			}
		}
	}
	for _, c := range columns {
		if c.set != nil {
			p.ways[0].far = append(p.ways[0].far, c)
		}
	}
}

func (t *translator) termsOf(refs []estate.ServiceRef) []estate.Term {
	var terms []estate.Term
	for _, r := range refs {
		if r.Name == "" {
			terms = append(terms, r.Term)
			continue
		}
		for i := range t.e.Services {
			if t.e.Services[i].Name == r.Name {
				terms = append(terms, t.e.Services[i].Terms...)
			}
		}
	}
	return terms
}

// apart returns slots of which no two have an address in common: where two had, a list cannot
// tell whose it is, and passes what both pass.
func (t *translator) apart(slots []slot) []slot {
	slices.SortStableFunc(slots, func(a, b slot) int { return a.From.Compare(b.From) })
	overlap := false
	for i := 1; i < len(slots); i++ {
		overlap = overlap || slots[i-1].To.Compare(slots[i].From) >= 0
	}
	if !overlap {
		return slots
	}
	var starts []netip.Addr
	for _, s := range slots {
		starts = append(starts, s.From)
		if next := s.To.Next(); next.IsValid() {
			starts = append(starts, next)
		}
	}
	slices.SortFunc(starts, netip.Addr.Compare)
	starts = slices.Compact(starts)
	var out []slot
	for i, from := range starts {
		piece := intervals.Range{From: from, To: intervals.LastOf(netip.PrefixFrom(from, 0))}
		if i+1 < len(starts) && starts[i+1].BitLen() == from.BitLen() {
			piece.To = starts[i+1].Prev()
		}
		var merged *slot
		for i := range slots {
			s := &slots[i]
			if s.From.Compare(piece.From) > 0 || s.To.Compare(piece.To) < 0 {
				continue
			}
			if merged == nil {
				merged = &slot{piece, s.free, slices.Clone(s.passes), s.ruleSets}
				continue
			}
			merged.free = merged.free && s.free
			for k, set := range s.passes {
				switch {
				case merged.passes[k] == unasked:
					merged.passes[k] = set
				case set != unasked:
					merged.passes[k] = t.sets.Number(t.sets.At(set).Intersection(t.sets.At(merged.passes[k])))
				}
			}
		}
		if merged != nil {
			out = append(out, *merged)
		}
	}
	return out
}
