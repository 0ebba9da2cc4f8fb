package native

import (
	"net/netip"
	"slices"
	"strings"

	"bivium/core/classes"
	"bivium/core/estate"
	"bivium/core/intervals"
	"bivium/core/lists"
	"bivium/core/native/config"
	"bivium/core/native/cover"
)

// network returns what the provider of a network holds for it. Lists of Cirra are those of
// the account, and are put together later.
func (t *translator) network(n *estate.Network) (config.Network, *cirraNetwork, []Refusal) {
	provider := t.provider[n.Account]
	out := config.Network{Name: n.Name, Account: n.Account, Provider: provider, Routes: n.Routes}
	for _, p := range t.e.Peerings {
		if i := slices.Index(p.Between[:], n.Name); i >= 0 {
			out.Peers = append(out.Peers, config.Peer{Name: p.Between[1-i], OffersHub: p.OffersHub == p.Between[1-i]})
		}
	}
	slices.SortFunc(out.Peers, func(a, b config.Peer) int { return strings.Compare(a.Name, b.Name) })
	number, enforces := t.number[n.Name], t.e.Enforces(n)
	u := &unit{translator: t, grounds: t.borrow(), network: n, number: number, provider: provider}
	defer t.giveBack(u.grounds)
	switch provider {
	case config.Cirra:
		return out, u.cirra(), u.refused
	case config.Velum, config.Premises:
		if enforces == estate.EnforceNative && !config.EnforcesInside(provider) {
			u.refuse(InsideSubnets, "", 0, 0)
		}
		for i := range n.Subnets {
			if l := u.subnet(i); l != nil {
				out.Lists = append(out.Lists, *l)
			}
		}
		if l := u.rest(); l != nil {
			out.Lists = append(out.Lists, *l)
		}
	case config.Stratok:
		if l := u.list("", func(*classes.Class) bool { return true }, config.StratokRules); l != nil {
			out.Lists = append(out.Lists, *l)
		}
	default:
		if enforces != estate.EnforceNone {
			u.refuse(NoProvider, "", 0, 0)
		}
	}
	return out, nil, u.refused
}

// unit is the lists of one network.
type unit struct {
	*translator
	grounds  *grounds
	network  *estate.Network
	number   int
	provider string
	refused  []Refusal
	scratch  *scratch // of Cirra
}

func (u *unit) refuse(code Code, on string, count, limit int) {
	u.refused = append(u.refused, Refusal{Code: code, Network: u.network.Name, On: on, Count: count, Limit: limit})
}

// subnet returns the list of one subnet; nil where it has no endpoints and nothing is passed.
func (u *unit) subnet(i int) *config.List {
	s := &u.network.Subnets[i]
	within := func(c *classes.Class) bool { return meets(u.inside(c), s.Prefix) }
	if u.network.Enforces() != estate.EnforceNone && !u.some(within) {
		return nil
	}
	return u.list(s.Name, within, u.limit())
}

func (u *unit) some(of func(*classes.Class) bool) bool {
	return slices.ContainsFunc(u.in[u.number], func(c int) bool { return of(u.s.Classes[c]) })
}

// limit returns how many rules a list of a subnet may have; 0 for any number.
func (u *unit) limit() int {
	if u.provider == config.Premises {
		return 0
	}
	return config.VelumRules
}

// rest returns the list of what is routed to the network and lies in none of its subnets, nil
// where nothing does.
func (u *unit) rest() *config.List {
	var subnets []intervals.Range
	for _, s := range u.network.Subnets {
		subnets = append(subnets, rangeOf(s.Prefix))
	}
	subnets = merged(subnets)
	routed := func(c *classes.Class) bool {
		return slices.ContainsFunc(u.inside(c), func(r intervals.Range) bool { return len(less(r, subnets)) > 0 })
	}
	if !u.some(routed) {
		return nil
	}
	return u.list(config.Routed, routed, u.limit())
}

func meets(ranges []intervals.Range, p netip.Prefix) bool {
	within := intervals.Range{From: p.Masked().Addr(), To: intervals.LastOf(p)}
	return slices.ContainsFunc(ranges, func(r intervals.Range) bool { return r.Meets(within) })
}

