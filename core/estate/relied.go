package estate

import (
	"cmp"
	"net/netip"
	"slices"

	"github.com/gaissmai/bart"
)

// Relied is what speaks of addresses by prefix: policies, shares, publications,
// rulebooks and expectations, by the prefixes of the groups on their sides.
type Relied struct{ table bart.Table[[]Ref] }

// ReliedOn returns what speaks of which prefixes. Cost: the things of e that have
// sides, times their groups.
func ReliedOn(e *Estate) *Relied {
	by := map[string][]Ref{} // by group
	side := func(ref Ref, sides ...Side) {
		for _, s := range sides {
			for _, g := range s.Groups {
				if !slices.Contains(by[g], ref) {
					by[g] = append(by[g], ref)
				}
			}
		}
	}
	for i := range e.Policies {
		if p := &e.Policies[i]; p.Active() {
			side(Ref{KindPolicy, p.Name}, p.From, p.To)
		}
	}
	for i := range e.Shares {
		if s := &e.Shares[i]; s.Active() {
			side(Ref{KindShare, s.Name}, s.Owner.Groups, s.Guest.Groups)
		}
	}
	for i := range e.Publications {
		if p := &e.Publications[i]; p.Enabled {
			side(Ref{KindPublication, p.Name}, p.To.Groups)
		}
	}
	for i := range e.Rulebooks {
		for _, r := range e.Rulebooks[i].Rules {
			side(Ref{KindRulebook, e.Rulebooks[i].Name}, r.From, r.To)
		}
	}
	for i := range e.Expectations {
		x := &e.Expectations[i]
		side(Ref{KindExpectation, x.Name}, x.From.Groups, x.To.Groups)
	}
	r := &Relied{}
	for i := range e.Groups {
		g := &e.Groups[i]
		if len(by[g.Name]) == 0 {
			continue
		}
		for _, p := range g.Prefixes {
			known, _ := r.table.Get(p)
			r.table.Insert(p, append(slices.Clip(known), by[g.Name]...))
		}
	}
	return r
}

// By returns what speaks of a prefix that overlaps the given one, in order of kind
// and name. Cost: the prefixes that overlap.
func (r *Relied) By(p netip.Prefix) []Ref {
	var out []Ref
	for _, refs := range r.table.Supernets(p) {
		out = append(out, refs...)
	}
	for _, refs := range r.table.Subnets(p) {
		out = append(out, refs...)
	}
	slices.SortFunc(out, func(a, b Ref) int { return cmp.Or(cmp.Compare(a.Kind, b.Kind), cmp.Compare(a.Name, b.Name)) })
	return slices.Compact(out)
}
