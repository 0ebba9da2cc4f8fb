package config

import "slices"

// EqualLists reports whether two networks have the same lists, with what their rules are for. Cost:
// the rules, and the prefixes of sets that are not shared.
func EqualLists(a, b []List) bool {
	return slices.EqualFunc(a, b, func(x, y List) bool {
		return x.On == y.On && x.Bound == y.Bound && slices.EqualFunc(x.Rules, y.Rules, func(r, s Rule) bool {
			return r.Order == s.Order && r.Does(&s) && slices.Equal(r.For, s.For)
		})
	})
}

// Does reports whether a rule does the same as another, in the same words. Cost: the prefixes of
// sets that are not shared.
func (r *Rule) Does(as *Rule) bool {
	return r.Out == as.Out && r.Allow == as.Allow && r.Target == as.Target &&
		equalSides(r.Own, as.Own) && equalSides(r.Peer, as.Peer) && equal(r.Services, as.Services)
}

// EqualRules reports whether two match lists are the same, with what their rules are for. Cost: as
// that of EqualLists.
func EqualRules(a, b []HubRule) bool {
	return slices.EqualFunc(a, b, func(r, s HubRule) bool { return r.Does(&s) && slices.Equal(r.For, s.For) })
}

// Does reports whether a rule does the same as another, in the same words. Cost: the prefixes of
// sets that are not shared.
func (r *HubRule) Does(as *HubRule) bool {
	ends := func(x, y End) bool { return x.Segment == y.Segment && x.Exit == y.Exit && equalSets(x.Set, y.Set) }
	return r.Verb == as.Verb && slices.Equal(r.Through, as.Through) && slices.EqualFunc(r.From, as.From, ends) && slices.EqualFunc(r.To, as.To, ends) &&
		equal(r.Services, as.Services)
}

// EqualEntries reports whether two lists have the same entries, with what they are for.
func EqualEntries(a, b []Entry) bool {
	return slices.EqualFunc(a, b, func(x, y Entry) bool {
		return x.Out == y.Out && x.Service == y.Service && x.Peer == y.Peer && x.Peers == y.Peers && slices.Equal(x.For, y.For)
	})
}

// equalSides compares sides of rules; nil, which is every address, is only equal to itself.
func equalSides(a, b []*Set) bool {
	return (a == nil) == (b == nil) && slices.EqualFunc(a, b, equalSets)
}

func equalSets(a, b *Set) bool {
	return a == b || a != nil && b != nil && a.Name == b.Name && slices.Equal(a.Prefixes, b.Prefixes)
}

// equal compares lists of which nil stands for everything.
func equal[T comparable](a, b []T) bool { return (a == nil) == (b == nil) && slices.Equal(a, b) }
