package revise

import (
	"slices"

	"bivium/core/classes"
	"bivium/core/lists"
	"bivium/core/matrix"
	"bivium/core/parallel"
	"bivium/core/recompile"
	"bivium/core/verdict"
)

// rebuilder makes the blocks of a revised matrix, and shares with the one before
// what is the same.
type rebuilder struct {
	matrix.Builder
	before   *matrix.Matrix
	next     *matrix.Matrix
	revision *recompile.Revision
	rebuilt  map[classes.Pair]bool // pairs of domains whose block is another
	moved    [2][][]int32          // before and now, by domain: the places of the classes that are others, or have other paths
}

func newRebuilder(s *matrix.Matrix, next *matrix.Matrix, r *recompile.Revision) *rebuilder {
	b := &rebuilder{Builder: matrix.Builder{Partition: next.Partition, Judge: next.Judge, Interner: next.Interner}, before: s, next: next, revision: r, rebuilt: map[classes.Pair]bool{}}
	b.SideBefore = func(x *matrix.Block, side int) *matrix.Side {
		was, domain := s.Blocks.At(x.From, x.To), x.From
		if side == 1 {
			domain = x.To
		}
		if was == nil || b.touches(domain) || domain == len(b.Inside) {
			return nil
		}
		if side == 1 {
			return &was.Dst
		}
		return &was.Src
	}
	if next.ID == s.ID {
		return b
	}
	for k, of := range [2]*matrix.Matrix{s, next} {
		b.moved[k] = make([][]int32, len(b.Update.Domains))
		for domain, touched := range b.Update.Domains {
			if touched {
				b.moved[k][domain] = b.movedOf(of, domain)
			}
		}
	}
	b.PatchKinds = b.patchedKinds
	return b
}

// movedOf returns the places of the classes of a domain of one of the two matrices that
// are others than in the other, or whose paths may be.
func (b *rebuilder) movedOf(s *matrix.Matrix, domain int) []int32 {
	var out []int32
	headers := s.Columns(domain).Headers
	for at, n := range s.ClassesIn(domain) {
		if b.Update.Changes(n) || b.Update.Moves(headers[at].Network) {
			out = append(out, int32(at))
		}
	}
	return out
}

// touches reports whether endpoints of a domain, or places at which they are, may be
// others than before.
func (b *rebuilder) touches(domain int) bool {
	return b.Partition.ID != b.before.ID && b.Update.Domains[domain]
}

// blocks returns the blocks of all pairs of domains.
func (b *rebuilder) blocks() classes.Table[*matrix.Block] {
	pairs := b.candidates()
	out, anew := make([]*matrix.Block, len(pairs)), make([]bool, len(pairs))
	jobs := make([]func(), len(pairs))
	for i, p := range pairs {
		jobs[i] = func() { out[i], anew[i] = b.rebuild(p.From, p.To) }
	}
	parallel.Run(jobs)
	var fresh []*matrix.Block // whose paths are found anew
	for i, x := range out {
		if anew[i] {
			fresh = append(fresh, x)
		}
	}
	b.AddEffects(fresh)
	var there []classes.Pair
	var blocks []*matrix.Block
	for i, x := range out {
		if x == nil {
			continue
		}
		was := b.before.Blocks.At(x.From, x.To)
		if anew[i] {
			x = b.asBefore(was, x)
		}
		if x != was {
			b.rebuilt[pairs[i]] = true
		}
		there, blocks = append(there, pairs[i]), append(blocks, x)
	}
	return classes.TableOf(len(b.before.Blocks), there, blocks)
}

// candidates returns the pairs of domains that had flows before the edit, or may have some
// after it.
func (b *rebuilder) candidates() []classes.Pair {
	out := b.before.Blocks.Pairs()
	for _, p := range b.ReachedPairs() {
		if (b.touches(p.From) || b.touches(p.To)) && b.before.Blocks.At(p.From, p.To) == nil {
			out = append(out, p)
		}
	}
	return out
}

// asBefore returns a block whose paths were found anew, or what can be kept of the one
// before where they have the effects that they had.
func (b *rebuilder) asBefore(was, x *matrix.Block) *matrix.Block {
	if was == nil || !sameWays(x, was) {
		return x
	}
	switch {
	case !b.touches(x.From) && !b.touches(x.To):
		if b.revision.Ways && x.Layout == was.Layout {
			return was
		}
	case x.To < len(b.Inside) && slices.Equal(b.PathClassesIn[x.From], b.before.PathClassesIn[x.From]) && slices.Equal(b.PathClassesIn[x.To], b.before.PathClassesIn[x.To]):
		takeWays(x, was)
	}
	return x
}

