package survey

import (
	"slices"
	"strings"
	"sync"

	"bivium/core/paths"
	"bivium/core/verdict"
)

// relinked returns the survey of an estate in which hubs are linked otherwise, or
// nil if that tells networks apart whose ways were alike: endpoints and who has a
// say about them are as before, and the ways are found anew.
func (s *Survey) relinked(j *verdict.Judge, r *verdict.Revision) *Survey {
	alike, ok := relikened(s.partition, j.Net())
	if !ok {
		return nil
	}
	p := &partition{
		net: j.Net(), classes: s.classes, inside: s.inside, outside: s.outside, sets: s.sets, local: s.local, spots: s.spots,
		alike: alike, roads: s.roads, id: s.id, graft: s.partition.graft, rolls: s.rolls,
	}
	next := *s
	next.judge, next.partition, next.cellers = j, p, &sync.Pool{}
	v := &surveyor{partition: p, judge: j, ledger: s.ledger, spotIn: s.spotIn}
	next.gates = v.gates()
	rebuilt := next.reroute(s, v)
	next.resettle(s, r, rebuilt)
	next.lookAll(&s.overview, func(from, to int) bool { return rebuilt[[2]int{from, to}] }, func(int, int) bool { return false })
	return &next
}

// reroute finds the effects of all ways anew, and keeps the blocks in which they
// are the same. It returns those that are others, and those that gates lead into.
func (s *Survey) reroute(before *Survey, v *surveyor) map[[2]int]bool {
	rebuilt := map[[2]int]bool{}
	s.blocks = make([][]*block, len(before.blocks))
	var fresh []*block
	for from := range before.blocks {
		s.blocks[from] = slices.Clone(before.blocks[from])
		for to, b := range before.blocks[from] {
			switch {
			case b == nil:
			case from == len(s.inside):
				rebuilt[[2]int{from, to}] = true
			default:
				fresh = append(fresh, &block{
					from: from, to: to, context: b.context, voices: b.voices, units: b.units, rows: b.rows, stances: b.stances,
					src: axis{lines: b.src.lines}, dst: axis{lines: b.dst.lines},
				})
			}
		}
	}
	v.addEffects(fresh)
	for _, b := range fresh {
		if !b.sameWays(before.blocks[b.from][b.to]) {
			s.blocks[b.from][b.to] = b
			rebuilt[[2]int{b.from, b.to}] = true
		}
	}
	return rebuilt
}

// sameWays reports whether all ways have the same effects in two blocks of the same
// domains.
func (b *block) sameWays(o *block) bool {
	return b.near == o.near && slices.EqualFunc(b.effects, o.effects, slices.Equal) &&
		slices.Equal(b.src.bySpot, o.src.bySpot) && slices.Equal(b.src.byClass, o.src.byClass) &&
		slices.Equal(b.dst.bySpot, o.dst.bySpot) && slices.Equal(b.dst.byClass, o.dst.byClass)
}

// relikened returns the numbers of what makes ways alike in a net whose links are
// others: those of the partition, under the keys of the net. It is false if two
// networks that were alike are not any more.
func relikened(p *partition, net *paths.Net) (map[string]int, bool) {
	out := make(map[string]int, len(p.alike))
	is := map[string]string{}
	used := map[int]bool{}
	for n := range net.Networks {
		home := paths.Home{Network: n, Subnet: paths.None}
		was, now := p.net.Alike(home), net.Alike(home)
		if known, ok := is[was]; ok && known != now {
			return nil, false
		}
		is[was] = now
		number, ok := p.alike[was]
		if _, taken := out[now]; ok && !taken {
			out[now] = number
			used[number] = true
		}
	}
	for key, number := range p.alike {
		switch {
		case used[number]:
		case strings.HasPrefix(key, "i") || strings.HasPrefix(key, "a"): // of links as they were; no other gets its number
			out["was "+key] = number
		default:
			out[key] = number
		}
	}
	return out, true
}
