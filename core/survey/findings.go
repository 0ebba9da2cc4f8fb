package survey

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"github.com/bits-and-blooms/bitset"

	"bivium/core/estate"
	"bivium/core/paths"
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
	Down            FindingCode = "down"
	OpenByDefault   FindingCode = "open-by-default"
)

var findingOrder = []FindingCode{
	Contested, RailNotEnforced, Bypass, Unenforced, Uninspectable, FailedOpen, NoFirewall, Asymmetric, OneWay, MeantUnrouted,
	UnreachedRule, EmptySide, SameMembers, JoiningPeering, LearnedWaits, Down, OpenByDefault,
}

// Finding is something legal and probably wrong. Witness is nil for findings
// that are not about flows.
type Finding struct {
	Code     FindingCode
	Refs     []estate.Ref
	Message  string
	Services space.Services
	Witness  *verdict.Flow
}

// Findings returns everything legal and probably wrong, in a fixed order. Cost:
// the combinations times the atoms, and the pairs of classes.
func (s *Survey) Findings() []Finding {
	f := &finder{Survey: s, at: map[string]int{}, spoke: map[verdict.Rulepoint]bool{}, reasons: s.reasonsOf(), members: map[string][]int{}}
	f.flows()
	f.rules()
	f.things()
	for i := range f.found {
		f.found[i].complete()
		if f.atoms[i] != nil {
			f.found[i].Services = s.atoms.Union(f.atoms[i])
			example := f.examples[i]
			w := s.witness(&column{strand: strand{publication: example.publication}, src: Member{Class: example.from}, dst: Member{Class: example.to}}, f.found[i].Services)
			f.found[i].Witness = &w
		}
	}
	slices.SortStableFunc(f.found, func(a, b Finding) int {
		if d := slices.Index(findingOrder, a.Code) - slices.Index(findingOrder, b.Code); d != 0 {
			return d
		}
		return cmp.Compare(a.Message, b.Message)
	})
	return f.found
}

// example is a pair of classes whose flows are of one combination.
type example struct{ from, to, publication int }

type finder struct {
	*Survey
	found    []Finding
	atoms    []*bitset.BitSet // by finding; nil for those that are not about flows
	examples []example
	at       map[string]int
	spoke    map[verdict.Rulepoint]bool
	contests [][]string
	reasons  []uint8 // see reasonsOf
	members  map[string][]int
	policies map[string]*estate.Policy
}

// add reports a finding about flows once for each key, and gathers its atoms.
func (f *finder) add(code FindingCode, key string, x example, atom int, refs []estate.Ref, message string) {
	key = string(code) + " " + key
	i, ok := f.at[key]
	if !ok {
		i = len(f.found)
		f.at[key] = i
		f.found = append(f.found, Finding{Code: code, Refs: refs, Message: message})
		f.atoms = append(f.atoms, bitset.New(uint(f.Survey.atoms.Len())))
		f.examples = append(f.examples, x)
	}
	if f.examples[i] == x {
		f.atoms[i].Set(uint(atom))
	}
}

// addAt reports a finding about flows that several networks may have.
func (f *finder) addAt(code FindingCode, key string, x example, atom int, network estate.Ref, message string) {
	f.add(code, key, x, atom, nil, message)
	i := f.at[string(code)+" "+key]
	if refs := f.found[i].Refs; !slices.Contains(refs, network) {
		f.found[i].Refs = append(refs, network)
	}
}

// listed is how many networks a message names before it counts the rest.
const listed = 4

// complete names the networks of a finding in its message.
func (f *Finding) complete() {
	if f.Code != Unenforced && f.Code != Uninspectable {
		return
	}
	slices.SortFunc(f.Refs, func(a, b estate.Ref) int { return strings.Compare(a.Name, b.Name) })
	var names []string
	for _, r := range f.Refs[:min(len(f.Refs), listed)] {
		names = append(names, r.String())
	}
	f.Message += strings.Join(names, ", ")
	if more := len(f.Refs) - listed; more > 0 {
		f.Message += fmt.Sprintf(" and %d more", more)
	}
}

func (f *finder) note(code FindingCode, refs []estate.Ref, message string, args ...any) {
	f.found = append(f.found, Finding{Code: code, Refs: refs, Message: fmt.Sprintf(message, args...)})
	f.atoms = append(f.atoms, nil)
	f.examples = append(f.examples, example{})
}

// circumstance is flows that a finding may be about: of one combination, through one
// publication or none, and, where the networks themselves enforce or let out,
// from one network.
type circumstance struct {
	combination
	publication, network int
}

