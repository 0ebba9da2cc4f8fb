package survey

import (
	"slices"
	"sync"

	"bivium/core/estate"
	"bivium/core/space"
	"bivium/core/verdict"
)

// Revise returns the survey of e, an edit of the estate of s, and what fares
// differently. It works out anew what the edit touches and shares the rest with
// s, which stays as it is: an edit of rules costs the stances that they have a say
// in; one of sides, and of policies that come or go, the blocks of their segments;
// one of groups, workloads, shares and places, the endpoints that they are about,
// with the blocks of their segments; one of links, exits and firewalls, the ways. An
// edit that adds or takes away a hub, segment, network, exit, pool or rulebook is
// surveyed from the ground.
func (s *Survey) Revise(e *estate.Estate) (*Survey, Difference) {
	j, r := s.judge.Revise(e)
	return s.Follow(j, &r)
}

// Follow is Revise where the judge of s has been revised already, as r tells.
func (s *Survey) Follow(j *verdict.Judge, r *verdict.Revision) (*Survey, Difference) {
	before, next := s.revised(j, r)
	if next != nil {
		d := Compare(before, next)
		next.held = s.held.after(&d)
		return next, d
	}
	// Who is in a group may differ too: what is expected of its flows is another
	// question then, though none of them fares differently.
	next = New(j)
	return next, Compare(before, next)
}

// revised returns the survey of a revised judge, or nil if nothing can be shared,
// and s itself, with services cut as finely as the revised rules want it.
func (s *Survey) revised(j *verdict.Judge, r *verdict.Revision) (before, after *Survey) {
	if r.Whole {
		return s, nil
	}
	p := s.regraft(j, r)
	if p == nil {
		return s, nil
	}
	s, sieve := s.cutFor(j, r)
	next := *s
	next.judge, next.partition = j, p
	b := s.rebuilder(&next, r)
	next.blocks = b.blocks()
	for to := range s.inside {
		if (r.Ways || r.Gates) && next.blocks[len(s.inside)][to] != nil {
			b.rebuilt[[2]int{len(s.inside), to}] = true // other gates lead in
		}
	}
	next.regate(s, r)
	next.sieve = sieve
	l := &looking{Survey: &next, before: &s.overview, sooner: b.recounted}
	l.fresh = func(from, to int) bool {
		return (b.rebuilt[[2]int{from, to}] || b.touches(from) || b.touches(to)) && !b.sameAmounts(from, to)
	}
	l.count()
	wanted := next.resettle(s, r, b.rebuilt, l.occur)
	if r.Gates {
		next.admit()
	}
	touched := make([]bool, len(wanted))
	for i := range wanted {
		touched[i] = len(wanted[i]) > 0
	}
	l.mark(func(from, to int) bool {
		b := next.blocks[from][to]
		return b != nil && b.holdsAny(touched)
	})
	return s, &next
}

// cutFor returns the survey with services cut as finely as a revised judge wants it,
// and the sieve of that.
func (s *Survey) cutFor(j *verdict.Judge, r *verdict.Revision) (*Survey, *verdict.Sieve) {
	if !r.Renumbered {
		if sieve, exact := s.sieve.Revise(j, r); exact {
			return s, sieve
		}
	}
	if sameList(s.judge.Settings(), j.Settings()) && len(r.Policies)+len(r.Rails)+len(r.Shares)+len(r.Books) == 0 {
		return s, s.sieve
	}
	exact := !slices.ContainsFunc(j.Settings(), func(terms []estate.Term) bool {
		_, whole := s.atoms.Covered(terms)
		return !whole
	})
	if !exact {
		known := s.held
		s = s.recut(space.Cut(slices.Concat(s.judge.Settings(), j.Settings())))
		s.held = known
	}
	return s, j.NewSieve(s.atoms)
}

// regate finds the gates anew that a revision touches.
func (s *Survey) regate(before *Survey, r *verdict.Revision) {
	v := &surveyor{partition: s.partition, judge: s.judge, ledger: s.ledger}
	if r.Gates || r.Ways {
		s.gates = v.gates()
		return
	}
	if s.id == before.id {
		return
	}
	s.gates = slices.Clone(before.gates)
	for d := range s.gates {
		if s.graft.domains[d] || s.graft.domains[len(s.inside)] {
			s.gates[d] = v.gatesOf(d)
		}
	}
}

// rebuilder makes the blocks of a revised survey, and shares with the one before
// what is the same.
type rebuilder struct {
	surveyor
	before   *Survey
	next     *Survey
	revision *verdict.Revision
	rebuilt  map[[2]int]bool // pairs of domains whose block is another
	moved    [2][][]int32    // before and now, by domain: the places of the classes that are others, or have other ways
}

