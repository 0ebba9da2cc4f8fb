package view

import (
	"fmt"
	"slices"
	"strings"

	"bivium/core/document"
	"bivium/core/estate"
	"bivium/internal/store"
)

// Sheet is one thing of the estate with everything that touches it.
type Sheet struct {
	Revision int64             `json:"revision"`
	Kind     string            `json:"kind"`
	Name     string            `json:"name"`
	Document string            `json:"document"` // as it is written, JSON
	Labels   map[string]string `json:"labels"`
	Hand     map[string]string `json:"hand"` // labels that were set by hand
	Tags     map[string]string `json:"tags"` // as the provider has them
	Read     bool              `json:"read"` // it was read from an account
	Groups   []Named           `json:"groups"`
	Rules    []Thing           `json:"rules"` // policies, shares and rulebooks with a side that holds it, or that name it
	Uses     []Thing           `json:"uses"`  // what else names it
	Members  int               `json:"members"`
	Some     []string          `json:"some"` // the first members of a group
	Issues   []Issue           `json:"issues"`
	Counting bool              `json:"counting"` // the faults and findings are still being worked out
	History  []store.Step      `json:"history"`  // the last changes of it, newest first
}

// MaxHistory is how many changes of a thing a sheet shows.
const MaxHistory = 20

// lists is the list of the document that each kind of thing is in.
var lists = map[string]string{
	"account": "accounts", "hub": "hubs", "link": "links", "segment": "segments", "network": "networks", "subnet": "networks",
	"attachment": "attachments", "peering": "peerings", "exit": "exits", "publication": "publications", "workload": "workloads",
	"service": "services", "group": "groups", "pool": "pools", "firewall": "pools", "rulebook": "rulebooks", "policy": "policies",
	"share": "shares", "expectation": "expectations",
}

// Sheet returns everything about one thing that its snapshot tells, by its kind and name,
// with the list that it is in and its key there; false for one that is not there. Counting
// is true where it is not known yet which issues name it.
func (s *Snapshot) Sheet(kind, name string) (out *Sheet, list, key string, ok bool) {
	list, object, ok := s.locate(kind, name)
	if !ok {
		return nil, "", "", false
	}
	out = &Sheet{Revision: s.Revision, Kind: kind, Name: name, Labels: map[string]string{}, Hand: map[string]string{}, Tags: map[string]string{}, Groups: []Named{}, Rules: []Thing{}, Uses: []Thing{}, Some: []string{}, Issues: []Issue{}, History: []store.Step{}}
	out.Document = string(object.Body)
	s.membership(out)
	for i := range s.Known {
		if k := &s.Known[i]; string(k.Kind) == kind && k.Name == name {
			out.Read, out.Hand, out.Tags = true, OrEmpty(k.Hand), OrEmpty(k.Tags)
		}
	}
	s.uses(out)
	if out.Counting = s.Counted() == nil; out.Counting {
		return out, list, object.Key, true
	}
	issues := s.Issues()
	for _, all := range [][]Issue{issues.Faults, issues.Findings} {
		for i := range all {
			if slices.Contains(all[i].Refs, Thing{kind, name}) {
				out.Issues = append(out.Issues, all[i])
			}
		}
	}
	return out, list, object.Key, true
}

