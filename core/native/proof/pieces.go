package proof

import (
	"cmp"
	"net/netip"
	"slices"
	"sort"

	"go4.org/netipx"

	"bivium/core/classes"
	"bivium/core/intervals"
)

// piece is a range of addresses of one class that no list of the configuration tells apart.
type piece struct {
	class *classes.Class
	own   intervals.Range // in its own segment
	seen  intervals.Range // as the segment of the view sees it
}

// view is pieces in the order of the addresses by which a segment sees them.
type view []piece

// span is pieces of a view, from the first to before the last.
type span struct{ first, last int }

// sightOf returns the addresses of a class as a segment sees them, range by range.
func (p *prover) sightOf(c *classes.Class, by int) []intervals.Range {
	if !c.Internal() || by == c.End.Segment || by == len(p.s.Inside) || !p.s.Judge.Shows() {
		return c.Ranges
	}
	out := make([]intervals.Range, len(c.Ranges))
	for i, r := range c.Ranges {
		out[i] = intervals.Range{From: classes.AsSeen(p.s.Judge, c, r.From, by), To: classes.AsSeen(p.s.Judge, c, r.To, by)}
	}
	return out
}

// insideOf returns the addresses of a class inside its network, range by range.
func (p *prover) insideOf(c *classes.Class) []intervals.Range {
	if !p.s.Net.Translates(int(c.Network)) {
		return c.Ranges
	}
	out := make([]intervals.Range, len(c.Ranges))
	for i, r := range c.Ranges {
		home, _ := p.s.Net.Home(c.End.Segment, r.From)
		out[i] = intervals.Range{From: p.s.Net.Inside(home, r.From), To: p.s.Net.Inside(home, r.To)}
	}
	return out
}

// joined returns the addresses of prefixes as ranges, those that touch as one.
func joined(p []netip.Prefix) []intervals.Range {
	ranges := make([]intervals.Range, len(p))
	for i, x := range p {
		r := netipx.RangeOfPrefix(x.Masked())
		ranges[i] = intervals.Range{From: r.From(), To: r.To()}
	}
	slices.SortFunc(ranges, func(a, b intervals.Range) int { return a.From.Compare(b.From) })
	out := ranges[:0]
	for _, r := range ranges {
		if n := len(out); n > 0 && out[n-1].From.BitLen() == r.From.BitLen() && (out[n-1].To.Compare(r.From) >= 0 || out[n-1].To.Next() == r.From) {
			if out[n-1].To.Compare(r.To) < 0 {
				out[n-1].To = r.To
			}
			continue
		}
		out = append(out, r)
	}
	return out
}

// offset moves an address as far from the start of another range as it is from its own.
func offset(a, from, to netip.Addr) netip.Addr {
	if from == to {
		return a
	}
	x, y, z := a.AsSlice(), from.AsSlice(), to.AsSlice()
	carry, borrow := 0, 0
	out := make([]byte, len(x))
	for i := len(x) - 1; i >= 0; i-- {
		d := int(x[i]) - int(y[i]) - borrow
		if borrow = 0; d < 0 {
			d, borrow = d+256, 1
		}
		s := d + int(z[i]) + carry
		out[i], carry = byte(s), s>>8
	}
	moved, _ := netip.AddrFromSlice(out)
	return moved
}

// cut appends the pieces of a class, as a segment sees it.
func (p *prover) cut(out view, c *classes.Class, by int) view {
	sight, inside := p.sightOf(c, by), c.Ranges
	if c.Internal() {
		inside = p.insideOf(c)
	}
	for i, own := range c.Ranges {
		var at []netip.Addr // where pieces begin, by their own address
		p.cuts.within(own, func(a netip.Addr) { at = append(at, a) })
		if sight[i] != own {
			p.cuts.within(sight[i], func(a netip.Addr) { at = append(at, offset(a, sight[i].From, own.From)) })
		}
		if inside[i] != own {
			p.cuts.within(inside[i], func(a netip.Addr) { at = append(at, offset(a, inside[i].From, own.From)) })
		}
		slices.SortFunc(at, netip.Addr.Compare)
		from := own.From
		for _, a := range append(slices.Compact(at), netip.Addr{}) {
			to := own.To
			if a.IsValid() {
				to = a.Prev()
			}
			if from.Compare(to) <= 0 {
				out = append(out, piece{c, intervals.Range{From: from, To: to}, intervals.Range{From: offset(from, own.From, sight[i].From), To: offset(to, own.From, sight[i].From)}})
			}
			from = a
		}
	}
	return out
}

func (v view) sort() { slices.SortFunc(v, comparePieces) }

func comparePieces(a, b piece) int {
	if order := a.seen.From.Compare(b.seen.From); order != 0 {
		return order
	}
	return cmp.Or(a.class.End.Segment-b.class.End.Segment, a.own.From.Compare(b.own.From))
}

// merged returns views, each in order, as one. They are not written to.
func merged(all []view) view {
	switch len(all) {
	case 0:
		return nil
	case 1:
		return all[0]
	}
	a, b := merged(all[:len(all)/2]), merged(all[len(all)/2:])
	out := make(view, 0, len(a)+len(b))
	for len(a) > 0 && len(b) > 0 {
		if comparePieces(a[0], b[0]) <= 0 {
			out, a = append(out, a[0]), a[1:]
		} else {
			out, b = append(out, b[0]), b[1:]
		}
	}
	return append(append(out, a...), b...)
}

// spans returns the pieces whose addresses lie in some prefixes. No prefix cuts a piece.
func (v view) spans(p []netip.Prefix) []span {
	var out []span
	for _, r := range joined(p) {
		first := sort.Search(len(v), func(i int) bool { return v[i].seen.From.Compare(r.From) >= 0 })
		last := first + sort.Search(len(v)-first, func(i int) bool { return v[first+i].seen.From.Compare(r.To) > 0 })
		if first < last {
			out = append(out, span{first, last})
		}
	}
	return out
}