func (s *Survey) rebuilder(next *Survey, r *verdict.Revision) *rebuilder {
	b := &rebuilder{surveyor: surveyor{next.partition, next.judge, next.ledger, nil}, before: s, next: next, revision: r, rebuilt: map[[2]int]bool{}}
	if next.id == s.id {
		return b
	}
	if !r.Ways {
		b.known = s.knownWays(next.partition)
	}
	for k, of := range [2]*Survey{s, next} {
		b.moved[k] = make([][]int32, len(b.graft.domains))
		for domain, touched := range b.graft.domains {
			if touched {
				b.moved[k][domain] = b.movedOf(of, domain)
			}
		}
	}
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

// knownWays returns what is known of the ways of a partition that came of the survey's:
// those between spots at which no network is whose ways may be others.
func (s *Survey) knownWays(p *partition) func(b *block, from, to int) (int32, bool) {
	at := make([]int32, len(p.spots)) // by spot: its place in its domain before, or -1
	for i := range at {
		at[i] = -1
	}
	for _, list := range s.spotIn {
		for place, n := range list {
			at[n] = int32(place)
		}
	}
	for _, of := range []*partition{s.partition, p} {
		for i := range of.classes {
			if c := of.classes[i]; len(c.Ranges) > 0 && p.graft.moves(c.network) {
				at[c.spot] = -1
			}
		}
	}
	return func(b *block, from, to int) (int32, bool) {
		was := s.blocks[b.from][b.to]
		if was == nil || at[from] < 0 || at[to] < 0 {
			return 0, false
		}
		src, dst := was.src.bySpot[at[from]], was.dst.bySpot[at[to]]
		if dst == unseen {
			return 0, false
		}
		return was.effects[src][dst], true
	}
}

// touches reports whether endpoints of a domain, or places at which they are, may be
// others than before.
func (b *rebuilder) touches(domain int) bool {
	return b.partition.id != b.before.id && b.graft.domains[domain]
}

// blocks returns the blocks of all pairs of domains.
func (b *rebuilder) blocks() [][]*block {
	out := make([][]*block, len(b.before.blocks))
	var jobs []func()
	var fresh []*block // whose ways are found anew
	var mu sync.Mutex
	for from := range out {
		out[from] = slices.Clone(b.before.blocks[from])
		for to := range out[from] {
			if !b.touches(from) && !b.touches(to) && !b.revision.Ways && out[from][to] == nil {
				continue
			}
			jobs = append(jobs, func() {
				next, anew := b.rebuild(from, to)
				mu.Lock()
				defer mu.Unlock()
				if out[from][to] = next; anew {
					fresh = append(fresh, next)
				}
				if next != nil && next != b.before.blocks[from][to] {
					b.rebuilt[[2]int{from, to}] = true
				}
			})
		}
	}
	inParallel(jobs)
	b.addEffects(fresh)
	for _, x := range fresh {
		was := b.before.blocks[x.from][x.to]
		if was == nil || !x.sameWays(was) {
			continue
		}
		switch {
		case !b.touches(x.from) && !b.touches(x.to):
			if b.revision.Ways && x.threads == was.threads {
				out[x.from][x.to] = was
				delete(b.rebuilt, [2]int{x.from, x.to})
			}
		case x.to < len(b.inside) && slices.Equal(b.spotIn[x.from], b.before.spotIn[x.from]) && slices.Equal(b.spotIn[x.to], b.before.spotIn[x.to]):
			x.takeWays(was)
		}
	}
	return out
}

// rebuild returns the block of two domains: the one before, if it is still right, or
// another, and whether its ways must be found yet.
func (b *rebuilder) rebuild(from, to int) (next *block, anew bool) {
	was := b.before.blocks[from][to]
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
	was, is := b.before.blocks[from][to], b.next.blocks[from][to]
	if was == nil || is == nil || from == len(b.inside) || to == len(b.inside) || was.threads != is.threads || !sameList(was.effects, is.effects) {
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

// resettle settles what a revision makes of stances, and what occurs that did not
// before, in tables of its own where they differ. It returns, by stance, the effects.
func (s *Survey) resettle(before *Survey, r *verdict.Revision, rebuilt map[[2]int]bool, occur [][]combination) wants {
	wanted, gone := s.stale(before, r)
	add := func(stance, effect int32) {
		if _, known := before.settled(combination{stance, effect}); !known {
			wanted.want(stance, effect)
		}
	}
	for _, list := range occur {
		for _, x := range list {
			add(x.stance, x.effect)
		}
	}
	for to, b := range s.blocks[len(s.inside)] {
		if b == nil || !rebuilt[[2]int{len(s.inside), to}] {
			continue
		}
		effects := s.effectsThrough(to)
		for _, stance := range b.stances {
			for _, e := range effects {
				add(stance, e)
			}
		}
	}
	s.verdicts = slices.Clone(before.verdicts)
	for e, table := range s.verdicts {
		known := func(stance int32) bool { return int(stance) < len(table) && table[stance] >= 0 }
		if slices.ContainsFunc(gone, known) || slices.ContainsFunc(wanted, func(effects []int32) bool { return slices.Contains(effects, int32(e)) }) {
			s.verdicts[e] = slices.Clone(table)
			for _, stance := range gone {
				if known(stance) {
					s.verdicts[e][stance] = -1
				}
			}
		}
	}
	s.settleAll(wanted)
	return wanted
}

// stale returns, by stance, the effects for which it must be settled anew, and the
// stances of which no block is left: what was known of them does not hold any more.
func (s *Survey) stale(before *Survey, r *verdict.Revision) (wanted wants, gone []int32) {
	l := s.ledger
	l.mu.RLock()
	defer l.mu.RUnlock()
	wanted = make(wants, len(l.stances))
	concerns, some := make([]bool, len(l.byVoice)), false
	for i, v := range l.byVoice {
		concerns[i] = r.Concerns(v)
		some = some || concerns[i]
	}
	if !some {
		return wanted, nil
	}
	live := make([]bool, len(l.stances))
	for _, line := range s.blocks {
		for _, b := range line {
			if b != nil {
				for _, stance := range b.stances {
					live[stance] = true
				}
			}
		}
	}
	for i := range l.stances {
		switch {
		case !slices.ContainsFunc(l.stances[i].voices, func(v int32) bool { return concerns[v] }):
		case !live[i]:
			gone = append(gone, int32(i))
		default:
			for e, was := range before.verdicts {
				if i < len(was) && was[i] >= 0 {
					wanted[i] = append(wanted[i], int32(e))
				}
			}
		}
	}
	return wanted, gone
}

// holdsAny reports whether some stance of the block is among some.
func (b *block) holdsAny(stances []bool) bool {
	return slices.ContainsFunc(b.stances, func(i int32) bool { return int(i) < len(stances) && stances[i] })
}
