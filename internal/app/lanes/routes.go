package lanes

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"bivium/core/estate"
	"bivium/core/inventory"
	"bivium/core/membership"
	"bivium/core/paths"
	"bivium/core/query"
	"bivium/core/wiring"
	"bivium/internal/app/view"
	"bivium/internal/wording"
)

// Routes is a route table: of a segment at a hub, or of a network.
type Routes struct {
	Revision int64        `json:"revision"`
	Segment  string       `json:"segment"`
	Hub      string       `json:"hub"`
	Network  string       `json:"network"`
	Total    int          `json:"total"` // before anything was looked for
	Rows     []RouteRow   `json:"rows"`
	Waiting  []WaitingRow `json:"waiting"` // learned prefixes that are not accepted, or gone
	More     int          `json:"more"`    // such prefixes that are not listed
}

// RouteRow is a route.
type RouteRow struct {
	Prefix string       `json:"prefix"`
	Origin string       `json:"origin"`
	Of     view.Thing   `json:"of"`   // the network, exit or share that it comes from
	Next   string       `json:"next"` // the next hop
	Path   string       `json:"path"` // hub by hub
	Cost   int          `json:"cost"`
	State  string       `json:"state"` // ok, nowhere, one-way, past or unused
	Why    string       `json:"why"`
	Remedy *view.Remedy `json:"remedy"` // what would fix it
	Wins   bool         `json:"wins"`   // it is the longest match of the address that was looked for
	// Account says how an entry of a network's own table stands in its account:
	// same, missing or only there; "" where the account was not read.
	Account string `json:"account"`
}

// HubRoutes returns the table of a segment at a hub. find is an address, a prefix,
// or part of a name; "" for everything.
func HubRoutes(s *view.Snapshot, segment, hub, find string) (*Routes, error) {
	net := s.Judge.Net
	seg, at := net.Segment(segment), net.Hub(hub)
	if seg == paths.None {
		return nil, &view.Problem{At: "segment", Message: fmt.Sprintf("unknown segment %q", segment), Fix: "use one that exists"}
	}
	if at == paths.None {
		return nil, &view.Problem{At: "hub", Message: fmt.Sprintf("unknown hub %q", hub), Fix: "use one that exists"}
	}
	out := &Routes{Revision: s.Revision, Segment: segment, Hub: hub}
	listLearned(s, out, func(l *WaitingRow) bool { return l.Segment == segment && l.Hub == hub })
	var prefixes []netip.Prefix
	for _, r := range net.HubTable(seg, at) {
		out.Rows = append(out.Rows, hubRow(s, &r, seg))
		prefixes = append(prefixes, r.Prefix)
	}
	way := func(end *membership.Endpoint) string { // in the words of its row
		path := net.FromHub(at, s.Judge.Target(end, seg))
		var row RouteRow
		describe(s, &row, &path)
		return fmt.Sprint(path.Kind, path.Absence, " ", row.Next, " ", row.Cost)
	}
	for _, x := range query.BroughtInto(s.Matrix, seg, way) {
		path := net.FromHub(at, s.Judge.Target(&x.End, seg))
		for _, p := range x.Prefixes {
			row := RouteRow{Prefix: p.String(), Origin: "shared", Of: view.Thing{Kind: "share", Name: strings.Join(x.Shares, ", ")}, State: "ok"}
			describe(s, &row, &path)
			if path.Kind == paths.NoPath {
				row.State, row.Why = "nowhere", absenceWords(s, path.Absence, x.End.Home.Network, p, seg)
			}
			out.Rows = append(out.Rows, row)
			prefixes = append(prefixes, p)
		}
	}
	out.choose(prefixes, find)
	return out, nil
}

// choose keeps the rows that fit what is looked for, the longest match of an
// address first.
func (r *Routes) choose(prefixes []netip.Prefix, find string) {
	r.Total = len(r.Rows)
	order := make([]int, len(r.Rows))
	for i := range order {
		order[i] = i
	}
	find = strings.ToLower(strings.TrimSpace(find))
	if a, err := netip.ParseAddr(find); err == nil {
		order = slices.DeleteFunc(order, func(i int) bool { return !prefixes[i].Contains(a) })
		slices.SortStableFunc(order, func(i, k int) int { return prefixes[k].Bits() - prefixes[i].Bits() })
		if len(order) > 0 {
			r.Rows[order[0]].Wins = true
		}
	} else {
		slices.SortStableFunc(order, func(i, k int) int {
			if c := prefixes[i].Addr().Compare(prefixes[k].Addr()); c != 0 {
				return c
			}
			return prefixes[i].Bits() - prefixes[k].Bits()
		})
		wanted, err := netip.ParsePrefix(find)
		order = slices.DeleteFunc(order, func(i int) bool {
			if err == nil {
				return !prefixes[i].Overlaps(wanted)
			}
			row := &r.Rows[i]
			return find != "" && !strings.Contains(strings.Join([]string{row.Prefix, row.Of.Name, row.Origin, row.State, row.Next}, " "), find)
		})
	}
	rows := make([]RouteRow, len(order))
	for i, k := range order {
		rows[i] = r.Rows[k]
	}
	r.Rows = rows
}

