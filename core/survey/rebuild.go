package survey

import (
	"slices"

	"bivium/core/lists"
	"bivium/core/parallel"
	"bivium/core/verdict"
)

// rebuilder makes the blocks of a revised survey, and shares with the one before
// what is the same.
type rebuilder struct {
	surveyor
	before   *Survey
	next     *Survey
	revision *verdict.Revision
	rebuilt  map[pair]bool // pairs of domains whose block is another
	moved    [2][][]int32  // before and now, by domain: the places of the classes that are others, or have other ways
}

func (s *Survey) rebuilder(next *Survey, r *verdict.Revision) *rebuilder {
	b := &rebuilder{surveyor: surveyor{partition: next.partition, judge: next.judge, ledger: next.ledger}, before: s, next: next, revision: r, rebuilt: map[pair]bool{}}
	b.sideBefore = func(x *block, side int) *axis {
		was, domain := s.blocks.at(x.from, x.to), x.from
		if side == 1 {
			domain = x.to
		}
		if was == nil || b.touches(domain) || domain == len(b.inside) {
			return nil
		}
		if side == 1 {
			return &was.dst
		}
		return &was.src
	}
	if next.id == s.id {
		return b
	}
	for k, of := range [2]*Survey{s, next} {
		b.moved[k] = make([][]int32, len(b.graft.domains))
		for domain, touched := range b.graft.domains {
			if touched {
				b.moved[k][domain] = b.movedOf(of, domain)
			}
		}
	}
	b.mendKinds = b.mendedKinds
	return b
}

// movedOf returns the places of the classes of a domain of one of the two surveys that
// are others than in the other, or whose ways may be.
func (b *rebuilder) movedOf(s *Survey, domain int) []int32 {
	var out []int32
	tickets := s.roll(domain).tickets
	for at, n := range s.of(domain) {
		if b.graft.changes(n) || b.graft.moves(tickets[at].network) {
			out = append(out, int32(at))
		}
	}
	return out
}

// touches reports whether endpoints of a domain, or places at which they are, may be
// others than before.
func (b *rebuilder) touches(domain int) bool {
	return b.partition.id != b.before.id && b.graft.domains[domain]
}

// blocks returns the blocks of all pairs of domains.
func (b *rebuilder) blocks() table[*block] {
	pairs := b.candidates()
	out, anew := make([]*block, len(pairs)), make([]bool, len(pairs))
	jobs := make([]func(), len(pairs))
	for i, p := range pairs {
		jobs[i] = func() { out[i], anew[i] = b.rebuild(p.from, p.to) }
	}
	parallel.Run(jobs)
	var fresh []*block // whose ways are found anew
	for i, x := range out {
		if anew[i] {
			fresh = append(fresh, x)
		}
	}
	b.addEffects(fresh)
	var there []pair
	var blocks []*block
	for i, x := range out {
		if x == nil {
			continue
		}
		was := b.before.blocks.at(x.from, x.to)
		if anew[i] {
			x = b.asBefore(was, x)
		}
		if x != was {
			b.rebuilt[pairs[i]] = true
		}
		there, blocks = append(there, pairs[i]), append(blocks, x)
	}
	return tableOf(len(b.before.blocks), there, blocks)
}

// candidates returns the pairs of domains that had flows before the edit, or may have some
// after it.
func (b *rebuilder) candidates() []pair {
	out := b.before.blocks.pairs()
	for _, p := range b.reached() {
		if (b.touches(p.from) || b.touches(p.to)) && b.before.blocks.at(p.from, p.to) == nil {
			out = append(out, p)
		}
	}
	return out
}

// asBefore returns a block whose ways were found anew, or what can be kept of the one
// before where they have the effects that they had.
func (b *rebuilder) asBefore(was, x *block) *block {
	if was == nil || !x.sameWays(was) {
		return x
	}
	switch {
	case !b.touches(x.from) && !b.touches(x.to):
		if b.revision.Ways && x.threads == was.threads {
			return was
		}
	case x.to < len(b.inside) && slices.Equal(b.spotIn[x.from], b.before.spotIn[x.from]) && slices.Equal(b.spotIn[x.to], b.before.spotIn[x.to]):
		x.takeWays(was)
	}
	return x
}

// rebuild returns the block of two domains: the one before, if it is still right, or
// another, and whether its ways must be found yet.
func (b *rebuilder) rebuild(from, to int) (next *block, anew bool) {
	was := b.before.blocks.at(from, to)
	touched := b.touches(from) || b.touches(to)
	if touched && (len(b.of(from)) == 0 || len(b.seenBy(from, to)) == 0) {
		return nil, false
	}
	switch {
	case was == nil && !touched:
		return nil, false
	case was == nil || b.respoken(was):
		next = b.newBlock(from, to)
	case touched:
		next = b.reline(was, [2]bool{b.sameSets(from), b.sameSets(to)})
	default:
		next = b.reline(was, [2]bool{true, true})
	}
	ways := b.revision.Ways && from < len(b.inside)
	if was != nil && !touched && !ways && next.threads == was.threads {
		return was, false
	}
	if from == len(b.inside) {
		return next, false // gates lead in
	}
	if was == nil || ways || touched && !b.sameSpots(from, to) {
		return next, true
	}
	next.takeWays(was)
	b.addKinds(next)
	return next, false
}

// takeWays makes a block share the ways of another.
func (b *block) takeWays(o *block) {
	b.effects, b.near = o.effects, o.near
	b.src.bySpot, b.src.byClass = o.src.bySpot, o.src.byClass
	b.dst.bySpot, b.dst.byClass = o.dst.bySpot, o.dst.byClass
}