// list returns an ordered list for the classes of the network that keep says. Rules are first
// those of near addresses, which end in one that denies; then those of far ones; then, where
// the provider would let out what no rule matches, one that denies that too.
func (u *unit) list(on string, keep func(*classes.Class) bool, limit int) *config.List {
	l := &config.List{On: on}
	if u.network.Enforces() == estate.EnforceNone {
		for _, out := range [2]bool{false, true} {
			l.Rules = append(l.Rules, config.Rule{Out: out, Allow: true})
		}
		l.Bound = 2
		u.putInOrder(l)
		return l
	}
	if twice := u.twice(); twice != nil {
		l.Rules = append(l.Rules, config.Rule{Own: twice}, config.Rule{Out: true, Own: twice})
		l.Bound += 2
	}
	parts := u.partsOf(u.number, keep)
	whole := make([][]*config.Set, len(parts))
	for i, p := range parts {
		if len(parts) > 1 {
			whole[i] = []*config.Set{u.ownSet(p, nil)}
		}
		for k := range p.ways {
			u.near(l, p, k == 1, whole[i])
		}
	}
	second := len(l.Rules)
	for i, p := range parts {
		for k := range p.ways {
			u.far(l, p, k == 1, whole[i])
		}
	}
	if u.provider != config.Premises {
		l.Rules = append(l.Rules, config.Rule{Out: true})
		l.Bound++
	}
	if limit > 0 && len(l.Rules) > limit {
		u.widen(l, second, limit)
	}
	if limit > 0 && len(l.Rules) > limit {
		u.refuse(TooManyRules, on, len(l.Rules), limit)
	}
	if u.provider == config.Premises {
		if n := config.CountEntries(l.Rules); n > config.PremisesEntries {
			u.refuse(TooManyRules, on, n, config.PremisesEntries)
		}
	}
	u.putInOrder(l)
	return l
}

// twice returns the addresses that are two endpoints of the network, of two segments: no list
// can tell which of them it sees, so that it must stop both. Nil for none.
func (u *unit) twice() []*config.Set {
	var all, out []intervals.Range
	for _, c := range u.in[u.number] {
		all = append(all, u.inside(u.s.Classes[c])...)
	}
	slices.SortFunc(all, func(a, b intervals.Range) int { return a.From.Compare(b.From) })
	var last intervals.Range
	for _, r := range all {
		if last.From.IsValid() && last.Meets(r) {
			to := r.To
			if last.To.Compare(to) < 0 {
				to = last.To
			}
			out = append(out, intervals.Range{From: r.From, To: to})
		}
		if !last.From.IsValid() || last.To.Compare(r.To) < 0 {
			last = r
		}
	}
	if out == nil {
		return nil
	}
	return []*config.Set{{Prefixes: prefixesOf(out)}}
}

// putInOrder gives rules their places, and priorities where the provider has those.
func (u *unit) putInOrder(l *config.List) {
	for i := range l.Rules {
		l.Rules[i].Order = i + 1
		if u.provider == config.Velum {
			l.Rules[i].Order = config.VelumFirst + i
		}
	}
}

// ownSet returns the addresses that some of the own classes have inside: of all, for nil.
func (u *unit) ownSet(p *part, rows []int) *config.Set {
	var r []intervals.Range
	if rows == nil {
		for _, c := range p.own {
			r = append(r, u.inside(c)...)
		}
	}
	for _, i := range rows {
		r = append(r, u.inside(p.own[i])...)
	}
	return &config.Set{Prefixes: prefixesOf(r)}
}

// ownOf returns the own side of a rule: all that the list has of a part, if the rows are that.
func (u *unit) ownOf(p *part, rows []int, all []*config.Set) []*config.Set {
	if len(rows) == len(p.own) {
		return all
	}
	if p.owns == nil {
		p.owns = map[string]*config.Set{}
	}
	key := lists.Key(rows)
	if p.owns[key] == nil {
		p.owns[key] = u.ownSet(p, rows)
	}
	return []*config.Set{p.owns[key]}
}

// near adds the rules for addresses that may be reached by paths that pass no hub.
func (u *unit) near(l *config.List, p *part, out bool, all []*config.Set) {
	slots := p.ways[at(out)].near
	if len(slots) == 0 {
		return
	}
	g := cover.NewGrid(len(p.own), len(slots), u.sets)
	whole := true
	for k, s := range slots {
		for i, set := range s.passes {
			if set == unasked {
				continue
			}
			g.Put(i, k, set)
			whole = whole && u.sets.At(set).All()
		}
	}
	var ranges []intervals.Range
	for _, s := range slots {
		ranges = append(ranges, s.Range)
	}
	everybody := []*config.Set{{Prefixes: prefixesOf(ranges)}}
	if whole {
		l.Rules = append(l.Rules, config.Rule{Out: out, Allow: true, Own: all, Peer: everybody})
		l.Bound++
		return
	}
	rules, bound := u.covering(g, func(b *cover.Box) config.Rule {
		r := config.Rule{Out: out, Allow: true, Own: u.ownOf(p, b.Rows, all), Services: u.services(b.Atoms)}
		var peer []intervals.Range
		for _, k := range b.Cols {
			peer = append(peer, slots[k].Range)
			for _, i := range b.Rows {
				u.grounds.asked.pick(slots[k].ruleSets[i])
			}
		}
		r.Peer = []*config.Set{{Prefixes: prefixesOf(peer)}}
		r.For = u.grounds.of(b.Atoms, p.segment)
		return r
	})
	l.Rules, l.Bound = append(l.Rules, rules...), l.Bound+bound+1
	if passedBySecondLine(u, &p.ways[at(out)]) {
		l.Rules = append(l.Rules, config.Rule{Out: out, Own: all, Peer: everybody})
	} else {
		l.Bound--
	}
}

