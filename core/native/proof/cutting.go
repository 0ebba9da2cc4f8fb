package proof

import (
	"cmp"
	"maps"
	"net/netip"
	"slices"
	"sort"

	"bivium/core/intervals"
	"bivium/core/lists"
	"bivium/core/native/config"
	"bivium/core/native/reader"
	"bivium/core/space"
)

// cutting is where a configuration tells addresses and services apart.
type cutting struct {
	bounds   []netip.Addr        // where some addresses begin, in order
	counted  []bound             // those of sets and entries
	sets     map[*config.Set]int // how often some rules have them
	services map[space.Box]int   // the same
	of       *config.Config
}

// bound is where so many sets, or entries, begin or end.
type bound struct {
	netip.Addr
	n int
}

// newCutting returns the cuts of a configuration, with the addresses of workloads whose lists hang
// on them. Cost: the configuration, or what it does not share with one that was proven before.
func newCutting(cfg *config.Config, networks []*reader.Network, before *Proof) *cutting {
	c := &cutting{sets: map[*config.Set]int{}, services: map[space.Box]int{}, of: cfg}
	if before == nil || before.cuts == nil {
		c.count(cfg, 1)
	} else {
		was := before.cuts
		c.counted, c.sets, c.services = was.counted, maps.Clone(was.sets), maps.Clone(was.services)
		c.count(without(cfg, was.of), 1)
		c.count(without(was.of, cfg), -1)
	}
	var held []bound
	for _, n := range networks {
		if n == nil {
			continue
		}
		for a := range n.Held {
			held = appendBounds(held, intervals.Range{From: a, To: a}, 1)
		}
	}
	all := summed(c.counted, held)
	c.bounds = make([]netip.Addr, len(all))
	for i := range all {
		c.bounds[i] = all[i].Addr
	}
	return c
}

// count adds what a configuration has to what is counted, or takes it away.
func (c *cutting) count(cfg *config.Config, more int) {
	everyService(cfg, func(list []space.Box) {
		for _, b := range list {
			if c.services[b] += more; c.services[b] == 0 {
				delete(c.services, b)
			}
		}
	})
	var bounds []bound
	add := func(p []netip.Prefix) {
		for _, r := range joined(p) {
			bounds = appendBounds(bounds, r, more)
		}
	}
	everySet(cfg, func(s *config.Set) {
		had := c.sets[s]
		switch has := had + more; {
		case has == 0:
			delete(c.sets, s)
			add(s.Prefixes)
		case had == 0:
			add(s.Prefixes)
			fallthrough
		default:
			c.sets[s] = has
		}
	}, add)
	c.counted = summed(c.counted, bounds)
}

// appendBounds appends where a range begins, and where what comes behind it does.
func appendBounds(to []bound, r intervals.Range, n int) []bound {
	to = append(to, bound{r.From, n})
	if next := r.To.Next(); next.IsValid() {
		to = append(to, bound{next, n})
	}
	return to
}

// summed returns bounds in order, each once, and some more in any order with them; those that come
// to nothing are left out.
func summed(a, more []bound) []bound {
	slices.SortFunc(more, func(a, b bound) int { return a.Addr.Compare(b.Addr) })
	out := make([]bound, 0, len(a)+len(more))
	put := func(b bound) {
		if n := len(out); n > 0 && out[n-1].Addr == b.Addr {
			out[n-1].n += b.n
		} else {
			out = append(out, b)
		}
	}
	for len(a) > 0 && len(more) > 0 {
		if a[0].Compare(more[0].Addr) <= 0 {
			put(a[0])
			a = a[1:]
		} else {
			put(more[0])
			more = more[1:]
		}
	}
	for _, b := range a {
		put(b)
	}
	for _, b := range more {
		put(b)
	}
	return slices.Clone(slices.DeleteFunc(out, func(b bound) bool { return b.n == 0 })) // without the room that it took
}

// boxes returns the services in an order that does not tell how they came about.
func (c *cutting) boxes() []space.Box {
	return slices.SortedFunc(maps.Keys(c.services), func(a, b space.Box) int {
		return cmp.Or(int(a.FirstProtocol)-int(b.FirstProtocol), int(a.LastProtocol)-int(b.LastProtocol),
			int(a.SourcePorts.Lo)-int(b.SourcePorts.Lo), int(a.SourcePorts.Hi)-int(b.SourcePorts.Hi), int(a.Ports.Lo)-int(b.Ports.Lo), int(a.Ports.Hi)-int(b.Ports.Hi))
	})
}

