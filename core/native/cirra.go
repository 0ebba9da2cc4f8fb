package native

import (
	"cmp"
	"encoding/binary"
	"maps"
	"math/bits"
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
	bound    int
}

// cirra returns the entries of each workload of a network. Workloads whose addresses are in
// the same classes have the same.
func (u *unit) cirra() *cirraNetwork {
	out := &cirraNetwork{account: u.network.Account, open: u.network.Enforces() == estate.EnforceNone}
	if out.open {
		for i := range u.e.Workloads {
			if w := &u.e.Workloads[i]; w.Network == u.network.Name {
				out.bears = append(out.bears, bearer{w.Name, openEntries(), 2})
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

func holds(sets []*config.Set, a netip.Addr) bool {
	return slices.ContainsFunc(sets, func(s *config.Set) bool {
		return slices.ContainsFunc(s.Prefixes, func(p netip.Prefix) bool { return p.Contains(a) })
	})
}

func openEntries() []config.Entry {
	var out []config.Entry
	for _, p := range paths.Everything() {
		for _, way := range [2]bool{false, true} {
			out = append(out, config.Entry{Out: way, Service: anything, Peer: p})
		}
	}
	return out
}

// anything is every service.
var anything = space.Box{LastProtocol: 255, SourcePorts: estate.AllPorts, Ports: estate.AllPorts}

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

// piece is some addresses with the atoms that pass to or from them.
type piece struct {
	intervals.Range
	passes   int32
	ruleSets []int32
}

// entriesOf returns the entries that a workload must bear. If they are too many, those of the
// second line are widened.
func (u *unit) entriesOf(name string, held []holding) bearer {
	b := bearer{workload: name}
	first := 0
	if u.many(held) {
		first = 1
	}
	for level := first; level <= 2; level++ {
		b.entries = nil
		for k := range 2 {
			b.entries = append(b.entries, u.entries(held, k, level)...)
		}
		if b.bound == 0 {
			b.bound = len(b.entries)
		}
		if len(b.entries) <= config.CirraWorkload {
			break
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

// near returns what passes one way to and from near addresses, for all addresses of a
// workload: its lists cannot tell them apart, so that of what some pass and others stop
// nothing passes.
func (u *unit) nearOf(held []holding, way int) []piece {
	var all []slot
	for _, h := range held {
		for _, s := range h.part.ways[way].near {
			all = append(all, slot{Range: s.Range, passes: []int32{s.passes[h.own]}, ruleSets: []int32{s.ruleSets[h.own]}})
		}
	}
	var out []piece
	for _, s := range u.apart(all) {
		out = append(out, piece{s.Range, s.passes[0], s.ruleSets})
	}
	return out
}

// farOf returns what passes one way beyond near addresses, which are stop.
func (u *unit) farOf(held []holding, way int, stop []intervals.Range) []piece {
	var out []piece
	for _, h := range held {
		for _, c := range h.part.ways[way].far {
			if c.passes[h.own] == 0 {
				continue
			}
			for _, p := range c.set.Prefixes {
				if p.Addr().Is4() == h.part.own[h.own].Four {
					for _, r := range less(rangeOf(p), stop) {
						out = append(out, piece{r, c.passes[h.own], c.of(h.own)})
					}
				}
			}
		}
	}
	return out
}

// less returns a range without those of a sorted list.
func less(r intervals.Range, without []intervals.Range) []intervals.Range {
	var out []intervals.Range
	i, _ := slices.BinarySearchFunc(without, r.From, func(w intervals.Range, a netip.Addr) int { return w.To.Compare(a) })
	for ; i < len(without) && without[i].From.Compare(r.To) <= 0; i++ {
		if without[i].From.Compare(r.From) > 0 {
			out = append(out, intervals.Range{From: r.From, To: without[i].From.Prev()})
		}
		next := without[i].To.Next()
		if !next.IsValid() || next.Compare(r.To) > 0 {
			return out
		}
		r.From = next
	}
	return append(out, r)
}

// entries returns the entries of one way. On level 1, all services that some of the second line
// passes are passed to whatever some workload of the network may speak with there, in so few
// prefixes that the list has room for them; on level 2, all services.
func (u *unit) entries(held []holding, way, level int) []config.Entry {
	near := map[int32]*passing{}
	var stop []intervals.Range
	for _, p := range u.nearOf(held, way) {
		stop = append(stop, p.Range)
		if p.passes != unasked {
			put(near, p.passes, &p)
		}
	}
	stop = merged(stop)
	entries := u.write(nil, near, way == 1, func(services []space.Box) []space.Box {
		if slices.ContainsFunc(services, asksSource) {
			u.refuse(SourcePorts, "", 0, 0)
		}
		return services
	})
	if level > 0 {
		return append(entries, u.crowded(held, way, stop, config.CirraWorkload/2-len(entries), level)...)
	}
	far := map[int32]*passing{}
	for _, p := range u.farOf(held, way, stop) {
		put(far, p.passes, &p)
	}
	return u.write(entries, far, way == 1, fromAnyPort) // the list cannot ask for source ports, and hubs do
}

// crowded returns the entries of a second line that is too long to be exact.
func (u *unit) crowded(held []holding, way int, stop []intervals.Range, room, level int) []config.Entry {
	set := u.sets.at(0)
	var ruleSets []int32
	for _, h := range held {
		for _, c := range h.part.ways[way].far {
			if c.passes[h.own] == 0 {
				continue
			}
			set = set.Union(u.sets.at(c.passes[h.own]))
			if len(ruleSets) == 16 {
				continue
			}
			for _, r := range c.of(h.own) {
				if len(ruleSets) < 16 && !slices.Contains(ruleSets, r) {
					ruleSets = append(ruleSets, r)
				}
			}
		}
	}
	if set.None() {
		return nil
	}
	services := []space.Box{anything}
	if some := u.services(set); some != nil && level == 1 {
		services = fromAnyPort(some)
	}
	refs := u.grounds.of(ruleSets, set, held[0].part.segment)
	var out []config.Entry
	for _, p := range u.crowd(held, way, stop, max(1, room/len(services))) {
		for _, s := range services {
			out = append(out, config.Entry{Out: way == 1, Service: s, Peer: p, For: refs})
		}
	}
	return out
}

// crowdKey is what the far addresses of a network are asked for.
type crowdKey struct {
	part      *part
	way, most int
}

// crowd returns so many prefixes, or as few as there can be, that have all far addresses with
// which some workload of the network may speak, and none of those near.
func (u *unit) crowd(held []holding, way int, stop []intervals.Range, most int) []netip.Prefix {
	most = 1 << (bits.Len(uint(most)) - 1) // so that workloads have the same
	var all []netip.Prefix
	for _, h := range held {
		all = append(all, u.crowdOf(crowdKey{h.part, way, most})...)
	}
	if len(held) == 1 {
		return all
	}
	var ranges []intervals.Range
	for _, p := range all {
		ranges = append(ranges, less(rangeOf(p), stop)...)
	}
	return widened(prefixesOf(ranges), stop, most)
}

// crowdOf returns those of one part of the network. Fewer are made from more.
func (u *unit) crowdOf(key crowdKey) []netip.Prefix {
	if known, ok := u.crowds[key]; ok {
		return known
	}
	var stop []intervals.Range
	for _, s := range key.part.ways[key.way].near {
		stop = append(stop, s.Range)
	}
	stop = merged(stop)
	var out []netip.Prefix
	if key.most < config.CirraWorkload {
		out = widened(u.crowdOf(crowdKey{key.part, key.way, 2 * key.most}), stop, key.most)
	} else {
		var ranges []intervals.Range
		for _, c := range key.part.ways[key.way].far {
			for _, p := range c.set.Prefixes {
				ranges = append(ranges, less(rangeOf(p), stop)...)
			}
		}
		out = widened(prefixesOf(ranges), stop, key.most)
	}
	if u.crowds == nil {
		u.crowds = map[crowdKey][]netip.Prefix{}
	}
	u.crowds[key] = out
	return out
}

// passing is some addresses for which the same services pass.
type passing struct {
	ranges   []intervals.Range
	ruleSets []int32
}

func put(in map[int32]*passing, set int32, p *piece) {
	if set == 0 {
		return
	}
	x := in[set]
	if x == nil {
		x = &passing{}
		in[set] = x
	}
	x.ranges = append(x.ranges, p.Range)
	for _, r := range p.ruleSets {
		if r != paths.None && !slices.Contains(x.ruleSets, r) {
			x.ruleSets = append(x.ruleSets, r)
		}
	}
}

// write appends the entries of what passes: by the addresses for which the same services pass,
// or by the services that pass for the same addresses, whichever are fewer.
func (u *unit) write(entries []config.Entry, passes map[int32]*passing, out bool, services func([]space.Box) []space.Box) []config.Entry {
	bySet := u.writeBySet(passes, out, services)
	if len(passes) > 1 {
		if byService := u.writeBySet(u.turned(passes), out, services); len(byService) < len(bySet) {
			bySet = byService
		}
	}
	return append(entries, bySet...)
}

// turned returns what passes with each service once: the addresses of all sets that have it.
func (u *unit) turned(passes map[int32]*passing) map[int32]*passing {
	sets := slices.Sorted(maps.Keys(passes))
	out := map[int32]*passing{}
	for _, atoms := range fold(u.s.Atoms.Len(), func(atom int) string {
		key := make([]byte, len(sets))
		for i, set := range sets {
			if u.sets.at(set).Test(uint(atom)) {
				key[i] = 1
			}
		}
		return string(key)
	}) {
		set, x := bitset.New(uint(u.s.Atoms.Len())), &passing{}
		for _, atom := range atoms {
			set.Set(uint(atom))
		}
		for _, s := range sets {
			if u.sets.at(s).Test(uint(atoms[0])) {
				x.ranges = append(x.ranges, passes[s].ranges...)
				x.ruleSets = append(x.ruleSets, passes[s].ruleSets...)
			}
		}
		if len(x.ranges) > 0 {
			x.ruleSets = slices.Compact(slices.Sorted(slices.Values(x.ruleSets)))
			out[u.sets.number(set)] = x
		}
	}
	return out
}

func (u *unit) writeBySet(passes map[int32]*passing, out bool, f func([]space.Box) []space.Box) []config.Entry {
	sets := slices.Collect(maps.Keys(passes))
	services := map[int32][]space.Box{}
	for _, set := range sets {
		if services[set] = u.services(u.sets.at(set)); services[set] == nil {
			services[set] = []space.Box{anything}
		}
	}
	slices.SortFunc(sets, func(a, b int32) int { return slices.CompareFunc(services[a], services[b], compareBoxes) })
	var entries []config.Entry
	for _, set := range sets {
		x := passes[set]
		refs := u.grounds.of(x.ruleSets, u.sets.at(set), u.segmentOf())
		peers := prefixesOf(x.ranges)
		for _, s := range f(services[set]) {
			for _, p := range peers {
				entries = append(entries, config.Entry{Out: out, Service: s, Peer: p, For: refs})
			}
		}
	}
	return entries
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

// segmentOf returns a segment of the network, for what its default lets pass.
func (u *unit) segmentOf() int {
	if len(u.in[u.number]) == 0 {
		return 0
	}
	return u.s.Classes[u.in[u.number][0]].End.Segment
}
