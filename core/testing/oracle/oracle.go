// Package oracle judges one flow at a time, slowly and plainly, straight from
// the words of the model and on the estate as it was read: lists are searched
// from end to end, nothing is compiled and nothing is kept. It is the second
// opinion in the tests of the fast code, and shares no code with it beyond the
// estate itself. It is meant for estates without faults.
package oracle

import (
	"net/netip"
	"slices"
	"sort"
	"strings"

	"bivium/core/estate"
)

// Flow is one flow. Segment is "internet" for an external source.
type Flow struct {
	Segment             string
	Source, Destination netip.Addr
	Protocol            uint8
	SourcePort, Port    uint16
	Publication         string
}

// Verdict is what `bivium verdicts` writes of a flow, lists joined by ";".
type Verdict struct {
	Outcome, Intended, Pools, Reason, By string
	Contested                            bool
}

// place is an endpoint: where it is, or, external, by which exit.
type place struct {
	addr     netip.Addr
	inside   netip.Prefix // of its subnet, if that is translated
	segment  string       // "" for external
	network  string
	subnet   string // "" where the home is that of a prefix
	workload *estate.Workload
	exit     string
}

type world struct{ *estate.Estate }

// Judge returns the verdict on a flow.
func Judge(e *estate.Estate, f Flow) Verdict {
	w := world{e}
	unknown := Verdict{Outcome: "unrouted", Reason: "unknown"}
	if !possible(f) { // M2.4
		return unknown
	}
	var src, dst place
	var way path
	if f.Segment == "internet" {
		if isPrivate(f.Source) {
			return unknown
		}
		pub := w.publicationFor(f)
		if pub == nil {
			if !w.homeAnywhere(f.Destination) {
				return unknown
			}
			return Verdict{Outcome: "unrouted", Intended: "deny", Reason: "no-path"} // M7.6
		}
		src = place{addr: f.Source, exit: pub.Exit}
		dst, _ = w.home(pub.To.Segment, f.Destination)
		way = w.fromExit(pub.Exit, dst)
	} else {
		var ok bool
		if src, ok = w.home(f.Segment, f.Source); !ok {
			return unknown
		}
		if dst, ok = w.lookup(f.Segment, f.Destination); !ok {
			return unknown
		}
		way = w.path(src, dst)
		if dst.segment == "" {
			dst.exit = way.exit
		}
	}
	return w.outcome(f, src, dst, way)
}

func possible(f Flow) bool {
	if f.Source == f.Destination || f.Source.Is4() != f.Destination.Is4() {
		return false
	}
	switch f.Protocol {
	case 6, 17:
		return true
	case 1, 58:
		return f.SourcePort == 0 && f.Port <= 255
	}
	return f.SourcePort == 0 && f.Port == 0
}

func isPrivate(a netip.Addr) bool { // M2.3
	for _, s := range strings.Fields("0.0.0.0/8 10.0.0.0/8 100.64.0.0/10 127.0.0.0/8 169.254.0.0/16 172.16.0.0/12 192.168.0.0/16 224.0.0.0/3 ::/8 fc00::/7 fe80::/10 ff00::/8") {
		if netip.MustParsePrefix(s).Contains(a) {
			return true
		}
	}
	return false
}

func (w world) network(name string) *estate.Network {
	for i := range w.Networks {
		if w.Networks[i].Name == name {
			return &w.Networks[i]
		}
	}
	return nil
}

// subnetOf returns the subnet of a network, in a segment, that has the address
// there: the outside address, where it is translated (M12.2).
func (w world) subnetOf(network, segment string, a netip.Addr) *estate.Subnet {
	n := w.network(network)
	for i := range n.Subnets {
		s := &n.Subnets[i]
		if n.SegmentOf(s) != segment {
			continue
		}
		t := w.translation(network, segment, s)
		if t == nil && s.Prefix.Contains(a) || t != nil && t.Outside.Contains(a) && s.Prefix.Contains(swap(a, t.Outside, t.Inside)) {
			return s
		}
	}
	return nil
}

// translation returns the translation of a subnet in a segment, or nil.
func (w world) translation(network, segment string, s *estate.Subnet) *estate.Translation {
	for i := range w.Attachments {
		if w.Attachments[i].Network == network {
			if t := translates(&w.Attachments[i], segment, s); t != nil {
				return t
			}
		}
	}
	return nil
}

