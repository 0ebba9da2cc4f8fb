// Package findings looks for what is legal and probably wrong (M10), for the shares that
// M6.4 forbids, and for where each firewall pool sees flows. The text of each finding is
// written here too.
package findings

import (
	"slices"
	"strconv"
	"strings"

	"github.com/bits-and-blooms/bitset"

	"bivium/core/estate"
	"bivium/core/matrix"
	"bivium/core/membership"
	"bivium/core/paths"
	"bivium/core/query"
	"bivium/core/space"
	"bivium/core/verdict"
)

// FindingCode is the code of a finding (M10). A code never changes its meaning.
type FindingCode string

// The findings of M10, in the order in which they are listed.
const (
	Contested       FindingCode = "contested"
	RailNotEnforced FindingCode = "guardrail-not-enforced"
	Bypass          FindingCode = "bypass"
	Unenforced      FindingCode = "unenforced"
	Uninspectable   FindingCode = "uninspectable"
	FailedOpen      FindingCode = "failed-open"
	NoFirewall      FindingCode = "no-firewall"
	Asymmetric      FindingCode = "asymmetric"
	OneWay          FindingCode = "one-way"
	MeantUnrouted   FindingCode = "meant-but-unrouted"
	UnreachedRule   FindingCode = "unreached-rule"
	EmptySide       FindingCode = "empty-side"
	SameMembers     FindingCode = "same-members"
	JoiningPeering  FindingCode = "joining-peering"
	LearnedWaits    FindingCode = "learned-waits"
	LearnedGone     FindingCode = "learned-gone"
	Down            FindingCode = "down"
	OpenByDefault   FindingCode = "open-by-default"
	RanOut          FindingCode = "ran-out"
	RunsOut         FindingCode = "runs-out"
	ReviewDue       FindingCode = "review-due"
)

var FindingOrder = []FindingCode{
	Contested, RailNotEnforced, Bypass, Unenforced, Uninspectable, FailedOpen, NoFirewall, Asymmetric, OneWay, MeantUnrouted,
	UnreachedRule, EmptySide, SameMembers, JoiningPeering, LearnedWaits, LearnedGone, Down, OpenByDefault,
	RanOut, RunsOut, ReviewDue,
}

// Finding is something legal and probably wrong. Witness is nil for findings
// that are not about flows. Its words are made of Code, Form, Args and Refs, see internal/wording.
type Finding struct {
	Code     FindingCode
	Form     string   // which of the kinds of a code it is, where there are several
	Args     []string // what it is about, in an order of its code and form
	Refs     []estate.Ref
	Services space.Services
	Witness  *verdict.Flow
}

// example is a pair of classes whose flows are of one combination.
type example struct{ from, to, publication int }

type finder struct {
	*matrix.Matrix
	book     *Book
	pace     func()
	found    []Finding
	atoms    []*bitset.BitSet // by finding; nil for those that are not about flows
	examples []example
	at       map[string]int
	named    map[named]bool
	spoke    map[verdict.RuleRef]bool
	contests [][]string
	reasons  []uint8 // see reasonsOf
	members  map[string][]int
	policies map[string]*estate.Policy
}

// named is a network that a finding, by number, names.
type named struct {
	finding int
	network string
}

// add reports a finding about flows once for each key, and gathers its atoms.
func (f *finder) add(code FindingCode, key string, x example, atom int, refs []estate.Ref, args func() []string) {
	key = string(code) + " " + key
	i, ok := f.at[key]
	if !ok {
		i = len(f.found)
		f.at[key] = i
		f.found = append(f.found, Finding{Code: code, Args: args(), Refs: refs})
		f.atoms = append(f.atoms, bitset.New(uint(f.Matrix.Atoms.Len())))
		f.examples = append(f.examples, x)
	}
	if f.examples[i] == x {
		f.atoms[i].Set(uint(atom))
	}
}

// addAt reports a finding about flows that several networks may have.
func (f *finder) addAt(code FindingCode, key string, x example, atom int, network estate.Ref, args func() []string) {
	f.add(code, key, x, atom, nil, args)
	i := f.at[string(code)+" "+key]
	if at := (named{i, network.Name}); !f.named[at] {
		f.named[at] = true
		f.found[i].Refs = append(f.found[i].Refs, network)
	}
}

// addBetween is add of a finding about flows between endpoints, whose networks it refers to.
func (f *finder) addBetween(code FindingCode, key string, x example, atom int, args func() []string, ends ...*membership.Endpoint) {
	f.add(code, key, x, atom, nil, args)
	if found := &f.found[f.at[string(code)+" "+key]]; found.Refs == nil {
		found.Refs = f.networks(ends...)
	}
}

// note reports a finding that is not about flows.
func (f *finder) note(code FindingCode, refs []estate.Ref, form string, args ...string) {
	f.found = append(f.found, Finding{Code: code, Form: form, Args: args, Refs: refs})
	f.atoms = append(f.atoms, nil)
	f.examples = append(f.examples, example{})
}

