package config

import (
	"cmp"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strings"

	"bivium/core/estate"
	"bivium/core/space"
)

// Target is what one target holds, as lists to be read.
type Target struct {
	Kind     string // segment (a match list, the same at every hub), hub, pool or network
	Name     string
	Provider string
	Account  string
	Listings []Listing
}

// Listing is one list of a target, in the order in which it is asked. Lines are made when they are
// asked for: all of a large estate at once would take gigabytes.
type Listing struct {
	On    string   // the subnet or list that it is; "" for the whole
	Bears []string // the workloads that bear it
	Limit int      // how many lines it may have; 0 for any number
	Bound int      // how many it must have at least; 0 where that is not known

	// One of these.
	lines   []Line
	matches []HubRule
	rules   []Rule
	entries []Entry
}

// Len returns how many lines the listing has.
func (l *Listing) Len() int { return len(l.lines) + len(l.matches) + len(l.rules) + len(l.entries) }

// Line returns a line, the first being 0.
func (l *Listing) Line(i int) Line {
	switch {
	case l.matches != nil:
		r := &l.matches[i]
		return Line{Place: i + 1, Verb: string(r.Verb), From: r.From, To: r.To, Services: ServiceWords(r.Services), Through: r.Through, For: r.For}
	case l.rules != nil:
		return ruleLine(&l.rules[i])
	case l.entries != nil:
		return entryLine(&l.entries[i], i+1)
	}
	return l.lines[i]
}

// For returns what a line is for.
func (l *Listing) For(i int) []Ref {
	switch {
	case l.matches != nil:
		return l.matches[i].For
	case l.rules != nil:
		return l.rules[i].For
	case l.entries != nil:
		return l.entries[i].For
	}
	return l.lines[i].For
}

// Line is one rule, route or entry of a listing.
type Line struct {
	Place    int
	Way      string // in or out; "" for what has no direction
	Verb     string
	From, To []End // nil for everybody
	Services []string
	Through  []Step
	For      []Ref
}

// Rules returns how many lines all listings of a target have, and how few they could have as
// far as that is known.
func (t *Target) Rules() (rules, bound int) {
	for i := range t.Listings {
		l := &t.Listings[i]
		rules += l.Len()
		bound += cmp.Or(l.Bound, l.Len())
	}
	return rules, bound
}

// Targets returns what each target holds: match lists, hubs, pools and networks, each by name.
// Workloads says in which network each workload is.
func (c *Config) Targets(workloads []estate.Workload) []Target {
	var out []Target
	c.Each(workloads, func(t Target) { out = append(out, t) })
	return out
}

// Each calls f for what Targets returns, one target after another: that of a large estate takes
// gigabytes.
func (c *Config) Each(workloads []estate.Workload, f func(Target)) {
	for i := range c.Segments {
		f(segmentTarget(&c.Segments[i]))
	}
	for i := range c.Hubs {
		f(hubTarget(&c.Hubs[i]))
	}
	for i := range c.Pools {
		f(poolTarget(&c.Pools[i]))
	}
	bears := c.bearers(workloads)
	for i := range c.Networks {
		f(c.networkTarget(&c.Networks[i], bears[c.Networks[i].Name]))
	}
}

// Target returns what one target holds, and whether there is one of the kind and name.
func (c *Config) Target(kind, name string, workloads []estate.Workload) (Target, bool) {
	switch kind {
	case "segment":
		if i := slices.IndexFunc(c.Segments, func(s Segment) bool { return s.Name == name }); i >= 0 {
			return segmentTarget(&c.Segments[i]), true
		}
	case "hub":
		if i := slices.IndexFunc(c.Hubs, func(h Hub) bool { return h.Name == name }); i >= 0 {
			return hubTarget(&c.Hubs[i]), true
		}
	case "pool":
		if i := slices.IndexFunc(c.Pools, func(p Pool) bool { return p.Name == name }); i >= 0 {
			return poolTarget(&c.Pools[i]), true
		}
	case "network":
		if i := slices.IndexFunc(c.Networks, func(n Network) bool { return n.Name == name }); i >= 0 {
			return c.networkTarget(&c.Networks[i], c.bearers(workloads)[name]), true
		}
	}
	return Target{}, false
}

