package rules

import (
	"slices"

	"bivium/core/estate"
	"bivium/core/findings"
	"bivium/core/matrix"
	"bivium/core/paths"
	"bivium/core/query"
	"bivium/internal/app/view"
)

// Scope is where a rule object, pool or group is at work: who is on its sides, the pools that its
// rules name, where those see flows, and the cells of the board that it has a say in.
type Scope struct {
	Revision int64       `json:"revision"`
	From     ScopeSide   `json:"from"`
	To       ScopeSide   `json:"to"`
	Pools    []string    `json:"pools"`
	Passes   []Pass      `json:"passes"`
	Cells    []ScopeCell `json:"cells"`
	More     int         `json:"more"` // how many cells there are beside those
}

// ScopeSide is the places of one side, each once, in the order of segments.
type ScopeSide struct {
	Places   []Place `json:"places"`
	Internet bool    `json:"internet"`
}

// Place is a network in a segment.
type Place struct {
	Network string `json:"network"`
	Segment string `json:"segment"`
}

// Pass is a hub at which flows from one segment to another pass, or are blocked by, a pool; "" is
// the internet.
type Pass struct {
	Pool string `json:"pool"`
	Hub  string `json:"hub"`
	From string `json:"from"`
	To   string `json:"to"`
}

// ScopeCell is a cell of the board by the IDs of its nodes; * stands for every one.
type ScopeCell struct {
	Row string `json:"row"`
	Col string `json:"col"`
}

// mostCells is how many cells are told one by one.
const mostCells = 2000

// ScopeOf returns where an object is at work; nil where there is none. passages is where pools see
// flows. Cost: the classes of the groups on its sides.
func ScopeOf(s *view.Snapshot, of estate.Ref, passages []findings.Passage) *Scope {
	f := &scopeFinder{s: s, seen: map[*ScopeSide]map[Place]bool{}, out: &Scope{Revision: s.Revision, From: ScopeSide{Places: []Place{}}, To: ScopeSide{Places: []Place{}}, Pools: []string{}, Passes: []Pass{}, Cells: []ScopeCell{}}}
	if !f.find(of) {
		return nil
	}
	for _, p := range passages {
		if slices.Contains(f.out.Pools, p.Pool) && f.bears(of, p) {
			f.out.Passes = append(f.out.Passes, Pass(p))
		}
	}
	if of.Kind == estate.KindPool || of.Kind == estate.KindRulebook {
		for _, p := range f.out.Passes {
			f.cell(orInternet(p.From), orInternet(p.To))
		}
	}
	return f.out
}

// scopeFinder gathers a scope.
type scopeFinder struct {
	s    *view.Snapshot
	out  *Scope
	seen map[*ScopeSide]map[Place]bool
}

func (f *scopeFinder) find(of estate.Ref) bool {
	e := f.s.Estate
	switch of.Kind {
	case estate.KindPolicy:
		return one(e.Policies, func(p *estate.Policy) bool { return p.Name == of.Name }, f.policy)
	case estate.KindShare:
		return one(e.Shares, func(x *estate.Share) bool { return x.Name == of.Name }, f.share)
	case estate.KindPublication:
		return one(e.Publications, func(p *estate.Publication) bool { return p.Name == of.Name }, func(p *estate.Publication) {
			f.between(nil, f.nodes(p.To.Segment, p.To.Groups, &f.out.To))
			f.out.From.Internet = true
		})
	case estate.KindExpectation:
		return one(e.Expectations, func(x *estate.Expectation) bool { return x.Name == of.Name }, f.expectation)
	case estate.KindGroup:
		return one(e.Groups, func(g *estate.Group) bool { return g.Name == of.Name }, f.group)
	case estate.KindPool:
		f.out.Pools = append(f.out.Pools, of.Name)
		return one(e.Pools, func(p *estate.Pool) bool { return p.Name == of.Name }, func(*estate.Pool) {})
	case estate.KindRulebook:
		for i := range e.Pools {
			if e.Pools[i].Rulebook == of.Name {
				f.out.Pools = append(f.out.Pools, e.Pools[i].Name)
			}
		}
		return one(e.Rulebooks, func(b *estate.Rulebook) bool { return b.Name == of.Name }, func(*estate.Rulebook) {})
	}
	return false
}

// one calls f with the first of a list that fits, and reports whether there is one.
func one[T any](list []T, fits func(*T) bool, f func(*T)) bool {
	for i := range list {
		if fits(&list[i]) {
			f(&list[i])
			return true
		}
	}
	return false
}

func (f *scopeFinder) policy(p *estate.Policy) {
	f.rules(p.Rules)
	if !p.Guardrail() {
		for _, segment := range f.segments(p.Segments) {
			f.between(f.nodes(segment, p.From, &f.out.From), f.nodes(segment, p.To, &f.out.To))
		}
		return
	}
	var from, to []string
	for _, segment := range f.segments(p.FromSegments) {
		from = append(from, f.nodes(segment, p.From, &f.out.From)...)
	}
	for _, segment := range f.segments(p.ToSegments) {
		to = append(to, f.nodes(segment, p.To, &f.out.To)...)
	}
	f.between(distinct(from), distinct(to))
}

