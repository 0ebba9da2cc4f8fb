package survey

import "bivium/core/lists"

// mostRecounted is the share of the classes of a domain, one in so many, up to which
// it pays to take away what has gone and add what has come.
const mostRecounted = 4

// precision is how small a part of what was there may be left before rounding tells
// on it.
const precision = 1e-6

// recounted returns what there is of each combination between two segments after an
// edit, from what there was: without the flows of the classes that have changed, and
// with those that they have now. It is false where that is not known well enough,
// or not worth while. What is known exactly stays so; what is about stays about.
func (b *rebuilder) recounted(from, to int) ([]weighed, bool) {
	was, is := b.before.blocks.at(from, to), b.next.blocks.at(from, to)
	before := b.before.overview.found().sums.at(from, to)
	if !b.akin(from, to) || to == len(b.inside) || before.cut {
		return nil, false
	}
	old, now := b.portions(b.before, was), b.portions(b.next, is)
	if old.tooMany || now.tooMany {
		return nil, false
	}
	gone, come := newPairCounter(b.before), newPairCounter(b.next)
	defer gone.free()
	defer come.free()
	old.count(gone, was)
	now.count(come, is)
	less, more := gone.takeAll(), come.takeAll() // both, or a pair counter would be given back that is not empty
	left := map[combination]weighed{}
	for _, w := range before.amounts {
		left[w.combination] = w
	}
	for _, w := range less {
		x := left[w.combination]
		if x.pairs -= w.pairs; x.pairs > 0 && x.flows-w.flows < precision*x.flows {
			return nil, false
		}
		x.combination, x.flows = w.combination, x.flows-w.flows
		left[w.combination] = x
	}
	for _, w := range more {
		x := left[w.combination]
		x.combination, x.pairs, x.flows = w.combination, x.pairs+w.pairs, x.flows+w.flows
		left[w.combination] = x
	}
	out := make([]weighed, 0, len(left))
	for _, x := range left {
		if x.pairs > 0 {
			out = append(out, x)
		}
	}
	return out, true
}

// akin reports whether flows from one segment to another depend on what they did before
// the edit, but for those of classes that have changed or have other ways.
func (b *rebuilder) akin(from, to int) bool {
	was, is := b.before.blocks.at(from, to), b.next.blocks.at(from, to)
	return was != nil && is != nil && from < len(b.inside) && was.threads == is.threads && !b.revision.Ways && b.partition.id != b.before.id
}

// portions are the ends of a block, those of classes that have changed and the others.
type portions struct {
	changed, kept [2][]lot
	near          [2][]resident // of networks that have some that changed; within a segment
	selves        []*Class      // of those, that are one address
	tooMany       bool
}

// portions parts the ends of a block of one of the two surveys.
func (b *rebuilder) portions(s *Survey, x *block) portions {
	var out portions
	moved := b.moved[lists.OneIf(s == b.next)]
	for k, domain := range [2]int{x.from, x.to} {
		axis := &x.src
		if k == 1 {
			axis = &x.dst
		}
		roll := s.roll(domain)
		changed := make([]bulk, len(axis.kinds))
		for _, at := range moved[domain] {
			if s.classes[s.of(domain)[at]].seen[x.from] == seesIt {
				changed[axis.kind(&roll.tickets[at])].add(roll.members[at])
			}
		}
		out.tooMany = out.tooMany || len(moved[domain])*mostRecounted > len(roll.tickets)
		for i, kind := range axis.kinds {
			if changed[i].members > 0 {
				out.changed[k] = append(out.changed[k], lot{kind: kind, bulk: changed[i]})
			}
			if rest := axis.bulks[i].members - changed[i].members; rest > 0 {
				out.kept[k] = append(out.kept[k], lot{kind: kind, bulk: bulk{rest, axis.bulks[i].weight - changed[i].weight}})
			}
		}
	}
	if x.from != x.to || out.tooMany {
		return out
	}
	networks := make([]bool, len(s.net.Networks))
	for _, at := range moved[x.from] {
		networks[s.roll(x.from).tickets[at].network] = true
	}
	var some []int32
	set := make(Set, len(s.inside[x.from]))
	for at, n := range s.inside[x.from] {
		set[at].Class = n
		if c := s.classes[n]; networks[c.network] {
			some = append(some, int32(at))
			if c.size.one() {
				out.selves = append(out.selves, c)
			}
		}
	}
	out.near = [2][]resident{s.residents(&x.src, set, some), s.residents(&x.dst, set, some)}
	return out
}

// count adds up the flows that have an end among what changed.
func (p *portions) count(c *pairCounter, b *block) {
	all := append(append([]lot(nil), p.changed[1]...), p.kept[1]...)
	c.addRows(b, rowsOf(p.changed[0]), placesOf(all))
	c.addRows(b, rowsOf(p.kept[0]), placesOf(p.changed[1]))
	if b.from == b.to {
		c.addNear(b, p.near[0], p.near[1])
		for _, x := range p.selves {
			c.takeSelf(b, x)
		}
	}
}