// rebuild returns the block of two domains: the one before, if it is still right, or
// another, and whether its paths must be found yet.
func (b *rebuilder) rebuild(from, to int) (next *matrix.Block, anew bool) {
	was := b.before.Blocks.At(from, to)
	touched := b.touches(from) || b.touches(to)
	if touched && (len(b.ClassesIn(from)) == 0 || len(b.SeenBy(from, to)) == 0) {
		return nil, false
	}
	switch {
	case was == nil && !touched:
		return nil, false
	case was == nil || b.termsChanged(was):
		next = b.NewBlock(from, to)
	case touched:
		next = b.Reline(was, [2]bool{b.sameSets(from), b.sameSets(to)})
	default:
		next = b.Reline(was, [2]bool{true, true})
	}
	ways := b.revision.Ways && from < len(b.Inside)
	if was != nil && !touched && !ways && next.Layout == was.Layout {
		return was, false
	}
	if from == len(b.Inside) {
		return next, false // inbound paths lead in
	}
	if was == nil || ways || touched && !b.samePathClasses(from, to) {
		return next, true
	}
	takeWays(next, was)
	b.AddKinds(next)
	return next, false
}

// takeWays makes a block share the paths of another.
func takeWays(b *matrix.Block, o *matrix.Block) {
	b.Effects, b.Near = o.Effects, o.Near
	b.Src.ByPathClass, b.Src.ByClass = o.Src.ByPathClass, o.Src.ByClass
	b.Dst.ByPathClass, b.Dst.ByClass = o.Dst.ByPathClass, o.Dst.ByClass
}

// sameSets reports whether the endpoints of a domain have the sets of groups that
// they had before; sets that nobody has any more are kept.
func (b *rebuilder) sameSets(domain int) bool {
	return !b.touches(domain) || domain < len(b.Inside) && len(b.Local[domain].Sets) == len(b.before.Local[domain].Sets)
}

// samePathClasses reports whether the places of two domains are those of before, and
// the paths between them too.
func (b *rebuilder) samePathClasses(from, to int) bool {
	if len(b.revision.Networks) > 0 || to == len(b.Inside) {
		return false // by class, or with other paths
	}
	return slices.Equal(b.PathClassesIn[from], b.before.PathClassesIn[from]) && slices.Equal(b.PathClassesIn[to], b.before.PathClassesIn[to]) &&
		(from == to || slices.Equal(b.PathClassesSeen(from, to), (&matrix.Builder{Partition: b.before.Partition}).PathClassesSeen(from, to)))
}

// termsChanged reports whether a block has other terms than before, or a context.
func (b *rebuilder) termsChanged(was *matrix.Block) bool {
	r := b.revision
	return (r.TermsChanged || concerned(b.next, b.before, was, r)) && !sameTerms(b.next, b.before, was)
}

// sameAmounts reports whether there is as much of everything between two domains as
// before: of each line at each place, and, where paths may be local, of those in each
// network.
func (b *rebuilder) sameAmounts(from, to int) bool {
	was, is := b.before.Blocks.At(from, to), b.next.Blocks.At(from, to)
	if was == nil || is == nil || from == len(b.Inside) || to == len(b.Inside) || was.Layout != is.Layout || !lists.Same(was.Effects, is.Effects) {
		return false
	}
	if !sameBulks(&was.Src, &is.Src) || !sameBulks(&was.Dst, &is.Dst) {
		return false
	}
	if from != to || !b.Update.Altered[from] && !b.enforcementChanged(from) {
		return true
	}
	if len(b.revision.Networks) > 0 {
		return false
	}
	alike := func(was, is []matrix.NetworkBucket) bool {
		return slices.EqualFunc(was, is, func(x, y matrix.NetworkBucket) bool {
			x.Members = y.Members // of classes, which may be cut finer
			return x == y
		})
	}
	return alike(b.before.AllNetworkBuckets(&was.Src, from), b.next.AllNetworkBuckets(&is.Src, from)) && alike(b.before.AllNetworkBuckets(&was.Dst, from), b.next.AllNetworkBuckets(&is.Dst, from))
}

// enforcementChanged reports whether a network enforces verdicts otherwise than before that has
// endpoints in a domain.
func (b *rebuilder) enforcementChanged(domain int) bool {
	headers := b.Columns(domain).Headers
	return slices.ContainsFunc(b.moved[1][domain], func(at int32) bool { return b.Update.Turned[headers[at].Network] })
}

// sameBulks reports whether two sides with the same lines and places have as much of
// each kind.
func sameBulks(was, is *matrix.Side) bool {
	weight := func(x *matrix.Side, k matrix.Kind) float64 {
		if at := int(k.Line)*x.Places + int(k.Place); at < len(x.Grid) && x.Grid[at] >= 0 {
			return x.Amounts[x.Grid[at]].Weight
		}
		return 0
	}
	same := func(x, y *matrix.Side) bool {
		return !slices.ContainsFunc(x.Kinds, func(k matrix.Kind) bool { return weight(x, k) != weight(y, k) })
	}
	return same(was, is) && same(is, was)
}

// sameWays reports whether all paths have the same effects in two blocks of the same
// domains.
func sameWays(b *matrix.Block, o *matrix.Block) bool {
	return b.Near == o.Near && slices.EqualFunc(b.Effects, o.Effects, slices.Equal) &&
		slices.Equal(b.Src.ByPathClass, o.Src.ByPathClass) && slices.Equal(b.Src.ByClass, o.Src.ByClass) &&
		slices.Equal(b.Dst.ByPathClass, o.Dst.ByPathClass) && slices.Equal(b.Dst.ByClass, o.Dst.ByClass)
}

