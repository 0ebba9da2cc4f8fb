package query

import (
	"cmp"
	"net/netip"
	"slices"
	"strings"

	"go4.org/netipx"

	"bivium/core/classes"
	"bivium/core/lists"
	"bivium/core/matrix"
	"bivium/core/membership"
	"bivium/core/verdict"
)

// Brought is addresses of another segment that shares make reachable in one (M6.4).
type Brought struct {
	Shares   []string
	Segment  string              // of the addresses
	End      membership.Endpoint // one of them
	Prefixes []netip.Prefix      // all of them, as the segment sees them, in as few prefixes as there can be
}

// BroughtInto returns what shares bring into a segment, by home network and shares, and by
// what way tells of an endpoint, in order: of one network, addresses may be reached
// otherwise than others. Cost: the classes of the estate, and the shares of each.
func BroughtInto(s *matrix.Matrix, segment int, way func(*membership.Endpoint) string) []Brought {
	type place struct { // where endpoints have one way
		PathClass int
		network   int32
	}
	ways := map[place]string{}
	type found struct {
		Brought
		ranges netipx.IPSetBuilder
	}
	at := map[string]*found{}
	for _, i := range slices.Concat(s.Inside...) { // and no class that nobody is in any more
		c := s.Classes[i]
		if c.End.Segment == segment || c.Seen[segment] != classes.SeesIt {
			continue
		}
		var shares []string
		s.Judge.EachReach(&c.End, func(r verdict.Reach) {
			if r.Segment == segment && !slices.Contains(shares, r.Share) {
				shares = append(shares, r.Share)
			}
		})
		slices.Sort(shares)
		told, known := ways[place{c.PathClass, c.Network}]
		if !known {
			told = way(&c.End)
			ways[place{c.PathClass, c.Network}] = told
		}
		key := strings.Join(shares, " ") + " " + lists.Key([]int{c.End.Segment, c.End.Home.Network, lists.OneIf(c.Four)}) + told
		f := at[key]
		if f == nil {
			f = &found{Brought: Brought{Shares: shares, Segment: s.Net.Segments[c.End.Segment], End: c.End}}
			at[key] = f
		}
		for _, r := range c.Ranges {
			f.ranges.AddRange(netipx.IPRangeFrom(classes.AsSeen(s.Judge, c, r.From, segment), classes.AsSeen(s.Judge, c, r.To, segment)))
		}
	}
	out := make([]Brought, 0, len(at))
	for _, f := range at {
		set, err := f.ranges.IPSet()
		if err != nil { // ranges are made from addresses of one family, in order
			panic("query: " + err.Error())
		}
		f.Prefixes = set.Prefixes()
		out = append(out, f.Brought)
	}
	slices.SortFunc(out, func(a, b Brought) int {
		return cmp.Or(a.Prefixes[0].Addr().Compare(b.Prefixes[0].Addr()), slices.Compare(a.Shares, b.Shares))
	})
	return out
}
