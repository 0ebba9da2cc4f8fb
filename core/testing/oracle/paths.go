package oracle

import (
	"net/netip"
	"slices"
	"sort"
	"strings"

	"bivium/core/estate"
)

// path is a way of M7: its kind ("" for none), and for a hub path its hubs.
type path struct {
	kind    string
	network string // on a local or bypass path; the near one on a peered path
	peer    string
	exit    string
	hubs    []string
	segment string // whose links carry it
}

// attached returns the attachments of a network that are up.
func (w world) attached(network string) []*estate.Attachment {
	var out []*estate.Attachment
	for i := range w.Attachments {
		if w.Attachments[i].Network == network && w.Attachments[i].State == "up" {
			out = append(out, &w.Attachments[i])
		}
	}
	return out
}

// peersOf returns the networks peered with one, in order of name.
func (w world) peersOf(network string) []string {
	var out []string
	for _, p := range w.Peerings {
		if p.Between[0] == network {
			out = append(out, p.Between[1])
		} else if p.Between[1] == network {
			out = append(out, p.Between[0])
		}
	}
	sort.Strings(out)
	return out
}

func (w world) offers(peer, to string) bool {
	return slices.ContainsFunc(w.Peerings, func(p estate.Peering) bool {
		return p.OffersHub == peer && (p.Between == [2]string{peer, to} || p.Between == [2]string{to, peer})
	})
}

// path finds the way from an internal endpoint (M7.1–M7.5).
func (w world) path(src, dst place) path {
	if dst.segment == src.segment && dst.network == src.network {
		return path{kind: "local", network: src.network}
	}
	seen := w.seen(dst, src.segment)  // S4
	if w.shadows(src.network, seen) { // M12.5
		return path{}
	}
	enter, done := w.route(src, dst)
	if done.kind != "" || enter == "" {
		return done
	}
	from := w.entering(src, enter, seen)
	if dst.segment == "" {
		return w.toExit(from, src.segment)
	}
	return w.toHome(from, dst)
}

// entering returns where flows from an endpoint enter, at the attachments of a
// network (M12.3).
func (w world) entering(src place, network string, to netip.Addr) []step {
	var from []step
	for _, a := range w.attached(network) {
		if !within(a.Announces, to) {
			continue
		}
		if !src.inside.IsValid() || network == src.network && w.bearsOut(a, src) {
			from = append(from, step{a.Hub, a.Cost, ""})
		}
	}
	return from
}

// within reports whether a filter lets an address pass: one that is left out lets
// all, and an empty one nothing.
func within(filter []netip.Prefix, a netip.Addr) bool {
	return filter == nil || slices.ContainsFunc(filter, func(p netip.Prefix) bool { return p.Contains(a) })
}

// bearsOut reports whether an attachment translates the subnet of an endpoint (M12.3).
func (w world) bearsOut(a *estate.Attachment, p place) bool {
	n := w.network(p.network)
	for i := range n.Subnets {
		if n.Subnets[i].Name == p.subnet {
			return translates(a, p.segment, &n.Subnets[i]) != nil
		}
	}
	return false
}

// route follows the route table (M7.2, M7.3): the network at whose attachments
// the flow enters, or a path that needs no hub, or neither.
func (w world) route(src, dst place) (enter string, done path) {
	n := w.network(src.network)
	seen := w.seen(dst, src.segment) // S4
	best, via := -1, ""
	for _, r := range n.Routes {
		if r.To.Contains(seen) && r.To.Bits() > best {
			best, via = r.To.Bits(), string(r.Via)
		}
	}
	for _, peer := range w.peersOf(n.Name) {
		if dst.segment != "" && dst.segment == src.segment && !src.inside.IsValid() { // M12.4
			if s := w.subnetOf(peer, dst.segment, dst.addr); s != nil && s.Prefix.Bits() > best && !dst.inside.IsValid() {
				best, via = s.Prefix.Bits(), "peer:"+peer
			}
		}
	}
	if best < 0 { // the implicit default
		if len(w.attached(n.Name)) > 0 {
			return n.Name, path{}
		}
		for _, peer := range w.peersOf(n.Name) {
			if w.offers(peer, n.Name) && len(w.attached(peer)) > 0 {
				return peer, path{}
			}
		}
		return "", path{}
	}
	switch via {
	case "none":
		return "", path{}
	case "internet":
		if dst.segment == "" {
			return "", path{kind: "bypass", network: n.Name}
		}
		return "", path{}
	case "hub":
		if len(w.attached(n.Name)) > 0 {
			return n.Name, path{}
		}
		return "", path{}
	}
	peer := strings.TrimPrefix(via, "peer:")
	shown := dst.segment != "" && (w.shown(dst, src.segment) || w.shown(src, dst.segment)) // M14.5
	if dst.segment != "" && !shown && !dst.inside.IsValid() && w.subnetOf(peer, dst.segment, dst.addr) != nil {
		if src.inside.IsValid() { // M12.4
			return "", path{}
		}
		return "", path{kind: "peered", network: n.Name, peer: peer}
	}
	if w.offers(peer, n.Name) && len(w.attached(peer)) > 0 {
		return peer, path{}
	}
	return "", path{}
}