// within calls f for the bounds inside a range, in order.
func (c *cutting) within(r intervals.Range, f func(netip.Addr)) {
	i := sort.Search(len(c.bounds), func(i int) bool { return c.bounds[i].Compare(r.From) > 0 })
	for ; i < len(c.bounds) && c.bounds[i].Compare(r.To) <= 0; i++ {
		f(c.bounds[i])
	}
}

// without returns a configuration without the lists that it shares in memory with another.
func without(cfg, was *config.Config) *config.Config {
	out := &config.Config{Hubs: cfg.Hubs, Pools: cfg.Pools}
	segments := byName(was.Segments, func(s *config.Segment) string { return s.Name })
	for i := range cfg.Segments {
		s := &cfg.Segments[i]
		if had := segments[s.Name]; had == nil || !lists.Same(had.Rules, s.Rules) || !slices.Equal(had.Imports, s.Imports) {
			out.Segments = append(out.Segments, *s)
		}
	}
	networks := byName(was.Networks, func(n *config.Network) string { return n.Name })
	for i := range cfg.Networks {
		n := &cfg.Networks[i]
		had := networks[n.Name]
		if had == nil || !slices.EqualFunc(had.Lists, n.Lists, func(a, b config.List) bool { return lists.Same(a.Rules, b.Rules) }) {
			out.Networks = append(out.Networks, *n)
		}
	}
	accounts := byName(was.Accounts, func(a *config.Account) string { return a.Name })
	for i := range cfg.Accounts {
		a := config.Account{Name: cfg.Accounts[i].Name}
		had := map[string]*config.EntryList{}
		if x := accounts[a.Name]; x != nil {
			had = byName(x.Lists, func(l *config.EntryList) string { return l.Name })
		}
		for _, l := range cfg.Accounts[i].Lists {
			if x := had[l.Name]; x == nil || !lists.Same(x.Entries, l.Entries) {
				a.Lists = append(a.Lists, l)
			}
		}
		out.Accounts = append(out.Accounts, a)
	}
	return out
}

func byName[T any](things []T, name func(*T) string) map[string]*T {
	out := make(map[string]*T, len(things))
	for i := range things {
		out[name(&things[i])] = &things[i]
	}
	return out
}

func everyService(cfg *config.Config, f func([]space.Box)) {
	for _, s := range cfg.Segments {
		for i := range s.Rules {
			f(s.Rules[i].Services)
		}
	}
	for _, p := range cfg.Pools {
		for i := range p.Rules {
			f(p.Rules[i].Services)
		}
	}
	for _, h := range cfg.Hubs {
		for _, p := range h.Publications {
			f(p.Services)
		}
	}
	for _, n := range cfg.Networks {
		for _, l := range n.Lists {
			for i := range l.Rules {
				f(l.Rules[i].Services)
			}
		}
	}
	for _, a := range cfg.Accounts {
		for _, l := range a.Lists {
			for _, e := range l.Entries {
				f([]space.Box{e.Service})
			}
		}
	}
}

// everySet calls set for every set of the rules of a configuration, as often as they have it, and f
// for the prefixes that stand in none.
func everySet(cfg *config.Config, set func(*config.Set), f func([]netip.Prefix)) {
	ends := func(list []config.End) {
		for i := range list {
			if list[i].Set != nil {
				set(list[i].Set)
			}
		}
	}
	for _, s := range cfg.Segments {
		for i := range s.Rules {
			ends(s.Rules[i].From)
			ends(s.Rules[i].To)
		}
		var seen, own []netip.Prefix
		for _, i := range s.Imports {
			seen, own = append(seen, i.Seen), append(own, i.Own)
		}
		f(seen)
		f(own)
	}
	for _, p := range cfg.Pools {
		for i := range p.Rules {
			ends(p.Rules[i].From)
			ends(p.Rules[i].To)
		}
	}
	for _, n := range cfg.Networks {
		for _, l := range n.Lists {
			for i := range l.Rules {
				for _, s := range l.Rules[i].Own {
					set(s)
				}
				for _, s := range l.Rules[i].Peer {
					set(s)
				}
			}
		}
	}
	for _, h := range cfg.Hubs {
		for _, p := range h.Publications {
			f(p.To)
		}
	}
	for _, a := range cfg.Accounts {
		for _, l := range a.Lists {
			alike := map[entryKey][]netip.Prefix{}
			for _, e := range l.Entries {
				if e.Peers == "" {
					k := entryKey{e.Out, e.Service}
					alike[k] = append(alike[k], e.Peer)
				}
			}
			for _, prefixes := range alike {
				f(prefixes)
			}
		}
	}
}

// entryKey is what entries of a list have in common that differ in their peers.
type entryKey struct {
	out     bool
	service space.Box
}