// locate returns a thing as the document writes it; a subnet by its network, a
// firewall by its pool.
func (s *Snapshot) locate(kind, name string) (list string, o document.Object, ok bool) {
	list, known := lists[kind]
	if !known {
		return "", o, false
	}
	e := s.Estate
	find := func(n int, at func(int) string, thing func(int) any) {
		for i := range n {
			if at(i) == name && !ok {
				o, ok = document.Whole(list, name, thing(i)), true
				if kind == "link" || kind == "attachment" || kind == "peering" {
					o.Key = fmt.Sprintf("%06d", i)
				}
			}
		}
	}
	switch kind {
	case "account":
		find(len(e.Accounts), func(i int) string { return e.Accounts[i].Name }, func(i int) any { return e.Accounts[i] })
	case "hub":
		find(len(e.Hubs), func(i int) string { return e.Hubs[i].Name }, func(i int) any { return e.Hubs[i] })
	case "link":
		find(len(e.Links), func(i int) string { return e.Links[i].Between[0] + "-" + e.Links[i].Between[1] }, func(i int) any { return e.Links[i] })
	case "segment":
		find(len(e.Segments), func(i int) string { return e.Segments[i].Name }, func(i int) any { return e.Segments[i] })
	case "network":
		find(len(e.Networks), func(i int) string { return e.Networks[i].Name }, func(i int) any { return e.Networks[i] })
	case "subnet":
		network, _, _ := strings.Cut(name, "/")
		name = network
		find(len(e.Networks), func(i int) string { return e.Networks[i].Name }, func(i int) any { return e.Networks[i] })
	case "attachment":
		find(len(e.Attachments), func(i int) string { return e.Attachments[i].Network + "@" + e.Attachments[i].Hub }, func(i int) any { return e.Attachments[i] })
	case "peering":
		find(len(e.Peerings), func(i int) string { return e.Peerings[i].Between[0] + "-" + e.Peerings[i].Between[1] }, func(i int) any { return e.Peerings[i] })
	case "exit":
		find(len(e.Exits), func(i int) string { return e.Exits[i].Name }, func(i int) any { return e.Exits[i] })
	case "publication":
		find(len(e.Publications), func(i int) string { return e.Publications[i].Name }, func(i int) any { return e.Publications[i] })
	case "workload":
		find(len(e.Workloads), func(i int) string { return e.Workloads[i].Name }, func(i int) any { return e.Workloads[i] })
	case "service":
		find(len(e.Services), func(i int) string { return e.Services[i].Name }, func(i int) any { return e.Services[i] })
	case "group":
		find(len(e.Groups), func(i int) string { return e.Groups[i].Name }, func(i int) any { return e.Groups[i] })
	case "pool":
		find(len(e.Pools), func(i int) string { return e.Pools[i].Name }, func(i int) any { return e.Pools[i] })
	case "firewall":
		for i := range e.Pools {
			if slices.ContainsFunc(e.Pools[i].Firewalls, func(f estate.Firewall) bool { return f.Name == name }) {
				o, ok = document.Whole(list, e.Pools[i].Name, e.Pools[i]), true
			}
		}
	case "rulebook":
		find(len(e.Rulebooks), func(i int) string { return e.Rulebooks[i].Name }, func(i int) any { return e.Rulebooks[i] })
	case "policy":
		find(len(e.Policies), func(i int) string { return e.Policies[i].Name }, func(i int) any { return e.Policies[i] })
	case "share":
		find(len(e.Shares), func(i int) string { return e.Shares[i].Name }, func(i int) any { return e.Shares[i] })
	case "expectation":
		find(len(e.Expectations), func(i int) string { return e.Expectations[i].Name }, func(i int) any { return e.Expectations[i] })
	}
	return list, o, ok
}

// membership tells the groups of a workload, the rules that these are in, and the
// members of a group.
func (s *Snapshot) membership(out *Sheet) {
	names := s.Judge.GroupNames()
	hints := map[string]string{}
	for i := range s.Estate.Groups {
		hints[s.Estate.Groups[i].Name] = groupHint(&s.Estate.Groups[i])
	}
	switch out.Kind {
	case "workload":
		i := s.Index.Workload[out.Name]
		out.Labels = OrEmpty(s.Estate.Workloads[i].Labels)
		for _, g := range s.GroupsOf(i) {
			out.Groups = append(out.Groups, Named{names[g], hints[names[g]]})
			for _, rule := range s.RulesOn(names[g]) {
				if !slices.Contains(out.Rules, rule) {
					out.Rules = append(out.Rules, rule)
				}
			}
		}
	case "network":
		for i := range s.Estate.Networks {
			if s.Estate.Networks[i].Name == out.Name {
				out.Labels = OrEmpty(s.Estate.Networks[i].Labels)
			}
		}
	case "group":
		g := slices.Index(names, out.Name)
		for i := range s.Estate.Workloads {
			if slices.Contains(s.GroupsOf(i), g) {
				out.Members++
				if len(out.Some) < 4*MaxNamed {
					out.Some = append(out.Some, s.Estate.Workloads[i].Name)
				}
			}
		}
		out.Rules = s.RulesOn(out.Name)
	}
}