// rules reports rules that no flow reaches, sides that hold nobody, and groups
// that make policies contest although they hold the same members.
func (f *finder) rules() {
	e := f.Judge.Estate
	report := func(kind estate.Kind, name string, rules int, lapsed func(int) bool) {
		for i := range rules {
			if !lapsed(i) && !f.spoke[verdict.RuleRef{Kind: kind, Name: name, Rule: i}] {
				f.note(UnreachedRule, []estate.Ref{{Kind: kind, Name: name}}, "", strconv.Itoa(i+1), string(kind), name)
			}
		}
	}
	for i := range e.Policies {
		p := &e.Policies[i]
		if !p.Active() {
			continue
		}
		empty := false
		for _, side := range []struct {
			word          string
			DomainMembers estate.Side
		}{{"source", p.From}, {"destination", p.To}} {
			if len(f.membersOf(side.DomainMembers)) == 0 {
				empty = true
				f.note(EmptySide, policyRefs([]string{p.Name}), "", p.Name, side.word)
			}
		}
		if !empty {
			report(estate.KindPolicy, p.Name, len(p.Rules), func(k int) bool { return p.Rules[k].Lapsed })
		}
	}
	for i := range e.Shares {
		if e.Shares[i].Active() {
			report(estate.KindShare, e.Shares[i].Name, len(e.Shares[i].Rules), func(k int) bool { return e.Shares[i].Rules[k].Lapsed })
		}
	}
	for i := range e.Rulebooks {
		report(estate.KindRulebook, e.Rulebooks[i].Name, len(e.Rulebooks[i].Rules), func(int) bool { return false })
	}
	f.policies = map[string]*estate.Policy{}
	for i := range e.Policies {
		f.policies[e.Policies[i].Name] = &e.Policies[i]
	}
	for _, names := range f.contests {
		f.sameMembers(names)
	}
}

// membersOf returns the classes that a side holds, an external one if it does
// through any exit.
func (f *finder) membersOf(side estate.Side) []int {
	if side.Any {
		return []int{-1} // somebody, and the same for every "any"
	}
	key := side.String()
	known, ok := f.members[key]
	if ok {
		return known
	}
	for _, name := range side.Groups {
		known = append(known, groupClasses(f.Matrix, name)...)
	}
	slices.Sort(known)
	known = slices.Compact(known)
	f.members[key] = known
	return known
}

// groupClasses returns the classes of a group in all domains.
func groupClasses(s *matrix.Matrix, name string) []int {
	group := s.Judge.Group(name)
	if group == paths.None {
		return nil
	}
	var out []int
	for i := range s.Local {
		for _, set := range s.Local[i].With(group) {
			out = append(out, s.Local[i].Classes[set]...)
		}
	}
	for _, m := range query.OutsideGroup(s, group) {
		out = append(out, m.Class)
	}
	return out
}

// sameMembers reports contesting policies whose sides hold the same members
// through groups that do not stand within one another.
func (f *finder) sameMembers(names []string) {
	for i, a := range names {
		for _, b := range names[i+1:] {
			p, q := f.policies[a], f.policies[b]
			for _, sides := range [][2]estate.Side{{p.From, q.From}, {p.To, q.To}} {
				if sides[0].String() != sides[1].String() && slices.Equal(f.membersOf(sides[0]), f.membersOf(sides[1])) {
					f.note(SameMembers, policyRefs([]string{a, b}), "", a, b, sides[0].String(), sides[1].String())
				}
			}
		}
	}
}

// things reports what is down, waits, joins or is open.
func (f *finder) things() {
	e := f.Judge.Estate
	relied := estate.ReliedOn(e)
	for _, l := range e.Links {
		if l.State != "up" {
			f.note(Down, []estate.Ref{{Kind: estate.KindLink, Name: l.Between[0] + "–" + l.Between[1]}}, "link", l.Between[0], l.Between[1])
		}
	}
	for i := range e.Attachments {
		a := &e.Attachments[i]
		ref := []estate.Ref{{Kind: estate.KindAttachment, Name: a.Network + "@" + a.Hub}, {Kind: estate.KindNetwork, Name: a.Network}}
		if a.State != "up" {
			f.note(Down, ref, "attachment", a.Network, a.Hub)
		}
		f.learned(a, ref, relied)
	}
	for _, p := range e.Pools {
		for _, w := range p.Firewalls {
			if w.State != "healthy" {
				f.note(Down, []estate.Ref{{Kind: estate.KindFirewall, Name: w.Name}, {Kind: estate.KindPool, Name: p.Name}}, "firewall", w.Name, p.Name, w.Hub, w.State)
			}
		}
	}
	for _, p := range e.Peerings {
		a, b := f.segmentsOf(p.Between[0]), f.segmentsOf(p.Between[1])
		if len(a) > 0 && len(b) > 0 && !slices.Equal(a, b) {
			f.note(JoiningPeering, []estate.Ref{{Kind: estate.KindPeering, Name: p.Between[0] + "–" + p.Between[1]}}, "", p.Between[0], strings.Join(a, ", "), p.Between[1], strings.Join(b, ", "))
		}
	}
	for _, s := range e.Segments {
		if s.Default == estate.Allow {
			f.note(OpenByDefault, []estate.Ref{{Kind: estate.KindSegment, Name: s.Name}}, "", s.Name)
		}
	}
}

// segmentsOf returns the segments of a network's subnets, sorted.
func (f *finder) segmentsOf(network string) []string {
	net := f.Judge.Net
	number := net.Network(network)
	var out []string
	if number == paths.None {
		return nil
	}
	for _, s := range net.Networks[number].Subnets {
		if segment := net.Subnets[s].Segment; segment != paths.None {
			out = append(out, net.Segments[segment])
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// Identity returns what tells a finding from others of its estate. It stays as long as what
// the finding is about does, whatever else is found, and however it is put into words.
func (f *Finding) Identity() string {
	about := f.Args
	switch f.Code { // whose other arguments are of an example
	case Contested:
		about = about[4:]
	case RailNotEnforced:
		about = about[:1]
	}
	return strings.Join(append([]string{string(f.Code), f.Form}, about...), "\x00")
}
