package classes

import (
	"net/netip"

	"bivium/core/intervals"
	"bivium/core/lists"
	"bivium/core/membership"
	"bivium/core/paths"
	"bivium/core/verdict"
)

// mark returns the mark of an endpoint: what tells the paths to it and from it apart, by its
// own address and by those that other segments see. Of two endpoints of one prefix, a
// share may show one alone.
func (b *builder) mark(end *membership.Endpoint) int {
	mark := b.marks.At(end.Addr)
	key := []int{mark + 1}
	for _, w := range b.sights {
		if w.Of != end.Segment || !w.Inside.Contains(end.Addr) {
			continue
		}
		if seen := b.judge.SeenAs(end, w.To); seen != end.Addr {
			key = append(key, w.To+1, b.marks.At(seen)+1)
		}
	}
	if len(key) == 1 {
		return mark
	}
	return -2 - Number(b.alike, "seen "+lists.Key(key)) // no mark of a prefix is less than None
}

// addShown adds the endpoints of an interval whose addresses segments see under others,
// or see others under, piece by piece.
func (b *builder) addShown(x *intervals.Interval) {
	for _, r := range x.Pieces(b.judge, x.SubnetsAt(b.judge), b.sights) {
		for _, s := range x.Homes {
			end, ok := b.judge.Internal(s, r.From)
			if !ok {
				continue
			}
			set, class := b.set(end.Groups), b.pathClassAt(&end)
			b.put(s, end.Home.Network, end, r, set, class, b.seenSlowly(&end))
		}
		if !paths.Private(r.From) {
			b.externalSlowly(r)
		}
	}
}

// seenSlowly returns what the segments see of an endpoint, by asking each.
func (b *builder) seenSlowly(end *membership.Endpoint) int {
	bytes := make([]byte, b.inside)
	for s := range bytes {
		if s == end.Segment {
			bytes[s] = byte(SeesIt)
			continue
		}
		switch found, how := b.judge.Find(s, b.judge.SeenAs(end, s)); {
		case how == verdict.LookupShared && found.Segment == end.Segment && found.Addr == end.Addr:
			bytes[s] = byte(SeesIt)
		case how == verdict.LookupUnknown:
			bytes[s] = byte(SeesNothing)
		}
	}
	return b.visibility(bytes)
}

// externalSlowly adds external endpoints where segments may see others by their
// addresses.
func (b *builder) externalSlowly(r intervals.Range) {
	bytes := make([]byte, b.inside)
	for s := range bytes {
		if _, how := b.judge.Find(s, r.From); how == verdict.LookupInternet {
			bytes[s] = byte(SeesIt)
		}
	}
	b.outsider(r, b.visibility(bytes))
}

// AsSeen returns the address by which flows from a segment name an address of a
// class.
func AsSeen(j *verdict.Judge, c *Class, a netip.Addr, from int) netip.Addr {
	if !c.Internal() || !j.Shows() {
		return a
	}
	end := c.End
	end.Addr = a
	return j.SeenAs(&end, from)
}
