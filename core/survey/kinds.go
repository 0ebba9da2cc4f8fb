package survey

import "slices"

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
	if was == nil || was.places != places || !sameList(was.lines, is.lines) || !slices.Equal(was.bySpot, is.bySpot) || !slices.Equal(was.byClass, is.byClass) {
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

// mendedKinds gives one side of a block the kinds that it had before an edit, without the
// classes that have changed and with those that there are now: if its lines are what they
// were, and its places too, under whatever numbers.
func (b *rebuilder) mendedKinds(x *block, side, places int) bool {
	was, domain, is := b.before.blocks.at(x.from, x.to), x.from, &x.src
	if side == 1 {
		domain, is = x.to, &x.dst
	}
	if was == nil || domain == len(b.inside) || !b.touches(domain) || is.byClass != nil {
		return false
	}
	old := &was.src
	if side == 1 {
		old = &was.dst
	}
	if old.byClass != nil || len(old.lines) > len(is.lines) || !slices.Equal(old.lines, is.lines[:len(old.lines)]) {
		return false
	}
	now, ok := b.placesNow(domain, old, is, places)
	if !ok {
		return false
	}
	left := slices.Clone(old.bulks)
	b.eachMoved(b.before, 0, x.from, domain, func(t *ticket, m bulk) {
		k := &left[old.kind(t)]
		k.members, k.weight = k.members-m.members, k.weight-m.weight
	})
	is.empty(places)
	for i, k := range old.kinds {
		if left[i].members > 0 {
			is.put(kind{k.line, now[k.place]}, left[i])
		}
	}
	b.eachMoved(b.next, 1, x.from, domain, func(t *ticket, m bulk) { is.put(kind{is.line(t), is.place(t)}, m) })
	return true
}

// placesNow returns, by place of one side of a block before an edit, the number that it
// has now. It is false where one was parted, or several are one now.
func (b *rebuilder) placesNow(domain int, was, is *axis, places int) (now []int32, ok bool) {
	stays := make([]int32, len(b.spots)) // by spot: its place now
	for i := range stays {
		stays[i] = unseen
	}
	for i, s := range b.spotIn[domain] {
		stays[s] = is.bySpot[i]
	}
	now, taken := make([]int32, was.places), make([]bool, places)
	for i := range now {
		now[i] = unseen
	}
	for i, s := range b.before.spotIn[domain] {
		before, place := was.bySpot[i], stays[s]
		switch {
		case before == unseen || place == unseen || now[before] == place:
		case now[before] != unseen || taken[place]:
			return nil, false
		default:
			now[before], taken[place] = place, true
		}
	}
	return now, true
}

// eachMoved calls f for the classes of a domain in one of two surveys that have changed
// and that another domain sees.
func (b *rebuilder) eachMoved(s *Survey, which, from, domain int, f func(*ticket, bulk)) {
	roll := s.roll(domain)
	for _, at := range b.moved[which][domain] {
		if s.classes[s.of(domain)[at]].seen[from] == seesIt {
			f(&roll.tickets[at], roll.members[at])
		}
	}
}
