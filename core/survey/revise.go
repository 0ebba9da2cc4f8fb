package survey

import (
	"slices"

	"bivium/core/estate"
	"bivium/core/space"
	"bivium/core/verdict"
)

// Revise returns the survey of e, an edit of the estate of s, and what fares
// differently. It works out anew what the edit touches and shares the rest with
// s, which stays as it is: an edit of a policy's rules costs the stances that
// the policy has a say in; one of its sides, and one that comes or goes, the
// blocks of its segments; one of where networks are placed, the blocks of the
// segments that they are in; one of links, the ways. Any other edit is surveyed from
// the ground.
func (s *Survey) Revise(e *estate.Estate) (*Survey, Difference) {
	j, r := s.judge.Revise(e)
	before, next := s.revised(j, r)
	if next != nil {
		d := Compare(before, next)
		next.held = s.held.after(next, &d)
		return next, d
	}
	// Who is in a group may differ too: what is expected of its flows is another
	// question then, though none of them fares differently.
	next = New(j)
	return next, Compare(before, next)
}

// revised returns the survey of a revised judge, or nil if nothing can be shared,
// and s itself, with services cut as finely as the revised rules want it.
func (s *Survey) revised(j *verdict.Judge, r verdict.Revision) (before, after *Survey) {
	if r.Whole {
		return s, nil
	}
	if r.Links {
		return s, s.relinked(j, &r)
	}
	if len(r.Networks) > 0 {
		return s, s.placed(j, &r)
	}
	sieve, exact := s.sieve.Revise(j, r)
	if !exact {
		known := s.held
		s = s.recut(space.Cut(j.Settings()))
		s.held = known
		sieve, _ = s.sieve.Revise(j, r)
	}
	next := *s
	next.judge = j
	rebuilt := next.rebuild(s, &r)
	next.sieve = sieve
	wanted := next.resettle(s, &r, rebuilt)
	touched := make([]bool, len(wanted))
	for i := range wanted {
		touched[i] = len(wanted[i]) > 0
	}
	next.lookAll(&s.overview,
		func(from, to int) bool {
			b := next.blocks[from][to]
			return rebuilt[[2]int{from, to}] || from == len(s.inside) && b != nil && b.holdsAny(touched)
		},
		func(from, to int) bool { b := next.blocks[from][to]; return b != nil && b.holdsAny(touched) })
	return s, &next
}

// rebuild builds the blocks anew whose voices a revision changes.
func (s *Survey) rebuild(before *Survey, r *verdict.Revision) map[[2]int]bool {
	rebuilt := map[[2]int]bool{}
	v := &surveyor{partition: s.partition, judge: s.judge, ledger: s.ledger, spotIn: s.spotIn}
	s.blocks = make([][]*block, len(before.blocks))
	for from := range before.blocks {
		s.blocks[from] = slices.Clone(before.blocks[from])
		for to, b := range before.blocks[from] {
			if b == nil || !s.concerned(before, b, r) || s.sameVoices(before, b) {
				continue
			}
			next := v.newBlock(from, to)
			if from < len(s.inside) {
				next.effects, next.near = b.effects, b.near
				next.src.bySpot, next.src.byClass = b.src.bySpot, b.src.byClass
				next.dst.bySpot, next.dst.byClass = b.dst.bySpot, b.dst.byClass
				v.addKinds(next)
			}
			s.blocks[from][to] = next
			rebuilt[[2]int{from, to}] = true
		}
	}
	return rebuilt
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

// resettle settles what a revision makes of stances and of rebuilt blocks, in tables
// of its own where they differ, and returns, by stance, the effects.
func (s *Survey) resettle(before *Survey, r *verdict.Revision, rebuilt map[[2]int]bool) [][]int32 {
	wanted := s.stale(before, r, rebuilt)
	s.verdicts = slices.Clone(before.verdicts)
	for e := range s.verdicts {
		if slices.ContainsFunc(wanted, func(effects []int32) bool { return slices.Contains(effects, int32(e)) }) {
			s.verdicts[e] = slices.Clone(s.verdicts[e])
		}
	}
	s.settleAll(wanted)
	return wanted
}

// stale returns, by stance, the effects for which it must be settled anew.
func (s *Survey) stale(before *Survey, r *verdict.Revision, rebuilt map[[2]int]bool) [][]int32 {
	l := s.ledger
	l.mu.RLock()
	wanted := make([][]int32, len(l.stances))
	concerns := make([]bool, len(l.byVoice))
	for i, v := range l.byVoice {
		concerns[i] = r.Concerns(v)
	}
	for i := range l.stances {
		if !slices.ContainsFunc(l.stances[i].voices, func(v int32) bool { return concerns[v] }) {
			continue
		}
		for e, was := range before.verdicts {
			if i < len(was) && was[i] >= 0 {
				wanted[i] = append(wanted[i], int32(e))
			}
		}
	}
	l.mu.RUnlock()
	for pair := range rebuilt {
		b := s.blocks[pair[0]][pair[1]]
		effects := s.effectsIn(b, b.to)
		for _, stance := range b.stances {
			for _, e := range effects {
				known := int(e) < len(before.verdicts) && int(stance) < len(before.verdicts[e]) && before.verdicts[e][stance] >= 0
				if !known && !slices.Contains(wanted[stance], e) {
					wanted[stance] = append(wanted[stance], e)
				}
			}
		}
	}
	return wanted
}

// holdsAny reports whether some stance of the block is among some.
func (b *block) holdsAny(stances []bool) bool {
	return slices.ContainsFunc(b.stances, func(i int32) bool { return int(i) < len(stances) && stances[i] })
}
