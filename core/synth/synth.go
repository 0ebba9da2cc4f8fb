// Package synth makes synthetic estates: realistic in shape, deterministic by
// size and seed, and without faults. Labels have a long tail, groups nest and
// overlap, and about a tenth of the policies are incomparable to another.
package synth

import (
	"fmt"
	"math/rand/v2"
	"net/netip"

	"bivium/core/estate"
)

// Size says how much of everything an estate has.
type Size struct {
	Segments, Hubs, Networks, Workloads, Groups, Policies, Rules, Shares int
}

// Sizes are the sizes that have names.
var Sizes = map[string]Size{
	"S":  {4, 3, 14, 80, 30, 40, 100, 6},
	"M":  {8, 6, 200, 10_000, 300, 500, 2_000, 60},
	"L":  {32, 24, 2_000, 100_000, 1_500, 4_000, 20_000, 400},
	"XL": {64, 60, 10_000, 500_000, 5_000, 20_000, 100_000, 2_000},
}

// maker makes one estate. What it draws depends on the seed alone.
type maker struct {
	size     Size
	r        *rand.Rand
	e        *estate.Estate
	apps     int
	offered  []string // groups that shares offer
	segments []string
}

// New returns the estate of a size and seed. Cost: linear in the size.
func New(name string, size Size, seed uint64) *estate.Estate {
	m := &maker{size: size, r: rand.New(rand.NewPCG(seed, 0x62697669)), e: &estate.Estate{Version: estate.Version, Name: name}}
	m.apps = max(4, size.Groups/5)
	m.world()
	m.networks()
	m.workloads()
	m.services()
	m.groups()
	m.firewalls()
	m.policies()
	m.shares()
	m.expectations()
	m.r = rand.New(rand.NewPCG(seed, 0x77697265)) // what is above stays as it is, whatever is drawn below
	m.wiring()
	estate.NameConnections(m.e)
	return m.e
}

func (m *maker) chance(percent int) bool { return m.r.IntN(100) < percent }

// tail draws a number below n, small ones far more often: a long tail.
func (m *maker) tail(n int) int {
	x := m.r.Float64()
	return int(x * x * x * float64(n))
}

func (m *maker) world() {
	providers := []string{"cirra", "velum", "stratok"}
	m.e.Accounts = []estate.Account{{Name: "sites", Provider: "premises"}}
	for _, p := range providers {
		m.e.Accounts = append(m.e.Accounts, estate.Account{Name: p + "-main", Provider: p})
	}
	for i := range m.size.Segments {
		m.segments = append(m.segments, fmt.Sprintf("segment-%02d", i))
		m.e.Segments = append(m.e.Segments, estate.Segment{Name: m.segments[i], Default: estate.Deny, Approval: estate.ApproveNone})
	}
	for i := range m.size.Hubs {
		m.e.Hubs = append(m.e.Hubs, estate.Hub{Name: hub(i), Account: providers[i%3] + "-main", Region: fmt.Sprintf("region-%02d", i)})
		if i > 0 {
			m.link(i, i-1, 10)
		}
		if i > 3 { // chords, so that ways have alternatives
			m.link(i, m.r.IntN(i-1), 15+m.r.IntN(30))
		}
		if i%4 == 0 {
			m.e.Exits = append(m.e.Exits, estate.Exit{Name: "exit-" + hub(i), Hub: hub(i), Segments: m.segments, State: "up"})
		}
	}
	if m.size.Hubs > 2 {
		m.link(m.size.Hubs-1, 0, 10)
	}
}

func hub(i int) string { return fmt.Sprintf("hub-%02d", i) }

func (m *maker) link(a, b, cost int) {
	m.e.Links = append(m.e.Links, estate.Link{Between: [2]string{hub(a), hub(b)}, Cost: cost, State: "up"})
}

// network returns the /22 of a network: 10.0.0.0/8 has 16,384 of them.
func network(i int) netip.Addr {
	return netip.AddrFrom4([4]byte{10, byte(i >> 6), byte(i << 2), 0})
}

func subnet(i, k int) netip.Prefix {
	a := network(i).As4()
	a[2] += byte(k)
	return netip.PrefixFrom(netip.AddrFrom4(a), 24)
}

// provide gives a network an account of its kind, and an enforcement that its provider has.
func (m *maker) provide(n *estate.Network, i int) {
	sites := m.e.Accounts[0].Name
	switch {
	case n.Kind != "cloud":
		n.Account = sites
	case n.Account == sites:
		n.Account = m.e.Accounts[1+i%3].Name
	}
	if n.Account == "velum-main" {
		n.Enforcement = estate.EnforceSubnets
	}
}

