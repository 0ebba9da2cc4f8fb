package consequence

import (
	"net/netip"
	"slices"
	"strings"

	"bivium/core/paths"
	"bivium/core/recompile"
)

// RouteChange is a prefix of a segment that is reached otherwise than before, at
// some hubs.
type RouteChange struct {
	Segment string   `json:"segment"`
	Prefix  string   `json:"prefix"`
	Before  string   `json:"before"` // "" where there was no route
	After   string   `json:"after"`  // "" where there is none any more
	Hubs    []string `json:"hubs"`
}

// maxRoutes is how many changes of routes are shown.
const maxRoutes = 200

// movedNetworks returns the networks whose ways a revision of a judge may have changed, by
// name; nil for all.
func movedNetworks(old, next *paths.Net, r *recompile.Revision) map[string]bool {
	if r.Whole || r.Bridge != nil || r.Ways || r.Links {
		return nil
	}
	out := map[string]bool{}
	for _, net := range []*paths.Net{old, next} {
		for _, n := range r.Networks {
			out[net.Networks[n].Name] = true
			for _, p := range net.Networks[n].Peers {
				out[net.Networks[p.Network].Name] = true
			}
		}
	}
	return out
}

// routeChanges returns the routes at hubs that differ between two nets, of some segments or, for
// nil, of all. Unless moved is nil, only prefixes can be reached otherwise that are one of its
// networks' in either net.
func routeChanges(old, next *paths.Net, segments, moved map[string]bool) (changes []RouteChange) {
	changes = []RouteChange{}
	at := map[string]int{}
	var was, is []hubWay // room for those of one hub after another
	for _, segment := range next.Segments {
		if old.Segment(segment) == paths.None || segments != nil && !segments[segment] {
			continue
		}
		before, after := ways{net: old, segment: old.Segment(segment)}, ways{net: next, segment: next.Segment(segment)}
		before.homes, after.homes = old.RoutedHomes(before.segment), next.RoutedHomes(after.segment)
		if moved != nil {
			some := map[netip.Prefix]bool{}
			before.tell(moved, some)
			after.tell(moved, some)
			before.keep(some)
			after.keep(some)
		}
		for _, hub := range next.Hubs {
			if old.Hub(hub) == paths.None {
				continue
			}
			was, is = before.from(hub, was[:0]), after.from(hub, is[:0])
			eachTurned(was, is, func(prefix netip.Prefix, was, is wayOut) {
				put(at, &changes, RouteChange{Segment: segment, Prefix: prefix.String(), Before: was.words(), After: is.words()}, hub)
			})
		}
	}
	return changes
}

// inOrder returns the first changes of routes, and how many there are beyond those.
func inOrder(changes []RouteChange) (first []RouteChange, more int) {
	slices.SortFunc(changes, func(a, b RouteChange) int {
		return strings.Compare(a.Segment+" "+a.Prefix+a.Before+a.After, b.Segment+" "+b.Prefix+b.Before+b.After)
	})
	more = max(0, len(changes)-maxRoutes)
	return changes[:len(changes)-more], more
}

// wayOut is how a hub reaches a prefix, so that hubs with the same way out have the
// same; the zero one is none.
type wayOut struct {
	kind                   string
	exit, network, leaving string // the hub that it leaves by
}

func (w wayOut) words() string {
	switch w.kind {
	case "exit":
		return "exit " + w.exit
	case "attached":
		return w.network + " at " + w.leaving
	}
	return w.kind
}

// hubWay is a prefix and how it is reached.
type hubWay struct {
	prefix netip.Prefix
	wayOut
}

// ways are those to the homes that hubs have routes to in a segment.
type ways struct {
	net     *paths.Net
	segment int
	homes   []paths.Home
}

// tell notes the prefixes of some networks.
func (x *ways) tell(networks map[string]bool, prefixes map[netip.Prefix]bool) {
	for _, home := range x.homes {
		if home.Network != paths.None && networks[x.net.Networks[home.Network].Name] {
			prefixes[home.Prefix] = true
		}
	}
}

// keep leaves the ways to some prefixes.
func (x *ways) keep(prefixes map[netip.Prefix]bool) {
	x.homes = slices.DeleteFunc(x.homes, func(home paths.Home) bool { return !prefixes[home.Prefix] })
}

// from adds how each prefix is reached from a hub.
func (x *ways) from(hub string, out []hubWay) []hubWay {
	net := x.net
	net.EachHubRoute(x.segment, net.Hub(hub), x.homes, func(home paths.Home, p paths.Path) {
		w := hubWay{prefix: home.Prefix}
		switch {
		case p.Kind == paths.NoPath:
			w.kind = "dead route"
		case home.Network == paths.None:
			w.kind, w.exit = "exit", net.Exits[p.Exit].Name
		default:
			a := &net.Attachments[p.Leave]
			w.kind, w.network, w.leaving = "attached", net.Networks[a.Network].Name, net.Hubs[a.Hub]
		}
		out = append(out, w)
	})
	return out
}

// eachTurned calls f for each prefix that is reached otherwise. Where nearly all is as
// before, so is its order: what is the same up to the first difference, and from the
// last one on, is left aside.
func eachTurned(was, is []hubWay, f func(prefix netip.Prefix, was, is wayOut)) {
	for len(was) > 0 && len(is) > 0 && was[0] == is[0] {
		was, is = was[1:], is[1:]
	}
	for len(was) > 0 && len(is) > 0 && was[len(was)-1] == is[len(is)-1] {
		was, is = was[:len(was)-1], is[:len(is)-1]
	}
	next := make(map[netip.Prefix]wayOut, len(is))
	for _, w := range is {
		next[w.prefix] = w.wayOut
	}
	for _, w := range was {
		if now := next[w.prefix]; now != w.wayOut {
			f(w.prefix, w.wayOut, now)
		}
		delete(next, w.prefix)
	}
	for prefix, now := range next {
		f(prefix, wayOut{}, now)
	}
}

func put(at map[string]int, changes *[]RouteChange, c RouteChange, hub string) {
	key := c.Segment + " " + c.Prefix + " " + c.Before + " " + c.After
	i, ok := at[key]
	if !ok {
		i = len(*changes)
		at[key] = i
		*changes = append(*changes, c)
	}
	(*changes)[i].Hubs = append((*changes)[i].Hubs, hub)
}
