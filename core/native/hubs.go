package native

import (
	"net/netip"
	"slices"
	"strings"

	"bivium/core/classes"
	"bivium/core/estate"
	"bivium/core/intervals"
	"bivium/core/lists"
	"bivium/core/matrix"
	"bivium/core/native/config"
	"bivium/core/native/cover"
	"bivium/core/paths"
	"bivium/core/space"
)

// matchList adds the match list of a segment.
func (t *translator) matchList(out *config.Segment, s int) {
	g := t.borrow()
	defer t.giveBack(g)
	for to := range len(t.s.Inside) {
		if b := t.s.Blocks.At(s, to); b != nil {
			l := &blockRules{translator: t, grounds: g, block: b, segment: s}
			l.rows, l.cols = ends(t.setsOf(b, 0, s, paths.None), ""), ends(t.setsOf(b, 1, s, paths.None), "")
			l.add(out, nil)
		}
	}
	for x := range t.net.Exits {
		exit := t.net.Exits[x].Name
		if b := t.s.Blocks.At(s, len(t.s.Inside)); b != nil && t.net.Exits[x].Serves(s) {
			l := &blockRules{translator: t, grounds: g, block: b, segment: s}
			l.rows, l.cols = ends(t.setsOf(b, 0, s, paths.None), ""), ends(t.setsOf(b, 1, s, x), exit)
			l.add(out, nil)
		}
		if b := t.s.Blocks.At(len(t.s.Inside), s); b != nil {
			if open := t.published(s, x); open != nil {
				l := &blockRules{translator: t, grounds: g, block: b, segment: s}
				l.rows, l.cols = ends(t.setsOf(b, 0, s, x), exit), ends(t.setsOf(b, 1, s, paths.None), "")
				l.add(out, open)
			}
		}
	}
}

// published returns, by class of a segment, whether a publication at an exit leads there; nil
// if none does.
func (t *translator) published(segment, exit int) []bool {
	var out []bool
	for i := range t.e.Publications {
		p := &t.e.Publications[i]
		if !p.Enabled || p.Exit != t.net.Exits[exit].Name || p.To.Segment != t.net.Segments[segment] || !t.net.Exits[exit].Serves(segment) {
			continue
		}
		if out == nil {
			out = make([]bool, len(t.s.Inside[segment]))
		}
		for at, c := range t.s.Inside[segment] {
			out[at] = out[at] || t.holds(p.To.Groups, t.s.Classes[c])
		}
	}
	return out
}

// ends returns sets as ends, behind an exit if it is not "".
func ends(sets []*config.Set, exit string) []*config.End {
	out := make([]*config.End, len(sets))
	for i, set := range sets {
		if set != nil {
			out[i] = &config.End{Exit: exit, Set: set}
		}
	}
	return out
}

// blockRules makes the rules for the flows of one block.
type blockRules struct {
	*translator
	grounds    *grounds
	block      *matrix.Block
	segment    int
	rows, cols []*config.End              // by line; nil for one that has nobody
	sides      [2]map[string][]config.End // those of rules, by their lines: rules share them
}

