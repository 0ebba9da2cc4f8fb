package survey

import (
	"cmp"
	"net/netip"
	"slices"

	"bivium/core/estate"
	"bivium/core/paths"
	"bivium/core/verdict"
)

// sight is a prefix that one segment sees under another (M14.1).
type sight struct {
	of, to          int
	inside, outside netip.Prefix
}

// sights are those of an estate, in a fixed order: there are few.
type sights []sight

func sightsOf(j *verdict.Judge) sights {
	var out sights
	j.EachShown(func(of, to int, inside, outside netip.Prefix) { out = append(out, sight{of, to, inside, outside}) })
	slices.SortFunc(out, func(a, b sight) int {
		return cmp.Or(a.of-b.of, a.to-b.to, a.inside.Addr().Compare(b.inside.Addr()), a.inside.Bits()-b.inside.Bits())
	})
	return out
}

// on reports whether addresses of a stretch are shown under others, or are those
// that others are shown under.
func (v sights) on(x *stretch) bool {
	return slices.ContainsFunc(v, func(w sight) bool { return w.inside.Contains(x.From) || w.outside.Contains(x.From) })
}

// held returns the addresses in a stretch by which segments see workloads of
// others.
func (v sights) held(j *verdict.Judge, x *stretch) []netip.Addr {
	var out []netip.Addr
	for _, w := range v {
		if !w.outside.Contains(x.From) {
			continue
		}
		from := estate.Rebase(x.From, w.inside)
		home, ok := j.Net().Home(w.of, from)
		if !ok || home.Subnet == paths.None {
			continue
		}
		j.EachHeld(home, from, estate.Rebase(x.To, w.inside), func(a netip.Addr, _ int) {
			out = append(out, estate.Rebase(a, w.outside))
		})
	}
	return out
}

// mark returns the mark of an endpoint: what tells the paths to it and from it apart, by its
// own address and by those that other segments see. Of two endpoints of one prefix, a
// share may show one alone.
func (b *builder) mark(end *verdict.Endpoint) int {
	mark := b.marks.At(end.Addr)
	key := []int{mark + 1}
	for _, w := range b.sights {
		if w.of != end.Segment || !w.inside.Contains(end.Addr) {
			continue
		}
		if seen := b.judge.SeenAs(end, w.to); seen != end.Addr {
			key = append(key, w.to+1, b.marks.At(seen)+1)
		}
	}
	if len(key) == 1 {
		return mark
	}
	return -2 - number(b.alike, "seen "+keyOf(key)) // no mark of a prefix is less than None
}

// sighted adds the endpoints of a stretch whose addresses segments see under others,
// or see others under, piece by piece.
func (b *builder) sighted(x *stretch) {
	for _, r := range x.pieces(b.judge, x.subnetsAt(b.judge), b.sights) {
		for _, s := range x.homes {
			end, ok := b.judge.Internal(s, r.From)
			if !ok {
				continue
			}
			set, spot := b.set(end.Groups()), b.spotAt(&end)
			b.put(s, end.Home.Network, end, r, set, spot, b.seenSlowly(&end))
		}
		if !paths.Private(r.From) {
			b.externalSlowly(r)
		}
	}
}

// seenSlowly returns what the segments see of an endpoint, by asking each.
func (b *builder) seenSlowly(end *verdict.Endpoint) int {
	bytes := make([]byte, b.inside)
	for s := range bytes {
		if s == end.Segment {
			bytes[s] = byte(seesIt)
			continue
		}
		switch found, how := b.judge.Find(s, b.judge.SeenAs(end, s)); {
		case how == verdict.LookupShared && found.Segment == end.Segment && found.Addr == end.Addr:
			bytes[s] = byte(seesIt)
		case how == verdict.LookupUnknown:
			bytes[s] = byte(seesNothing)
		}
	}
	return b.sight(bytes)
}

// externalSlowly adds external endpoints where segments may see others by their
// addresses.
func (b *builder) externalSlowly(r Range) {
	bytes := make([]byte, b.inside)
	for s := range bytes {
		if _, how := b.judge.Find(s, r.From); how == verdict.LookupInternet {
			bytes[s] = byte(seesIt)
		}
	}
	b.outsider(r, b.sight(bytes))
}

// asSeen returns the address by which flows from a segment name an address of a
// class.
func (s *Survey) asSeen(c *Class, a netip.Addr, from int) netip.Addr {
	if !c.Internal() || !s.judge.Shows() {
		return a
	}
	end := c.End
	end.Addr = a
	return s.judge.SeenAs(&end, from)
}
