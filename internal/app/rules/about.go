package rules

import (
	"net/netip"
	"slices"
	"strings"

	"bivium/core/estate"
	"bivium/internal/app/view"
)

// About is what is worth knowing of a rule object while it is written.
type About struct {
	Sides     []SideFacts `json:"sides"`
	Relations []Relation  `json:"relations"` // of a policy, to others
	Within    []string    `json:"within"`    // of a group: the groups that it is nested in, the next one first
	Nested    []string    `json:"nested"`    // of a group: those that are nested in it
	// Expectation is how an expectation stands; null for other things.
	Expectation *view.ExpectationState `json:"expectation"`
	// Answer is what the internet gets by a publication; null for other things.
	Answer *view.Answer `json:"answer"`
}

// SideFacts is who is on one side of a rule object.
type SideFacts struct {
	Side   string       `json:"side"` // from, to, owner, guest or members
	Any    bool         `json:"any"`
	Groups []GroupFacts `json:"groups"`
}

// GroupFacts is who is in a group by now.
type GroupFacts struct {
	Name      string   `json:"name"`
	Workloads int      `json:"workloads"`
	Inside    int      `json:"inside"` // of these, in a segment that the rule object serves
	Some      []string `json:"some"`   // the first of them; those inside come first
	Hint      string   `json:"hint"`   // how its members are selected
	External  bool     `json:"external"`
}

// Relation is how a policy stands to another one whose sides overlap its own (M4.4).
type Relation struct {
	Policy string `json:"policy"`
	// Is is more for a more specific policy, which overrides this one, less for one that this
	// one overrides, and same for one with the same sides.
	Is   string `json:"is"`
	From string `json:"from"` // its sides
	To   string `json:"to"`
}

// maxRelations is how many relations are told.
const maxRelations = 60

// AboutThing returns what is worth knowing of a thing of a snapshot; nothing for kinds that
// select nobody.
func AboutThing(s *view.Snapshot, ref estate.Ref) *About {
	out := &About{Sides: []SideFacts{}, Relations: []Relation{}, Within: []string{}, Nested: []string{}}
	e := s.Estate
	side := func(name string, x estate.Side, scope estate.Scope) {
		out.Sides = append(out.Sides, sideFacts(s, name, x, scope))
	}
	in := func(segment string) estate.Scope { return estate.Scope{Names: []string{segment}} }
	end := func(name string, x estate.End) {
		if !x.Internet {
			side(name, x.Groups, in(x.Segment))
		}
	}
	switch ref.Kind {
	case estate.KindPolicy:
		if p := find(e.Policies, ref.Name, func(p *estate.Policy) string { return p.Name }); p != nil {
			side("from", p.From, orScope(p.FromSegments, p.Segments))
			side("to", p.To, orScope(p.ToSegments, p.Segments))
			out.Relations = relations(s, p)
		}
	case estate.KindShare:
		if h := find(e.Shares, ref.Name, func(h *estate.Share) string { return h.Name }); h != nil {
			side("guest", h.Guest.Groups, in(h.Guest.Segment))
			side("owner", h.Owner.Groups, in(h.Owner.Segment))
		}
	case estate.KindPublication:
		if p := find(e.Publications, ref.Name, func(p *estate.Publication) string { return p.Name }); p != nil {
			side("to", p.To.Groups, in(p.To.Segment))
			if answer, err := s.Ask(view.Question{From: "internet", To: p.Address.String(), On: "any"}); err == nil {
				out.Answer = answer
			}
		}
	case estate.KindExpectation:
		if x := find(e.Expectations, ref.Name, func(x *estate.Expectation) string { return x.Name }); x != nil {
			end("from", x.From)
			end("to", x.To)
			out.Expectation = s.ExpectationState(ref.Name)
		}
	case estate.KindGroup:
		aboutGroup(s, out, ref.Name)
	}
	return out
}

func orScope(a, b estate.Scope) estate.Scope {
	if a.IsZero() && b.IsZero() {
		return estate.Scope{All: true}
	}
	if a.IsZero() {
		return b
	}
	return a
}

func find[T any](list []T, name string, of func(*T) string) *T {
	for i := range list {
		if of(&list[i]) == name {
			return &list[i]
		}
	}
	return nil
}

func aboutGroup(s *view.Snapshot, out *About, name string) {
	parent := map[string]string{}
	for i := range s.Estate.Groups {
		parent[s.Estate.Groups[i].Name] = s.Estate.Groups[i].Within
	}
	if _, there := parent[name]; !there {
		return
	}
	out.Sides = append(out.Sides, sideFacts(s, "members", estate.Side{Groups: []string{name}}, estate.Scope{All: true}))
	for at := parent[name]; at != "" && at != name && !slices.Contains(out.Within, at); at = parent[at] {
		out.Within = append(out.Within, at)
	}
	for i := range s.Estate.Groups {
		if g := &s.Estate.Groups[i]; g.Within == name && g.Name != name {
			out.Nested = append(out.Nested, g.Name)
		}
	}
	slices.Sort(out.Nested)
}

