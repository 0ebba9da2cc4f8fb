package consequence

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"bivium/core/document"
	"bivium/core/estate"
	"bivium/core/verdict"
	"bivium/internal/app/view"
	"bivium/internal/wording"
)

// refusals returns those of some faults that an edit brings which leads to next; put is what
// its operations put.
func refusals(s *view.Snapshot, next *estate.Estate, put []estate.Ref, faults []estate.Fault) []view.Refusal {
	had := map[string]bool{}
	for i := range s.Faults {
		for _, x := range clashesOf(&s.Faults[i]) {
			had[x] = true
		}
	}
	var out []view.Refusal
	for i := range faults {
		f := faults[i]
		if f.Clash != nil && had[moreThan(f.Clash)] || !slices.ContainsFunc(clashesOf(&f), func(x string) bool { return !had[x] }) {
			continue
		}
		told := wording.Fault(&f)
		r := view.Refusal{At: fieldOf(next, put, f.Path), Code: string(f.Code), Message: told.Message, Fix: told.Fix, Refs: []view.Thing{}, Prefixes: prefixesOf(&f), Remedies: []view.Remedy{}, Fault: f}
		for _, x := range f.Refs {
			r.Refs = append(r.Refs, view.Thing{Kind: string(x.Kind), Name: x.Name})
		}
		out = append(out, r)
	}
	return out
}

// clashesOf returns what tells a fault from others, whatever else is changed. A forbidden
// share is told with the first address that shows it, which may be another after an edit;
// overlaps are told one by one, in any order.
func clashesOf(f *estate.Fault) []string {
	switch {
	case f.Code == estate.ForbiddenShare:
		return []string{fmt.Sprint(f.Code, f.Refs, f.Path[strings.LastIndex(f.Path, ".")+1:])}
	case f.Clash == nil:
		return []string{f.Claim()}
	}
	var out []string
	for _, with := range f.Clash.With {
		out = append(out, unorderedKey(f.Code, f.Clash.Of, with))
	}
	if f.Clash.More {
		out = append(out, moreThan(f.Clash))
	}
	return out
}

// unorderedKey returns what tells an overlap of two claims, of which either may be the first.
func unorderedKey(code estate.Code, a, b string) string {
	return fmt.Sprint(code, " ", min(a, b), " / ", max(a, b))
}

// moreThan tells that a claim overlapped with more than were named: which ones those
// were, and whether one that is named now was among them, is not known.
func moreThan(x *estate.Clash) string { return x.Of + " and others" }

// prefixesOf returns the prefixes of a fault, as text.
func prefixesOf(f *estate.Fault) []string {
	out := []string{}
	for _, p := range f.Prefixes {
		out = append(out, p.String())
	}
	return out
}

// fieldOf returns the field of the operation that put the thing at a path of an estate:
// operations[0].object.rules[1].pool for policies[3].rules[1].pool. It is "" where none did.
func fieldOf(next *estate.Estate, put []estate.Ref, path string) string {
	list, rest, _ := strings.Cut(path, "[")
	number, within, _ := strings.Cut(rest, "]")
	i, err := strconv.Atoi(number)
	things := document.Things(next, document.KindOf(list))
	if err != nil || !things.IsValid() || i >= things.Len() {
		return ""
	}
	at := slices.Index(put, estate.Ref{Kind: document.KindOf(list), Name: document.NameOf(things.Index(i))})
	if at < 0 {
		return ""
	}
	return fmt.Sprintf("operations[%d].object%s", at, within)
}

// remedy gives refusals the edits that would avoid them.
func remedy(p *view.Plan, j *verdict.Judge, t *touched, refused []view.Refusal) {
	r := view.Remedies{E: p.Next, Net: j.Net}
	networks := t.networks()
	for i := range refused {
		refused[i].Remedies = r.RemediesFor(networks, &refused[i])
	}
}

// Faults returns the faults that a snapshot has, and one before it has not.
func Faults(before, after *view.Snapshot) []view.Refusal {
	return append([]view.Refusal{}, refusals(before, after.Estate, nil, after.Faults)...)
}
