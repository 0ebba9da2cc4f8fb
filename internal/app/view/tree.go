package view

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"bivium/core/estate"
	"bivium/core/inventory"
	"bivium/core/parallel"
	"bivium/core/paths"
)

// Rows is a window of the tree of accounts, regions, networks, subnets and
// workloads, with those parts open that were asked for.
type Rows struct {
	Revision int64 `json:"revision"`
	Total    int   `json:"total"` // rows in all
	From     int   `json:"from"`
	Found    int   `json:"found"`    // rows that match, where something was looked for
	Counting bool  `json:"counting"` // faults and findings are still being counted
	Rows     []Row `json:"rows"`
}

// Row is one row of the tree.
type Row struct {
	ID        string            `json:"id"`
	Kind      string            `json:"kind"` // account, region, network, subnet or workload
	Name      string            `json:"name"`
	Depth     int               `json:"depth"`
	Open      bool              `json:"open"`
	Parts     int               `json:"parts"`     // rows right below it
	Workloads int               `json:"workloads"` // anywhere below it
	Found     bool              `json:"found"`     // it matches what was looked for
	At        string            `json:"at"`        // its addresses or prefixes
	Labels    map[string]string `json:"labels"`
	Segments  []string          `json:"segments"`
	Groups    []string          `json:"groups"`
	Places    []Place           `json:"places"`  // where a network is attached
	Issues    int               `json:"issues"`  // faults and findings that name it
	Account   string            `json:"account"` // of a workload, if it is not that of its network
	State     string            `json:"state"`   // gone: no longer in its account; "" for all well
}

// Place is an attachment, as a row of the tree shows it.
type Place struct {
	Hub   string `json:"hub"`
	State string `json:"state"`
}

// Look is which rows are asked for.
type Look struct {
	Open     []string
	Find     string // a name, part of one, an address, a prefix, a label or a group
	Unplaced bool   // only what no segment holds
	From     int
}

// Tree is the rows of a snapshot, built when they are first asked for.
type Tree struct {
	once  parallel.Once
	nodes []treeNode
	top   []int32
	byID  map[string]int32
}

// Members is the groups that workloads are in, found when some are first asked for.
type Members struct {
	once   parallel.Once
	groups [][]int // by workload
	sorted parallel.Once
	by     map[string][]int // workloads by group
}

type treeNode struct {
	id, kind, name  string
	parent          int32
	parts           []int32
	workloads       int
	network, at     int // numbers in the estate: of the network, and of the subnet or workload
	unplaced, known bool
}

// window is how many rows are given at once.
const window = 120

// Rows returns a window of the tree. Cost: the rows in all, in small steps.
func (s *Snapshot) Rows(look Look) *Rows {
	t := s.builtTree()
	open := map[int32]bool{}
	for _, id := range look.Open {
		if i, ok := t.byID[id]; ok {
			open[i] = true
		}
	}
	var leads map[int32]bool // what has a match below it; nil where nothing is looked for
	out := &Rows{Revision: s.Revision, From: look.From, Counting: s.Counted() == nil, Rows: []Row{}}
	matched := map[int32]bool{}
	if look.Find != "" || look.Unplaced {
		leads = map[int32]bool{}
		matches := s.matcher(look.Find)
		for i := range t.nodes {
			n := &t.nodes[i]
			if look.Unplaced && !n.unplaced || look.Unplaced && look.Find == "" && n.kind == "workload" || !matches(n) {
				continue
			}
			matched[int32(i)] = true
			for at := n.parent; at >= 0 && !leads[at]; at = t.nodes[at].parent {
				leads[at] = true
			}
		}
		out.Found = len(matched)
	}
	type level struct {
		list []int32
		next int
		all  bool // below a match that was opened, everything shows
	}
	for levels := []level{{t.top, 0, leads == nil}}; len(levels) > 0; {
		l := &levels[len(levels)-1]
		if l.next == len(l.list) {
			levels = levels[:len(levels)-1]
			continue
		}
		at := l.list[l.next]
		l.next++
		if !l.all && !matched[at] && !leads[at] {
			continue
		}
		all := l.all || matched[at] && open[at]
		n := &t.nodes[at]
		isOpen := open[at] || leads[at]
		if out.Total >= look.From && len(out.Rows) < window {
			row := s.row(n, len(levels)-1, isOpen)
			row.Found = matched[at]
			out.Rows = append(out.Rows, row)
		}
		out.Total++
		if isOpen {
			levels = append(levels, level{n.parts, 0, all})
		}
	}
	return out
}

