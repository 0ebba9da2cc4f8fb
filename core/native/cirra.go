package native

import (
	"cmp"
	"encoding/binary"
	"net/netip"
	"slices"

	"github.com/bits-and-blooms/bitset"

	"bivium/core/classes"
	"bivium/core/estate"
	"bivium/core/intervals"
	"bivium/core/native/config"
	"bivium/core/paths"
	"bivium/core/space"
)

// cirraNetwork is the entries of the workloads of one network, before they are put into lists.
type cirraNetwork struct {
	account string
	bears   []bearer
	open    bool // nothing is enforced here
}

// bearer is a workload with what it must bear.
type bearer struct {
	workload string
	entries  []config.Entry
	key      entriesKey
	bound    int
}

// cirra returns the entries of each workload of a network. Workloads whose addresses are in
// the same classes have the same.
func (u *unit) cirra() *cirraNetwork {
	out := &cirraNetwork{account: u.network.Account, open: u.network.Enforces() == estate.EnforceNone}
	if out.open {
		for i := range u.e.Workloads {
			if w := &u.e.Workloads[i]; w.Network == u.network.Name {
				out.bears = append(out.bears, bearer{w.Name, openEntries(), keyOf(openEntries()), 2})
			}
		}
		return out
	}
	held := map[int][]holding{} // by workload
	parts := u.partsOf(u.number, func(c *classes.Class) bool { return len(c.Workloads) > 0 })
	for _, p := range parts {
		for i, c := range p.own {
			for _, w := range c.Workloads {
				if u.e.Workloads[w].Network == u.network.Name {
					held[w] = append(held[w], holding{p, i})
				}
			}
		}
	}
	known, twice := map[string]bearer{}, u.twice()
	u.scratch = &scratch{crowds: map[crowdKey][]netip.Prefix{}, layers: map[string][]layer{}}
	var key []byte
	for i := range u.e.Workloads {
		w := &u.e.Workloads[i]
		if len(held[i]) == 0 || slices.ContainsFunc(w.Addresses, func(a netip.Addr) bool { return holds(twice, a) }) {
			if w.Network == u.network.Name {
				out.bears = append(out.bears, bearer{workload: w.Name})
			}
			continue
		}
		key = key[:0]
		for _, h := range held[i] {
			key = binary.LittleEndian.AppendUint32(key, uint32(h.part.segment))
			key = append(key, u.rowKey(h)...)
		}
		b, ok := known[string(key)]
		if !ok {
			b = u.entriesOf(w.Name, held[i])
			b.key = keyOf(b.entries)
			known[string(key)] = b
		}
		b.workload = w.Name
		if len(b.entries) > config.CirraWorkload {
			u.refuse(TooManyEntries, w.Name, len(b.entries), config.CirraWorkload)
		}
		out.bears = append(out.bears, b)
	}
	return out
}

// keep puts the entries that workloads had in the place of those that are the same.
func (n *cirraNetwork) keep(was *cirraNetwork) {
	at := make(map[string]*bearer, len(was.bears))
	for i := range was.bears {
		at[was.bears[i].workload] = &was.bears[i]
	}
	for i := range n.bears {
		b := &n.bears[i]
		if had := at[b.workload]; had != nil && had.key == b.key && config.EqualEntries(had.entries, b.entries) {
			b.entries = had.entries
		}
	}
}

func holds(sets []*config.Set, a netip.Addr) bool {
	return slices.ContainsFunc(sets, func(s *config.Set) bool {
		return slices.ContainsFunc(s.Prefixes, func(p netip.Prefix) bool { return p.Contains(a) })
	})
}

func openEntries() []config.Entry {
	var out []config.Entry
	for _, p := range paths.Everything() {
		for _, way := range [2]bool{false, true} {
			out = append(out, config.Entry{Out: way, Service: config.Anything, Peer: p})
		}
	}
	return out
}

// scratch is what the workloads of a network have in common, and what one of them leaves to the
// next.
type scratch struct {
	crowds map[crowdKey][]netip.Prefix
	layers map[string][]layer
	drafts []draft
	far    [2][]piece
	peers  []netip.Prefix
}

