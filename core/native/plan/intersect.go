package plan

import (
	"fmt"
	"net/netip"
	"slices"

	"bivium/core/native/config"
	"bivium/core/space"
)

// ordered is how lists of one kind of rule are met: what passes both of two lists.
type ordered[T any] struct {
	digests *digests
	key     func(*T) string
	match   func(*T) string    // what it matches
	says    func(*T) string    // what it does with what it matches
	same    func(a, b *T) bool // whether two do the same, in the same words
	denies  func(*T) bool
	free    func(*T) bool           // whether what the rule matches passes, and through nothing
	meet    func(a, b *T) (T, bool) // what both say of what both match; false where nothing matches both
	deny    func(*T) T              // the same matches, denied
	last    []T                     // what the provider does with what no rule matches, where that is not to deny
	limit   int                     // rules; 0 for any number
}

// change is how one list is led to another.
type change[T any] struct {
	tighten, open bool // whether it is written to what passes both, and then to what it should be
	both          []T  // what passes both
	narrow        bool // both passes less than that, for want of room
}

// between compares two lists. Rules at both ends that are the same are left alone: what no rule
// in the middle matches fares alike before and after.
//
// Where the rules that are added only let pass, and those that go only deny, what passes both is
// what passes before; the other way round it is what passes after. Else it is both lists merged, or
// where that does not come out simply the product: of each pair of rules, in order of the first and
// then the second, what both say of what both match.
// The first pair that matches a packet is its first match in the one with that in the other.
func (o *ordered[T]) between(was, is []T) change[T] {
	gone, come, first := middle(was, is, o.same)
	had, has := keysOf(o.digests, gone, o.key), keysOf(o.digests, come, o.key)
	had, has, more := middle(had, has, func(a, b *string) bool { return *a == *b })
	first += more
	gone, come = was[first:first+len(had)], is[first:first+len(has)]
	end := len(was) - first - len(gone)
	if len(gone)+len(come) == 0 {
		return change[T]{}
	}
	both := align(gone, come, had, has)
	var removed, added []T
	for _, r := range both {
		switch r.in {
		case inWas:
			removed = append(removed, r.rule)
		case inIs:
			added = append(added, r.rule)
		}
	}
	all := func(rules []T, is func(*T) bool) bool {
		return !slices.ContainsFunc(rules, func(r T) bool { return !is(&r) })
	}
	if all(added, o.free) && all(removed, o.denies) {
		return change[T]{open: true}
	}
	if all(added, o.denies) && all(removed, o.free) {
		return change[T]{tighten: true}
	}
	out := change[T]{tighten: true, open: true, both: slices.Clone(was[:first])}
	product, simple := o.merged(both)
	switch {
	case simple:
		product = append(product, was[len(was)-end:]...)
	case len(gone)*(len(come)+end)+len(come)*end <= mostPairs:
		product = o.product(gone, come, slices.Concat(was[len(was)-end:], o.last), len(o.last))
	default:
		out.narrow = true
	}
	if out.narrow || o.limit > 0 && first+len(product) > o.limit {
		out.narrow = true
		product = nil
		for _, r := range slices.Concat(gone, come) {
			product = append(product, o.deny(&r))
		}
		product = append(product, was[len(was)-end:]...)
	}
	out.both = append(out.both, product...)
	out.tighten, out.open = !o.equal(out.both, was), !o.equal(out.both, is)
	return out
}

func (o *ordered[T]) equal(a, b []T) bool {
	a, b, _ = middle(a, b, o.same)
	return slices.Equal(keysOf(o.digests, a, o.key), keysOf(o.digests, b, o.key))
}

// mostPairs is how many pairs of rules are met. Of more, whatever either rule matches is denied in between.
const mostPairs = 1_000_000

// product returns what passes both of two lists that end alike. The last hidden rules of the end
// are the provider's own.
func (o *ordered[T]) product(gone, come, end []T, hidden int) []T {
	var out []T
	// row returns what a rule and others say of what both match, and whether that is all that the
	// rule matches: what comes after is not reached.
	row := func(a *T, others []T) (met []T, whole bool) {
		for i := range others {
			r, ok := o.meet(a, &others[i])
			if !ok {
				continue
			}
			met = append(met, r)
			if o.match(&r) == o.match(a) {
				if !slices.ContainsFunc(met, func(x T) bool { return o.says(&x) != o.says(&r) }) {
					met = met[len(met)-1:]
				}
				return met, true
			}
		}
		return met, false
	}
	for i := range gone {
		if o.denies(&gone[i]) { // whatever the other list says
			out = append(out, gone[i])
			continue
		}
		met, whole := row(&gone[i], come)
		out = append(out, met...)
		if whole || o.free(&gone[i]) && !o.overlaps(&gone[i], gone[i+1:]) { // what both lists end with decides, further down
			continue
		}
		met, _ = row(&gone[i], end)
		out = append(out, met...)
	}
	for i := range end {
		met, whole := row(&end[i], come)
		if slices.ContainsFunc(met, func(r T) bool { return o.says(&r) != o.says(&end[i]) }) {
			out = append(out, met...)
		} else {
			whole = false
		}
		if i < len(end)-hidden && !whole {
			out = append(out, end[i])
		}
	}
	return out
}