func (m *maker) networks() {
	kinds := []string{"cloud", "cloud", "cloud", "site", "site", "remote"}
	for i := range m.size.Networks {
		n := estate.Network{
			Name: fmt.Sprintf("net-%05d", i), Kind: kinds[m.r.IntN(len(kinds))], Account: m.e.Accounts[m.r.IntN(4)].Name,
			Labels: map[string]string{"zone": fmt.Sprintf("z%d", m.tail(12)), "use": []string{"plant", "office", "data"}[m.r.IntN(3)]},
		}
		m.provide(&n, i)
		n.Segment = m.segments[m.tail(len(m.segments))]
		if i < len(m.segments) {
			n.Segment = m.segments[i] // so that no segment is empty
		}
		for k := range 1 + m.r.IntN(3) {
			s := estate.Subnet{Name: fmt.Sprintf("sub-%d", k), Prefix: subnet(i, k)}
			if k > 0 && n.Kind == "site" && m.chance(25) {
				s.Segment = m.segments[m.tail(len(m.segments))]
			}
			n.Subnets = append(n.Subnets, s)
		}
		m.e.Networks = append(m.e.Networks, n)
		home := m.r.IntN(m.size.Hubs)
		m.e.Attachments = append(m.e.Attachments, estate.Attachment{Network: n.Name, Hub: hub(home), Cost: 1, State: "up"})
		if m.chance(15) && m.size.Hubs > 1 {
			m.e.Attachments = append(m.e.Attachments, estate.Attachment{Network: n.Name, Hub: hub((home + 1) % m.size.Hubs), Cost: 5, State: "up"})
		}
	}
}

func (m *maker) workloads() {
	tiers := []string{"web", "app", "db", "job"}
	envs := []string{"prod", "prod", "prod", "test", "dev"}
	used := make([]int, m.size.Networks)
	for i := range m.size.Workloads {
		n := m.r.IntN(m.size.Networks)
		for used[n] >= room(&m.e.Networks[n]) {
			n = (n + 1) % m.size.Networks
		}
		subnets := m.e.Networks[n].Subnets
		a := subnets[used[n]%len(subnets)].Prefix.Addr().As4()
		a[3] = byte(2 + used[n]/len(subnets))
		used[n]++
		labels := map[string]string{
			"app": app(m.tail(m.apps)), "tier": tiers[m.r.IntN(len(tiers))], "env": envs[m.r.IntN(len(envs))],
		}
		if m.chance(4) {
			labels["legacy"] = "yes"
		}
		m.e.Workloads = append(m.e.Workloads, estate.Workload{
			Name: fmt.Sprintf("w-%06d", i), Network: m.e.Networks[n].Name, Addresses: []netip.Addr{netip.AddrFrom4(a)}, Labels: labels,
		})
	}
}

// few reports whether lists hang on workloads in a network: there what each may speak with nearby
// stands in its lists one by one, and these have an end.
func few(n *estate.Network) bool { return n.Account == "cirra-main" }

// room returns how many workloads a network takes.
func room(n *estate.Network) int {
	if few(n) {
		return 8
	}
	return 250 * len(n.Subnets)
}

func app(i int) string { return fmt.Sprintf("app-%04d", i) }

func (m *maker) services() {
	named := map[string][]string{
		"web": {"tcp/80", "tcp/443"}, "dns": {"udp/53", "tcp/53"}, "ntp": {"udp/123"}, "ssh": {"tcp/22"}, "sql": {"tcp/5432", "tcp/3306"},
		"ping": {"icmp/8", "icmpv6/128"}, "directory": {"tcp/389", "tcp/636", "udp/88", "tcp/88"}, "queue": {"tcp/5671-5672"}, "high": {"tcp/30000-32767"},
	}
	for _, name := range []string{"web", "dns", "ntp", "ssh", "sql", "ping", "directory", "queue", "high"} {
		s := estate.Service{Name: name}
		for _, t := range named[name] {
			s.Terms = append(s.Terms, term(t))
		}
		m.e.Services = append(m.e.Services, s)
	}
	for i := range min(60, 6+m.size.Groups/20) {
		s := estate.Service{Name: fmt.Sprintf("service-%02d", i)}
		for range 1 + m.r.IntN(3) {
			port := 7000 + 10*m.r.IntN(200)
			s.Terms = append(s.Terms, term(fmt.Sprintf("tcp/%d-%d", port, port+m.r.IntN(9))))
		}
		m.e.Services = append(m.e.Services, s)
	}
}

func term(s string) estate.Term {
	t, err := estate.ParseTerm(s)
	if err != nil {
		panic("synth: " + err.Error()) // terms are written in this package
	}
	return t
}

func (m *maker) groups() {
	add := func(g estate.Group) { m.e.Groups = append(m.e.Groups, g) }
	var exits []string
	for _, x := range m.e.Exits {
		exits = append(exits, x.Name)
	}
	add(estate.Group{Name: "internet-exits", Exits: exits})
	for _, env := range []string{"prod", "test", "dev"} {
		add(estate.Group{Name: "env-" + env, Match: "env=" + env})
	}
	for _, use := range []string{"plant", "office", "data"} {
		add(estate.Group{Name: "use-" + use, NetworkMatch: "use=" + use})
	}
	for i := 0; len(m.e.Groups) < m.size.Groups; i++ {
		name := app(i % m.apps)
		switch i / m.apps {
		case 0:
			add(estate.Group{Name: name, Match: "app=" + name})
			m.offered = append(m.offered, name)
		case 1:
			add(estate.Group{Name: name + "-prod", Match: "env=prod", Within: name})
		case 2:
			add(estate.Group{Name: name + "-db", Match: "tier=db", Within: name})
		case 3:
			add(estate.Group{Name: name + "-front", Match: "tier in (web, app),!legacy", Within: name})
		default:
			n := m.r.IntN(m.size.Networks)
			add(estate.Group{Name: fmt.Sprintf("block-%04d", i), Prefixes: []netip.Prefix{subnet(n, 0)}})
		}
	}
}