// add adds the rules of a block, for the classes of its destination that are open, if that is
// not nil: no two rules of a block match one flow, so that their order is free.
func (l *blockRules) add(out *config.Segment, open []bool) {
	rows, cols := present(l.rows), present(l.cols)
	if open != nil {
		leads := map[int32]bool{}
		for at, o := range open {
			if o {
				leads[l.block.Dst.Line(&l.s.Classes[l.s.Inside[l.segment][at]].Header)] = true
			}
		}
		cols = slices.DeleteFunc(cols, func(line int) bool { return !leads[int32(line)] })
	}
	if len(rows) == 0 || len(cols) == 0 {
		return
	}
	profile := make([]int32, len(rows)*len(cols))
	var verbs []int32
	known := map[int32]bool{}
	for i, row := range rows {
		for k, col := range cols {
			p := l.of[l.block.RuleSet(int32(row), int32(col))]
			profile[i*len(cols)+k] = p
			if known[p] {
				continue
			}
			known[p] = true
			for _, v := range l.all[p].verbs {
				if v != deny && !slices.Contains(verbs, v) {
					verbs = append(verbs, v)
				}
			}
		}
	}
	slices.SortFunc(verbs, func(a, b int32) int { return slices.Compare(l.verbs[a], l.verbs[b]) })
	for _, verb := range verbs {
		grid := cover.NewGrid(len(rows), len(cols), l.sets)
		layers := map[int32]int32{}
		for i, p := range profile {
			layer, ok := layers[p]
			if !ok {
				layer = l.layer(p, verb)
				layers[p] = layer
			}
			grid.Put(i/len(cols), i%len(cols), layer)
		}
		boxes, bound := grid.Cover()
		out.Bound += bound
		for _, b := range boxes {
			out.Rules = append(out.Rules, l.rule(&b, verb, rows, cols))
		}
	}
}

// present returns the lines that have somebody, in order of their addresses.
func present(ends []*config.End) []int {
	var out []int
	for line, e := range ends {
		if e != nil {
			out = append(out, line)
		}
	}
	slices.SortFunc(out, func(a, b int) int { return compareSets(ends[a].Set, ends[b].Set) })
	return out
}

func (l *blockRules) rule(b *cover.Box, verb int32, rows, cols []int) config.HubRule {
	r := config.HubRule{Services: l.services(b.Atoms), Verb: config.Permit}
	if verb >= firstSteer {
		r.Verb, r.Through = config.Steer, l.steps(verb)
	}
	for _, row := range b.Rows {
		for _, col := range b.Cols {
			l.grounds.asked.pick(l.block.RuleSet(int32(rows[row]), int32(cols[col])))
		}
	}
	r.From, r.To = l.side(0, b.Rows, rows, l.rows), l.side(1, b.Cols, cols, l.cols)
	r.For = l.grounds.of(b.Atoms, l.segment)
	return r
}

// side returns one side of a rule.
func (l *blockRules) side(side int, of, lines []int, ends []*config.End) []config.End {
	if l.sides[side] == nil {
		l.sides[side] = map[string][]config.End{}
	}
	key := lists.Key(of)
	out, known := l.sides[side][key]
	if !known {
		out = make([]config.End, len(of))
		for i, at := range of {
			out[i] = *ends[lines[at]]
		}
		l.sides[side][key] = out
	}
	return out
}

// imports returns the prefixes of other segments that are reachable in one.
func (t *translator) imports(s int) []config.Import {
	var out []config.Import
	for of := range len(t.s.Inside) {
		if of == s || t.s.Blocks.At(s, of) == nil {
			continue
		}
		var all []sight
		for _, at := range t.s.SeenBy(s, of) {
			c := t.s.Classes[t.s.Inside[of][at]]
			for i, seen := range t.seen(c, s) {
				all = append(all, sight{c.Ranges[i], seen})
			}
		}
		for _, x := range joinedSights(all) {
			out = append(out, shown(t.net.Segments[of], x.own, x.seen)...)
		}
	}
	slices.SortFunc(out, func(a, b config.Import) int { return netipCompare(a.Seen, b.Seen) })
	return out
}

// sight is a range of addresses, and the one of the same length under which others see it.
type sight struct{ own, seen intervals.Range }

// joinedSights returns ranges with those that touch on both sides as one: how addresses are divided into
// classes tells how an estate came about.
func joinedSights(all []sight) []sight {
	slices.SortFunc(all, func(a, b sight) int { return a.seen.From.Compare(b.seen.From) })
	out := all[:0]
	for _, x := range all {
		if n := len(out); n > 0 && out[n-1].seen.To.Next() == x.seen.From && out[n-1].own.To.Next() == x.own.From {
			out[n-1].seen.To, out[n-1].own.To = x.seen.To, x.own.To
			continue
		}
		out = append(out, x)
	}
	return out
}