// holding is that a workload has an address in an own class of a part.
type holding struct {
	part *part
	own  int
}

// rowKey returns a string that is equal for own classes of a part with the same needs.
func (u *unit) rowKey(h holding) []byte {
	var key []byte
	if h.part.own[h.own].Four {
		key = append(key, 4)
	}
	for k := range h.part.ways {
		for _, s := range h.part.ways[k].near {
			key = binary.LittleEndian.AppendUint32(key, uint32(s.passes[h.own]))
		}
		for _, c := range h.part.ways[k].far {
			key = binary.LittleEndian.AppendUint32(key, uint32(c.passes[h.own]))
		}
	}
	return key
}

// piece is some addresses with the atoms that pass to or from them, and where that comes from: a
// column of the second line, or a rule set of a near address.
type piece struct {
	intervals.Range
	free    bool
	passes  int32
	ruleSet int32
	holding
	column *column
}

// ask asks for the rule sets of a piece.
func (p *piece) ask(g *grounds) {
	if p.column != nil {
		p.column.ask(g, p.part, p.own)
		return
	}
	g.asked.pick(p.ruleSet)
}

// draft is the entries for some services, of one way, before they are written out.
type draft struct {
	out      bool
	services []space.Box
	peers    []netip.Prefix
	atoms    *bitset.BitSet
	ask      func() // for the rule sets that they come from
}

// written returns how many entries drafts come to, with services as they will be.
func written(drafts []draft, services func([]space.Box) []space.Box) (n int) {
	for i := range drafts {
		n += len(services(drafts[i].services)) * len(drafts[i].peers)
	}
	return n
}

func size(drafts []draft) int {
	return written(drafts, func(s []space.Box) []space.Box { return s })
}

// entriesOf returns the entries that a workload must bear. If they are too many, those of the
// second line are widened.
func (u *unit) entriesOf(name string, held []holding) bearer {
	b := bearer{workload: name}
	first := 0
	if u.many(held) {
		first = 1
	}
	drafts := u.scratch.drafts
	u.scratch.peers = u.scratch.peers[:0]
	for level := first; level <= 2; level++ {
		drafts = drafts[:0]
		for way := range 2 {
			drafts = u.draft(drafts, held, way, level)
		}
		if b.bound == 0 {
			b.bound = size(drafts)
		}
		if size(drafts) <= config.CirraWorkload {
			break
		}
	}
	u.scratch.drafts = drafts
	b.entries = make([]config.Entry, 0, size(drafts))
	for i := range drafts {
		d := &drafts[i]
		d.ask()
		refs := u.grounds.of(d.atoms, held[0].part.segment)
		for _, s := range d.services {
			for _, p := range d.peers {
				b.entries = append(b.entries, config.Entry{Out: d.out, Service: s, Peer: p, For: refs})
			}
		}
	}
	return b
}

// many reports whether the second line is far too long for a workload's lists.
func (u *unit) many(held []holding) bool {
	n := 0
	for _, h := range held {
		for k := range h.part.ways {
			for _, c := range h.part.ways[k].far {
				if c.passes[h.own] != 0 {
					n += len(c.set.Prefixes)
				}
			}
		}
	}
	return n > 4*config.CirraWorkload
}

// nearOf returns what passes one way to and from near addresses, in order, for all addresses of a
// workload: its lists cannot tell them apart, so that of what some pass and others stop
// nothing passes.
func (u *unit) nearOf(held []holding, way int) []piece {
	if len(held) == 1 {
		h := held[0]
		slots := h.part.ways[way].near
		out := make([]piece, len(slots))
		for i := range slots {
			out[i] = piece{Range: slots[i].Range, free: slots[i].free, passes: slots[i].passes[h.own], ruleSet: slots[i].ruleSets[h.own]}
		}
		return out
	}
	var all []slot
	for _, h := range held {
		for _, s := range h.part.ways[way].near {
			all = append(all, slot{Range: s.Range, free: s.free, passes: []int32{s.passes[h.own]}, ruleSets: []int32{s.ruleSets[h.own]}})
		}
	}
	var out []piece
	for _, s := range u.apart(all) {
		out = append(out, piece{Range: s.Range, free: s.free, passes: s.passes[0], ruleSet: s.ruleSets[0]})
	}
	return out
}