// looked is how many pairs of near and far addresses are looked at: where there are more, they
// are taken to overlap.
const looked = 4000

// passedBySecondLine reports whether the second line would pass to near addresses what must
// not pass there.
func passedBySecondLine(u *unit, w *way) bool {
	if len(w.near)*len(w.far) > looked {
		return true
	}
	for _, s := range w.near {
		for _, c := range w.far {
			if !slices.ContainsFunc(c.set.Prefixes, func(p netip.Prefix) bool { r := rangeOf(p); return r.Meets(s.Range) }) {
				continue
			}
			for i, set := range c.passes {
				if s.passes[i] == unasked {
					continue
				}
				if u.sets.At(set).DifferenceCardinality(u.sets.At(s.passes[i])) > 0 {
					return true
				}
			}
		}
	}
	return false
}

func at(out bool) int {
	if out {
		return 1
	}
	return 0
}

// far adds the second line.
func (u *unit) far(l *config.List, p *part, out bool, all []*config.Set) {
	columns := p.ways[at(out)].far
	if len(columns) == 0 {
		return
	}
	g := cover.NewGrid(len(p.own), len(columns), u.sets)
	for k, c := range columns {
		for i, set := range c.passes {
			g.Put(i, k, set)
		}
	}
	rules, bound := u.covering(g, func(b *cover.Box) config.Rule {
		r := config.Rule{Out: out, Allow: true, Own: u.ownOf(p, b.Rows, all), Services: u.services(b.Atoms)}
		for _, k := range b.Cols {
			for _, i := range b.Rows {
				columns[k].ask(u.grounds, p, i)
			}
		}
		r.Peer = p.ways[at(out)].peersOf(b.Cols)
		r.For = u.grounds.of(b.Atoms, p.segment)
		return r
	})
	l.Rules, l.Bound = append(l.Rules, rules...), l.Bound+bound
}

// peersOf returns the sets of some far columns.
func (w *way) peersOf(columns []int) []*config.Set {
	if w.peers == nil {
		w.peers = map[string][]*config.Set{}
	}
	key := lists.Key(columns)
	out, known := w.peers[key]
	if !known {
		out = make([]*config.Set, len(columns))
		for i, k := range columns {
			out[i] = w.far[k].set
		}
		w.peers[key] = out
	}
	return out
}

// single reports whether rules have one protocol each, as those of premises.
func (u *unit) single() bool { return u.provider == config.Premises || u.singly }

// covering returns the rules of the boxes that cover a grid, and how few there can be. On premises
// they are those of boxes of one set of services alone, where that takes fewer entries.
func (u *unit) covering(g *cover.Grid, rule func(*cover.Box) config.Rule) (rules []config.Rule, bound int) {
	rulesOf := func(boxes []cover.Box) (rules []config.Rule) {
		for i := range boxes {
			rules = append(rules, u.permits(rule(&boxes[i]), g, &boxes[i])...)
		}
		return rules
	}
	boxes, bound := g.Cover()
	rules = rulesOf(boxes)
	if u.single() && slices.ContainsFunc(boxes, func(b cover.Box) bool { return !g.Has(&b) }) {
		if other := rulesOf(g.Plainly()); config.CountEntries(other) < config.CountEntries(rules) {
			rules = other
		}
	}
	return rules, bound
}

// permits returns a rule that allows some services. On premises, where an entry has one protocol,
// all services but a few are allowed behind an entry that denies those: nothing else allows them
// there, if the box has all that its cells pass.
func (u *unit) permits(r config.Rule, g *cover.Grid, b *cover.Box) []config.Rule {
	if !u.single() || r.Services == nil || !g.Has(b) {
		return []config.Rule{r}
	}
	denied := u.services(b.Atoms.Complement())
	if len(config.Entries(denied)) >= len(config.Entries(r.Services)) {
		return []config.Rule{r}
	}
	deny := r
	deny.Allow, deny.Services, deny.For, r.Services = false, denied, nil, nil
	return []config.Rule{deny, r}
}