// common returns what is in both of two lists of prefixes, each sorted and disjoint; nil is
// everything. False where nothing is. Cost: the length of both.
func common(a, b []netip.Prefix) ([]netip.Prefix, bool) {
	switch {
	case a == nil:
		return b, b == nil || len(b) > 0
	case b == nil:
		return a, len(a) > 0
	}
	out := []netip.Prefix{}
	for i, k := 0, 0; i < len(a) && k < len(b); {
		p, q := a[i], b[k]
		switch {
		case p.Overlaps(q) && p.Bits() >= q.Bits():
			out = append(out, p)
			i++
		case p.Overlaps(q):
			out = append(out, q)
			k++
		case p.Addr().Less(q.Addr()):
			i++
		default:
			k++
		}
	}
	slices.SortFunc(out, netip.Prefix.Compare)
	return slices.Compact(out), len(out) > 0
}

// meeting remembers what sets have in common: rules share them.
type meeting struct {
	digests  *digests
	numbers  map[setsKey]int32
	byDigest map[string]int32
	prefixes [][]netip.Prefix // by number: in order, disjoint
	common   map[[2]int32]met
}

type met struct {
	sets []*config.Set
	some bool
}

func newMeeting(d *digests) *meeting {
	return &meeting{digests: d, numbers: map[setsKey]int32{}, byDigest: map[string]int32{}, common: map[[2]int32]met{}}
}

// number returns the number of what some sets hold.
func (m *meeting) number(sets []*config.Set) int32 {
	k := keyOfSets(sets)
	n, known := m.numbers[k]
	if known {
		return n
	}
	digest := m.digests.sets(sets)
	if n, known = m.byDigest[digest]; !known {
		n = int32(len(m.prefixes))
		m.byDigest[digest] = n
		m.prefixes = append(m.prefixes, plain(prefixesOf(sets)))
	}
	m.numbers[k] = n
	return n
}

func (m *meeting) sets(a, b []*config.Set) ([]*config.Set, bool) {
	switch {
	case a == nil:
		return b, b == nil || holdAny(b)
	case b == nil:
		return a, holdAny(a)
	}
	k := [2]int32{m.number(a), m.number(b)}
	x, known := m.common[k]
	if !known {
		p, ok := common(m.prefixes[k[0]], m.prefixes[k[1]])
		x = met{[]*config.Set{{Prefixes: p}}, ok}
		m.common[k] = x
	}
	return x.sets, x.some
}

func holdAny(sets []*config.Set) bool {
	return slices.ContainsFunc(sets, func(s *config.Set) bool { return len(s.Prefixes) > 0 })
}

func commonServices(a, b []space.Box) ([]space.Box, bool) {
	switch {
	case a == nil:
		return b, true
	case b == nil || len(a) == 1 && len(b) == 1 && a[0] == b[0]:
		return a, true
	}
	both := space.Of(a).Intersect(space.Of(b))
	return both.Boxes(), !both.Empty()
}

// ends returns the ends that are in both of two lists of ends.
func (m *meeting) ends(a, b []config.End) ([]config.End, bool) {
	var out []config.End
	for _, x := range a {
		for _, y := range b {
			if x.Segment != y.Segment || x.Exit != y.Exit {
				continue
			}
			sets, ok := m.sets(setsOf(x.Set), setsOf(y.Set))
			if !ok {
				continue
			}
			e := config.End{Segment: x.Segment, Exit: x.Exit}
			if sets != nil {
				e.Set = sets[0]
			}
			out = append(out, e)
		}
	}
	return out, len(out) > 0
}

func setsOf(s *config.Set) []*config.Set {
	if s == nil {
		return nil
	}
	return []*config.Set{s}
}

// rulesOf meets the lists of Velum, Stratok and premises.
func rulesOf(provider string, d *digests, m *meeting) *ordered[config.Rule] {
	o := &ordered[config.Rule]{
		digests: d,
		key:     d.rule,
		same:    (*config.Rule).Does,
		match:   d.ruleMatch,
		says:    func(r *config.Rule) string { return fmt.Sprint(r.Allow) },
		denies:  func(r *config.Rule) bool { return !r.Allow },
		free:    func(r *config.Rule) bool { return r.Allow },
		meet:    m.rules,
		deny: func(r *config.Rule) config.Rule {
			d := *r
			d.Allow, d.For = false, nil
			return d
		},
	}
	switch provider {
	case config.Velum:
		o.limit, o.last = config.VelumRules, []config.Rule{{Out: true, Allow: true}}
	case config.Stratok:
		o.limit, o.last = config.StratokRules, []config.Rule{{Out: true, Allow: true}}
	}
	return o
}