func (f *scopeFinder) share(x *estate.Share) {
	f.rules(x.Rules)
	guest, owner := f.nodes(x.Guest.Segment, x.Guest.Groups, &f.out.From), f.nodes(x.Owner.Segment, x.Owner.Groups, &f.out.To)
	f.between(inside(guest), inside(owner))
	if x.Direction == "both" {
		f.between(inside(owner), inside(guest))
	}
}

func (f *scopeFinder) expectation(x *estate.Expectation) {
	end := func(e *estate.End, side *ScopeSide) []string {
		if e.Internet {
			side.Internet = true
			return []string{internet}
		}
		return f.nodes(e.Segment, e.Groups, side)
	}
	if x.Pool != "" {
		f.out.Pools = append(f.out.Pools, x.Pool)
	}
	f.between(end(&x.From, &f.out.From), end(&x.To, &f.out.To))
}

func (f *scopeFinder) group(g *estate.Group) {
	side := estate.Side{Groups: []string{g.Name}}
	for _, segment := range f.s.Judge.Net.Segments {
		for _, node := range f.nodes(segment, side, &f.out.From) {
			if node != internet {
				f.cell(node, "*")
				f.cell("*", node)
			}
		}
	}
}

func (f *scopeFinder) rules(rules []estate.Rule) {
	for i := range rules {
		if pool := rules[i].Pool; pool != "" && !slices.Contains(f.out.Pools, pool) {
			f.out.Pools = append(f.out.Pools, pool)
		}
	}
}

// segments returns the names of the segments of a scope: all of them where it says so, or nothing.
func (f *scopeFinder) segments(s estate.Scope) []string {
	if s.All || s.IsZero() {
		return f.s.Judge.Net.Segments
	}
	return s.Names
}

// internet is the ID of the node of the internet.
var internet = view.NodeID(matrix.Node{Kind: matrix.NodeInternet})

func orInternet(segment string) string {
	if segment == "" {
		return internet
	}
	return segment
}

// inside returns those of some nodes that are not the internet.
func inside(nodes []string) []string {
	return slices.DeleteFunc(slices.Clone(nodes), func(n string) bool { return n == internet })
}

func distinct(list []string) []string {
	slices.Sort(list)
	return slices.Compact(list)
}

// nodes returns the nodes of the board that a side has in a segment, and adds its places.
func (f *scopeFinder) nodes(segment string, side estate.Side, to *ScopeSide) []string {
	at := f.s.Judge.Net.Segment(segment)
	if at == paths.None {
		return nil
	}
	if side.Any {
		f.places(at, f.s.Matrix.Inside[at], to)
		to.Internet = true
		return []string{segment, internet}
	}
	var out []string
	for _, name := range side.Groups {
		group := f.s.Judge.Group(name)
		if group == paths.None {
			continue
		}
		local := &f.s.Matrix.Local[at]
		if local.SomeoneIn(group) {
			out = append(out, view.NodeID(matrix.Node{Kind: matrix.NodeGroup, Segment: segment, Group: name}))
			for _, set := range local.With(group) {
				f.places(at, local.Classes[set], to)
			}
		}
		if len(query.OutsideGroup(f.s.Matrix, group)) > 0 {
			to.Internet = true
			out = append(out, internet)
		}
	}
	return distinct(out)
}

// places adds the networks of some classes of a segment.
func (f *scopeFinder) places(segment int, classes []int, to *ScopeSide) {
	net := f.s.Judge.Net
	if f.seen[to] == nil {
		f.seen[to] = map[Place]bool{}
	}
	for _, c := range classes {
		p := Place{net.Networks[f.s.Matrix.Classes[c].End.Home.Network].Name, net.Segments[segment]}
		if !f.seen[to][p] {
			f.seen[to][p] = true
			to.Places = append(to.Places, p)
		}
	}
}

// between adds the cells between two sides; nil stands for the internet.
func (f *scopeFinder) between(from, to []string) {
	if from == nil {
		from = []string{internet}
	}
	for _, a := range from {
		for _, b := range to {
			if a != internet || b != internet {
				f.cell(a, b)
			}
		}
	}
}

func (f *scopeFinder) cell(row, col string) {
	c := ScopeCell{row, col}
	switch {
	case slices.Contains(f.out.Cells, c):
	case len(f.out.Cells) == mostCells:
		f.out.More++
	default:
		f.out.Cells = append(f.out.Cells, c)
	}
}

// bears reports whether a passage may be of flows of the object: between segments of its sides, one
// way or the other; of a pool or rulebook, any.
func (f *scopeFinder) bears(of estate.Ref, p findings.Passage) bool {
	if of.Kind == estate.KindPool || of.Kind == estate.KindRulebook {
		return true
	}
	has := func(side *ScopeSide, segment string) bool {
		if segment == "" {
			return side.Internet
		}
		return slices.ContainsFunc(side.Places, func(at Place) bool { return at.Segment == segment })
	}
	return has(&f.out.From, p.From) && has(&f.out.To, p.To)
}