// translates returns the translation of a subnet that an attachment makes, or nil.
func translates(a *estate.Attachment, segment string, s *estate.Subnet) *estate.Translation {
	for i := range a.Translate {
		t := &a.Translate[i]
		if t.Segment == segment && t.Inside.Contains(s.Prefix.Addr()) && t.Inside.Bits() <= s.Prefix.Bits() {
			return t
		}
	}
	return nil
}

// swap returns the address in one prefix that stands where another stands in
// another prefix of its length (M12.1), bit by bit.
func swap(a netip.Addr, from, to netip.Prefix) netip.Addr {
	x, y := a.As16(), to.Addr().As16()
	first := 0
	if a.Is4() {
		first = 96
	}
	for bit := first; bit < first+from.Bits(); bit++ {
		mask := byte(1) << (7 - bit%8)
		x[bit/8] = x[bit/8]&^mask | y[bit/8]&mask
	}
	out := netip.AddrFrom16(x)
	if a.Is4() {
		return out.Unmap()
	}
	return out
}

// shadows reports whether a network has an address inside a translated subnet of
// its own (M12.5).
func (w world) shadows(network string, a netip.Addr) bool {
	n := w.network(network)
	for i := range n.Subnets {
		s := &n.Subnets[i]
		if s.Prefix.Contains(a) && w.translation(network, n.SegmentOf(s), s) != nil {
			return true
		}
	}
	return false
}

// withdrawn reports whether an attachment had a prefix of the segment with the
// address (L4).
func withdrawn(a *estate.Attachment, segment string, addr netip.Addr) bool {
	for _, l := range a.Learned {
		if l.Status == "withdrawn" && l.Segment == segment && l.Prefix.Contains(addr) {
			return true
		}
	}
	return false
}

// bears reports whether an attachment has a prefix of the segment with the address.
func bears(a *estate.Attachment, segment string, addr netip.Addr, staticOnly bool) bool {
	for _, s := range a.Static {
		if s.Segment == segment && s.Prefix.Contains(addr) {
			return true
		}
	}
	for _, l := range a.Learned {
		if !staticOnly && l.Status == "accepted" && l.Segment == segment && l.Prefix.Contains(addr) {
			return true
		}
	}
	return false
}

// home finds the endpoint that has an address in a segment (M2.1, M2.2).
func (w world) home(segment string, a netip.Addr) (place, bool) {
	for _, n := range w.Networks {
		if s := w.subnetOf(n.Name, segment, a); s != nil {
			p := place{addr: a, segment: segment, network: n.Name, subnet: s.Name}
			held := a
			if t := w.translation(n.Name, segment, s); t != nil {
				p.inside, held = s.Prefix, swap(a, t.Outside, t.Inside)
			}
			for i := range w.Workloads {
				if w.Workloads[i].Network == n.Name && slices.Contains(w.Workloads[i].Addresses, held) {
					p.workload = &w.Workloads[i]
				}
			}
			return p, true
		}
	}
	for i := range w.Attachments {
		if bears(&w.Attachments[i], segment, a, false) || withdrawn(&w.Attachments[i], segment, a) {
			return place{addr: a, segment: segment, network: w.Attachments[i].Network}, true
		}
	}
	return place{}, false
}

func (w world) homeAnywhere(a netip.Addr) bool {
	for _, s := range w.Segments {
		if _, ok := w.home(s.Name, a); ok {
			return true
		}
	}
	return false
}

// lookup is M6.4. An external endpoint has no exit yet.
func (w world) lookup(segment string, a netip.Addr) (place, bool) {
	if p, ok := w.home(segment, a); ok {
		return p, true
	}
	for _, s := range w.Shares {
		if !w.applies(s.Enabled, s.Until) {
			continue
		}
		for _, sides := range [][2]estate.Party{{s.Guest, s.Owner}, {s.Owner, s.Guest}} {
			if near, far := sides[0], sides[1]; near.Segment == segment {
				for _, own := range w.unshown(far.Segment, segment, a) {
					if p, ok := w.home(far.Segment, own); ok && w.inSide(far.Groups, p, true) {
						return p, true
					}
				}
			}
		}
	}
	return place{addr: a}, !isPrivate(a)
}

