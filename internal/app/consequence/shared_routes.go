package consequence

import (
	"encoding/json"
	"maps"
	"slices"

	"go4.org/netipx"

	"bivium/core/document"
	"bivium/core/estate"
	"bivium/core/matrix"
	"bivium/core/membership"
	"bivium/core/paths"
	"bivium/core/query"
	"bivium/internal/app/view"
)

// sharedChanges returns the prefixes that shares add to the route tables of segments, and take
// from them: all hubs hold the same. Cost: for each segment of a share that is touched, the
// classes of both estates.
func sharedChanges(before, after *view.Snapshot, t *touched) []RouteChange {
	var out []RouteChange
	for _, segment := range t.sharing() {
		old, next := before.Judge.Net.Segment(segment), after.Judge.Net.Segment(segment)
		if old == paths.None || next == paths.None {
			continue
		}
		was, is := broughtFrom(before.Matrix, old), broughtFrom(after.Matrix, next)
		owners := maps.Clone(was)
		maps.Copy(owners, is)
		for of := range owners {
			out = append(out, turned(was[of], is[of], RouteChange{Segment: segment, After: "shared by " + of, Hubs: after.Judge.Net.Hubs})...)
			out = append(out, turned(is[of], was[of], RouteChange{Segment: segment, Before: "shared by " + of, Hubs: after.Judge.Net.Hubs})...)
		}
	}
	return out
}

// broughtFrom returns what shares bring into a segment, by the segment that it is of.
func broughtFrom(m *matrix.Matrix, segment int) map[string]*netipx.IPSet {
	builders := map[string]*netipx.IPSetBuilder{}
	for _, x := range query.BroughtInto(m, segment, func(*membership.Endpoint) string { return "" }) {
		if builders[x.Segment] == nil {
			builders[x.Segment] = &netipx.IPSetBuilder{}
		}
		for _, p := range x.Prefixes {
			builders[x.Segment].AddPrefix(p)
		}
	}
	out := map[string]*netipx.IPSet{}
	for of, b := range builders {
		out[of] = setOf(b)
	}
	return out
}

// turned returns a change for each prefix that is in one set and not in the other.
func turned(without, with *netipx.IPSet, change RouteChange) (out []RouteChange) {
	if with == nil {
		return nil
	}
	var b netipx.IPSetBuilder
	b.AddSet(with)
	if without != nil {
		b.RemoveSet(without)
	}
	for _, p := range setOf(&b).Prefixes() {
		change.Prefix = p.String()
		out = append(out, change)
	}
	return out
}

func setOf(b *netipx.IPSetBuilder) *netipx.IPSet {
	set, err := b.IPSet()
	if err != nil { // ranges and prefixes are those of endpoints
		panic("consequence: " + err.Error())
	}
	return set
}

// isSameOffer reports whether a share offers the same to the same as before, whatever its rules
// say of it by now: rules bear on no route.
func isSameOffer(c *document.Change) bool {
	offers := func(body []byte) string {
		var all map[string]json.RawMessage
		if body == nil || json.Unmarshal(body, &all) != nil {
			return ""
		}
		for _, key := range []string{"rules", "description", "ticket", "review"} {
			delete(all, key)
		}
		text, _ := json.Marshal(all) //nolint:errcheck // it was read from JSON
		return string(text)
	}
	return offers(c.Before) != "" && offers(c.Before) == offers(c.After)
}

// sharing returns the segments of the shares that are touched, by themselves or by a group that
// they speak of, in order.
func (t *touched) sharing() []string {
	if !t.kinds[estate.KindShare] && !t.kinds[estate.KindGroup] {
		return nil
	}
	names := map[estate.Kind]map[string]bool{estate.KindShare: {}, estate.KindGroup: {}}
	for i := range t.changes {
		c := &t.changes[i]
		kind := document.KindOf(c.List)
		if names[kind] != nil && !c.Moved() && (kind != estate.KindShare || !isSameOffer(c)) {
			names[kind][c.Key] = true
		}
	}
	groups := names[estate.KindGroup]
	withNested(groups, t.after)
	var out []string
	for _, e := range []*estate.Estate{t.before, t.after} {
		for i := range e.Shares {
			s := &e.Shares[i]
			if touched := func(g string) bool { return groups[g] }; names[estate.KindShare][s.Name] ||
				slices.ContainsFunc(s.Owner.Groups.Groups, touched) || slices.ContainsFunc(s.Guest.Groups.Groups, touched) {
				out = append(out, s.Owner.Segment, s.Guest.Segment)
			}
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}