func hubRow(s *view.Snapshot, r *paths.HubRoute, segment int) RouteRow {
	net := s.Judge.Net
	row := RouteRow{Prefix: r.Prefix.String(), Origin: string(r.Origin), State: "ok"}
	describe(s, &row, &r.Path)
	if r.Home.Network == paths.None {
		row.Of = view.Thing{Kind: "exit", Name: net.Exits[r.Path.Exit].Name}
		return row
	}
	name := net.Networks[r.Home.Network].Name
	row.Of = view.Thing{Kind: "network", Name: name}
	if inside := net.InsidePrefix(r.Home); inside != r.Prefix {
		row.Why = "translated from " + inside.String()
	}
	switch {
	case r.Path.Kind == paths.NoPath:
		row.State, row.Why = "nowhere", absenceWords(s, r.Path.Absence, r.Home.Network, r.Prefix, segment)
		row.Remedy = remedyForDeadRoute(s, r, segment)
	case r.OneWay != paths.None:
		row.State = "one-way"
		row.Why = fmt.Sprintf("no return path to %s: %s", net.Networks[r.OneWay].Name, absenceWords(s, r.Reply.Absence, r.Home.Network, r.Prefix, segment))
		row.Remedy = remedyForReply(s, r)
	}
	return row
}

// describe fills in where a path leads.
func describe(s *view.Snapshot, row *RouteRow, p *paths.Path) {
	net := s.Judge.Net
	if p.Kind == paths.NoPath {
		return
	}
	var hubs []string
	for _, h := range p.Hubs {
		hubs = append(hubs, net.Hubs[h])
	}
	row.Path, row.Cost = strings.Join(hubs, " › "), p.Cost
	switch {
	case len(hubs) > 1:
		row.Next = hubs[1]
	case p.Leave != paths.None:
		row.Next = net.Networks[net.Attachments[p.Leave].Network].Name
	case p.Exit != paths.None:
		row.Next = net.Exits[p.Exit].Name
	}
}

// absenceWords says why there is no path from or to a network, for a destination prefix.
func absenceWords(s *view.Snapshot, a paths.Absence, network int, prefix netip.Prefix, segment int) string {
	in := estate.Ref{}
	if segment != paths.None {
		in = wording.Ref(estate.KindSegment, s.Judge.Net.Segments[segment])
	}
	return wording.Plain(wording.NoPathBecause(a.String(), wording.Missing{
		Network: wording.Ref(estate.KindNetwork, s.Judge.Net.Networks[network].Name), Peer: wording.Ref("", "a peer"),
		Source: wording.Ref("", "the source addresses"), Destination: wording.Ref("", prefix.String()), Segment: in,
	}))
}

// remedyForDeadRoute returns what would make a prefix reachable: a neighbour that bears
// it, if there is one.
func remedyForDeadRoute(s *view.Snapshot, r *paths.HubRoute, segment int) *view.Remedy {
	net := s.Judge.Net
	home := &net.Networks[r.Home.Network]
	if r.Path.Absence != paths.FarNotAttached {
		return nil
	}
	for _, p := range home.Peers {
		near := &net.Networks[p.Network]
		if len(near.Attachments) == 0 {
			continue
		}
		hub := net.Hubs[net.Attachments[near.Attachments[0]].Hub]
		return &view.Remedy{
			Words: fmt.Sprintf("on %s, which is peered with %s, announce %s at %s", near.Name, home.Name, r.Prefix, hub),
			Edits: []wiring.Edit{{Op: wiring.Bring, Network: near.Name, Hub: hub, Prefix: r.Prefix, Segment: net.Segments[segment]}},
		}
	}
	return nil
}

// remedyForReply returns what would lead replies back.
func remedyForReply(s *view.Snapshot, r *paths.HubRoute) *view.Remedy {
	net := s.Judge.Net
	home := &net.Networks[r.Home.Network]
	switch r.Reply.Absence {
	case paths.NoEntry, paths.PeerEnds:
		for _, p := range home.Peers {
			if near := &net.Networks[p.Network]; len(near.Attachments) > 0 && !p.Offers {
				return &view.Remedy{
					Words: fmt.Sprintf("offer the hub of %s to %s", near.Name, home.Name),
					Edits: []wiring.Edit{{Op: wiring.OfferHub, Network: near.Name, Other: home.Name}},
				}
			}
		}
	case paths.RouteToNone, paths.InternetForInside:
		if r.Reply.Entry.Explicit && len(home.Attachments) > 0 {
			return &view.Remedy{
				Words: fmt.Sprintf("route %s of %s to the hub", r.Reply.Entry.Prefix, home.Name),
				Edits: []wiring.Edit{{Op: wiring.SetRoute, Network: home.Name, Prefix: r.Reply.Entry.Prefix, Via: "hub"}},
			}
		}
	}
	return nil
}

