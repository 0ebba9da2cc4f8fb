package matrix

import (
	"cmp"
	"net/netip"
	"slices"

	"bivium/core/classes"
	"bivium/core/intervals"
	"bivium/core/paths"
)

// DomainMembers is the members of a set that are of one domain, by place in the set.
type DomainMembers struct {
	Domain  int
	Members []int32
}

// SidesOf returns the members of a set by domain.
func (s *Matrix) SidesOf(set Set) []DomainMembers {
	var out []DomainMembers
	at := map[int]int{}
	last := -1 // neighbours mostly are of one domain
	for i, m := range set {
		if d := s.DomainOf(s.Classes[m.Class]); last < 0 || out[last].Domain != d {
			known := false
			if last, known = at[d]; !known {
				last = len(out)
				at[d] = last
				out = append(out, DomainMembers{Domain: d})
			}
		}
		out[last].Members = append(out[last].Members, int32(i))
	}
	slices.SortFunc(out, func(a, b DomainMembers) int { return cmp.Compare(a.Domain, b.Domain) })
	return out
}

// Bucket is the members of a side that a block does not tell apart.
type Bucket struct {
	Kind
	classes.Amount
	Which       []int32 // the members, by place in their set
	SoleNetwork int     // the home network of all of them, or paths.None if they have several
}

// SourceBuckets puts members into buckets, as sources of a block.
func (s *Matrix) SourceBuckets(b *Block, set Set, members []int32) []Bucket {
	return s.bucketsOf(set, members, &b.Src, -1)
}

// TargetBuckets puts members into buckets, as destinations of a block; those that its
// sources do not see are left out.
func (s *Matrix) TargetBuckets(b *Block, set Set, members []int32) []Bucket {
	return s.bucketsOf(set, members, &b.Dst, b.From)
}

func (s *Matrix) bucketsOf(set Set, members []int32, x *Side, seenFrom int) []Bucket {
	at := make([]int32, len(x.Kinds))
	var out []Bucket
	for _, i := range members {
		c := s.Classes[set[i].Class]
		if seenFrom >= 0 && c.Seen[seenFrom] != classes.SeesIt {
			continue
		}
		n := x.Kind(&c.Header)
		if at[n] == 0 {
			out = append(out, Bucket{Kind: x.Kinds[n], SoleNetwork: c.End.Home.Network})
			at[n] = int32(len(out))
		}
		l := &out[at[n]-1]
		l.Which = append(l.Which, i)
		l.Add(classes.Amount{Members: 1, Weight: s.weight(set[i])})
		if l.SoleNetwork != c.End.Home.Network {
			l.SoleNetwork = paths.None
		}
	}
	return out
}

// allBuckets returns the buckets of all that a side has, without the members.
func (x *Side) allBuckets() []Bucket {
	out := make([]Bucket, 0, len(x.Kinds))
	for i, k := range x.Kinds {
		if x.Amounts[i].Members > 0 {
			out = append(out, Bucket{Kind: k, Amount: x.Amounts[i]})
		}
	}
	return out
}

// EachBatch calls f for the destinations of a bucket of sources, those of one
// combination at once. dsts are places in to.
func (s *Matrix) EachBatch(b *Block, src *Bucket, to []Bucket, buckets *Batches, f func(c Combination, dsts []int32)) {
	r := &b.Rows[src.Line]
	places := b.Dst.Places
	outside := b.To == len(s.Inside)
	if !outside {
		buckets.reset(len(r.Palette) * places)
	} else {
		buckets.reset(len(to))
	}
	for k := range to {
		dst := &to[k]
		effect := b.Effects[src.Place][dst.Place]
		if effect == NoEffect {
			continue
		}
		if outside { // few: each is a batch of its own
			col := b.Dst.LineAt(s.Net, int(dst.Line), s.Interner.EffectAt(effect).Exit)
			buckets.put(k, Combination{r.Palette[r.Cells[col]], effect}, int32(k))
			continue
		}
		cell := int(r.Cells[dst.Line])
		buckets.put(cell*places+int(dst.Place), Combination{r.Palette[cell], effect}, int32(k))
	}
	buckets.each(f)
}

// Batches gathers numbers by a small key.
type Batches struct {
	slot []int32 // by key: its bucket, from 1
	used []batch
	keys []int
}

type batch struct {
	combination Combination
	numbers     []int32
}

func (b *Batches) reset(keys int) {
	for _, k := range b.keys {
		b.slot[k] = 0
	}
	b.keys = b.keys[:0]
	if len(b.slot) < keys {
		b.slot = make([]int32, 2*keys)
	}
}

func (b *Batches) put(key int, c Combination, number int32) {
	at := b.slot[key]
	if at == 0 {
		b.keys = append(b.keys, key)
		at = int32(len(b.keys))
		b.slot[key] = at
		if len(b.used) < int(at) {
			b.used = append(b.used, batch{})
		}
		b.used[at-1].combination, b.used[at-1].numbers = c, b.used[at-1].numbers[:0]
	}
	b.used[at-1].numbers = append(b.used[at-1].numbers, number)
}

func (b *Batches) each(f func(Combination, []int32)) {
	for i := range b.keys {
		f(b.used[i].combination, b.used[i].numbers)
	}
}

// EachNear calls f for each pair of members of one network and segment: the paths
// between them are local, whatever the block says of others. It leaves out none,
// not even an address and itself.
func (s *Matrix) EachNear(from Set, src []int32, to Set, dst []int32, f func(a, b int32)) {
	byNetwork := map[int][]int32{}
	for _, k := range dst {
		n := s.Classes[to[k].Class].End.Home.Network
		byNetwork[n] = append(byNetwork[n], k)
	}
	for _, i := range src {
		x := s.Classes[from[i].Class]
		for _, k := range byNetwork[x.End.Home.Network] {
			if s.Classes[to[k].Class].Four == x.Four {
				f(i, k)
			}
		}
	}
}

// NearCombination returns the combination of local flows between two classes,
// and the one that the block gives for others of their kinds.
func (s *Matrix) NearCombination(b *Block, src, dst *classes.Class) (near, far Combination) {
	ruleSet := b.RuleSet(b.Src.Line(&src.Header), b.Dst.Line(&dst.Header))
	return Combination{ruleSet, b.Near[s.enforced(&src.Header, &dst.Header)]}, Combination{ruleSet, b.Effects[b.Src.Place(&src.Header)][b.Dst.Place(&dst.Header)]}
}

// Distinct reports whether there is a flow from some address of a member to
// another of the other.
func (s *Matrix) Distinct(a, b Member) bool {
	x, y := s.single(a), s.single(b)
	return !x.IsValid() || !y.IsValid() || x != y
}

// single returns the one address of a member that has one, else none.
func (s *Matrix) single(m Member) (a netip.Addr) {
	switch c := s.Classes[m.Class]; {
	case m.Only.IsValid():
		return m.Only
	case c.Amount.One():
		return c.End.Addr
	}
	return a
}

// Amount returns the number of addresses of a member.
func (s *Matrix) Amount(m Member) intervals.Size {
	if m.Only.IsValid() {
		return intervals.Size{Hi: 0, Lo: 1}
	}
	return s.Classes[m.Class].Amount
}
