package findings

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"bivium/core/estate"
	"bivium/core/intervals"
	"bivium/core/matrix"
	"bivium/core/membership"
	"bivium/core/verdict"
)

// ShareFaults returns the shares that M6.4 forbids, wholly or in part (F3): they
// make an address reachable where it has a home of its own, or where another
// segment's shares make it reachable too. Each share is reported once for each
// segment and kind of conflict, with the first address that shows it.
// Cost: the bounds of homes and groups, and for addresses that several segments
// have, each piece times the segments.
func ShareFaults(j *verdict.Judge) []estate.Fault { return shareFaultsAt(j, intervals.Everywhere) }

// ShareFaultsAfter returns those of the estate, see there, if the edit that the matrix came of
// may have brought any. It returns none if not, whatever was there before. Cost: that of
// ShareFaults at the addresses whose endpoints the edit may have changed.
func ShareFaultsAfter(s *matrix.Matrix) []estate.Fault {
	if s.Update != nil && len(shareFaultsAt(s.Judge, s.Update.Touched)) == 0 {
		return nil
	}
	return ShareFaults(s.Judge)
}

// shareFaultsAt returns those that some addresses show.
func shareFaultsAt(j *verdict.Judge, within intervals.Ranges) []estate.Fault {
	c := &shareChecker{judge: j, seen: map[string]bool{}, index: map[string]int{}}
	for i, s := range j.Estate.Shares {
		c.index[s.Name] = i
	}
	sights := intervals.ShownIn(j)
	for _, x := range intervals.Elementary(j, within) {
		if len(x.Homes) < 2 && !sights.On(&x) {
			continue // no other segment has the address, so nothing conflicts
		}
		for _, r := range x.Pieces(j, x.SubnetsAt(j), sights) {
			c.piece(r.From)
		}
	}
	slices.SortFunc(c.faults, func(a, b estate.Fault) int { return strings.Compare(a.Key(), b.Key()) })
	return c.faults
}

type shareChecker struct {
	judge  *verdict.Judge
	index  map[string]int
	seen   map[string]bool
	faults []estate.Fault
}

// brought is an endpoint that a share makes reachable somewhere.
type brought struct {
	share string
	from  int
	own   netip.Addr // in that segment
}

func (c *shareChecker) piece(a netip.Addr) {
	net := c.judge.Net
	reach := map[int][]brought{}
	for s := range net.Segments {
		c.judge.EachSeenAs(s, a, func(p *membership.Endpoint, r verdict.Reach) {
			reach[r.Segment] = append(reach[r.Segment], brought{r.Share, s, p.Addr})
		})
	}
	for segment, list := range reach {
		_, own := net.Home(segment, a)
		for _, b := range list {
			other := slices.IndexFunc(list, func(o brought) bool { return o.from != b.from || o.own != b.own })
			switch {
			case own:
				c.report(b, segment, a, estate.InUse, nil, estate.Ref{Kind: estate.KindSegment, Name: net.Segments[segment]})
			case other >= 0:
				c.report(b, segment, a, estate.AlreadyShared, []string{list[other].own.String(), net.Segments[list[other].from]}, estate.Ref{Kind: estate.KindShare, Name: list[other].share})
			}
		}
	}
}

func (c *shareChecker) report(b brought, segment int, a netip.Addr, form estate.Form, holder []string, other estate.Ref) {
	net := c.judge.Net
	key := fmt.Sprintf("%s %d %s %s", b.share, segment, other.Kind, other.Name)
	if c.seen[key] {
		return
	}
	c.seen[key] = true
	i := c.index[b.share]
	side := "owner"
	if c.judge.Estate.Shares[i].Owner.Segment != net.Segments[b.from] {
		side = "guest"
	}
	c.faults = append(c.faults, estate.Fault{
		At:   b.own,
		Code: estate.ForbiddenShare, Path: fmt.Sprintf("shares[%d].%s", i, side),
		Refs: []estate.Ref{{Kind: estate.KindShare, Name: b.share}, other},
		Form: form,
		Args: append([]string{b.own.String(), net.Segments[b.from], a.String(), net.Segments[segment]}, holder...),
	})
}
