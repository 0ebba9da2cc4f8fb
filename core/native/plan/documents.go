package plan

import (
	"cmp"
	"maps"
	"slices"
	"strings"

	"bivium/core/estate"
	"bivium/core/native/config"
)

// Documents returns everything that targets hold in a state.
func Documents(s State) map[Key]*Body { return documents(s, newDigests()) }

func documents(s State, d *digests) map[Key]*Body {
	out := map[Key]*Body{}
	c := s.Config
	for i := range c.Segments {
		out[Key{Kind: KindSegment, Name: c.Segments[i].Name}] = &Body{Segment: &c.Segments[i]}
	}
	for i := range c.Hubs {
		b := &Body{Hub: &c.Hubs[i]}
		for _, l := range c.Hubs[i].Links {
			k := slices.IndexFunc(s.Estate.Links, func(x estate.Link) bool { return x.Name == l.Name })
			if k >= 0 {
				b.Links = append(b.Links, s.Estate.Links[k])
			}
		}
		out[Key{Kind: KindHub, Name: c.Hubs[i].Name}] = b
	}
	for i := range c.Pools {
		b := &Body{Pool: &c.Pools[i]}
		if k := slices.IndexFunc(s.Estate.Pools, func(x estate.Pool) bool { return x.Name == c.Pools[i].Name }); k >= 0 {
			b.Firewalls = s.Estate.Pools[k].Firewalls
		}
		out[Key{Kind: KindPool, Name: c.Pools[i].Name}] = b
	}
	if !s.Unplaced {
		out[Key{Kind: KindPlacement, Name: "all"}] = &Body{Placements: placements(s.Estate)}
	}
	for i := range c.Networks {
		n := &c.Networks[i]
		for k := range n.Lists {
			l := &n.Lists[k]
			if n.Provider == config.Premises {
				l = &config.List{On: l.On, Rules: renumbered(d.sortedRuns(singly(l.Rules)), n.Provider), Bound: l.Bound}
			}
			out[Key{KindList, n.Account, n.Name, l.On}] = &Body{List: l}
		}
		out[Key{Kind: KindRoutes, Account: n.Account, Name: n.Name}] = &Body{Routes: n.Routes, Peers: n.Peers}
	}
	for i := range c.Accounts {
		a := &c.Accounts[i]
		for k := range a.Lists {
			out[Key{Kind: KindEntries, Account: a.Name, On: a.Lists[k].Name}] = &Body{Entries: &a.Lists[k]}
		}
		for _, b := range a.Bindings {
			out[Key{Kind: KindBinding, Account: a.Name, On: b.Workload}] = &Body{Bears: b.Lists}
		}
		if a.Default != nil {
			out[Key{Kind: KindBinding, Account: a.Name}] = &Body{Bears: a.Default}
		}
	}
	return out
}

// placements returns which subnets lie in which segments; those in none are left out.
func placements(e *estate.Estate) []Placement {
	var out []Placement
	for i := range e.Networks {
		n := &e.Networks[i]
		for k := range n.Subnets {
			s := &n.Subnets[k]
			if segment := n.SegmentOf(s); segment != "" {
				out = append(out, Placement{n.Name, s.Name, s.Prefix, segment})
			}
		}
	}
	slices.SortFunc(out, func(a, b Placement) int {
		return cmp.Or(strings.Compare(a.Network, b.Network), strings.Compare(a.Subnet, b.Subnet))
	})
	return out
}

// StateOf returns the state of targets that hold some documents. What documents do not say
// (providers, what there is) is as in another state.
func StateOf(held map[Key]*Body, like State) State {
	e := *like.Estate
	c := &config.Config{Networks: slices.Clone(like.Config.Networks)}
	for i := range like.Config.Accounts {
		c.Accounts = append(c.Accounts, config.Account{Name: like.Config.Accounts[i].Name})
	}
	at := map[string]*config.Network{}
	for i := range c.Networks {
		n := &c.Networks[i]
		n.Lists, n.Routes, n.Peers, at[n.Name] = nil, nil, nil, n
	}
	keys := slices.SortedFunc(maps.Keys(held), compareKeys)
	for _, key := range keys {
		body := held[key]
		if body == nil {
			continue
		}
		n := at[key.Name]
		switch key.Kind {
		case KindSegment:
			c.Segments = append(c.Segments, *body.Segment)
		case KindHub:
			c.Hubs = append(c.Hubs, *body.Hub)
			for _, l := range body.Links {
				e.Links = put(e.Links, func(x *estate.Link) bool { return x.Name == l.Name }, &l)
			}
		case KindPool:
			c.Pools = append(c.Pools, *body.Pool)
			e.Pools = put(e.Pools, func(x *estate.Pool) bool { return x.Name == key.Name }, &estate.Pool{Name: key.Name, Firewalls: body.Firewalls})
		case KindPlacement:
			e.Networks = placed(e.Networks, body)
		case KindList:
			if n != nil {
				n.Lists = append(n.Lists, *body.List)
			}
		case KindRoutes:
			if n != nil {
				n.Routes, n.Peers = body.Routes, body.Peers
			}
		default:
			if i := slices.IndexFunc(c.Accounts, func(a config.Account) bool { return a.Name == key.Account }); i >= 0 {
				fill(&c.Accounts[i], key, body)
			}
		}
	}
	return State{c, &e, held[Key{Kind: KindPlacement, Name: "all"}] == nil}
}

