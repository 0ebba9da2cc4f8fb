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
	key    func(*T) string
	match  func(*T) string // what it matches
	says   func(*T) string // what it does with what it matches
	denies func(*T) bool
	free   func(*T) bool           // whether what the rule matches passes, and through nothing
	meet   func(a, b *T) (T, bool) // what both say of what both match; false where nothing matches both
	deny   func(*T) T              // the same matches, denied
	last   []T                     // what the provider does with what no rule matches, where that is not to deny
	limit  int                     // rules; 0 for any number
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
// what passes before; the other way round it is what passes after. Else it is the product: of
// each pair of rules, in order of the first and then the second, what both say of what both match.
// The first pair that matches a packet is its first match in the one with that in the other.
func (o *ordered[T]) between(was, is []T) change[T] {
	first, end := 0, 0
	for first < min(len(was), len(is)) && o.key(&was[first]) == o.key(&is[first]) {
		first++
	}
	for end < min(len(was), len(is))-first && o.key(&was[len(was)-1-end]) == o.key(&is[len(is)-1-end]) {
		end++
	}
	gone, come := was[first:len(was)-end], is[first:len(is)-end]
	if len(gone)+len(come) == 0 {
		return change[T]{}
	}
	removed, added := o.differing(gone, come)
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
	var product []T
	if all(gone, o.free) && all(come, o.free) && len(removed)*len(added) <= mostPairs {
		product = append(o.pass(gone, removed, added), was[len(was)-end:]...)
	} else if len(gone)*(len(come)+end)+len(come)*end <= mostPairs {
		product = o.product(gone, come, slices.Concat(was[len(was)-end:], o.last), len(o.last))
	} else {
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
	both := keysOf(out.both, o.key)
	out.tighten, out.open = !slices.Equal(both, keysOf(was, o.key)), !slices.Equal(both, keysOf(is, o.key))
	return out
}

// pass returns what passes both of two lists whose rules let pass what they match, whatever their
// order: what is in both, and what a rule of the one and a rule of the other match. What only one of
// them matches is left to what both end with.
func (o *ordered[T]) pass(gone, removed, added []T) []T {
	left := map[string]int{}
	for i := range removed {
		left[o.key(&removed[i])]++
	}
	var out []T
	for i := range gone {
		if k := o.key(&gone[i]); left[k] > 0 {
			left[k]--
			continue
		}
		out = append(out, gone[i])
	}
	for i := range removed {
		for k := range added {
			if r, ok := o.meet(&removed[i], &added[k]); ok {
				out = append(out, r)
			}
		}
	}
	return out
}

// mostPairs is how many pairs of rules are met. Of more, whatever either rule matches is denied in between.
const mostPairs = 1_000_000

// differing returns the rules of each list that are in no longest sequence of both.
func (o *ordered[T]) differing(a, b []T) (onlyA, onlyB []T) {
	if len(a)*len(b) > mostPairs {
		return a, b
	}
	ka, kb := keysOf(a, o.key), keysOf(b, o.key)
	length := make([][]int, len(ka)+1)
	for i := range length {
		length[i] = make([]int, len(kb)+1)
	}
	for i := len(ka) - 1; i >= 0; i-- {
		for k := len(kb) - 1; k >= 0; k-- {
			if ka[i] == kb[k] {
				length[i][k] = length[i+1][k+1] + 1
			} else {
				length[i][k] = max(length[i+1][k], length[i][k+1])
			}
		}
	}
	i, k := 0, 0
	for i < len(ka) && k < len(kb) {
		switch {
		case ka[i] == kb[k]:
			i, k = i+1, k+1
		case length[i+1][k] >= length[i][k+1]:
			onlyA = append(onlyA, a[i])
			i++
		default:
			onlyB = append(onlyB, b[k])
			k++
		}
	}
	return append(onlyA, a[i:]...), append(onlyB, b[k:]...)
}

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
	overlaps := func(a *T, others []T) bool {
		return slices.ContainsFunc(others, func(x T) bool { _, ok := o.meet(a, &x); return ok })
	}
	for i := range gone {
		if o.denies(&gone[i]) { // whatever the other list says
			out = append(out, gone[i])
			continue
		}
		met, whole := row(&gone[i], come)
		out = append(out, met...)
		if whole || o.free(&gone[i]) && !overlaps(&gone[i], gone[i+1:]) { // what both lists end with decides, further down
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

// disjoint leaves out, of sorted prefixes, those that lie in others.
func disjoint(p []netip.Prefix) []netip.Prefix {
	if p == nil {
		return nil
	}
	out := p[:0]
	for _, x := range p {
		if n := len(out); n == 0 || !out[n-1].Overlaps(x) {
			out = append(out, x)
		}
	}
	return out
}

// meeting remembers what sets have in common: rules of one list share them.
type meeting struct {
	prefixes map[setsKey][]netip.Prefix
	common   map[[2]setsKey]met
}

// setsKey tells some sets from others: where they are.
type setsKey struct {
	first **config.Set
	n     int
}

type met struct {
	sets []*config.Set
	some bool
}

func newMeeting() *meeting {
	return &meeting{map[setsKey][]netip.Prefix{}, map[[2]setsKey]met{}}
}

func keyOfSets(sets []*config.Set) setsKey {
	if len(sets) == 0 {
		return setsKey{}
	}
	return setsKey{&sets[0], len(sets)}
}

func (m *meeting) of(sets []*config.Set) []netip.Prefix {
	if len(sets) == 0 {
		return prefixesOf(sets)
	}
	k := keyOfSets(sets)
	p, known := m.prefixes[k]
	if !known {
		p = disjoint(prefixesOf(sets))
		m.prefixes[k] = p
	}
	return p
}

func (m *meeting) sets(a, b []*config.Set) ([]*config.Set, bool) {
	k := [2]setsKey{keyOfSets(a), keyOfSets(b)}
	if len(a) > 0 && len(b) > 0 {
		if x, known := m.common[k]; known {
			return x.sets, x.some
		}
	}
	p, ok := common(m.of(a), m.of(b))
	x := met{some: ok}
	if p != nil {
		x.sets = []*config.Set{{Prefixes: p}}
	}
	if len(a) > 0 && len(b) > 0 {
		m.common[k] = x
	}
	return x.sets, x.some
}

func commonServices(a, b []space.Box) ([]space.Box, bool) {
	switch {
	case a == nil:
		return b, true
	case b == nil:
		return a, true
	}
	both := space.Of(a).Intersect(space.Of(b))
	return both.Boxes(), !both.Empty()
}

// commonEnds returns the ends that are in both of two lists of ends.
func commonEnds(a, b []config.End) ([]config.End, bool) {
	var out []config.End
	for _, x := range a {
		for _, y := range b {
			if x.Segment != y.Segment || x.Exit != y.Exit {
				continue
			}
			p, ok := common(setPrefixes(x.Set), setPrefixes(y.Set))
			if !ok {
				continue
			}
			e := config.End{Segment: x.Segment, Exit: x.Exit}
			if p != nil {
				e.Set = &config.Set{Prefixes: p}
			}
			out = append(out, e)
		}
	}
	return out, len(out) > 0
}

func setPrefixes(s *config.Set) []netip.Prefix {
	if s == nil {
		return nil
	}
	return prefixesOf([]*config.Set{s})
}

// rulesOf meets the lists of Velum, Stratok and premises.
func rulesOf(provider string) *ordered[config.Rule] {
	o := &ordered[config.Rule]{
		key: ruleKey,
		match: func(r *config.Rule) string {
			return fmt.Sprint(r.Out, r.Target, prefixesKey(r.Own), prefixesKey(r.Peer), servicesKey(r.Services))
		},
		says:   func(r *config.Rule) string { return fmt.Sprint(r.Allow) },
		denies: func(r *config.Rule) bool { return !r.Allow },
		free:   func(r *config.Rule) bool { return r.Allow },
		meet:   newMeeting().rules,
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
	return out, a.Out == b.Out && some && others && any
}

// hubRules meets match lists.
var hubRules = &ordered[config.HubRule]{
	key: hubRuleKey,
	match: func(r *config.HubRule) string {
		return fmt.Sprint(endsKey(r.From), endsKey(r.To), servicesKey(r.Services))
	},
	says:   func(r *config.HubRule) string { return fmt.Sprint(r.Verb, r.Through) },
	denies: func(r *config.HubRule) bool { return r.Verb == config.Deny },
	free:   func(r *config.HubRule) bool { return r.Verb == config.Permit },
	meet: func(a, b *config.HubRule) (config.HubRule, bool) {
		from, some := commonEnds(a.From, b.From)
		to, others := commonEnds(a.To, b.To)
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
var bookRules = &ordered[config.BookRule]{
	key: bookRuleKey,
	match: func(r *config.BookRule) string {
		return fmt.Sprint(r.Any, endsKey(r.From), endsKey(r.To), servicesKey(r.Services))
	},
	says:   func(r *config.BookRule) string { return fmt.Sprint(r.Verb == "pass") },
	denies: func(r *config.BookRule) bool { return r.Verb != "pass" },
	free:   func(r *config.BookRule) bool { return r.Verb == "pass" },
	meet: func(a, b *config.BookRule) (config.BookRule, bool) {
		out := config.BookRule{Verb: a.Verb, Number: a.Number}
		if a.Verb == "pass" {
			out.Verb = b.Verb
		}
		var ok [3]bool
		out.From, out.Any[0], ok[0] = commonSide(a.From, a.Any[0], b.From, b.Any[0])
		out.To, out.Any[1], ok[1] = commonSide(a.To, a.Any[1], b.To, b.Any[1])
		out.Services, ok[2] = commonServices(a.Services, b.Services)
		return out, ok[0] && ok[1] && ok[2]
	},
	deny: func(r *config.BookRule) config.BookRule {
		d := *r
		d.Verb = "drop"
		return d
	},
}

func commonSide(a []config.End, anyA bool, b []config.End, anyB bool) (ends []config.End, everybody, ok bool) {
	switch {
	case anyA && anyB:
		return nil, true, true
	case anyA:
		return b, false, len(b) > 0
	case anyB:
		return a, false, len(a) > 0
	}
	ends, ok = commonEnds(a, b)
	return ends, false, ok
}
