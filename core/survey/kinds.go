package survey

import (
	"slices"

	"bivium/core/lists"
)

// addKinds finds the kinds of the classes of a block, and how much there is of each.
func (v *surveyor) addKinds(b *block) {
	rows, cols := len(b.effects), 0
	if rows > 0 {
		cols = len(b.effects[0])
	}
	if !v.keptKinds(b, 0, rows) && (v.mendKinds == nil || !v.mendKinds(b, 0, rows)) {
		v.findKinds(b.from, &b.src, rows, v.seenBy(b.from, b.from))
	}
	if !v.keptKinds(b, 1, cols) && (v.mendKinds == nil || !v.mendKinds(b, 1, cols)) {
		v.findKinds(b.to, &b.dst, cols, v.seenBy(b.from, b.to))
	}
}

// keptKinds lets one side of a block have the kinds that it had before, if endpoints, lines
// and places are the same.
func (v *surveyor) keptKinds(b *block, side, places int) bool {
	if v.sideBefore == nil {
		return false
	}
	was, is := v.sideBefore(b, side), &b.src
	if side == 1 {
		is = &b.dst
	}
	if was == nil || was.places != places || !lists.Same(was.lines, is.lines) || !slices.Equal(was.bySpot, is.bySpot) || !slices.Equal(was.byClass, is.byClass) {
		return false
	}
	is.places, is.grid, is.kinds, is.bulks = was.places, was.grid, was.kinds, was.bulks
	return true
}

// findKinds finds the kinds of some classes of a domain, by their places there;
// outside, of all.
func (v *surveyor) findKinds(domain int, x *axis, places int, some []int32) {
	x.places = places
	roll := v.roll(domain)
	if domain == len(v.inside) {
		n := len(roll.tickets)
		x.grid, x.kinds, x.bulks = make([]int32, n), make([]kind, n), make([]bulk, n)
		for at := range roll.tickets {
			x.grid[at], x.kinds[at] = int32(at), kind{int32(at), x.place(&roll.tickets[at])}
		}
		for _, at := range some {
			x.bulks[at] = roll.members[at]
		}
		return
	}
	x.empty(places)
	for _, i := range some {
		t := &roll.tickets[i]
		x.put(kind{x.line(t), x.place(t)}, roll.members[i])
	}
}

// empty makes the axis one of a segment in which nobody is.
func (x *axis) empty(places int) {
	lines := int32(0)
	for _, l := range x.lines {
		lines = max(lines, l+1)
	}
	x.places, x.grid, x.kinds, x.bulks = places, make([]int32, int(lines)*places), nil, nil
	for i := range x.grid {
		x.grid[i] = -1
	}
}

// put adds what there is of a kind.
func (x *axis) put(k kind, members bulk) {
	at := &x.grid[int(k.line)*x.places+int(k.place)]
	if *at < 0 {
		*at = int32(len(x.kinds))
		x.kinds, x.bulks = append(x.kinds, k), append(x.bulks, bulk{})
	}
	x.bulks[*at].add(members)
}