func (m *maker) firewalls() {
	m.e.Rulebooks = []estate.Rulebook{{Name: "book", Rules: []estate.BookRule{
		{From: estate.Side{Any: true}, To: estate.Side{Any: true}, Services: []estate.ServiceRef{{Name: "ssh"}}, Action: "drop"},
		{From: estate.Side{Any: true}, To: estate.Side{Any: true}, Services: []estate.ServiceRef{{Term: estate.Term{AnyProtocol: true}}}, Action: "pass"},
	}}}
	for i := range 2 + m.size.Hubs/6 {
		p := estate.Pool{Name: fmt.Sprintf("pool-%02d", i), OnFailure: "closed"}
		if i%2 == 0 {
			p.Rulebook = "book"
		}
		for k := range 1 + m.r.IntN(3) {
			p.Firewalls = append(p.Firewalls, estate.Firewall{Name: fmt.Sprintf("fw-%02d-%d", i, k), Hub: hub(m.r.IntN(m.size.Hubs)), State: "healthy"})
		}
		m.e.Pools = append(m.e.Pools, p)
	}
}

func (m *maker) rules(count int) []estate.Rule {
	var out []estate.Rule
	for range count {
		r := estate.Rule{Services: []estate.ServiceRef{{Name: m.e.Services[m.r.IntN(len(m.e.Services))].Name}}, Action: estate.Allow}
		switch m.r.IntN(10) {
		case 0, 1:
			r.Action, r.Pool = estate.Inspect, m.e.Pools[m.r.IntN(len(m.e.Pools))].Name
		case 2:
			r.Action = estate.Deny
		}
		out = append(out, r)
	}
	return out
}

func groupSide(name string) estate.Side { return estate.Side{Groups: []string{name}} }

func (m *maker) policies() {
	left := m.size.Rules
	for i := range m.size.Policies {
		p := estate.Policy{Name: fmt.Sprintf("policy-%05d", i), Tier: "standard", Enabled: true, Segments: estate.Scope{Names: []string{m.segments[m.tail(len(m.segments))]}}}
		count := max(1, left/(m.size.Policies-i))
		left -= count
		from, to := m.anyGroup(), m.anyGroup()
		switch m.r.IntN(20) {
		case 0: // wide: what narrower ones override
			p.Segments, p.From, p.To = estate.Scope{All: true}, estate.Side{Any: true}, groupSide(from)
		case 1, 2: // to the internet
			p.From, p.To = groupSide(from), groupSide("internet-exits")
		case 3, 4: // incomparable: the same members by other groups
			p.From, p.To = groupSide("env-prod"), groupSide(to)
		default:
			p.From, p.To = groupSide(from), groupSide(to)
		}
		p.Rules = m.rules(count)
		m.e.Policies = append(m.e.Policies, p)
	}
	m.e.Policies[0] = estate.Policy{
		Name: "policy-00000", Tier: "guardrail", Enabled: true, From: groupSide("env-dev"), To: groupSide("env-prod"),
		Rules: []estate.Rule{{Services: []estate.ServiceRef{{Name: "sql"}}, Action: estate.Deny}},
	}
}

// anyGroup returns a group of applications, those with many members more often.
func (m *maker) anyGroup() string {
	const first = 7 // after exits, environments and uses
	if len(m.e.Groups) <= first {
		return m.e.Groups[len(m.e.Groups)-1].Name
	}
	return m.e.Groups[first+m.tail(len(m.e.Groups)-first)].Name
}

func (m *maker) shares() {
	for i := range m.size.Shares {
		a := m.tail(len(m.segments))
		b := (a + 1 + m.r.IntN(len(m.segments)-1)) % len(m.segments)
		s := estate.Share{
			Name: fmt.Sprintf("share-%04d", i), Direction: "inbound", Enabled: true,
			Owner: estate.Party{Segment: m.segments[a], Groups: groupSide(m.offered[m.tail(len(m.offered))])},
			Guest: estate.Party{Segment: m.segments[b], Groups: groupSide(m.anyGroup())}, Rules: m.rules(2),
		}
		m.e.Shares = append(m.e.Shares, s)
	}
}

func (m *maker) expectations() {
	for i := range min(50, 5+m.size.Groups/20) {
		segment := m.segments[m.tail(len(m.segments))]
		m.e.Expectations = append(m.e.Expectations, estate.Expectation{
			Name: fmt.Sprintf("expect-%03d", i), Expect: "denied", Services: []estate.ServiceRef{{Name: "ssh"}},
			From: estate.End{Party: estate.Party{Segment: segment, Groups: groupSide("env-dev")}},
			To:   estate.End{Party: estate.Party{Segment: segment, Groups: groupSide(m.anyGroup())}},
		})
	}
}