// GroupsOf returns the groups that a workload is in, by number. Those of all are
// found when some are first asked for.
func (s *Snapshot) GroupsOf(workload int) []int {
	s.Members.once.Do(func() { s.Members.groups = s.Judge.GroupsOf() })
	return s.Members.groups[workload]
}

// MembersOf returns the workloads in each group, by name of the group and number. Those of all
// are found when some are first asked for. Cost: the groups of all workloads.
func (s *Snapshot) MembersOf() map[string][]int {
	s.Members.sorted.Do(func() {
		names := s.Judge.GroupNames()
		s.Members.by = make(map[string][]int, len(names))
		for w := range s.Estate.Workloads {
			for _, g := range s.GroupsOf(w) {
				s.Members.by[names[g]] = append(s.Members.by[names[g]], w)
			}
		}
	})
	return s.Members.by
}

// MembersByLabels returns the workloads in a group, by number, if it and those that it is within
// select by labels alone; a group that there is not has none. Cost: the workloads.
func (s *Snapshot) MembersByLabels(group string) (members []int, ok bool) {
	var chain []estate.Selector
	for name := group; name != ""; {
		at := slices.IndexFunc(s.Estate.Groups, func(g estate.Group) bool { return g.Name == name })
		if at < 0 {
			return nil, name == group
		}
		g := &s.Estate.Groups[at]
		selector, err := estate.ParseSelector(g.Match)
		if err != nil || len(chain) > len(s.Estate.Groups) || len(g.Networks)+len(g.Subnets)+len(g.Prefixes)+len(g.Exits) > 0 || g.NetworkMatch != "" {
			return nil, false
		}
		chain, name = append(chain, selector), g.Within
	}
	type answer uint8 // of a set of labels, 0 for not asked yet
	const in, out answer = 1, 2
	asked := make([]answer, len(s.Judge.Members.ByLabelSet))
	for i := range s.Estate.Workloads {
		w := &s.Estate.Workloads[i]
		is := &asked[s.Judge.LabelSet(i)]
		if *is == 0 {
			if *is = in; slices.ContainsFunc(chain, func(x estate.Selector) bool { return !x.Matches(w.Labels) }) {
				*is = out
			}
		}
		if *is == in && len(w.Addresses) > 0 && s.Judge.Net.Network(w.Network) != paths.None {
			members = append(members, i)
		}
	}
	return members, true
}

// matcher returns what tells whether a row is what is looked for.
func (s *Snapshot) matcher(text string) func(*treeNode) bool {
	text = strings.ToLower(strings.TrimSpace(text))
	e := s.Estate
	if a, err := netip.ParseAddr(text); err == nil {
		return func(n *treeNode) bool {
			switch n.kind {
			case "workload":
				return slices.Contains(e.Workloads[n.at].Addresses, a)
			case "subnet":
				return e.Networks[n.network].Subnets[n.at].Prefix.Contains(a)
			}
			return false
		}
	}
	if p, err := netip.ParsePrefix(text); err == nil {
		return func(n *treeNode) bool {
			switch n.kind {
			case "workload":
				return slices.ContainsFunc(e.Workloads[n.at].Addresses, p.Contains)
			case "subnet":
				return e.Networks[n.network].Subnets[n.at].Prefix.Overlaps(p)
			}
			return false
		}
	}
	group := slices.Index(s.Judge.GroupNames(), text)
	key, value, label := strings.Cut(text, "=")
	return func(n *treeNode) bool {
		if strings.Contains(n.name, text) {
			return true
		}
		switch {
		case n.kind == "workload" && group >= 0:
			return slices.Contains(s.GroupsOf(n.at), group)
		case n.kind == "workload" && label:
			return e.Workloads[n.at].Labels[key] == value
		case n.kind == "network" && label:
			return e.Networks[n.network].Labels[key] == value
		}
		return false
	}
}