// flows looks at each circumstance once, with a pair of classes that has it: two
// workloads, if any pair is.
func (f *finder) flows() {
	examples := map[circumstance]example{}
	told := map[circumstance]int{}
	var order []circumstance
	take := func(k circumstance, x example) {
		t := 1 + f.telling(Member{Class: x.from}, Member{Class: x.to})
		if told[k] == 0 {
			order = append(order, k)
		}
		if t > told[k] {
			told[k], examples[k] = t, x
		}
	}
	f.eachHubCombination(take)
	f.eachLocalCombination(take)
	f.eachDoorCombination(take)
	for _, k := range order {
		f.circumstance(k, examples[k])
	}
}

// eachHubCombination finds the combinations of flows that are not local.
func (f *finder) eachHubCombination(take func(circumstance, example)) {
	for from := range f.inside {
		for to, b := range f.blocks[from] {
			if b == nil {
				continue
			}
			g := &gatherer{Survey: f.Survey, fromSet: whole(f.of(from)), toSet: whole(f.of(to))}
			src, dst := f.sidesOf(g.fromSet), f.sidesOf(g.toSet)
			sources, targets := f.sources(b, g.fromSet, src[0].members), f.targets(b, g.toSet, dst[0].members)
			told := map[circumstance]int{}
			for i := range sources {
				l := &sources[i]
				srcTells := g.tellingOf(g.fromSet, l.members)
				f.eachBatch(b, l, targets, &g.buckets, func(x combination, dsts []int32) {
					k := circumstance{x, paths.None, paths.None}
					if effect := f.ledger.effectAt(x.effect); effect.Kind == paths.Peered || effect.Kind == paths.Bypass {
						k.network = l.sole
					}
					if was, seen := told[k]; seen && was >= 2+srcTells {
						return
					}
					c := column{}
					g.exemplify(&c, x, l.members, targets, dsts, from == to)
					if c.told > 0 {
						told[k] = max(told[k], c.told)
						take(k, example{c.src.Class, c.dst.Class, paths.None})
					}
				})
			}
		}
	}
}

// eachLocalCombination finds the combinations of local flows, and for each
// network those of which something is to be said about it.
func (f *finder) eachLocalCombination(take func(circumstance, example)) {
	type concern struct {
		network, effect int
		reasons         uint8
	}
	known := map[concern]bool{}
	told := map[combination]int{}
	for segment, classes := range f.inside {
		b := f.blocks[segment][segment]
		if b == nil {
			continue
		}
		set := whole(classes)
		all := f.sidesOf(set)[0].members
		f.eachNear(set, all, set, all, func(i, k int32) {
			if !f.selfless(set[i], set[k]) {
				return
			}
			src, dst := &f.classes[classes[i]], &f.classes[classes[k]]
			near, _ := f.nearCombination(b, src, dst)
			x := example{classes[i], classes[k], paths.None}
			if t := 1 + f.telling(set[i], set[k]); t > told[near] {
				told[near] = t
				take(circumstance{near, paths.None, paths.None}, x)
			}
			reasons := f.reasons[f.verdicts[near.effect][near.stance]]
			if c := (concern{src.End.Home.Network, int(near.effect), reasons}); reasons != 0 && !known[c] {
				known[c] = true
				take(circumstance{near, paths.None, c.network}, x)
			}
		})
	}
}

// eachDoorCombination finds the combinations of flows that publications let in.
func (f *finder) eachDoorCombination(take func(circumstance, example)) {
	for segment, gates := range f.gates {
		for i := range gates {
			for at, open := range gates[i].open {
				if !open {
					continue
				}
				for _, a := range f.outside {
					x := example{a, f.inside[segment][at], gates[i].publication}
					f.eachStrand(x.from, x.to, func(t strand) {
						if t.publication == x.publication {
							take(circumstance{t.combination, x.publication, paths.None}, x)
						}
					})
				}
			}
		}
	}
}

// reasonsOf returns, by vector, a mask of those of its reasons that say
// something about the network on whose way the flows are.
func (s *Survey) reasonsOf() []uint8 {
	out := make([]uint8, len(s.vectors))
	for i, v := range s.vectors {
		for _, r := range v {
			switch s.results[r].Reason {
			case verdict.ReasonUnenforced:
				out[i] |= 1
			case verdict.ReasonUninspectable:
				out[i] |= 2
			}
		}
	}
	return out
}