// RulesOn returns the policies, shares and rulebooks that name a group.
func (s *Snapshot) RulesOn(group string) []Thing {
	out := []Thing{}
	in := func(side estate.Side) bool { return slices.Contains(side.Groups, group) }
	for i := range s.Estate.Policies {
		if p := &s.Estate.Policies[i]; in(p.From) || in(p.To) {
			out = append(out, Thing{"policy", p.Name})
		}
	}
	for i := range s.Estate.Shares {
		if h := &s.Estate.Shares[i]; in(h.Owner.Groups) || in(h.Guest.Groups) {
			out = append(out, Thing{"share", h.Name})
		}
	}
	for i := range s.Estate.Rulebooks {
		b := &s.Estate.Rulebooks[i]
		if slices.ContainsFunc(b.Rules, func(r estate.BookRule) bool { return in(r.From) || in(r.To) }) {
			out = append(out, Thing{"rulebook", b.Name})
		}
	}
	return out
}

// segmentsAround returns the segments that hold some of a thing.
func (s *Snapshot) segmentsAround(kind, name string) []string {
	switch kind {
	case "segment":
		return []string{name}
	case "workload":
		t := s.builtTree()
		return s.row(&t.nodes[t.byID["workload:"+name]], 0, false).Segments
	case "network":
		for i := range s.Estate.Networks {
			if s.Estate.Networks[i].Name == name {
				return segmentsOf(&s.Estate.Networks[i])
			}
		}
	}
	return nil
}

// uses tells what else of the estate names a thing.
func (s *Snapshot) uses(out *Sheet) {
	e, name := s.Estate, out.Name
	use := func(kind, name string, does bool) {
		if does && len(out.Uses) < MaxThings {
			out.Uses = append(out.Uses, Thing{kind, name})
		}
	}
	is := func(kind, other string) bool { return out.Kind == kind && other == name }
	in := s.segmentsAround(out.Kind, name) // their exits are its ways out
	for i := range e.Hubs {
		use("hub", e.Hubs[i].Name, is("account", e.Hubs[i].Account))
	}
	for i := range e.Networks {
		n := &e.Networks[i]
		use("network", n.Name, is("account", n.Account) || out.Kind == "segment" && slices.Contains(segmentsOf(n), name))
	}
	for _, l := range e.Links {
		use("link", l.Between[0]+"-"+l.Between[1], is("hub", l.Between[0]) || is("hub", l.Between[1]))
	}
	for _, a := range e.Attachments {
		use("attachment", a.Network+"@"+a.Hub, is("network", a.Network) || is("hub", a.Hub))
	}
	for _, p := range e.Peerings {
		use("peering", p.Between[0]+"-"+p.Between[1], is("network", p.Between[0]) || is("network", p.Between[1]))
	}
	for _, x := range e.Exits {
		use("exit", x.Name, is("hub", x.Hub) || slices.ContainsFunc(in, func(s string) bool { return slices.Contains(x.Segments, s) }))
	}
	for _, p := range e.Publications {
		use("publication", p.Name, is("exit", p.Exit) || is("segment", p.To.Segment) || out.Kind == "group" && slices.Contains(p.To.Groups.Groups, name))
	}
	for i := range e.Groups {
		g := &e.Groups[i]
		use("group", g.Name, is("group", g.Within) || out.Kind == "network" && slices.Contains(g.Networks, name) || out.Kind == "exit" && slices.Contains(g.Exits, name))
	}
	for i := range e.Pools {
		p := &e.Pools[i]
		use("pool", p.Name, is("rulebook", p.Rulebook) || out.Kind == "hub" && slices.ContainsFunc(p.Firewalls, func(f estate.Firewall) bool { return f.Hub == name }))
	}
	ruled := func(rules []estate.Rule) bool {
		return slices.ContainsFunc(rules, func(r estate.Rule) bool {
			return is("pool", r.Pool) || out.Kind == "service" && slices.ContainsFunc(r.Services, func(v estate.ServiceRef) bool { return v.String() == name })
		})
	}
	for i := range e.Policies {
		p := &e.Policies[i]
		use("policy", p.Name, ruled(p.Rules) || out.Kind == "segment" && (slices.Contains(p.Segments.Names, name) || slices.Contains(p.FromSegments.Names, name) || slices.Contains(p.ToSegments.Names, name)))
	}
	for i := range e.Shares {
		h := &e.Shares[i]
		use("share", h.Name, ruled(h.Rules) || is("segment", h.Owner.Segment) || is("segment", h.Guest.Segment))
	}
}