func (s *Snapshot) row(n *treeNode, depth int, open bool) Row {
	e := s.Estate
	r := Row{ID: n.id, Kind: n.kind, Name: n.name, Depth: depth, Open: open, Parts: len(n.parts), Workloads: n.workloads, Labels: map[string]string{}, Segments: []string{}, Groups: []string{}, Places: []Place{}}
	r.Issues = s.Counted()[Thing{n.kind, n.name}]
	switch n.kind {
	case "network":
		net := &e.Networks[n.network]
		r.Labels = OrEmpty(net.Labels)
		r.Segments = segmentsOf(net)
		for _, a := range e.Attachments {
			if a.Network == n.name {
				r.Places = append(r.Places, Place{a.Hub, a.State})
			}
		}
		if n.known {
			r.State = "gone"
		}
		if len(net.Subnets) > 0 {
			r.At = net.Subnets[0].Prefix.String()
		}
		if more := len(net.Subnets) - 1; more > 0 {
			r.At += fmt.Sprintf(" + %d", more)
		}
	case "subnet":
		net := &e.Networks[n.network]
		sub := &net.Subnets[n.at]
		r.At = sub.Prefix.String()
		r.Issues = s.countedAs(n.kind, net.Name+"/"+sub.Name)
		if seg := net.SegmentOf(sub); seg != "" {
			r.Segments = []string{seg}
		}
	case "workload":
		w := &e.Workloads[n.at]
		r.Labels, r.Account = OrEmpty(w.Labels), w.Account
		words := make([]string, len(w.Addresses))
		for i, a := range w.Addresses {
			words[i] = a.String()
		}
		r.At = strings.Join(words, ", ")
		if parent := &s.Tree.nodes[n.parent]; parent.kind == "subnet" {
			net := &e.Networks[n.network]
			if seg := net.SegmentOf(&net.Subnets[parent.at]); seg != "" {
				r.Segments = []string{seg}
			}
		}
		names := s.Judge.GroupNames()
		for _, g := range s.GroupsOf(n.at) {
			r.Groups = append(r.Groups, names[g])
		}
	}
	return r
}

// segmentsOf returns the segments that hold some of a network, in order.
func segmentsOf(n *estate.Network) []string {
	out := []string{}
	if len(n.Subnets) == 0 && n.Segment != "" {
		out = append(out, n.Segment)
	}
	for i := range n.Subnets {
		if seg := n.SegmentOf(&n.Subnets[i]); seg != "" && !slices.Contains(out, seg) {
			out = append(out, seg)
		}
	}
	return out
}

const noAccount = "no account"

// builtTree returns the tree, which is built once for each snapshot.
func (s *Snapshot) builtTree() *Tree {
	s.Tree.once.Do(func() {
		e, t := s.Estate, s.Tree
		t.byID = map[string]int32{}
		gone := map[string]bool{}
		for i := range s.Known {
			gone[s.Known[i].Name] = s.Known[i].Gone && s.Known[i].Kind == inventory.NetworkKind
		}
		for _, a := range e.Accounts {
			t.under(-1, "account", a.Name, "")
		}
		networks := make([]int32, len(e.Networks))
		at := map[string]int{}
		for i := range e.Networks {
			n := &e.Networks[i]
			at[n.Name] = i
			account := t.under(-1, "account", cmp.Or(n.Account, noAccount), "")
			region := t.under(account, "region", cmp.Or(n.Region, "no region"), t.nodes[account].name+"/")
			networks[i] = t.under(region, "network", n.Name, "")
			t.nodes[networks[i]].network = i
			t.nodes[networks[i]].unplaced = len(segmentsOf(n)) == 0
			t.nodes[networks[i]].known = gone[n.Name]
			for k := range n.Subnets {
				x := t.under(networks[i], "subnet", n.Subnets[k].Name, n.Name+"/")
				t.nodes[x].network, t.nodes[x].at = i, k
				t.nodes[x].unplaced = n.SegmentOf(&n.Subnets[k]) == ""
			}
		}
		for i := range e.Workloads {
			w := &e.Workloads[i]
			n, ok := at[w.Network]
			if !ok {
				continue // a fault, which says so
			}
			parent := networks[n]
			net := &e.Networks[n]
			for k := range net.Subnets {
				if len(w.Addresses) > 0 && net.Subnets[k].Prefix.Contains(w.Addresses[0]) {
					parent = t.byID["subnet:"+net.Name+"/"+net.Subnets[k].Name]
				}
			}
			x := t.under(parent, "workload", w.Name, "")
			t.nodes[x].network, t.nodes[x].at = n, i
			t.nodes[x].unplaced = t.nodes[parent].unplaced
			for up := parent; up >= 0; up = t.nodes[up].parent {
				t.nodes[up].workloads++
			}
		}
		byName := func(a, b int32) int { return strings.Compare(t.nodes[a].name, t.nodes[b].name) }
		slices.SortFunc(t.top, byName)
		for i := range t.nodes {
			slices.SortFunc(t.nodes[i].parts, byName)
		}
	})
	return s.Tree
}

// under returns the row of a name below another, and makes it if there is none.
func (t *Tree) under(parent int32, kind, name, path string) int32 {
	id := kind + ":" + path + name
	if i, ok := t.byID[id]; ok {
		return i
	}
	i := int32(len(t.nodes))
	t.nodes = append(t.nodes, treeNode{id: id, kind: kind, name: name, parent: parent})
	t.byID[id] = i
	if parent < 0 {
		t.top = append(t.top, i)
	} else {
		t.nodes[parent].parts = append(t.nodes[parent].parts, i)
	}
	return i
}