// shown returns the addresses of a range under those of another of the same length: both are
// cut alike, by the longer prefixes.
func shown(of string, own, seen intervals.Range) []config.Import {
	var out []config.Import
	a, b := prefixesOf([]intervals.Range{own}), prefixesOf([]intervals.Range{seen})
	for len(a) > 0 && len(b) > 0 {
		bits := max(a[0].Bits(), b[0].Bits())
		x, y := netip.PrefixFrom(a[0].Addr(), bits), netip.PrefixFrom(b[0].Addr(), bits)
		out = append(out, config.Import{Seen: y, Of: of, Own: x})
		a, b = without(a, x), without(b, y)
	}
	return out
}

// without returns prefixes without what lies at their beginning.
func without(list []netip.Prefix, first netip.Prefix) []netip.Prefix {
	if list[0].Bits() == first.Bits() {
		return list[1:]
	}
	rest := prefixesOf([]intervals.Range{{From: intervals.LastOf(first).Next(), To: intervals.LastOf(list[0])}})
	return append(rest, list[1:]...)
}

func netipCompare(a, b netip.Prefix) int {
	if c := a.Addr().Compare(b.Addr()); c != 0 {
		return c
	}
	return a.Bits() - b.Bits()
}

// hubs returns the wiring of each hub, by name.
func (t *translator) hubs() []config.Hub {
	at := map[string]int{}
	var out []config.Hub
	for _, name := range t.net.Hubs {
		at[name] = len(out)
		out = append(out, config.Hub{Name: name})
	}
	for _, l := range t.e.Links {
		l.State, l.Description = "", ""
		for _, hub := range l.Between {
			if i, ok := at[hub]; ok {
				out[i].Links = append(out[i].Links, l)
			}
		}
	}
	for i := range t.e.Attachments {
		if h, ok := at[t.e.Attachments[i].Hub]; ok {
			out[h].Attachments = append(out[h].Attachments, t.attachment(&t.e.Attachments[i]))
		}
	}
	for _, x := range t.e.Exits {
		if h, ok := at[x.Hub]; ok {
			x.State, x.Description = "", ""
			out[h].Exits = append(out[h].Exits, x)
			out[h].Publications = append(out[h].Publications, t.publications(x.Name)...)
		}
	}
	for i := range out {
		slices.SortFunc(out[i].Links, func(a, b estate.Link) int { return strings.Compare(a.Name, b.Name) })
		slices.SortFunc(out[i].Attachments, func(a, b config.Attachment) int { return strings.Compare(a.Name, b.Name) })
		slices.SortFunc(out[i].Exits, func(a, b estate.Exit) int { return strings.Compare(a.Name, b.Name) })
	}
	return out
}

func (t *translator) attachment(a *estate.Attachment) config.Attachment {
	out := config.Attachment{Name: a.Name, Network: a.Network, Cost: a.Cost, Accepts: a.Accepts, Announces: a.Announces, Translate: a.Translate}
	if n, ok := t.number[a.Network]; ok {
		for _, i := range t.net.Networks[n].Subnets {
			if s := &t.net.Subnets[i]; s.Segment != paths.None {
				if carries(a, t.net.Segments[s.Segment], s) {
					out.Routes = append(out.Routes, config.Route{Segment: t.net.Segments[s.Segment], Prefix: s.Prefix})
				}
			}
		}
	}
	for _, s := range a.Static {
		out.Routes = append(out.Routes, config.Route{Segment: s.Segment, Prefix: s.Prefix, Borne: true})
	}
	for _, l := range a.Learned {
		if l.Status == "accepted" {
			out.Routes = append(out.Routes, config.Route{Segment: l.Segment, Prefix: l.Prefix, Borne: true, Learned: true})
		}
	}
	slices.SortFunc(out.Routes, func(a, b config.Route) int {
		if c := strings.Compare(a.Segment, b.Segment); c != 0 {
			return c
		}
		return netipCompare(a.Prefix, b.Prefix)
	})
	return out
}

