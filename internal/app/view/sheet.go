package view

import (
	"cmp"
	"slices"
	"strings"

	"bivium/core/document"
	"bivium/core/edit"
	"bivium/core/estate"
	"bivium/core/inventory"
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
			out.Read, out.Hand, out.Tags = true, OrEmpty(handOf(s, k)), OrEmpty(k.Tags)
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

// handOf returns the labels of a thing that people set, in a draft too.
func handOf(s *Snapshot, k *inventory.Known) map[string]string {
	return inventory.NewTable(s.Estate.MappingRules()).HandIn(*k, s.Estate)
}

// locate returns a thing as the document writes it; a subnet by its network, a
// firewall by its pool. A connection may be named by what it connects, too.
func (s *Snapshot) locate(kind, name string) (list string, o document.Object, ok bool) {
	holder := estate.Kind(kind)
	switch holder {
	case estate.KindSubnet:
		holder = estate.KindNetwork
		name, _, _ = strings.Cut(name, "/")
	case estate.KindFirewall:
		holder = estate.KindPool
		at := slices.IndexFunc(s.Estate.Pools, func(p estate.Pool) bool {
			return slices.ContainsFunc(p.Firewalls, func(f estate.Firewall) bool { return f.Name == name })
		})
		if at < 0 {
			return "", o, false
		}
		name = s.Estate.Pools[at].Name
	}
	things := document.Things(s.Estate, holder)
	if !things.IsValid() {
		return "", o, false
	}
	list = document.ListOf(holder)
	for i := range things.Len() {
		thing := things.Index(i)
		if own := document.NameOf(thing); own == name || connects(thing.Interface()) == name {
			return list, document.Object{List: list, Key: own, Body: document.Body(thing)}, true
		}
	}
	return list, o, false
}

// connects returns what a connection connects, as faults and findings name it; "" for other
// things.
func connects(thing any) string {
	switch c := thing.(type) {
	case estate.Link:
		return c.Between[0] + "-" + c.Between[1]
	case estate.Peering:
		return c.Between[0] + "-" + c.Between[1]
	case estate.Attachment:
		return c.Network + "@" + c.Hub
	}
	return ""
}

// membership tells the groups of a workload, the rules that these are in, and the
// members of a group.
func (s *Snapshot) membership(out *Sheet) {
	names := s.Judge.GroupNames()
	hints := map[string]string{}
	for i := range s.Estate.Groups {
		hints[s.Estate.Groups[i].Name] = GroupHint(&s.Estate.Groups[i])
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

// uses tells what else of the estate refers to a thing, and by which exits what is in its
// segments reaches the internet.
func (s *Snapshot) uses(out *Sheet) {
	use := func(t Thing) {
		if len(out.Uses) < MaxThings && !slices.Contains(out.Rules, t) && !slices.Contains(out.Uses, t) {
			out.Uses = append(out.Uses, t)
		}
	}
	for _, ref := range document.Referrers(s.Estate, estate.Ref{Kind: estate.Kind(out.Kind), Name: out.Name}) {
		if ref.Kind == estate.KindWorkload { // the tree has those
			continue
		}
		thing, _ := edit.In(s.Estate)(ref)
		use(Thing{string(ref.Kind), cmp.Or(connects(thing.Interface()), ref.Name)})
	}
	in := s.segmentsAround(out.Kind, out.Name)
	for _, x := range s.Estate.Exits {
		if slices.ContainsFunc(in, func(segment string) bool { return slices.Contains(x.Segments, segment) }) {
			use(Thing{string(estate.KindExit), x.Name})
		}
	}
}
