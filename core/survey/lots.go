package survey

import (
	"cmp"
	"net/netip"
	"slices"

	"bivium/core/paths"
)

// side is the members of a set that are of one domain, by place in the set.
type side struct {
	domain  int
	members []int32
}

// sidesOf returns the members of a set by domain.
func (s *Survey) sidesOf(set Set) []side {
	var out []side
	at := map[int]int{}
	last := -1 // neighbours mostly are of one domain
	for i, m := range set {
		if d := s.domain(s.classes[m.Class]); last < 0 || out[last].domain != d {
			known := false
			if last, known = at[d]; !known {
				last = len(out)
				at[d] = last
				out = append(out, side{domain: d})
			}
		}
		out[last].members = append(out[last].members, int32(i))
	}
	slices.SortFunc(out, func(a, b side) int { return cmp.Compare(a.domain, b.domain) })
	return out
}

// lot is the members of a side that a block does not tell apart.
type lot struct {
	kind
	bulk
	which []int32 // the members, by place in their set
	sole  int     // the home network of all of them, or paths.None if they have several
}

// sources puts members into lots, as sources of a block.
func (s *Survey) sources(b *block, set Set, members []int32) []lot {
	return s.lots(set, members, &b.src, -1)
}

// targets puts members into lots, as destinations of a block; those that its
// sources do not see are left out.
func (s *Survey) targets(b *block, set Set, members []int32) []lot {
	return s.lots(set, members, &b.dst, b.from)
}

func (s *Survey) lots(set Set, members []int32, x *axis, seenFrom int) []lot {
	at := make([]int32, len(x.kinds))
	var out []lot
	for _, i := range members {
		c := s.classes[set[i].Class]
		if seenFrom >= 0 && c.seen[seenFrom] != seesIt {
			continue
		}
		n := x.kind(&c.ticket)
		if at[n] == 0 {
			out = append(out, lot{kind: x.kinds[n], sole: c.End.Home.Network})
			at[n] = int32(len(out))
		}
		l := &out[at[n]-1]
		l.which = append(l.which, i)
		l.add(bulk{1, s.weight(set[i])})
		if l.sole != c.End.Home.Network {
			l.sole = paths.None
		}
	}
	return out
}

// allLots returns the lots of all that an axis has, without the members.
func (x *axis) allLots() []lot {
	out := make([]lot, 0, len(x.kinds))
	for i, k := range x.kinds {
		if x.bulks[i].members > 0 {
			out = append(out, lot{kind: k, bulk: x.bulks[i]})
		}
	}
	return out
}

// eachBatch calls f for the destinations of a lot of sources, those of one
// combination at once. dsts are places in to.
func (s *Survey) eachBatch(b *block, src *lot, to []lot, buckets *buckets, f func(c combination, dsts []int32)) {
	r := &b.rows[src.line]
	places := b.dst.places
	outside := b.to == len(s.inside)
	if !outside {
		buckets.reset(len(r.palette) * places)
	} else {
		buckets.reset(len(to))
	}
	for k := range to {
		dst := &to[k]
		effect := b.effects[src.place][dst.place]
		if effect == noEffect {
			continue
		}
		if outside { // few: each is a batch of its own
			col := b.dst.lineAt(s.net, int(dst.line), s.ledger.effectAt(effect).Exit)
			buckets.put(k, combination{r.palette[r.cells[col]], effect}, int32(k))
			continue
		}
		cell := int(r.cells[dst.line])
		buckets.put(cell*places+int(dst.place), combination{r.palette[cell], effect}, int32(k))
	}
	buckets.each(f)
}

// buckets gathers numbers by a small key.
type buckets struct {
	slot []int32 // by key: its bucket, from 1
	used []bucket
	keys []int
}

type bucket struct {
	combination combination
	numbers     []int32
}

func (b *buckets) reset(keys int) {
	for _, k := range b.keys {
		b.slot[k] = 0
	}
	b.keys = b.keys[:0]
	if len(b.slot) < keys {
		b.slot = make([]int32, 2*keys)
	}
}

func (b *buckets) put(key int, c combination, number int32) {
	at := b.slot[key]
	if at == 0 {
		b.keys = append(b.keys, key)
		at = int32(len(b.keys))
		b.slot[key] = at
		if len(b.used) < int(at) {
			b.used = append(b.used, bucket{})
		}
		b.used[at-1].combination, b.used[at-1].numbers = c, b.used[at-1].numbers[:0]
	}
	b.used[at-1].numbers = append(b.used[at-1].numbers, number)
}

func (b *buckets) each(f func(combination, []int32)) {
	for i := range b.keys {
		f(b.used[i].combination, b.used[i].numbers)
	}
}

// eachNear calls f for each pair of members of one network and segment: the ways
// between them are local, whatever the block says of others. It leaves out none,
// not even an address and itself.
func (s *Survey) eachNear(from Set, src []int32, to Set, dst []int32, f func(a, b int32)) {
	byNetwork := map[int][]int32{}
	for _, k := range dst {
		n := s.classes[to[k].Class].End.Home.Network
		byNetwork[n] = append(byNetwork[n], k)
	}
	for _, i := range src {
		x := s.classes[from[i].Class]
		for _, k := range byNetwork[x.End.Home.Network] {
			if s.classes[to[k].Class].four == x.four {
				f(i, k)
			}
		}
	}
}

// nearCombination returns the combination of local flows between two classes,
// and the one that the block gives for others of their kinds.
func (s *Survey) nearCombination(b *block, src, dst *Class) (near, far combination) {
	stance := b.stance(b.src.line(&src.ticket), b.dst.line(&dst.ticket))
	return combination{stance, b.near[s.enforced(&src.ticket, &dst.ticket)]}, combination{stance, b.effects[b.src.place(&src.ticket)][b.dst.place(&dst.ticket)]}
}

// selfless reports whether there is a flow from some address of a member to
// another of the other.
func (s *Survey) selfless(a, b Member) bool {
	x, y := s.single(a), s.single(b)
	return !x.IsValid() || !y.IsValid() || x != y
}

// single returns the one address of a member that has one, else none.
func (s *Survey) single(m Member) (a netip.Addr) {
	switch c := s.classes[m.Class]; {
	case m.Only.IsValid():
		return m.Only
	case c.size.one():
		return c.End.Addr
	}
	return a
}

// amount returns the number of addresses of a member.
func (s *Survey) amount(m Member) size {
	if m.Only.IsValid() {
		return size{0, 1}
	}
	return s.classes[m.Class].size
}