// step is a hub at which a way can begin or end, what that costs, and the exit
// there, if it is one.
type step struct {
	hub  string
	cost int
	exit string
}

// toHome is M7.4.
func (w world) toHome(from []step, dst place) path {
	byLength := map[int][]step{}
	put := func(a *estate.Attachment, length int) {
		if length >= 0 && within(a.Accepts, dst.addr) {
			byLength[length] = append(byLength[length], step{a.Hub, a.Cost, ""})
		}
	}
	for _, a := range w.attached(dst.network) {
		if dst.inside.IsValid() && !w.bearsOut(a, dst) { // M12.3
			continue
		}
		put(a, max(w.subnetLength(dst), borneLength(a, dst.segment, dst.addr, false)))
	}
	if !dst.inside.IsValid() {
		for _, peer := range w.peersOf(dst.network) {
			for _, a := range w.attached(peer) {
				put(a, borneLength(a, dst.segment, dst.addr, true))
			}
		}
	}
	for length := 128; length >= 0; length-- {
		if p := w.cheapest(from, byLength[length], dst.segment); p.kind != "" {
			return p
		}
	}
	return path{}
}

// subnetLength returns the length of the prefix of an endpoint's subnet, -1 for none.
func (w world) subnetLength(p place) int {
	n := w.network(p.network)
	for i := range n.Subnets {
		if n.Subnets[i].Name == p.subnet {
			return n.Subnets[i].Prefix.Bits()
		}
	}
	return -1
}

// borneLength returns the length of the longest prefix of the segment that an attachment
// bears and that has the address, -1 for none.
func borneLength(a *estate.Attachment, segment string, addr netip.Addr, staticOnly bool) int {
	longest := -1
	for _, s := range a.Static {
		if s.Segment == segment && s.Prefix.Contains(addr) {
			longest = max(longest, s.Prefix.Bits())
		}
	}
	for _, l := range a.Learned {
		if !staticOnly && l.Status == "accepted" && l.Segment == segment && l.Prefix.Contains(addr) {
			longest = max(longest, l.Prefix.Bits())
		}
	}
	return longest
}

// toExit is M7.5.
func (w world) toExit(from []step, segment string) path {
	var to []step
	for _, x := range w.Exits {
		if x.State == "up" && slices.Contains(x.Segments, segment) {
			to = append(to, step{x.Hub, 0, x.Name})
		}
	}
	return w.cheapest(from, to, segment)
}

func (w world) fromExit(exit string, dst place) path {
	for _, x := range w.Exits {
		if x.Name == exit {
			return w.toHome([]step{{x.Hub, 0, ""}}, dst)
		}
	}
	return path{}
}

// cheapest tries every way between every two steps, and takes the least cost;
// of equals the first exit, entering hub, leaving hub, and hubs between.
func (w world) cheapest(from, to []step, segment string) path {
	var best path
	bestCost, bestKey := -1, ""
	for _, a := range from {
		for _, b := range to {
			w.walk([]string{a.hub}, b.hub, segment, 0, func(hubs []string, cost int) {
				cost += a.cost + b.cost
				key := b.exit + " " + a.hub + " " + b.hub + " " + strings.Join(hubs[1:max(1, len(hubs)-1)], " ")
				if bestCost < 0 || cost < bestCost || cost == bestCost && key < bestKey {
					bestCost, bestKey = cost, key
					best = path{kind: "hub", exit: b.exit, hubs: slices.Clone(hubs), segment: segment}
				}
			})
		}
	}
	return best
}

// walk visits every way without a circle over links that carry the segment.
func (w world) walk(hubs []string, end, segment string, cost int, visit func([]string, int)) {
	at := hubs[len(hubs)-1]
	if at == end {
		visit(hubs, cost)
		return
	}
	for _, l := range w.Links {
		if l.State != "up" || len(l.Segments) > 0 && !slices.Contains(l.Segments, segment) {
			continue
		}
		for _, ends := range [][2]string{l.Between, {l.Between[1], l.Between[0]}} {
			if ends[0] == at && !slices.Contains(hubs, ends[1]) {
				w.walk(append(slices.Clone(hubs), ends[1]), end, segment, cost+l.Cost, visit)
			}
		}
	}
}