// inGroup is M3.1 and M3.2.
func (w world) inGroup(name string, p place) bool {
	for _, g := range w.Groups {
		if g.Name != name {
			continue
		}
		if g.Within != "" && !w.inGroup(g.Within, p) {
			return false
		}
		for _, prefix := range g.Prefixes {
			if prefix.Contains(p.addr) {
				return true
			}
		}
		if p.segment == "" {
			return p.exit != "" && slices.Contains(g.Exits, p.exit)
		}
		if slices.Contains(g.Networks, p.network) {
			return true
		}
		if p.subnet != "" && slices.Contains(g.Subnets, estate.SubnetRef{Network: p.network, Subnet: p.subnet}) {
			return true
		}
		if selects(g.NetworkMatch, w.network(p.network).Labels) {
			return true
		}
		return p.workload != nil && selects(g.Match, p.workload.Labels)
	}
	return false
}

func selects(text string, labels map[string]string) bool {
	if text == "" {
		return false
	}
	s, err := estate.ParseSelector(text)
	return err == nil && s.Matches(labels)
}

func (w world) inSide(s estate.Side, p place, anyCovers bool) bool {
	if s.Any {
		return anyCovers
	}
	for _, g := range s.Groups {
		if w.inGroup(g, p) {
			return true
		}
	}
	return false
}

func (w world) contains(refs []estate.ServiceRef, f Flow) bool { // M3.4
	for _, r := range refs {
		if r.Name == "" && r.Term.Contains(f.Protocol, f.SourcePort, f.Port) {
			return true
		}
		for _, s := range w.Services {
			if s.Name != r.Name {
				continue
			}
			for _, t := range s.Terms {
				if t.Contains(f.Protocol, f.SourcePort, f.Port) {
					return true
				}
			}
		}
	}
	return false
}

// applies reports whether what is switched on or off, and has a last day or none, applies on
// the day of the estate.
func (w world) applies(enabled bool, until string) bool {
	return enabled && (until == "" || until >= w.Day)
}

func (w world) firstRule(rules []estate.Rule, f Flow) *estate.Rule {
	for i := range rules {
		if w.applies(true, rules[i].Until) && w.contains(rules[i].Services, f) {
			return &rules[i]
		}
	}
	return nil
}

// publicationFor is the choice of M7.6.
func (w world) publicationFor(f Flow) *estate.Publication {
	var best *estate.Publication
	for i := range w.Publications {
		p := &w.Publications[i]
		if !p.Enabled || f.Publication != "" && p.Name != f.Publication || !w.contains(p.Services, f) {
			continue
		}
		up := false
		for _, x := range w.Exits {
			up = up || x.Name == p.Exit && x.State == "up" && slices.Contains(x.Segments, p.To.Segment)
		}
		dst, ok := w.home(p.To.Segment, f.Destination)
		if up && ok && w.inSide(p.To.Groups, dst, true) && (best == nil || p.Name < best.Name) {
			best = p
		}
	}
	return best
}

// spoken is one speaker of M4.3.
type spoken struct {
	policy   string
	from, to string
	rule     *estate.Rule
}

func sides(s estate.Side) []string {
	if s.Any {
		return []string{"any"}
	}
	return s.Groups
}

func (w world) ancestors(group string) []string {
	var out []string
	for i := range w.Groups {
		if w.Groups[i].Name == group && w.Groups[i].Within != "" {
			out = append(append(out, w.Groups[i].Within), w.ancestors(w.Groups[i].Within)...)
		}
	}
	return out
}

// narrower is M4.4.
func (w world) narrower(x, y string) bool {
	if y == "any" {
		return x != "any"
	}
	return x != "any" && slices.Contains(w.ancestors(x), y)
}

func (w world) overrides(a, b spoken) bool {
	f, t := w.narrower(a.from, b.from), w.narrower(a.to, b.to)
	return (f || a.from == b.from) && (t || a.to == b.to) && (f || t)
}

var strict = map[estate.Action]int{estate.Allow: 0, estate.Inspect: 1, estate.Deny: 2}

// meant is an intended verdict.
type meant struct {
	action    estate.Action
	reason    string
	by        []string
	pools     []string
	contested bool
}

