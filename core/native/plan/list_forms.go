package plan

import (
	"maps"
	"net/netip"
	"slices"

	"bivium/core/native/config"
	"bivium/core/space"
)

// renumbered gives rules the places that their provider asks for.
func renumbered(rules []config.Rule, provider string) []config.Rule {
	first := 1
	if provider == config.Velum {
		first = config.VelumFirst
	}
	for i := range rules {
		rules[i].Order = first + i
	}
	return rules
}

// singly returns rules of one protocol, one own and one other prefix each, as premises have them.
func singly(rules []config.Rule) []config.Rule {
	var out []config.Rule
	for i := range rules {
		r := &rules[i]
		for _, own := range each(r.Own) {
			for _, peer := range each(r.Peer) {
				if own[0].Prefixes[0].Addr().Is4() != peer[0].Prefixes[0].Addr().Is4() {
					continue
				}
				for _, s := range config.Entries(r.Services) {
					x := *r
					x.Own, x.Peer, x.Services = own, peer, []space.Box{s}
					out = append(out, x)
				}
			}
		}
	}
	return out
}

func each(sets []*config.Set) [][]*config.Set {
	prefixes := prefixesOf(sets)
	if sets == nil {
		prefixes = []netip.Prefix{netip.PrefixFrom(netip.IPv4Unspecified(), 0), netip.PrefixFrom(netip.IPv6Unspecified(), 0)}
	}
	var out [][]*config.Set
	for _, p := range prefixes {
		out = append(out, []*config.Set{{Prefixes: []netip.Prefix{p}}})
	}
	return out
}

// sortedRuns returns rules in an order that is the same for lists that do the same by the order
// of their rules: by direction, and sorted between a rule that allows and one that denies.
func (d *digests) sortedRuns(rules []config.Rule) []config.Rule {
	out := make([]config.Rule, 0, len(rules))
	for _, way := range [2]bool{false, true} {
		first := len(out)
		end := func() {
			run := out[first:]
			keys := make(map[string]config.Rule, len(run))
			for i := range run {
				keys[d.rule(&run[i])] = run[i]
			}
			out = out[:first]
			for _, k := range slices.Sorted(maps.Keys(keys)) {
				out = append(out, keys[k])
			}
			first = len(out)
		}
		for i := range rules {
			if rules[i].Out != way {
				continue
			}
			if len(out) > first && out[first].Allow != rules[i].Allow {
				end()
			}
			out = append(out, rules[i])
		}
		end()
	}
	return out
}

// joined is the inverse of singly, as far as that needs no thought: rules of one direction and one
// action that follow each other are one where all but their services, or all but one side, is the same.
func (d *digests) joined(rules []config.Rule) []config.Rule {
	var out []config.Rule
	for _, way := range [2]bool{false, true} {
		var run []config.Rule
		end := func() {
			run = joinedBy(run, func(r *config.Rule) string { return string(text(nil, d.sets(r.Own))) + d.sets(r.Peer) }, func(a, b *config.Rule) { a.Services = either(a.Services, b.Services) })
			run = joinedBy(run, func(r *config.Rule) string { return string(text(nil, d.sets(r.Own))) + servicesKey(r.Services) }, func(a, b *config.Rule) { a.Peer = either(a.Peer, b.Peer) })
			run = joinedBy(run, func(r *config.Rule) string { return string(text(nil, d.sets(r.Peer))) + servicesKey(r.Services) }, func(a, b *config.Rule) { a.Own = either(a.Own, b.Own) })
			out, run = append(out, run...), nil
		}
		for i := range rules {
			if rules[i].Out != way {
				continue
			}
			if len(run) > 0 && run[0].Allow != rules[i].Allow {
				end()
			}
			run = append(run, rules[i])
		}
		end()
	}
	return out
}

// either returns what one of two lists has. None stands for everything.
func either[T any](a, b []T) []T {
	if a == nil || b == nil {
		return nil
	}
	return slices.Concat(a, b)
}

func joinedBy(rules []config.Rule, key func(*config.Rule) string, join func(a, b *config.Rule)) []config.Rule {
	var out []config.Rule
	at := map[string]int{}
	for i := range rules {
		k := key(&rules[i])
		if first, ok := at[k]; ok {
			join(&out[first], &rules[i])
			continue
		}
		at[k] = len(out)
		out = append(out, rules[i])
	}
	return out
}