func fill(a *config.Account, key Key, body *Body) {
	switch {
	case key.Kind == KindEntries:
		a.Lists = append(a.Lists, *body.Entries)
	case key.On == "":
		a.Default = body.Bears
	default:
		a.Bindings = append(a.Bindings, config.Binding{Workload: key.On, Lists: body.Bears})
	}
}

// With returns the state with one document written. What it shares with the state is not changed.
func (s State) With(key Key, body *Body) State {
	c, e := *s.Config, *s.Estate
	out := State{&c, &e, s.Unplaced && key.Kind != KindPlacement}
	switch key.Kind {
	case KindSegment:
		c.Segments = put(c.Segments, func(x *config.Segment) bool { return x.Name == key.Name }, field(body, func(b *Body) *config.Segment { return b.Segment }))
	case KindHub:
		c.Hubs = put(c.Hubs, func(x *config.Hub) bool { return x.Name == key.Name }, field(body, func(b *Body) *config.Hub { return b.Hub }))
	case KindPool:
		c.Pools = put(c.Pools, func(x *config.Pool) bool { return x.Name == key.Name }, field(body, func(b *Body) *config.Pool { return b.Pool }))
		pool := &estate.Pool{Name: key.Name}
		if body != nil {
			pool.Firewalls = body.Firewalls
		}
		e.Pools = put(e.Pools, func(x *estate.Pool) bool { return x.Name == key.Name }, pool)
	case KindPlacement:
		e.Networks = placed(e.Networks, body)
	case KindList, KindRoutes:
		c.Networks = slices.Clone(c.Networks)
		for i := range c.Networks {
			if n := &c.Networks[i]; n.Name != key.Name {
				continue
			} else if key.Kind == KindRoutes {
				n.Routes, n.Peers = nil, nil
				if body != nil {
					n.Routes, n.Peers = body.Routes, body.Peers
				}
			} else {
				n.Lists = put(n.Lists, func(l *config.List) bool { return l.On == key.On }, field(body, func(b *Body) *config.List { return b.List }))
			}
		}
	case KindEntries, KindBinding:
		c.Accounts = slices.Clone(c.Accounts)
		for i := range c.Accounts {
			if c.Accounts[i].Name == key.Account {
				putInAccount(&c.Accounts[i], key, body)
			}
		}
	}
	return out
}

// putInAccount writes one document of an account of Cirra.
func putInAccount(a *config.Account, key Key, body *Body) {
	if key.Kind == KindEntries {
		a.Lists = put(a.Lists, func(l *config.EntryList) bool { return l.Name == key.On }, field(body, func(b *Body) *config.EntryList { return b.Entries }))
		return
	}
	if key.On == "" {
		a.Default = body.bearing()
		return
	}
	var next *config.Binding
	if body != nil {
		next = &config.Binding{Workload: key.On, Lists: body.Bears}
	}
	a.Bindings = put(a.Bindings, func(b *config.Binding) bool { return b.Workload == key.On }, next)
}

func field[T any](b *Body, of func(*Body) *T) *T {
	if b == nil {
		return nil
	}
	return of(b)
}

// put returns a list with one thing replaced, added or, for nil, left out.
func put[T any](list []T, is func(*T) bool, next *T) []T {
	out := make([]T, 0, len(list)+1)
	found := false
	for i := range list {
		switch {
		case !is(&list[i]):
			out = append(out, list[i])
		case next != nil:
			out, found = append(out, *next), true
		}
	}
	if next != nil && !found {
		out = append(out, *next)
	}
	return out
}

// placed returns networks with their subnets in the segments that a body says, and in none of which it
// says nothing; as they are, for no body.
func placed(networks []estate.Network, body *Body) []estate.Network {
	if body == nil {
		return networks
	}
	segments := map[[2]string]string{}
	for _, p := range body.Placements {
		segments[[2]string{p.Network, p.Subnet}] = p.Segment
	}
	out := slices.Clone(networks)
	for i := range out {
		n := &out[i]
		n.Segment, n.Subnets = "", slices.Clone(n.Subnets)
		for k := range n.Subnets {
			n.Subnets[k].Segment = segments[[2]string{n.Name, n.Subnets[k].Name}]
		}
	}
	return out
}

// united returns what there is in either of two estates, as the second has it where both do: the
// ground on which states in between are read.
func united(a, b *estate.Estate) *estate.Estate {
	out := *b
	out.Accounts = union(a.Accounts, b.Accounts, func(x *estate.Account) string { return x.Name })
	out.Hubs = union(a.Hubs, b.Hubs, func(x *estate.Hub) string { return x.Name })
	out.Segments = union(a.Segments, b.Segments, func(x *estate.Segment) string { return x.Name })
	out.Networks = union(a.Networks, b.Networks, func(x *estate.Network) string { return x.Name })
	out.Attachments = union(a.Attachments, b.Attachments, func(x *estate.Attachment) string { return x.Name })
	out.Links = union(a.Links, b.Links, func(x *estate.Link) string { return x.Name })
	out.Exits = union(a.Exits, b.Exits, func(x *estate.Exit) string { return x.Name })
	out.Pools = union(a.Pools, b.Pools, func(x *estate.Pool) string { return x.Name })
	return &out
}

func union[T any](a, b []T, name func(*T) string) []T {
	has := map[string]bool{}
	for i := range b {
		has[name(&b[i])] = true
	}
	out := slices.Clone(b)
	for i := range a {
		if !has[name(&a[i])] {
			out = append(out, a[i])
		}
	}
	return out
}