func (w world) intended(f Flow, src, dst place) meant {
	m := w.byPolicies(f, src, dst)
	if src.segment != "" && dst.segment != "" && src.segment != dst.segment {
		m = w.byShares(f, src, dst)
	}
	var rails []string
	worst := estate.Allow
	type voice struct {
		name string
		rule *estate.Rule
	}
	var voices []voice
	for _, p := range w.Policies {
		if !p.Guardrail() || !w.applies(p.Enabled, p.Until) || !scoped(p.FromSegments, src) || !scoped(p.ToSegments, dst) || !w.inSide(p.From, src, true) || !w.inSide(p.To, dst, true) {
			continue
		}
		if r := w.firstRule(p.Rules, f); r != nil {
			voices = append(voices, voice{p.Name, r})
			if strict[r.Action] > strict[worst] {
				worst = r.Action
			}
		}
	}
	if strict[worst] > strict[m.action] {
		m.action, m.reason, m.by, m.pools = worst, "guardrail", nil, nil
		for _, v := range voices {
			if v.rule.Action == worst {
				m.by = append(m.by, v.name)
			}
		}
	}
	if m.action == estate.Inspect { // M5.2
		for _, v := range voices {
			if v.rule.Action == estate.Inspect && !slices.Contains(rails, v.rule.Pool) {
				rails = append(rails, v.rule.Pool)
			}
		}
		sort.Strings(rails)
		for _, p := range m.pools {
			if !slices.Contains(rails, p) {
				rails = append(rails, p)
			}
		}
		m.pools = rails
	}
	return m
}

func scoped(s estate.Scope, p place) bool {
	return s.All || s.IsZero() || p.segment != "" && slices.Contains(s.Names, p.segment)
}

func (w world) byPolicies(f Flow, src, dst place) meant {
	segment := src.segment
	if segment == "" {
		segment = dst.segment
	}
	var speakers []spoken
	for _, p := range w.Policies {
		if p.Guardrail() || !w.applies(p.Enabled, p.Until) || !p.Segments.All && !slices.Contains(p.Segments.Names, segment) {
			continue
		}
		r := w.firstRule(p.Rules, f)
		if r == nil {
			continue
		}
		for _, from := range sides(p.From) {
			for _, to := range sides(p.To) {
				if (from == "any" && src.segment != "" || from != "any" && w.inGroup(from, src)) && (to == "any" && dst.segment != "" || to != "any" && w.inGroup(to, dst)) {
					speakers = append(speakers, spoken{p.Name, from, to, r})
				}
			}
		}
	}
	if len(speakers) == 0 { // M4.6
		m := meant{action: estate.Deny, reason: "default"}
		for _, s := range w.Segments {
			if s.Name == segment && src.segment != "" && dst.segment != "" {
				m.action = s.Default
			}
		}
		return m
	}
	m := meant{reason: "policy"}
	var standing []spoken
	for _, a := range speakers {
		if !slices.ContainsFunc(speakers, func(b spoken) bool { return w.overrides(b, a) }) {
			standing = append(standing, a)
		}
	}
	m.action = standing[0].rule.Action
	for _, s := range standing {
		m.contested = m.contested || s.rule.Action != standing[0].rule.Action
		if strict[s.rule.Action] > strict[m.action] {
			m.action = s.rule.Action
		}
	}
	for _, s := range standing {
		if s.rule.Action == m.action {
			m.by, m.pools = append(m.by, s.policy), append(m.pools, s.rule.Pool)
		}
	}
	return m.tidy()
}

func (m meant) tidy() meant {
	sort.Strings(m.by)
	sort.Strings(m.pools)
	m.by, m.pools = slices.Compact(m.by), slices.Compact(m.pools)
	if m.action != estate.Inspect {
		m.pools = nil
	}
	return m
}

func (w world) byShares(f Flow, src, dst place) meant {
	m := meant{action: estate.Deny, reason: "no-share"}
	first := true
	for _, s := range w.Shares {
		there := s.Guest.Segment == src.segment && s.Owner.Segment == dst.segment && w.inSide(s.Guest.Groups, src, true) && w.inSide(s.Owner.Groups, dst, true)
		back := s.Direction == "both" && s.Owner.Segment == src.segment && s.Guest.Segment == dst.segment && w.inSide(s.Owner.Groups, src, true) && w.inSide(s.Guest.Groups, dst, true)
		r := w.firstRule(s.Rules, f)
		if !w.applies(s.Enabled, s.Until) || !there && !back || r == nil {
			continue
		}
		switch {
		case first || strict[r.Action] > strict[m.action]:
			m = meant{action: r.Action, reason: "share", by: []string{s.Name}, pools: []string{r.Pool}}
			first = false
		case r.Action == m.action:
			m.by, m.pools = append(m.by, s.Name), append(m.pools, r.Pool)
		}
	}
	return m.tidy()
}
