// Package membership tells which groups an endpoint is in (M3), and why: by labels of its
// workload, by its network or subnet, by a prefix, by the exit that it is reached through,
// or by a group nested within.
package membership

import (
	"fmt"
	"net/netip"
	"slices"
	"sync"

	"github.com/gaissmai/bart"

	"bivium/core/estate"
	"bivium/core/lists"
	"bivium/core/parallel"
	"bivium/core/paths"
)

// Membership tells which groups an endpoint is in (M3). Groups have the numbers of
// the judge's family. Lists of groups are sorted, and never changed once they are
// made.
type Membership struct {
	Names  []string // by number; "" for one that is gone
	Ids    map[string]int
	Groups []estate.Group // by number; one that is gone selects nothing
	parent []int          // by number; paths.None for a root

	// order holds the groups of each tree between the entry and exit number of
	// its root, so that ancestry is a comparison of numbers.
	enter, leave []int
	broken       []bool // the group, or an ancestor, is missing or its own ancestor (F1, F4)
	nests        sync.Pool

	ByPrefix   bart.Table[[]int]
	ByNetwork  [][]int
	BySubnet   [][]int
	ByExit     [][]int
	ByLabelSet [][]int // by set of labels: those that may hold a workload by them, see selectors.of

	workloads  []estate.Workload
	LabelSetOf []int32 // by workload: the number of its set of labels
	labelSets  []map[string]string
	Holders    [][]Holding // by network: which workload holds an address, sorted
}

// New returns the membership of an estate. What was worked out for the
// workloads of another one of the family it takes over where they are the same.
func New(e *estate.Estate, net *paths.Net, family *lists.Numbering, was *Membership) *Membership {
	m := &Membership{Ids: map[string]int{}, workloads: e.Workloads}
	for _, g := range lists.ByName(e.Groups, func(g *estate.Group) string { return g.Name }) {
		n := family.Number(lists.GroupNumber, g.Name)
		m.Groups = lists.Put(m.Groups, n, g, func(int) estate.Group { return estate.Group{} })
		m.Ids[g.Name] = n
	}
	m.Names = make([]string, len(m.Groups))
	for i := range m.Groups {
		m.Names[i] = m.Groups[i].Name
	}
	m.compileForest()
	m.compileSelections(e, net)
	m.compileWorkloads(e, net, was)
	return m
}

// compileForest numbers the groups so that the descendants of a group are the
// ones between its enter and leave numbers.
func (m *Membership) compileForest() {
	n := len(m.Groups)
	m.parent, m.enter, m.leave, m.broken = make([]int, n), make([]int, n), make([]int, n), make([]bool, n)
	children := make([][]int, n)
	var roots []int
	for i, g := range m.Groups {
		m.parent[i] = paths.None
		m.enter[i] = paths.None
		switch {
		case g.Name == "":
			m.parent[i] = paths.None
			continue
		case g.Within == "":
			roots = append(roots, i)
			continue
		}
		if p, ok := m.Ids[g.Within]; ok {
			m.parent[i] = p
			children[p] = append(children[p], i)
		}
	}
	clock := 0
	type visit struct {
		group int
		done  bool
	}
	var stack []visit
	for _, r := range roots {
		stack = append(stack, visit{r, false})
		for len(stack) > 0 {
			v := stack[len(stack)-1]
			stack = stack[:len(stack)-1]
			if v.done {
				m.leave[v.group] = clock
				continue
			}
			m.enter[v.group] = clock
			clock++
			stack = append(stack, visit{v.group, true})
			for _, c := range children[v.group] {
				stack = append(stack, visit{c, false})
			}
		}
	}
	for i := range m.Groups {
		m.broken[i] = m.enter[i] == paths.None // not reached from a root
	}
}

// Ancestor reports whether a is a proper ancestor of b.
func (m *Membership) Ancestor(a, b int) bool {
	return a != b && !m.broken[a] && !m.broken[b] && m.enter[a] < m.enter[b] && m.enter[b] < m.leave[a]
}

func (m *Membership) compileSelections(e *estate.Estate, net *paths.Net) {
	m.ByNetwork = make([][]int, len(net.Networks))
	m.BySubnet = make([][]int, len(net.Subnets))
	m.ByExit = make([][]int, len(net.Exits))
	byName := map[estate.SubnetRef]int{}
	for i := range net.Subnets {
		s := &net.Subnets[i]
		byName[estate.SubnetRef{Network: net.Networks[s.Network].Name, Subnet: s.Name}] = i
	}
	for i, g := range m.Groups {
		for _, name := range g.Networks {
			if n := net.Network(name); n != paths.None {
				m.ByNetwork[n] = append(m.ByNetwork[n], i)
			}
		}
		if selector, ok := parseSelector(g.NetworkMatch); ok {
			for _, n := range e.Networks {
				if number := net.Network(n.Name); selector.Matches(n.Labels) {
					m.ByNetwork[number] = append(m.ByNetwork[number], i)
				}
			}
		}
		for _, ref := range g.Subnets {
			if s, ok := byName[ref]; ok {
				m.BySubnet[s] = append(m.BySubnet[s], i)
			}
		}
		for _, p := range g.Prefixes {
			old, _ := m.ByPrefix.Get(p)
			m.ByPrefix.Insert(p, append(slices.Clip(old), i))
		}
		for _, name := range g.Exits {
			if x := net.Exit(name); x != paths.None {
				m.ByExit[x] = append(m.ByExit[x], i)
			}
		}
	}
}