// concerned reports whether a block may have terms of what a revision lists.
func concerned(s *matrix.Matrix, before *matrix.Matrix, b *matrix.Block, r *recompile.Revision) bool {
	if len(r.Rails) > 0 {
		return true
	}
	segment := b.From
	switch {
	case b.From == len(s.Inside):
		segment = b.To
	case b.To != len(s.Inside) && b.From != b.To:
		return slices.ContainsFunc(r.Shares, func(x int) bool { return s.Judge.Joins(x, b.From, b.To) })
	}
	for _, p := range r.Policies {
		for _, j := range []*verdict.Judge{before.Judge, s.Judge} {
			if j.Serves(p, segment) {
				return true
			}
		}
	}
	return false
}

// sameTerms reports whether a block has the terms that its domains have now,
// with the same sides.
func sameTerms(s *matrix.Matrix, before *matrix.Matrix, b *matrix.Block) bool {
	from, to := outer(s, b.From), outer(s, b.To)
	terms := s.Judge.TermsBetween(from, to)
	if !slices.Equal(terms, b.Terms) || s.Judge.ContextOf(from, to) != b.Context {
		return false
	}
	for _, v := range terms {
		if v.Kind == verdict.PolicyTerm {
			continue // its sides are part of it
		}
		src, dst := s.Judge.SidesOf(v, from)
		wasSrc, wasDst := before.Judge.SidesOf(v, from)
		if !slices.Equal(src, wasSrc) || !slices.Equal(dst, wasDst) || (src == nil) != (wasSrc == nil) || (dst == nil) != (wasDst == nil) {
			return false
		}
	}
	return true
}

// outer returns a domain as package verdict knows it.
func outer(s *matrix.Matrix, domain int) int {
	if domain == len(s.Inside) {
		return verdict.Outside
	}
	return domain
}

// patchedKinds gives one side of a block the kinds that it had before an edit, without the
// classes that have changed and with those that there are now: if its lines are what they
// were, and its places too, under whatever numbers.
func (b *rebuilder) patchedKinds(x *matrix.Block, side, places int) bool {
	was, domain, is := b.before.Blocks.At(x.From, x.To), x.From, &x.Src
	if side == 1 {
		domain, is = x.To, &x.Dst
	}
	if was == nil || domain == len(b.Inside) || !b.touches(domain) || is.ByClass != nil {
		return false
	}
	old := &was.Src
	if side == 1 {
		old = &was.Dst
	}
	if old.ByClass != nil || len(old.Lines) > len(is.Lines) || !slices.Equal(old.Lines, is.Lines[:len(old.Lines)]) {
		return false
	}
	now, ok := b.placesNow(domain, old, is, places)
	if !ok {
		return false
	}
	left := slices.Clone(old.Amounts)
	b.eachMoved(b.before, 0, x.From, domain, func(t *classes.Header, m classes.Amount) {
		k := &left[old.Kind(t)]
		k.Members, k.Weight = k.Members-m.Members, k.Weight-m.Weight
	})
	is.Empty(places)
	for i, k := range old.Kinds {
		if left[i].Members > 0 {
			is.Put(matrix.Kind{Line: k.Line, Place: now[k.Place]}, left[i])
		}
	}
	b.eachMoved(b.next, 1, x.From, domain, func(t *classes.Header, m classes.Amount) {
		is.Put(matrix.Kind{Line: is.Line(t), Place: is.Place(t)}, m)
	})
	return true
}

// placesNow returns, by place of one side of a block before an edit, the number that it
// has now. It is false where one was parted, or several are one now.
func (b *rebuilder) placesNow(domain int, was, is *matrix.Side, places int) (now []int32, ok bool) {
	stays := make([]int32, len(b.PathClasses)) // by path class: its place now
	for i := range stays {
		stays[i] = matrix.Unseen
	}
	for i, s := range b.PathClassesIn[domain] {
		stays[s] = is.ByPathClass[i]
	}
	now, taken := make([]int32, was.Places), make([]bool, places)
	for i := range now {
		now[i] = matrix.Unseen
	}
	for i, s := range b.before.PathClassesIn[domain] {
		before, place := was.ByPathClass[i], stays[s]
		switch {
		case before == matrix.Unseen || place == matrix.Unseen || now[before] == place:
		case now[before] != matrix.Unseen || taken[place]:
			return nil, false
		default:
			now[before], taken[place] = place, true
		}
	}
	return now, true
}

// eachMoved calls f for the classes of a domain in one of two matrices that have changed
// and that another domain sees.
func (b *rebuilder) eachMoved(s *matrix.Matrix, which, from, domain int, f func(*classes.Header, classes.Amount)) {
	roll := s.Columns(domain)
	for _, at := range b.moved[which][domain] {
		if s.Classes[s.ClassesIn(domain)[at]].Seen[from] == classes.SeesIt {
			f(&roll.Headers[at], roll.Members[at])
		}
	}
}