// bearers returns, by network and by the place of a list in its account, the workloads that bear it.
func (c *Config) bearers(workloads []estate.Workload) map[string]map[int][]string {
	in := make(map[string]string, len(workloads))
	for i := range workloads {
		in[workloads[i].Name] = workloads[i].Network
	}
	out := map[string]map[int][]string{}
	for i := range c.Accounts {
		place := make(map[string]int, len(c.Accounts[i].Lists))
		for k := range c.Accounts[i].Lists {
			place[c.Accounts[i].Lists[k].Name] = k
		}
		for _, b := range c.Accounts[i].Bindings {
			network, known := in[b.Workload]
			if !known {
				continue
			}
			if out[network] == nil {
				out[network] = map[int][]string{}
			}
			for _, l := range b.Lists {
				if k, there := place[l]; there {
					out[network][k] = append(out[network][k], b.Workload)
				}
			}
		}
	}
	return out
}

// Named returns what the targets of a name hold: a segment, a pool or a network.
func (c *Config) Named(name string) []Target {
	var out []Target
	for i := range c.Segments {
		if c.Segments[i].Name == name {
			out = append(out, segmentTarget(&c.Segments[i]))
		}
	}
	for i := range c.Pools {
		if c.Pools[i].Name == name {
			out = append(out, poolTarget(&c.Pools[i]))
		}
	}
	for i := range c.Networks {
		if n := &c.Networks[i]; n.Name == name {
			t := c.networkTarget(n, nil)
			for k := range c.Accounts {
				if c.Accounts[k].Name == n.Account && n.Provider == Cirra {
					t.Listings = append(t.Listings, c.Accounts[k].listings()...)
				}
			}
			out = append(out, t)
		}
	}
	return out
}

// listings returns all lists of an account.
func (a *Account) listings() []Listing {
	var out []Listing
	for i := range a.Lists {
		out = append(out, Listing{On: a.Lists[i].Name, Limit: CirraEntries, entries: a.Lists[i].Entries})
	}
	return out
}

// Words returns a line as text without its place and what it is for.
func (l *Line) Words() string {
	bare := *l
	bare.For = nil
	return strings.TrimSpace(bare.Text()[len("00000"):])
}

func segmentTarget(s *Segment) Target {
	l := Listing{Bound: s.Bound, matches: s.Rules}
	imports := Listing{On: "imports"}
	for i, x := range s.Imports {
		imports.lines = append(imports.lines, Line{Place: i + 1, Verb: "import", From: []End{{Segment: x.Of, Set: single(x.Own)}}, To: []End{{Set: single(x.Seen)}}})
	}
	out := Target{Kind: "segment", Name: s.Name, Listings: []Listing{l}}
	if len(imports.lines) > 0 {
		out.Listings = append(out.Listings, imports)
	}
	return out
}

func single(p netip.Prefix) *Set { return &Set{Prefixes: []netip.Prefix{p}} }

func hubTarget(h *Hub) Target {
	out := Target{Kind: "hub", Name: h.Name}
	links := Listing{On: "links"}
	for i, l := range h.Links {
		other := l.Between[0]
		if other == h.Name {
			other = l.Between[1]
		}
		links.lines = append(links.lines, Line{Place: i + 1, Verb: fmt.Sprintf("link to %s, cost %d", other, l.Cost)})
	}
	out.Listings = append(out.Listings, links)
	for _, a := range h.Attachments {
		l := Listing{On: "attachment " + a.Name}
		for i, r := range a.Routes {
			l.lines = append(l.lines, Line{Place: i + 1, Verb: "route", To: []End{{Segment: r.Segment, Set: single(r.Prefix)}}})
		}
		for _, t := range a.Translate {
			l.lines = append(l.lines, Line{Place: len(l.lines) + 1, Verb: "translate", From: []End{{Set: single(t.Inside)}}, To: []End{{Segment: t.Segment, Set: single(t.Outside)}}})
		}
		l.lines = append(l.lines, filter(len(l.lines), "accept", a.Accepts)...)
		l.lines = append(l.lines, filter(len(l.lines), "announce", a.Announces)...)
		out.Listings = append(out.Listings, l)
	}
	exits := Listing{On: "exits"}
	for i, x := range h.Exits {
		exits.lines = append(exits.lines, Line{Place: i + 1, Verb: fmt.Sprintf("exit %s for %s", x.Name, strings.Join(x.Segments, ", "))})
	}
	for _, p := range h.Publications {
		exits.lines = append(exits.lines, Line{
			Place: len(exits.lines) + 1, Way: "in", Verb: fmt.Sprintf("publish %s at %s", p.Address, p.Exit), To: []End{{Segment: p.Segment, Set: &Set{Prefixes: p.To}}}, Services: ServiceWords(p.Services),
			For: []Ref{{Kind: estate.KindPublication, Name: p.Name}},
		})
	}
	if len(exits.lines) > 0 {
		out.Listings = append(out.Listings, exits)
	}
	return out
}