func (m *meeting) rules(a, b *config.Rule) (config.Rule, bool) {
	if a.Out != b.Out {
		return config.Rule{}, false
	}
	own, some := m.sets(a.Own, b.Own)
	peer, others := m.sets(a.Peer, b.Peer)
	services, any := commonServices(a.Services, b.Services)
	out := config.Rule{Out: a.Out, Allow: a.Allow && b.Allow, Target: a.Target, Own: own, Peer: peer, Services: services, For: a.For}
	if out.Target == "" {
		out.Target = b.Target
	}
	if a.Target != "" && b.Target != "" && a.Target != b.Target && out.Allow {
		return out, false // of workloads with both tags no rule can speak: what is left out is denied below, or passes as well
	}
	return out, some && others && any
}

// hubRules meets match lists.
func hubRules(d *digests, m *meeting) *ordered[config.HubRule] {
	return &ordered[config.HubRule]{
		digests: d,
		key:     d.hubRule,
		same:    (*config.HubRule).Does,
		match:   d.hubMatch,
		says:    func(r *config.HubRule) string { return fmt.Sprint(r.Verb, r.Through) },
		denies:  func(r *config.HubRule) bool { return r.Verb == config.Deny },
		free:    func(r *config.HubRule) bool { return r.Verb == config.Permit },
		meet: func(a, b *config.HubRule) (config.HubRule, bool) {
			from, some := m.ends(a.From, b.From)
			to, others := m.ends(a.To, b.To)
			services, any := commonServices(a.Services, b.Services)
			out := config.HubRule{From: from, To: to, Services: services, Verb: config.Permit, For: a.For}
			switch {
			case a.Verb == config.Deny || b.Verb == config.Deny:
				out.Verb = config.Deny
			case a.Verb == config.Steer || b.Verb == config.Steer:
				out.Verb, out.Through = config.Steer, throughBoth(a.Through, b.Through)
			}
			return out, some && others && any
		},
		deny: func(r *config.HubRule) config.HubRule {
			d := *r
			d.Verb, d.Through, d.For = config.Deny, nil, nil
			return d
		},
	}
}

// throughBoth returns the pools of both of two rules: those of the first in its order, then what
// only the second has. Where one of them is closed on failure, so is it here.
func throughBoth(a, b []config.Step) []config.Step {
	if len(a) < len(b) {
		a, b = b, a
	}
	out := slices.Clone(a)
	for _, s := range b {
		i := slices.IndexFunc(out, func(o config.Step) bool { return o.Pool == s.Pool })
		if i < 0 {
			out = append(out, s)
		} else if s.OnFailure != "open" {
			out[i].OnFailure = s.OnFailure
		}
	}
	return out
}

// bookRules meets rulebooks.
func bookRules(d *digests, m *meeting) *ordered[config.BookRule] {
	return &ordered[config.BookRule]{
		digests: d,
		key:     d.bookRule,
		same:    func(a, b *config.BookRule) bool { return d.bookRule(a) == d.bookRule(b) },
		match:   d.bookMatch,
		says:    func(r *config.BookRule) string { return fmt.Sprint(r.Verb == "pass") },
		denies:  func(r *config.BookRule) bool { return r.Verb != "pass" },
		free:    func(r *config.BookRule) bool { return r.Verb == "pass" },
		meet: func(a, b *config.BookRule) (config.BookRule, bool) {
			out := config.BookRule{Verb: a.Verb, Number: a.Number}
			if a.Verb == "pass" {
				out.Verb = b.Verb
			}
			var ok [3]bool
			out.From, out.Any[0], ok[0] = m.side(a.From, a.Any[0], b.From, b.Any[0])
			out.To, out.Any[1], ok[1] = m.side(a.To, a.Any[1], b.To, b.Any[1])
			out.Services, ok[2] = commonServices(a.Services, b.Services)
			return out, ok[0] && ok[1] && ok[2]
		},
		deny: func(r *config.BookRule) config.BookRule {
			d := *r
			d.Verb = "drop"
			return d
		},
	}
}

func (m *meeting) side(a []config.End, anyA bool, b []config.End, anyB bool) (ends []config.End, everybody, ok bool) {
	switch {
	case anyA && anyB:
		return nil, true, true
	case anyA:
		return b, false, len(b) > 0
	case anyB:
		return a, false, len(a) > 0
	}
	ends, ok = m.ends(a, b)
	return ends, false, ok
}