// carries reports whether an attachment leads to a subnet of its network: one that is
// translated only where the attachment does so (M12.3).
func carries(a *estate.Attachment, segment string, s *paths.Subnet) bool {
	return !s.Translated || slices.ContainsFunc(a.Translate, func(t estate.Translation) bool {
		return t.Segment == segment && t.Inside.Bits() <= s.Inside.Bits() && t.Inside.Contains(s.Inside.Addr())
	})
}

// publications returns those that are enabled at an exit, by name.
func (t *translator) publications(exit string) []config.Publication {
	var out []config.Publication
	for i := range t.e.Publications {
		p := &t.e.Publications[i]
		if p.Exit != exit || !p.Enabled {
			continue
		}
		q := config.Publication{Name: p.Name, Exit: exit, Segment: p.To.Segment, Address: p.Address, Services: t.boxesOf(p.Services)}
		segment := t.net.Segment(p.To.Segment)
		if segment == paths.None {
			continue
		}
		var to []intervals.Range
		for _, c := range t.s.Inside[segment] {
			if c := t.s.Classes[c]; t.holds(p.To.Groups, c) {
				to = append(to, c.Ranges...)
			}
		}
		q.To = prefixesOf(to)
		out = append(out, q)
	}
	slices.SortFunc(out, func(a, b config.Publication) int { return strings.Compare(a.Name, b.Name) })
	return out
}

// boxesOf returns the services that some references name; nil for all of them.
func (t *translator) boxesOf(refs []estate.ServiceRef) []space.Box {
	terms := t.termsOf(refs)
	if s := space.OfTerms(terms); !s.Equal(space.Everything()) {
		return s.Boxes()
	}
	return nil
}

// pools returns the rulebooks of pools, by name.
func (t *translator) pools() []config.Pool {
	var out []config.Pool
	for _, name := range t.j.PoolNames() {
		i := slices.IndexFunc(t.e.Pools, func(p estate.Pool) bool { return p.Name == name })
		p := config.Pool{Name: name, Rulebook: t.e.Pools[i].Rulebook}
		for k := range t.e.Rulebooks {
			if t.e.Rulebooks[k].Name == p.Rulebook {
				for n, r := range t.e.Rulebooks[k].Rules {
					from, to := t.everybody(r.From), t.everybody(r.To)
					p.Rules = append(p.Rules, config.BookRule{From: from, To: to, Any: [2]bool{r.From.Any, r.To.Any}, Services: t.boxesOf(r.Services), Verb: r.Action, Number: n + 1})
				}
			}
		}
		out = append(out, p)
	}
	return out
}

// everybody returns whom a side holds, inside and out; nil where that is everybody, and an
// end without prefixes where it is nobody.
func (t *translator) everybody(side estate.Side) []config.End {
	if side.Any {
		return nil
	}
	out := []config.End{}
	for d := range t.s.Inside {
		var r []intervals.Range
		for _, c := range t.s.Inside[d] {
			if c := t.s.Classes[c]; t.holds(side, c) {
				r = append(r, c.Ranges...)
			}
		}
		if len(r) > 0 {
			out = append(out, config.End{Segment: t.net.Segments[d], Set: &config.Set{Prefixes: prefixesOf(r)}})
		}
	}
	for x := range t.net.Exits {
		var r []intervals.Range
		for _, c := range t.s.Outside {
			end := t.j.External(t.s.Classes[c].End.Addr, x)
			if t.j.HoldsSide(side, &end) {
				r = append(r, t.s.Classes[c].Ranges...)
			}
		}
		if len(r) > 0 {
			out = append(out, config.End{Exit: t.net.Exits[x].Name, Set: &config.Set{Prefixes: prefixesOf(r)}})
		}
	}
	return out
}

// holds reports whether a side holds a class inside.
func (t *translator) holds(side estate.Side, c *classes.Class) bool {
	return t.j.HoldsSide(side, &c.End)
}