func filter(before int, verb string, p []netip.Prefix) []Line {
	if p == nil {
		return nil
	}
	return []Line{{Place: before + 1, Verb: verb + " only", To: []End{{Set: &Set{Prefixes: p}}}}}
}

func poolTarget(p *Pool) Target {
	l := Listing{On: p.Rulebook}
	for i := range p.Rules {
		r := &p.Rules[i]
		line := Line{Place: i + 1, Verb: r.Verb, From: r.From, To: r.To, Services: ServiceWords(r.Services), For: []Ref{{estate.KindRulebook, p.Rulebook, r.Number}}}
		if r.Any[0] {
			line.From = nil
		}
		if r.Any[1] {
			line.To = nil
		}
		l.lines = append(l.lines, line)
	}
	return Target{Kind: "pool", Name: p.Name, Listings: []Listing{l}}
}

func (c *Config) networkTarget(n *Network, bears map[int][]string) Target {
	out := Target{Kind: "network", Name: n.Name, Provider: n.Provider, Account: n.Account}
	for i := range n.Lists {
		l := &n.Lists[i]
		out.Listings = append(out.Listings, Listing{On: l.On, Bound: l.Bound, Limit: map[string]int{Velum: VelumRules, Stratok: StratokRules}[n.Provider], rules: l.Rules})
	}
	if n.Provider == Cirra {
		out.Listings = append(out.Listings, c.entryListings(n, bears)...)
	}
	routes := Listing{On: "routes"}
	for i, r := range n.Routes {
		routes.lines = append(routes.lines, Line{Place: i + 1, Verb: "route via " + string(r.Via), To: []End{{Set: single(r.To)}}})
	}
	if len(routes.lines) > 0 {
		out.Listings = append(out.Listings, routes)
	}
	return out
}

func ruleLine(r *Rule) Line {
	own, peer := sides(r.Own), sides(r.Peer)
	l := Line{Place: r.Order, Way: "in", Verb: "deny", From: peer, To: own, Services: ServiceWords(r.Services), For: r.For}
	if r.Out {
		l.Way, l.From, l.To = "out", own, peer
	}
	if r.Allow {
		l.Verb = "allow"
	}
	return l
}

func sides(sets []*Set) []End {
	var out []End
	for _, s := range sets {
		out = append(out, End{Set: s})
	}
	return out
}

// entryListings returns the lists that workloads of a network of Cirra bear. Entries that
// differ in their peers alone stand in one line, at the place of the first.
func (c *Config) entryListings(n *Network, bears map[int][]string) []Listing {
	i := slices.IndexFunc(c.Accounts, func(a Account) bool { return a.Name == n.Account })
	if i < 0 {
		return nil
	}
	lists := c.Accounts[i].Lists
	places := slices.Collect(maps.Keys(bears))
	for _, name := range c.Accounts[i].Default {
		if k, there := slices.BinarySearchFunc(lists, name, func(l EntryList, name string) int { return strings.Compare(l.Name, name) }); there && bears[k] == nil {
			places = append(places, k)
		}
	}
	slices.Sort(places)
	var out []Listing
	for _, k := range places {
		out = append(out, Listing{On: lists[k].Name, Bears: bears[k], Limit: CirraEntries, entries: lists[k].Entries})
	}
	return out
}

func entryLine(e *Entry, place int) Line {
	peer := []End{{Set: single(e.Peer)}}
	if e.Peers != "" {
		peer = []End{{Set: &Set{Name: e.Peers}}}
	}
	l := Line{Place: place, Way: "in", Verb: "allow", From: peer, Services: ServiceWords([]space.Box{e.Service}), For: e.For}
	if e.Out {
		l.Way, l.From, l.To = "out", nil, peer
	}
	return l
}

// ServiceWords returns services as terms: "tcp/443", "udp", "proto/47", "any". Nil stands for
// all of them.
func ServiceWords(boxes []space.Box) []string {
	if boxes == nil {
		return []string{"any"}
	}
	out := make([]string, len(boxes))
	for i, b := range boxes {
		out[i] = serviceWord(b)
	}
	return out
}