func (f *finder) circumstance(k circumstance, x example) {
	stance, effect := f.ledger.stanceAt(f.judge, k.stance), f.ledger.effectAt(k.effect)
	opinions := f.judge.Opinions(&stance, f.sieve)
	for i := range opinions {
		p := f.judge.Probe(&stance, &opinions[i], effect)
		for _, atom := range opinions[i].Atoms {
			if k.publication == paths.None || f.admits[k.publication].Test(uint(atom)) {
				f.judged(&p, effect, atom, x)
			}
		}
	}
}

func (f *finder) judged(p *verdict.Probe, way *verdict.Effect, atom int, x example) {
	for _, r := range p.Spoke {
		f.spoke[r] = true
	}
	src, dst := &f.classes[x.from].End, &f.classes[x.to].End
	where := f.name(src) + " to " + f.name(dst)
	if p.Verdict.Contested {
		key := strings.Join(p.Contest, " ")
		if _, known := f.at[string(Contested)+" "+key]; !known {
			f.contests = append(f.contests, p.Contest)
		}
		f.add(Contested, key, x, atom, policyRefs(p.Contest), fmt.Sprintf("policies %s contest, from %s", strings.Join(p.Contest, " and "), where))
	}
	network := func() estate.Ref {
		return estate.Ref{Kind: estate.KindNetwork, Name: f.judge.Net().Networks[src.Home.Network].Name}
	}
	if way.Kind == paths.Bypass && (p.Verdict.Outcome == verdict.Allowed || p.Verdict.Outcome == verdict.Inspected) {
		f.add(Bypass, network().Name, x, atom, []estate.Ref{network()}, fmt.Sprintf("%s reaches the internet by a gateway of its own, past every hub and firewall", network()))
	}
	switch p.Verdict.Reason {
	case verdict.ReasonUnenforced:
		f.addAt(Unenforced, way.Kind.String(), x, atom, network(), fmt.Sprintf("nothing on %s ways enforces what is meant, in ", way.Kind))
		for _, rail := range p.Rails {
			f.add(RailNotEnforced, rail, x, atom, policyRefs([]string{rail}), fmt.Sprintf("guardrail %s is not enforced from %s", rail, where))
		}
	case verdict.ReasonUninspectable:
		f.addAt(Uninspectable, way.Kind.String(), x, atom, network(), fmt.Sprintf("no firewall sees %s ways, so what is to be inspected is denied, in ", way.Kind))
	case verdict.ReasonFailedOpen:
		f.add(FailedOpen, p.Pool, x, atom, []estate.Ref{{Kind: estate.KindPool, Name: p.Pool}}, fmt.Sprintf("flows go uninspected past pool %s, which fails open", p.Pool))
	case verdict.ReasonNoFirewall:
		f.add(NoFirewall, p.Pool, x, atom, []estate.Ref{{Kind: estate.KindPool, Name: p.Pool}}, fmt.Sprintf("flows are denied because pool %q has no healthy firewall in reach", p.Pool))
	case verdict.ReasonAsymmetric:
		f.add(Asymmetric, where, x, atom, nil, "the reply goes past the firewall that saw the flow, from "+where)
	case verdict.ReasonNoWayBack:
		f.add(OneWay, f.name(dst), x, atom, nil, fmt.Sprintf("packets reach %s, and no reply finds a way back", f.name(dst)))
	case verdict.ReasonNoPath:
		if p.Verdict.Intended != estate.Deny {
			f.add(MeantUnrouted, way.Absence.String()+f.name(dst), x, atom, nil, fmt.Sprintf("%s is meant to pass, and there is no path (%s)", where, way.Absence))
		}
	}
}

// name returns what an endpoint is called in a finding: its network and segment.
func (f *finder) name(p *verdict.Endpoint) string {
	if !p.Internal() {
		return "the internet"
	}
	net := f.judge.Net()
	return fmt.Sprintf("network %s (%s)", net.Networks[p.Home.Network].Name, net.Segments[p.Segment])
}

func policyRefs(names []string) []estate.Ref {
	refs := make([]estate.Ref, len(names))
	for i, n := range names {
		refs[i] = estate.Ref{Kind: estate.KindPolicy, Name: n}
	}
	return refs
}

