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

// cutting is where a configuration tells addresses and services apart, or did so when it was cut
// before: more cuts than there must be make smaller pieces, and prove the same.
type cutting struct {
	bounds   []netip.Addr      // where some addresses begin, in order
	services map[space.Box]int // how often some rules have them
	first    int               // how many bounds there were when all of the configuration was looked at
	of       *config.Config
}

// newCuts returns the cuts of a configuration, with the addresses of workloads whose lists hang on
// them. Cost: the configuration, or what it does not share with one that was proven before.
func newCuts(cfg *config.Config, networks []*reader.Network, before *Proof) *cutting {
	was := &cutting{of: &config.Config{}}
	if before != nil && before.cuts != nil && len(before.cuts.bounds) <= 2*before.cuts.first {
		was = before.cuts
	}
	other := without(cfg, was.of)
	c := &cutting{services: maps.Clone(was.services), first: was.first, of: cfg}
	if c.services == nil {
		c.services = map[space.Box]int{}
	}
	for _, x := range []struct {
		*config.Config
		more int
	}{{other, 1}, {without(was.of, cfg), -1}} {
		everyService(x.Config, func(list []space.Box) {
			for _, b := range list {
				c.services[b] += x.more
			}
		})
	}
	maps.DeleteFunc(c.services, func(_ space.Box, n int) bool { return n == 0 })
	var bounds []netip.Addr
	add := func(r intervals.Range) {
		bounds = append(bounds, r.From)
		if next := r.To.Next(); next.IsValid() {
			bounds = append(bounds, next)
		}
	}
	everySet(other, func(p []netip.Prefix) {
		for _, r := range joined(p) {
			add(r)
		}
	})
	for _, n := range networks {
		if n == nil {
			continue
		}
		for a := range n.Held {
			add(intervals.Range{From: a, To: a})
		}
	}
	slices.SortFunc(bounds, netip.Addr.Compare)
	c.bounds = either(was.bounds, slices.Compact(bounds))
	if c.first == 0 {
		c.first = len(c.bounds)
	}
	return c
}

// boxes returns the services in an order that does not tell how they came about.
func (c *cutting) boxes() []space.Box {
	return slices.SortedFunc(maps.Keys(c.services), func(a, b space.Box) int {
		return cmp.Or(int(a.FirstProtocol)-int(b.FirstProtocol), int(a.LastProtocol)-int(b.LastProtocol),
			int(a.SourcePorts.Lo)-int(b.SourcePorts.Lo), int(a.SourcePorts.Hi)-int(b.SourcePorts.Hi), int(a.Ports.Lo)-int(b.Ports.Lo), int(a.Ports.Hi)-int(b.Ports.Hi))
	})
}

// either returns what is in one of two sorted lists, each of which has nothing twice.
func either(a, b []netip.Addr) []netip.Addr {
	if len(a) == 0 {
		return b
	}
	out := make([]netip.Addr, 0, len(a)+len(b))
	for len(a) > 0 && len(b) > 0 {
		switch order := a[0].Compare(b[0]); {
		case order < 0:
			out, a = append(out, a[0]), a[1:]
		case order > 0:
			out, b = append(out, b[0]), b[1:]
		default:
			out, a, b = append(out, a[0]), a[1:], b[1:]
		}
	}
	return append(append(out, a...), b...)
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

// everySet calls f for the prefixes of every set of a configuration, each set once.
func everySet(cfg *config.Config, f func([]netip.Prefix)) {
	known := map[*config.Set]bool{}
	set := func(s *config.Set) {
		if s != nil && !known[s] {
			known[s] = true
			f(s.Prefixes)
		}
	}
	ends := func(list []config.End) {
		for i := range list {
			set(list[i].Set)
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