func serviceWord(b space.Box) string {
	word := fmt.Sprintf("proto/%d-%d", b.FirstProtocol, b.LastProtocol)
	switch {
	case b.FirstProtocol == 0 && b.LastProtocol == 255:
		word = "any"
	case b.FirstProtocol == b.LastProtocol:
		word = estate.ProtocolName(b.FirstProtocol)
	}
	ports, sources := estate.PortsOf(b.FirstProtocol)
	if b.Ports != ports && b.Ports != estate.AllPorts {
		word += "/" + portsWord(b.Ports)
	}
	if b.SourcePorts != sources && b.SourcePorts != estate.AllPorts {
		word += " from " + portsWord(b.SourcePorts)
	}
	return word
}

func portsWord(r estate.Range) string {
	if r.Lo == r.Hi {
		return fmt.Sprint(r.Lo)
	}
	return fmt.Sprintf("%d-%d", r.Lo, r.Hi)
}

// Text returns a line as text: what it does, of whom, to whom, which services, and what for.
// Sets that have a name stand under it; see SetText.
func (l *Line) Text() string {
	parts := []string{fmt.Sprintf("%5d", l.Place)}
	if l.Way != "" {
		parts = append(parts, fmt.Sprintf("%-3s", l.Way))
	}
	parts = append(parts, l.Verb)
	for _, s := range l.Through {
		parts = append(parts, "through "+s.Pool+" ("+s.OnFailure+")")
	}
	if len(l.Services) > 0 {
		parts = append(parts, strings.Join(l.Services, " "))
	}
	if l.Services != nil || l.From != nil {
		parts = append(parts, "from", endsText(l.From))
	}
	if l.Services != nil || l.To != nil {
		parts = append(parts, "to", endsText(l.To))
	}
	text := strings.Join(parts, " ")
	for i, r := range l.For {
		if i == 0 {
			text += "  # "
		} else {
			text += ", "
		}
		text += r.String()
	}
	return text
}

// String returns what a rule is for, in words.
func (r Ref) String() string {
	if r.Rule == 0 {
		if r.Kind == estate.KindSegment {
			return "default of segment " + r.Name
		}
		return string(r.Kind) + " " + r.Name
	}
	return fmt.Sprintf("%s %s rule %d", r.Kind, r.Name, r.Rule)
}

// inline is how many prefixes of a set stand in a line itself.
const inline = 8

func endsText(ends []End) string {
	if ends == nil {
		return "any"
	}
	var out []string
	for _, e := range ends {
		before := ""
		if e.Segment != "" {
			before = e.Segment + ":"
		}
		if e.Exit != "" {
			before = "internet by " + e.Exit + ":"
		}
		switch {
		case e.Set == nil:
			out = append(out, before+"any")
		case e.Set.Name != "" && len(e.Set.Prefixes) > inline:
			out = append(out, before+"<"+e.Set.Name+">")
		case len(e.Set.Prefixes) == 0:
			out = append(out, before+"those with list "+e.Set.Name)
		default:
			for _, p := range e.Set.Prefixes {
				out = append(out, before+p.String())
			}
		}
	}
	return strings.Join(out, ",")
}

// Text returns what a target holds as text that can be compared line by line: each list, and
// behind them the sets that they name.
func (t *Target) Text() string {
	var b strings.Builder
	title := t.Kind + " " + t.Name
	if t.Provider != "" {
		title += " (" + t.Provider + ", account " + t.Account + ")"
	}
	fmt.Fprintln(&b, title)
	sets := map[string]*Set{}
	for _, l := range t.Listings {
		if l.On != "" {
			fmt.Fprintf(&b, "  %s", l.On)
			if len(l.Bears) > 0 {
				fmt.Fprintf(&b, " on %s", strings.Join(l.Bears, ", "))
			}
			fmt.Fprintln(&b)
		}
		for i := range l.Len() {
			line := l.Line(i)
			fmt.Fprintln(&b, "  "+line.Text())
			for _, e := range slices.Concat(line.From, line.To) {
				if e.Set != nil && e.Set.Name != "" && len(e.Set.Prefixes) > inline {
					sets[e.Set.Name] = e.Set
				}
			}
		}
	}
	names := make([]string, 0, len(sets))
	for name := range sets {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		fmt.Fprintf(&b, "  set <%s>\n", name)
		for _, p := range sets[name].Prefixes {
			fmt.Fprintf(&b, "    %s\n", p)
		}
	}
	return b.String()
}
