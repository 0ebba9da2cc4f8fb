package consequence

import (
	"encoding/json"
	"maps"
	"slices"

	"github.com/bits-and-blooms/bitset"
	"go4.org/netipx"

	"bivium/core/classes"
	"bivium/core/document"
	"bivium/core/estate"
	"bivium/core/lists"
	"bivium/core/matrix"
	"bivium/core/paths"
	"bivium/internal/app/view"
)

// sharedChanges returns the prefixes that shares add to the route tables of segments, and take
// from them: all hubs hold the same. Cost: the classes of both estates, and the addresses of those
// that differ.
func sharedChanges(before, after *view.Snapshot, t *touched) []RouteChange {
	segments := t.sharing()
	if len(segments) == 0 {
		return nil
	}
	// Where shares show what they did, a class that is in both estates is seen as before.
	asBefore := lists.Same(t.before.Shares, t.after.Shares) && lists.Same(t.before.Segments, t.after.Segments)
	was, is := broughtFrom(before.Matrix, after.Matrix, segments, asBefore), broughtFrom(after.Matrix, before.Matrix, segments, asBefore)
	ways := maps.Clone(was)
	maps.Copy(ways, is)
	var out []RouteChange
	for way := range ways {
		out = append(out, turned(was[way], is[way], RouteChange{Segment: way.into, After: "shared by " + way.of, Hubs: after.Judge.Net.Hubs})...)
		out = append(out, turned(is[way], was[way], RouteChange{Segment: way.into, Before: "shared by " + way.of, Hubs: after.Judge.Net.Hubs})...)
	}
	return out
}

// sharedWay is a segment that addresses are of, and one that a share brings them into.
type sharedWay struct{ of, into string }

// broughtFrom returns what shares bring into some segments; if asBefore, without what another
// matrix has too. Segments that the matrix has not are left out.
func broughtFrom(m, other *matrix.Matrix, segments []string, asBefore bool) map[sharedWay]*netipx.IPSet {
	there := bitset.New(uint(len(other.Classes))) // the classes in which somebody is
	for _, inside := range other.Inside {
		for _, i := range inside {
			there.Set(uint(i))
		}
	}
	var into []int
	for _, name := range segments {
		if at := m.Net.Segment(name); at != paths.None {
			into = append(into, at)
		}
	}
	builders := map[sharedWay]*netipx.IPSetBuilder{}
	for _, inside := range m.Inside {
		for _, i := range inside {
			c, o := m.Classes[i], (*classes.Class)(nil)
			if asBefore && there.Test(uint(i)) {
				o = other.Classes[i]
			}
			if o == c {
				continue
			}
			same := o != nil && o.End.Segment == c.End.Segment && slices.Equal(o.Ranges, c.Ranges)
			for _, segment := range into {
				if c.End.Segment == segment || c.Seen[segment] != classes.SeesIt || same && o.Seen[segment] == classes.SeesIt {
					continue
				}
				way := sharedWay{m.Net.Segments[c.End.Segment], m.Net.Segments[segment]}
				if builders[way] == nil {
					builders[way] = &netipx.IPSetBuilder{}
				}
				for _, r := range c.Ranges {
					builders[way].AddRange(netipx.IPRangeFrom(classes.AsSeen(m.Judge, c, r.From, segment), classes.AsSeen(m.Judge, c, r.To, segment)))
				}
			}
		}
	}
	out := map[sharedWay]*netipx.IPSet{}
	for way, builder := range builders {
		out[way] = setOf(builder)
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
	moved := t.kinds[estate.KindNetwork] || t.kinds[estate.KindAttachment] || t.kinds[estate.KindWorkload] || t.kinds[estate.KindSegment]
	if !moved && !t.kinds[estate.KindShare] && !t.kinds[estate.KindGroup] {
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
			if touched := func(g string) bool { return groups[g] }; moved || names[estate.KindShare][s.Name] ||
				slices.ContainsFunc(s.Owner.Groups.Groups, touched) || slices.ContainsFunc(s.Guest.Groups.Groups, touched) {
				out = append(out, s.Owner.Segment, s.Guest.Segment)
			}
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}