// rules reports rules that no flow reaches, sides that hold nobody, and groups
// that make policies contest although they hold the same members.
func (f *finder) rules() {
	e := f.judge.Estate()
	report := func(kind estate.Kind, name string, rules int) {
		for i := range rules {
			if !f.spoke[verdict.Rulepoint{Kind: kind, Name: name, Rule: i}] {
				f.note(UnreachedRule, []estate.Ref{{Kind: kind, Name: name}}, "no flow reaches rule %d of %s %s", i+1, kind, name)
			}
		}
	}
	for i := range e.Policies {
		p := &e.Policies[i]
		if !p.Enabled {
			continue
		}
		empty := false
		for _, side := range []struct {
			word string
			side estate.Side
		}{{"from", p.From}, {"to", p.To}} {
			if len(f.membersOf(side.side)) == 0 {
				empty = true
				f.note(EmptySide, policyRefs([]string{p.Name}), "the %s side of policy %s holds nobody", side.word, p.Name)
			}
		}
		if !empty {
			report(estate.KindPolicy, p.Name, len(p.Rules))
		}
	}
	for i := range e.Shares {
		if e.Shares[i].Enabled {
			report(estate.KindShare, e.Shares[i].Name, len(e.Shares[i].Rules))
		}
	}
	for i := range e.Rulebooks {
		report(estate.KindRulebook, e.Rulebooks[i].Name, len(e.Rulebooks[i].Rules))
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
		known = append(known, f.groupClasses(name)...)
	}
	slices.Sort(known)
	known = slices.Compact(known)
	f.members[key] = known
	return known
}

// groupClasses returns the classes of a group in all domains.
func (s *Survey) groupClasses(name string) []int {
	group := s.judge.Group(name)
	if group == paths.None {
		return nil
	}
	var out []int
	for i := range s.local {
		for _, set := range s.local[i].byGroup[group] {
			out = append(out, s.local[i].classes[set]...)
		}
	}
	for _, m := range s.OutsideGroup(group) {
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
					f.note(SameMembers, policyRefs([]string{a, b}), "policies %s and %s contest because %s and %s hold the same members, and neither stands within the other", a, b, sides[0], sides[1])
				}
			}
		}
	}
}

// things reports what is down, waits, joins or is open.
func (f *finder) things() {
	e := f.judge.Estate()
	for _, l := range e.Links {
		if l.State != "up" {
			f.note(Down, []estate.Ref{{Kind: estate.KindLink, Name: l.Between[0] + "–" + l.Between[1]}}, "the link of %s and %s is down", l.Between[0], l.Between[1])
		}
	}
	for i := range e.Attachments {
		a := &e.Attachments[i]
		ref := []estate.Ref{{Kind: estate.KindAttachment, Name: a.Network + "@" + a.Hub}, {Kind: estate.KindNetwork, Name: a.Network}}
		if a.State != "up" {
			f.note(Down, ref, "the attachment of %s at %s is down", a.Network, a.Hub)
		}
		for _, l := range a.Learned {
			if l.Status == "waiting" {
				f.note(LearnedWaits, ref, "prefix %s of segment %s, learned from %s, waits%s", l.Prefix, l.Segment, a.Network, f.overlaps(a.Network, l))
			}
		}
	}
	for _, p := range e.Pools {
		for _, w := range p.Firewalls {
			if w.State != "healthy" {
				f.note(Down, []estate.Ref{{Kind: estate.KindFirewall, Name: w.Name}, {Kind: estate.KindPool, Name: p.Name}}, "firewall %s of pool %s at %s is %s", w.Name, p.Name, w.Hub, w.State)
			}
		}
	}
	for _, p := range e.Peerings {
		a, b := f.segmentsOf(p.Between[0]), f.segmentsOf(p.Between[1])
		if len(a) > 0 && len(b) > 0 && !slices.Equal(a, b) {
			f.note(JoiningPeering, []estate.Ref{{Kind: estate.KindPeering, Name: p.Between[0] + "–" + p.Between[1]}}, "the peering of %s (%s) and %s (%s) joins segments", p.Between[0], strings.Join(a, ", "), p.Between[1], strings.Join(b, ", "))
		}
	}
	for _, s := range e.Segments {
		if s.Default == estate.Allow {
			f.note(OpenByDefault, []estate.Ref{{Kind: estate.KindSegment, Name: s.Name}}, "segment %s allows what no policy speaks about", s.Name)
		}
	}
}

// segmentsOf returns the segments of a network's subnets, sorted.
func (f *finder) segmentsOf(network string) []string {
	net := f.judge.Net()
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

// overlaps says what of other networks a waiting prefix would overlap.
func (f *finder) overlaps(network string, l estate.Learned) string {
	net := f.judge.Net()
	segment := net.Segment(l.Segment)
	for i := range net.Subnets {
		s := &net.Subnets[i]
		if s.Segment == segment && segment != paths.None && s.Prefix.Overlaps(l.Prefix) && net.Networks[s.Network].Name != network {
			return fmt.Sprintf(", and overlaps subnet %s/%s (%s)", net.Networks[s.Network].Name, s.Name, s.Prefix)
		}
	}
	return ""
}