// farOf returns what passes one way beyond near addresses, in order.
func (u *unit) farOf(held []holding, way int) []piece {
	var stop []intervals.Range
	if len(held) > 1 {
		stop = nearby(held, way)
	}
	out := u.scratch.far[way][:0]
	for _, h := range held {
		w := &h.part.ways[way]
		for _, s := range w.spread() {
			c := &w.far[s.column]
			if c.passes[h.own] == 0 || s.From.Is4() != h.part.own[h.own].Four {
				continue
			}
			p := piece{Range: s.Range, passes: c.passes[h.own], holding: h, column: c}
			if len(held) == 1 {
				out = append(out, p)
				continue
			}
			for _, p.Range = range less(s.Range, stop) {
				out = append(out, p)
			}
		}
	}
	if len(held) > 1 {
		slices.SortStableFunc(out, func(a, b piece) int { return a.From.Compare(b.From) })
	}
	u.scratch.far[way] = out
	return out
}

// nearby returns the near addresses of all segments of a workload.
func nearby(held []holding, way int) []intervals.Range {
	var out []intervals.Range
	for _, h := range held {
		for _, s := range h.part.ways[way].near {
			out = append(out, s.Range)
		}
	}
	return merged(out)
}

// strip is some addresses of a column.
type strip struct {
	intervals.Range
	column int
}

// spread returns the addresses of all columns without those that are near, in order.
func (w *way) spread() []strip {
	if w.strips != nil {
		return w.strips
	}
	var stop []intervals.Range
	for _, s := range w.near {
		stop = append(stop, s.Range)
	}
	stop = merged(stop)
	w.strips = []strip{}
	for i := range w.far {
		for _, p := range w.far[i].set.Prefixes {
			for _, r := range less(rangeOf(p), stop) {
				w.strips = append(w.strips, strip{r, i})
			}
		}
	}
	slices.SortFunc(w.strips, func(a, b strip) int { return cmp.Or(a.From.Compare(b.From), a.column-b.column) })
	return w.strips
}

// draft adds the entries of one way. On level 1, all services that some of the second line
// passes are passed to whatever some workload of the network may speak with there, in so few
// prefixes that the list has room for them; on level 2, all services.
func (u *unit) draft(drafts []draft, held []holding, way, level int) []draft {
	before := size(drafts)
	drafts = u.drafts(drafts, u.nearOf(held, way), way == 1, func(services []space.Box) []space.Box {
		if slices.ContainsFunc(services, asksSource) && !slices.ContainsFunc(u.refused, func(r Refusal) bool { return r.Code == SourcePorts }) {
			u.refuse(SourcePorts, "", 0, 0)
		}
		return services
	})
	if level > 0 {
		return u.crowded(drafts, held, way, config.CirraWorkload/2-(size(drafts)-before), level)
	}
	return u.drafts(drafts, u.farOf(held, way), way == 1, fromAnyPort) // the list cannot ask for source ports, and hubs do
}

func compareBoxes(a, b space.Box) int {
	return cmp.Or(int(a.FirstProtocol)-int(b.FirstProtocol), int(a.SourcePorts.Lo)-int(b.SourcePorts.Lo), int(a.Ports.Lo)-int(b.Ports.Lo),
		int(a.LastProtocol)-int(b.LastProtocol), int(a.SourcePorts.Hi)-int(b.SourcePorts.Hi), int(a.Ports.Hi)-int(b.Ports.Hi))
}

// asksSource reports whether a service bounds source ports.
func asksSource(s space.Box) bool {
	_, sources := estate.PortsOf(s.FirstProtocol)
	return s.SourcePorts != estate.AllPorts && s.SourcePorts != sources
}

// fromAnyPort returns services with all source ports.
func fromAnyPort(services []space.Box) []space.Box {
	if !slices.ContainsFunc(services, asksSource) {
		return services
	}
	out := slices.Clone(services)
	for i := range out {
		if asksSource(out[i]) {
			_, out[i].SourcePorts = estate.PortsOf(out[i].FirstProtocol)
		}
	}
	return wide(out)
}
