package view

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"bivium/core/estate"
	"bivium/core/space"
)

// Completion is one proposal for a token of the question line.
type Completion struct {
	Text string `json:"text"` // what stands in the question
	Kind string `json:"kind"` // workload, group, segment, network, publication, service, internet or address
	Hint string `json:"hint"` // what tells it from others
}

// nameIndex finds the names that a question can hold.
type nameIndex struct {
	ends     []Completion // sorted by text
	services []Completion
	Workload map[string]int
	named    []namedServices
}

// namedServices is a named service, as the set that it stands for.
type namedServices struct {
	name string
	set  space.Services
}

func newNameIndex(s *Snapshot) *nameIndex {
	x := &nameIndex{Workload: map[string]int{}}
	e := s.Estate
	for _, v := range e.Services {
		x.named = append(x.named, namedServices{v.Name, space.OfTerms(v.Terms)})
	}
	add := func(text, kind, hint string) { x.ends = append(x.ends, Completion{text, kind, hint}) }
	add("internet", "internet", "every external address")
	for _, g := range e.Groups {
		add(g.Name, "group", GroupHint(&g))
	}
	for _, g := range e.Segments {
		add(g.Name, "segment", cmp.Or(g.Description, "a whole segment"))
	}
	for i := range e.Networks {
		n := &e.Networks[i]
		hint := n.Kind
		if len(n.Subnets) > 0 {
			hint += " · " + n.Subnets[0].Prefix.String()
		}
		add(n.Name, "network", hint)
	}
	for i := range e.Workloads {
		w := &e.Workloads[i]
		x.Workload[w.Name] = i
		hint := w.Network
		if len(w.Addresses) > 0 {
			hint = w.Addresses[0].String() + " · " + w.Network
		}
		add(w.Name, "workload", hint)
	}
	for _, p := range e.Publications {
		add(p.Address.String(), "publication", "published as "+p.Name)
	}
	for _, v := range e.Services {
		words := make([]string, len(v.Terms))
		for i, t := range v.Terms {
			words[i] = t.String()
		}
		x.services = append(x.services, Completion{v.Name, "service", strings.Join(words, ", ")})
	}
	x.services = append(x.services, Completion{"any", "service", "every protocol and port"})
	byText := func(a, b Completion) int { return strings.Compare(a.Text, b.Text) }
	slices.SortStableFunc(x.ends, byText)
	slices.SortStableFunc(x.services, byText)
	return x
}

// GroupHint returns how the members of a group are selected, in short.
func GroupHint(g *estate.Group) string {
	switch {
	case g.Match != "":
		return g.Match
	case g.NetworkMatch != "":
		return "networks " + g.NetworkMatch
	case len(g.Networks) > 0:
		return strings.Join(g.Networks, ", ")
	case len(g.Subnets) > 0:
		return strings.Trim(fmt.Sprint(g.Subnets), "[]")
	case len(g.Prefixes) > 0:
		return strings.Trim(fmt.Sprint(g.Prefixes), "[]")
	case len(g.Exits) > 0:
		return "by " + strings.Join(g.Exits, ", ")
	}
	return "selects nothing"
}

// MaxCompletions is how many proposals a person looks through.
const MaxCompletions = 12

// Complete returns proposals for what was typed in a field of the question: on
// for services, from and to for ends. Names that begin with the text come
// first, then those in which a word does, then those that hold it anywhere, by
// name or by what tells them apart. Cost: linear in the names.
func (s *Snapshot) Complete(field, text string) []Completion {
	all := s.Index.ends
	if field == "on" {
		all = s.Index.services
	}
	text = strings.ToLower(strings.TrimSpace(text))
	var ranked [4][]Completion
	for _, c := range all {
		if r := rank(c, text); r < len(ranked) && len(ranked[r]) < MaxCompletions {
			ranked[r] = append(ranked[r], c)
		}
	}
	out := slices.Concat(ranked[0], ranked[1], ranked[2], ranked[3])
	if extra, ok := s.literal(field, text); ok {
		out = append([]Completion{extra}, out...)
	}
	return out[:min(len(out), MaxCompletions)]
}

func rank(c Completion, text string) int {
	switch {
	case strings.HasPrefix(c.Text, text):
		return 0
	case strings.Contains(c.Text, "-"+text) || strings.Contains(c.Text, "."+text):
		return 1
	case strings.Contains(c.Text, text):
		return 2
	case strings.Contains(c.Hint, text):
		return 3
	}
	return 4
}

// literal proposes what was typed itself, if it is an address or a term.
func (s *Snapshot) literal(field, text string) (Completion, bool) {
	if field == "on" {
		if t, err := estate.ParseTerm(text); err == nil && text != "any" {
			return Completion{t.String(), "service", "a term"}, true
		}
		return Completion{}, false
	}
	a, err := netip.ParseAddr(text)
	if err != nil || slices.ContainsFunc(s.Index.ends, func(c Completion) bool { return c.Text == text }) {
		return Completion{}, false
	}
	return Completion{a.String(), "address", s.whose(a)}, true
}

// whose says what has an address, segment by segment.
func (s *Snapshot) whose(a netip.Addr) string {
	var homes []string
	net := s.Judge.Net
	for i, segment := range net.Segments {
		p, ok := s.Judge.Internal(i, a)
		if !ok {
			continue
		}
		home := segment + " · " + net.Networks[p.Home.Network].Name
		if w := s.Judge.WorkloadOf(&p); w != "" {
			home += " · " + w
		}
		homes = append(homes, home)
	}
	if len(homes) == 0 {
		return "in no segment"
	}
	return strings.Join(homes, "; ")
}

func OrEmpty(m map[string]string) map[string]string {
	if m == nil {
		return map[string]string{}
	}
	return m
}

func OrNone[T any](list []T) []T {
	if list == nil {
		return []T{}
	}
	return list
}

// MaxNamed is how many things are named where there may be many.
const MaxNamed = 8

// Prefixes returns prefixes as they are written.
func Prefixes(prefixes []netip.Prefix) []string {
	out := []string{}
	for _, p := range prefixes {
		out = append(out, p.String())
	}
	return out
}