// back finds the way back (M7.7): its kind, "" for none.
func (w world) back(src, dst place) string {
	if dst.segment == "" {
		return "granted"
	}
	if src.segment == "" {
		enter, _ := w.route(dst, place{addr: src.addr})
		if enter != "" && len(w.entering(dst, enter, src.addr)) > 0 && !w.shadows(dst.network, src.addr) {
			return "hub"
		}
		return ""
	}
	return w.path(dst, src).kind
}

// outcome is M8.
func (w world) outcome(f Flow, src, dst place, way path) Verdict {
	m := w.intended(f, src, dst)
	v := Verdict{Intended: string(m.action), Contested: m.contested, Reason: m.reason}
	var passed []string
	switch {
	case way.kind == "":
		v.Outcome, v.Reason = "unrouted", "no-path"
		return v
	case way.kind != "hub":
		native := w.enforced(src, dst, way)
		switch {
		case m.action == estate.Allow:
			v.Outcome = "allowed"
		case !native:
			v.Outcome, v.Reason = "allowed", "unenforced"
		case m.action == estate.Inspect:
			v.Outcome, v.Reason = "denied", "uninspectable"
		default:
			v.Outcome = "denied"
		}
	case m.action == estate.Deny:
		v.Outcome = "denied"
	case m.action == estate.Allow:
		v.Outcome = "allowed"
	default:
		if passed = w.throughPools(f, src, dst, way, m, &v); v.Outcome == "blocked" {
			v.Pools = strings.Join(passed, ";")
			return v
		}
	}
	if v.Outcome == "allowed" || v.Outcome == "inspected" {
		switch kind := w.back(src, dst); {
		case kind == "":
			v.Outcome, v.Reason = "unrouted", "no-way-back"
		case kind == "peered" && len(passed) > 0:
			v.Outcome, v.Reason = "unrouted", "asymmetric"
		}
	}
	if v.Outcome == "inspected" {
		v.Pools = strings.Join(passed, ";")
	}
	if v.Reason == "policy" || v.Reason == "share" || v.Reason == "guardrail" {
		sort.Strings(m.by)
		v.By = strings.Join(m.by, ";")
	}
	return v
}

// enforces is what a network enforces; nothing in an account that is only observed.
func (w world) enforces(name string) string {
	n := w.network(name)
	for _, a := range w.Accounts {
		if a.Name == n.Account && a.Observed {
			return "none"
		}
	}
	return n.Enforces()
}

// enforced is M8.3, of a path that passes no hub.
func (w world) enforced(src, dst place, way path) bool {
	switch {
	case w.enforces(way.network) == "native":
		return true
	case w.enforces(way.network) == "subnets":
		return way.kind != "local" || src.subnet != dst.subnet
	}
	return way.peer != "" && w.enforces(way.peer) != "none"
}

// throughPools is M8.4 and M8.5. It returns the pools that were passed.
func (w world) throughPools(f Flow, src, dst place, way path, m meant, v *Verdict) []string {
	var passed []string
	for _, name := range m.pools {
		var pool *estate.Pool
		for i := range w.Pools {
			if w.Pools[i].Name == name {
				pool = &w.Pools[i]
			}
		}
		if !w.serves(pool, way) {
			if pool.OnFailure == "open" {
				continue
			}
			v.Outcome, v.Reason = "denied", "no-firewall"
			return passed
		}
		passed = append(passed, name)
		if pool.Rulebook != "" && !w.passes(pool.Rulebook, f, src, dst) {
			v.Outcome, v.Reason, v.By = "blocked", "rulebook", pool.Rulebook
			return passed
		}
	}
	v.Outcome = "inspected"
	if len(passed) == 0 {
		v.Outcome, v.Reason = "allowed", "failed-open"
	}
	return passed
}

// serves reports whether a healthy firewall of the pool can be reached.
func (w world) serves(pool *estate.Pool, way path) bool {
	for _, f := range pool.Firewalls {
		reached := false
		w.walk([]string{way.hubs[0]}, f.Hub, way.segment, 0, func([]string, int) { reached = true })
		if f.State == "healthy" && (reached || slices.Contains(way.hubs, f.Hub)) {
			return true
		}
	}
	return false
}

func (w world) passes(book string, f Flow, src, dst place) bool {
	for _, b := range w.Rulebooks {
		if b.Name != book {
			continue
		}
		for _, r := range b.Rules {
			if w.contains(r.Services, f) && w.inSide(r.From, src, true) && w.inSide(r.To, dst, true) {
				return r.Action == "pass"
			}
		}
	}
	return false
}
