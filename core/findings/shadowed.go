package findings

import (
	"slices"

	"bivium/core/estate"
	"bivium/core/space"
	"bivium/core/verdict"
)

// listed is a rule of a list; rules of policies and shares have no sides of their own.
type listed struct {
	from, to verdict.Side
	services space.Services
}

// Shadowed returns, for each rule of a policy, share or rulebook of which earlier rules contain every
// flow, which ones those are, by their places from 0. Sides are compared by the groups that are
// written, so a rule can be unreached and not be shadowed. Cost: pairs of rules of the object.
func Shadowed(j *verdict.Judge, of estate.Ref) map[int][]int {
	rules := listOf(j, of)
	out := map[int][]int{}
	for k := 1; k < len(rules); k++ {
		left := rules[k].services
		var by []int
		for i := range k {
			earlier := &rules[i]
			if !holds(earlier.from, rules[k].from) || !holds(earlier.to, rules[k].to) || left.Intersect(earlier.services).Empty() {
				continue
			}
			by = append(by, i)
			if left = left.Intersect(earlier.services.Complement()); left.Empty() {
				out[k] = by
				break
			}
		}
	}
	return out
}

func listOf(j *verdict.Judge, of estate.Ref) []listed {
	var out []listed
	plain := func(rules []verdict.Rule) {
		for i := range rules {
			out = append(out, listed{services: space.OfTerms(rules[i].Terms)})
		}
	}
	for i := range j.Policies {
		if p := &j.Policies[i]; of.Kind == estate.KindPolicy && p.Name == of.Name {
			plain(p.Rules)
		}
	}
	for i := range j.Guardrails {
		if g := &j.Guardrails[i]; of.Kind == estate.KindPolicy && g.Name == of.Name {
			plain(g.Rules)
		}
	}
	for i := range j.Shares {
		if s := &j.Shares[i]; of.Kind == estate.KindShare && s.Name == of.Name {
			plain(s.Rules)
		}
	}
	for i := range j.Books {
		if b := &j.Books[i]; of.Kind == estate.KindRulebook && b.Name == of.Name {
			for k := range b.Rules {
				r := &b.Rules[k]
				out = append(out, listed{r.From, r.To, space.OfTerms(r.Terms)})
			}
		}
	}
	return out
}

// holds reports whether a side holds all that another does, by the groups of both.
func holds(wide, narrow verdict.Side) bool {
	if slices.Contains(wide, verdict.Anyone) {
		return true
	}
	for _, g := range narrow {
		if !slices.Contains(wide, g) {
			return false
		}
	}
	return true
}