// NetworkRoutes returns the table of a network, for the segments that it lives in.
func NetworkRoutes(s *view.Snapshot, network, find string) (*Routes, error) {
	net := s.Judge.Net
	at := net.Network(network)
	if at == paths.None {
		return nil, &view.Problem{At: "network", Message: fmt.Sprintf("unknown network %q", network), Fix: "use one that exists"}
	}
	out := &Routes{Revision: s.Revision, Network: network}
	listLearned(s, out, func(l *WaitingRow) bool { return l.Network == network })
	var prefixes []netip.Prefix
	seen := map[string]bool{}
	segments := []int{paths.None}
	for _, i := range net.Networks[at].Subnets {
		segments = append(segments, net.Subnets[i].Segment)
	}
	slices.Sort(segments)
	for _, segment := range slices.Compact(segments) {
		for _, r := range net.NetworkTable(at, segment) {
			row := networkRow(s, network, &r)
			if key := row.Prefix + " " + row.Next + row.Origin; !seen[key] {
				seen[key] = true
				out.Rows = append(out.Rows, row)
				prefixes = append(prefixes, r.Prefix)
			}
		}
	}
	for _, r := range besideAccount(s, network, out.Rows) {
		out.Rows = append(out.Rows, RouteRow{
			Prefix: r.To.String(), Origin: "account", Of: view.Thing{Kind: "network", Name: network}, Next: string(r.Via), State: "unused", Account: "only",
			Why:    "only in the account, not in Bivium",
			Remedy: &view.Remedy{Words: fmt.Sprintf("import route %s via %s", r.To, r.Via), Edits: []wiring.Edit{{Op: wiring.SetRoute, Network: network, Prefix: r.To, Via: r.Via}}},
		})
		prefixes = append(prefixes, r.To)
	}
	out.choose(prefixes, find)
	return out, nil
}

// besideAccount says of the explicit rows of a network's table how they stand in
// its account, if that was read, and returns what only the account has.
func besideAccount(s *view.Snapshot, network string, rows []RouteRow) []estate.Route {
	i := slices.IndexFunc(s.Known, func(k inventory.Known) bool { return k.Kind == inventory.NetworkKind && k.Name == network && k.Tabled })
	if i < 0 {
		return nil
	}
	only := slices.Clone(s.Known[i].Routes)
	for k := range rows {
		if rows[k].Origin != string(paths.OriginExplicit) {
			continue
		}
		at := slices.IndexFunc(only, func(r estate.Route) bool { return r.To.String() == rows[k].Prefix && string(r.Via) == rows[k].Next })
		if rows[k].Account = "missing"; at >= 0 {
			rows[k].Account = "same"
			only = slices.Delete(only, at, at+1)
		}
	}
	return only
}

func networkRow(s *view.Snapshot, network string, r *paths.NetworkRoute) RouteRow {
	row := RouteRow{Prefix: r.Prefix.String(), Origin: string(r.Origin), Of: view.Thing{Kind: "network", Name: network}, Next: string(r.Via), State: "ok"}
	if peer, ok := r.Via.Peer(); ok {
		row.Of = view.Thing{Kind: "network", Name: peer}
	}
	at := s.Judge.Net.Network(network)
	attached := len(s.Judge.Net.Networks[at].Attachments) > 0
	switch {
	case r.Unused:
		row.State, row.Why = "unused", "overridden by an explicit route for this prefix"
	case r.Absence == paths.RouteToNone:
		row.State, row.Why = "nowhere", "drops what it matches (next hop none)"
	case r.Absence != paths.Present:
		row.State, row.Why = "nowhere", absenceWords(s, r.Absence, at, r.Prefix, paths.None)
	case r.Past && r.Origin == paths.OriginExplicit && r.Via == "internet":
		row.State, row.Why = "past", "leaves the network directly and bypasses every hub and firewall"
		if attached {
			row.Remedy = &view.Remedy{Words: fmt.Sprintf("protect the network: route %s to its hub", r.Prefix), Edits: []wiring.Edit{{Op: wiring.SetRoute, Network: network, Prefix: r.Prefix, Via: "hub"}}}
		}
	case r.Past:
		row.State, row.Why = "past", "peering: bypasses every hub"
	}
	return row
}