// sideFacts returns who is on a side of something that serves some segments. Cost: the
// workloads of its groups.
func sideFacts(s *view.Snapshot, name string, x estate.Side, scope estate.Scope) SideFacts {
	out := SideFacts{Side: name, Any: x.Any, Groups: []GroupFacts{}}
	if len(x.Groups) == 0 {
		return out
	}
	networks := make(map[string]*estate.Network, len(s.Estate.Networks))
	for i := range s.Estate.Networks {
		networks[s.Estate.Networks[i].Name] = &s.Estate.Networks[i]
	}
	for _, g := range x.Groups {
		group := find(s.Estate.Groups, g, func(g *estate.Group) string { return g.Name })
		if group == nil {
			continue
		}
		members, byLabels := s.MembersByLabels(g)
		if !byLabels {
			members = s.MembersOf()[g]
		}
		f := GroupFacts{Name: g, Workloads: len(members), Hint: view.GroupHint(group), External: len(group.Exits) > 0}
		var inside, outside []string
		for _, i := range members {
			w := &s.Estate.Workloads[i]
			if scope.All || within(w, networks[w.Network], scope) {
				f.Inside++
				inside = appendSome(inside, w.Name)
			} else {
				outside = appendSome(outside, w.Name)
			}
		}
		f.Some = append(append([]string{}, inside...), outside...)
		f.Some = f.Some[:min(len(f.Some), maxSome)]
		out.Groups = append(out.Groups, f)
	}
	return out
}

// maxSome is how many members of a group are named.
const maxSome = 12

func appendSome(list []string, name string) []string {
	if len(list) < maxSome {
		return append(list, name)
	}
	return list
}

// within reports whether a workload has an address in a segment of a scope.
func within(w *estate.Workload, network *estate.Network, scope estate.Scope) bool {
	if network == nil {
		return false
	}
	for i := range network.Subnets {
		if !slices.Contains(scope.Names, network.SegmentOf(&network.Subnets[i])) {
			continue
		}
		if slices.ContainsFunc(w.Addresses, func(a netip.Addr) bool { return network.Subnets[i].Prefix.Contains(a) }) {
			return true
		}
	}
	return false
}

// relations returns how a policy stands to the others that are switched on: which of them are
// more specific for some of the flows that it matches, or less (M4.4). Cost: all policies,
// times their sides.
func relations(s *view.Snapshot, p *estate.Policy) []Relation {
	out := []Relation{}
	parent := map[string]string{}
	for i := range s.Estate.Groups {
		parent[s.Estate.Groups[i].Name] = s.Estate.Groups[i].Within
	}
	for i := range s.Estate.Policies {
		q := &s.Estate.Policies[i]
		if q.Name == p.Name || !q.Enabled || q.Guardrail() != p.Guardrail() || !meets(p, q) {
			continue
		}
		from, to := compareSides(q.From, p.From, parent), compareSides(q.To, p.To, parent)
		is := ""
		switch {
		case from.more && to.more || from.more && to.same || from.same && to.more:
			is = "more"
		case from.less && to.less || from.less && to.same || from.same && to.less:
			is = "less"
		case from.same && to.same:
			is = "same"
		default:
			continue
		}
		if len(out) < maxRelations {
			out = append(out, Relation{q.Name, is, q.From.String(), q.To.String()})
		}
	}
	rank := map[string]int{"more": 0, "same": 1, "less": 2}
	slices.SortStableFunc(out, func(a, b Relation) int {
		if d := rank[a.Is] - rank[b.Is]; d != 0 {
			return d
		}
		return strings.Compare(a.Policy, b.Policy)
	})
	return out
}

// meets reports whether two policies serve a common segment.
func meets(p, q *estate.Policy) bool {
	if p.Guardrail() {
		return common(orScope(p.FromSegments, p.Segments), orScope(q.FromSegments, q.Segments)) && common(orScope(p.ToSegments, p.Segments), orScope(q.ToSegments, q.Segments))
	}
	return common(p.Segments, q.Segments)
}

func common(a, b estate.Scope) bool {
	return a.All || b.All || slices.ContainsFunc(a.Names, func(s string) bool { return slices.Contains(b.Names, s) })
}

// comparison is how one side stands to another, by any pair of their groups.
type comparison struct{ more, less, same bool }

func compareSides(a, b estate.Side, parent map[string]string) comparison {
	var c comparison
	switch {
	case a.Any && b.Any:
		c.same = true
	case a.Any:
		c.less = len(b.Groups) > 0
	case b.Any:
		c.more = len(a.Groups) > 0
	}
	for _, x := range a.Groups {
		for _, y := range b.Groups {
			c.same = c.same || x == y
			c.more = c.more || above(y, x, parent)
			c.less = c.less || above(x, y, parent)
		}
	}
	return c
}

// above reports whether a group is a proper ancestor of another.
func above(a, b string, parent map[string]string) bool {
	for at, steps := parent[b], 0; at != "" && steps <= len(parent); at, steps = parent[at], steps+1 {
		if at == a {
			return true
		}
	}
	return false
}