// sameSets reports whether the endpoints of a domain have the sets of groups that
// they had before; sets that nobody has any more are kept.
func (b *rebuilder) sameSets(domain int) bool {
	return !b.touches(domain) || domain < len(b.inside) && len(b.local[domain].sets) == len(b.before.local[domain].sets)
}

// sameSpots reports whether the places of two domains are those of before, and
// the ways between them too.
func (b *rebuilder) sameSpots(from, to int) bool {
	if len(b.revision.Networks) > 0 || to == len(b.inside) {
		return false // by class, or with other ways
	}
	return slices.Equal(b.spotIn[from], b.before.spotIn[from]) && slices.Equal(b.spotIn[to], b.before.spotIn[to]) &&
		(from == to || slices.Equal(b.spotsSeen(from, to), (&surveyor{partition: b.before.partition}).spotsSeen(from, to)))
}

// respoken reports whether a block has other voices than before, or a context.
func (b *rebuilder) respoken(was *block) bool {
	r := b.revision
	return (r.Respoken || b.next.concerned(b.before, was, r)) && !b.next.sameVoices(b.before, was)
}

// sameAmounts reports whether there is as much of everything between two domains as
// before: of each line at each place, and, where ways may be local, of those in each
// network.
func (b *rebuilder) sameAmounts(from, to int) bool {
	was, is := b.before.blocks.at(from, to), b.next.blocks.at(from, to)
	if was == nil || is == nil || from == len(b.inside) || to == len(b.inside) || was.threads != is.threads || !lists.Same(was.effects, is.effects) {
		return false
	}
	if !sameBulks(&was.src, &is.src) || !sameBulks(&was.dst, &is.dst) {
		return false
	}
	if from != to || !b.graft.altered[from] && !b.turned(from) {
		return true
	}
	if len(b.revision.Networks) > 0 {
		return false
	}
	alike := func(was, is []resident) bool {
		return slices.EqualFunc(was, is, func(x, y resident) bool {
			x.members = y.members // of classes, which may be cut finer
			return x == y
		})
	}
	return alike(b.before.allResidents(&was.src, from), b.next.allResidents(&is.src, from)) && alike(b.before.allResidents(&was.dst, from), b.next.allResidents(&is.dst, from))
}

// turned reports whether a network enforces verdicts otherwise than before that has
// endpoints in a domain.
func (b *rebuilder) turned(domain int) bool {
	tickets := b.roll(domain).tickets
	return slices.ContainsFunc(b.moved[1][domain], func(at int32) bool { return b.graft.turned[tickets[at].network] })
}

// sameBulks reports whether two axes with the same lines and places have as much of
// each kind.
func sameBulks(was, is *axis) bool {
	weight := func(x *axis, k kind) float64 {
		if at := int(k.line)*x.places + int(k.place); at < len(x.grid) && x.grid[at] >= 0 {
			return x.bulks[x.grid[at]].weight
		}
		return 0
	}
	same := func(x, y *axis) bool {
		return !slices.ContainsFunc(x.kinds, func(k kind) bool { return weight(x, k) != weight(y, k) })
	}
	return same(was, is) && same(is, was)
}

// sameWays reports whether all ways have the same effects in two blocks of the same
// domains.
func (b *block) sameWays(o *block) bool {
	return b.near == o.near && slices.EqualFunc(b.effects, o.effects, slices.Equal) &&
		slices.Equal(b.src.bySpot, o.src.bySpot) && slices.Equal(b.src.byClass, o.src.byClass) &&
		slices.Equal(b.dst.bySpot, o.dst.bySpot) && slices.Equal(b.dst.byClass, o.dst.byClass)
}

// concerned reports whether a block may have voices of what a revision lists.
func (s *Survey) concerned(before *Survey, b *block, r *verdict.Revision) bool {
	if len(r.Rails) > 0 {
		return true
	}
	segment := b.from
	switch {
	case b.from == len(s.inside):
		segment = b.to
	case b.to != len(s.inside) && b.from != b.to:
		return slices.ContainsFunc(r.Shares, func(x int) bool { return s.judge.Joins(x, b.from, b.to) })
	}
	for _, p := range r.Policies {
		for _, j := range []*verdict.Judge{before.judge, s.judge} {
			if j.Serves(p, segment) {
				return true
			}
		}
	}
	return false
}

// sameVoices reports whether a block has the voices that its domains have now,
// with the same sides.
func (s *Survey) sameVoices(before *Survey, b *block) bool {
	from, to := s.outer(b.from), s.outer(b.to)
	voices := s.judge.VoicesBetween(from, to)
	if !slices.Equal(voices, b.voices) || s.judge.ContextOf(from, to) != b.context {
		return false
	}
	for _, v := range voices {
		if v.Kind == verdict.PolicyVoice {
			continue // its sides are part of it
		}
		src, dst := s.judge.SidesOf(v, from)
		wasSrc, wasDst := before.judge.SidesOf(v, from)
		if !slices.Equal(src, wasSrc) || !slices.Equal(dst, wasDst) || (src == nil) != (wasSrc == nil) || (dst == nil) != (wasDst == nil) {
			return false
		}
	}
	return true
}

// outer returns a domain as package verdict knows it.
func (s *Survey) outer(domain int) int {
	if domain == len(s.inside) {
		return verdict.Outside
	}
	return domain
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