// parseSelector returns the selector of a group, and whether it has a good one.
func parseSelector(text string) (estate.Selector, bool) {
	if text == "" {
		return estate.Selector{}, false
	}
	s, err := estate.ParseSelector(text)
	return s, err == nil
}

// compileWorkloads finds the groups of each workload, and who holds which address.
func (m *Membership) compileWorkloads(e *estate.Estate, net *paths.Net, was *Membership) {
	var wait parallel.Group
	wait.Go(func() { m.compileLabelSets(e.Workloads, was) })
	m.compileHolders(e.Workloads, net)
	wait.Wait()
}

// GroupsOf returns the groups that an endpoint is in, sorted (M3.1, M3.2).
func (m *Membership) GroupsOf(p *Endpoint) []int {
	raw := m.Base(p, nil)
	if p.Workload != paths.None {
		raw = append(raw, m.ByLabelSet[m.LabelSetOf[p.Workload]]...)
	}
	return m.Within(lists.Sorted(raw))
}

// Base appends the groups that select an endpoint whatever workload it is.
func (m *Membership) Base(p *Endpoint, raw []int) []int {
	host := netip.PrefixFrom(p.Addr, p.Addr.BitLen())
	for _, groups := range m.ByPrefix.Supernets(host) {
		raw = append(raw, groups...)
	}
	switch {
	case p.Internal():
		raw = append(raw, m.ByNetwork[p.Home.Network]...)
		if p.Home.Subnet != paths.None {
			raw = append(raw, m.BySubnet[p.Home.Subnet]...)
		}
	case p.Exit != paths.None:
		raw = append(raw, m.ByExit[p.Exit]...)
	}
	return raw
}

// Within returns those of the selected groups, each of them once, whose ancestors
// are all selected too (M3.2), in the same order. Cost: n, whatever the depth.
func (m *Membership) Within(selected []int) []int {
	nested := false
	for _, g := range selected {
		nested = nested || m.parent[g] != paths.None
	}
	groups := make([]int, 0, len(selected))
	if !nested {
		for _, g := range selected {
			if !m.broken[g] {
				groups = append(groups, g)
			}
		}
		return groups
	}
	n, _ := m.nests.Get().(*nest)
	if n == nil {
		n = &nest{m, make([]choice, len(m.Groups))}
	}
	for _, g := range selected {
		n.of[g] = asked
	}
	for _, g := range selected {
		if n.counts(g) {
			groups = append(groups, g)
		}
	}
	for _, g := range selected {
		n.of[g] = unselected
	}
	m.nests.Put(n)
	return groups
}

// nest finds which of some selected groups count.
type nest struct {
	*Membership
	of []choice // by group
}

// choice is what is known of a group.
type choice uint8

const (
	unselected choice = iota
	asked             // selected, and not known yet
	counted
	left // selected, but some ancestor is not
)

func (n *nest) counts(g int) bool {
	if n.of[g] == asked {
		n.of[g] = left
		if p := n.parent[g]; !n.broken[g] && (p == paths.None || n.counts(p)) {
			n.of[g] = counted
		}
	}
	return n.of[g] == counted
}

// Ground is one reason for which an endpoint is in a group (M3.1).
type Ground struct {
	By    string `json:"by"` // match, network, networkMatch, subnet, prefix or exit
	Value string `json:"value"`
}

// String returns the ground as a document would write it.
func (g Ground) String() string { return fmt.Sprintf("%s %s", g.By, g.Value) }

// Why returns the first ground on which the group's own selection holds the
// endpoint, in the order of M3.1.
func (m *Membership) Why(g int, p *Endpoint, net *paths.Net) Ground {
	group := &m.Groups[g]
	if p.Internal() {
		if p.Workload != paths.None && slices.Contains(m.ByLabelSet[m.LabelSetOf[p.Workload]], g) {
			return Ground{"match", group.Match}
		}
		name := net.Networks[p.Home.Network].Name
		if slices.Contains(group.Networks, name) {
			return Ground{"network", name}
		}
		if slices.Contains(m.ByNetwork[p.Home.Network], g) {
			return Ground{"networkMatch", group.NetworkMatch}
		}
		if p.Home.Subnet != paths.None && slices.Contains(m.BySubnet[p.Home.Subnet], g) {
			return Ground{"subnet", name + "/" + net.Subnets[p.Home.Subnet].Name}
		}
	} else if p.Exit != paths.None && slices.Contains(m.ByExit[p.Exit], g) {
		return Ground{"exit", net.Exits[p.Exit].Name}
	}
	for _, prefix := range group.Prefixes {
		if prefix.Contains(p.Addr) {
			return Ground{"prefix", prefix.String()}
		}
	}
	return Ground{}
}
