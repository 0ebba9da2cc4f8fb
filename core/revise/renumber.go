package revise

import (
	"encoding/binary"
	"maps"
	"slices"
	"strings"
	"sync"

	"bivium/core/classes"
	"bivium/core/lists"
	"bivium/core/matrix"
	"bivium/core/membership"
	"bivium/core/paths"
	"bivium/core/recompile"
	"bivium/core/verdict"
)

// renumbered returns the matrix under the numbers of another judge of the family,
// whose estate has the same, and besides that other things in which nothing is or goes,
// or lacks some of those (see verdict.Bridge). What the matrices have in common they share.
// Cost: copying the classes and the blocks, without going through what is in them.
func renumbered(s *matrix.Matrix, j *verdict.Judge) *matrix.Matrix {
	n := &renumberer{Renumbering: recompile.NewRenumbering(s.Judge, j), Matrix: s, to: j}
	next := *s
	next.Judge, next.PairCounters = j, &sync.Pool{}
	next.Partition = n.partition()
	next.Interner = n.interner()
	next.Blocks, next.Inbounds = n.blocks(), n.gates()
	if !lists.Same(s.Judge.Settings(), j.Settings()) {
		next.RuleIndex = j.NewRuleIndex(s.Atoms)
	}
	next.Totals = &matrix.LazyTotals{Find: func() *matrix.Totals { return n.matrix(next.Partition) }}
	return &next
}

// renumberer puts a matrix under other numbers.
type renumberer struct {
	*recompile.Renumbering
	*matrix.Matrix
	to *verdict.Judge
}

// partition returns the partition: a new one, of classes with the same numbers.
func (n *renumberer) partition() *classes.Partition {
	old := n.Matrix.Partition
	p := *old
	p.Net, p.Update = n.to.Net, nil
	p.Alike, p.Split = n.relike()
	if n.Segments.Same() && n.Networks.Same() {
		return &p
	}
	p.ID, p.Stores, p.Addresses, p.Numbers = classes.LastPartition.Add(1), &classes.ColumnStore{}, &classes.Directory{}, &classes.Numbers{}
	p.Numbering = p.ID
	p.Inside, p.Local, p.PathClassesIn = moved(&n.Segments, old.Inside), moved(&n.Segments, old.Local), movedDomains(&n.Segments, old.PathClassesIn)
	p.PathClasses = slices.Clone(old.PathClasses)
	for i := range p.PathClasses {
		x := &p.PathClasses[i]
		if x.Segment = n.Segments.Of(x.Segment); x.Segment == paths.None && x.Likeness != paths.None {
			x.Segment = gone
		}
		n.end(&x.One)
		n.end(&x.Other)
	}
	n.reclass(&p)
	return &p
}

// gone is the segment of path classes that nobody is at any more.
const gone = paths.None - 1

// reclass gives the classes of a partition the numbers that things have now.
func (n *renumberer) reclass(p *classes.Partition) {
	old := n.Matrix.Partition
	all := make([]classes.Class, len(old.Classes))
	p.Classes = make([]*classes.Class, len(old.Classes))
	sights := map[visibilityKey][]classes.Visibility{}
	domains := len(old.Inside)
	for i, was := range old.Classes {
		c := &all[i]
		p.Classes[i] = c
		if len(was.Ranges) == 0 {
			continue // nobody is in it, wherever it was
		}
		*c = *was
		n.end(&c.End)
		if c.Network = int32(n.Networks.Of(int(was.Network))); int(was.Domain) == domains {
			c.Domain = int32(len(p.Inside))
		} else {
			c.Domain = int32(n.Segments.Of(int(was.Domain)))
		}
		if n.Segments.Same() {
			continue
		}
		unlike := classes.SeesOther
		switch {
		case !c.Internal():
			unlike = classes.SeesIt
		case paths.Private(c.Ranges[0].From):
			unlike = classes.SeesNothing
		}
		c.Seen = n.visibility(sights, was.Seen, unlike)
	}
}

// visibilityKey is a list of what segments see, and what those that come see.
type visibilityKey struct {
	first *classes.Visibility
	fresh classes.Visibility
}

// visibility returns what the segments see that there are now. Classes share the lists.
func (n *renumberer) visibility(known map[visibilityKey][]classes.Visibility, was []classes.Visibility, fresh classes.Visibility) []classes.Visibility {
	key := visibilityKey{fresh: fresh}
	if len(was) > 0 {
		key.first = &was[0]
	}
	seen, ok := known[key]
	if !ok {
		seen = slices.Repeat([]classes.Visibility{fresh}, n.Segments.Count)
		for i, what := range was {
			if to := n.Segments.Of(i); to != paths.None {
				seen[to] = what
			}
		}
		known[key] = seen
	}
	return seen
}

// end gives an endpoint, if it is one, the numbers that things have now.
func (n *renumberer) end(e *membership.Endpoint) {
	if !e.Addr.IsValid() {
		return
	}
	e.Exit = n.Exits.Of(e.Exit)
	if e.Internal() {
		e.Segment, e.Home.Network = n.Segments.Of(e.Segment), n.Networks.Of(e.Home.Network)
	}
}

// relike returns the numbers of what makes paths alike, and the networks that are told
// apart now though they share a number. What is gone leaves its number unused.
func (n *renumberer) relike() (out map[string]int, split []int) {
	out, used, split := classes.Rematch(n.Net, n.to.Net, n.Networks.Of, n.Alike)
	for key, number := range n.Alike {
		if used[number] {
			continue
		}
		if marks, ok := strings.CutPrefix(key, "seen "); !ok {
			key = classes.GoneKey(number)
		} else if marks, ok = n.marks(marks); ok {
			key = "seen " + marks
		} else {
			key = classes.GoneKey(number)
		}
		out[key] = number
	}
	return out, split
}

// marks returns the key of a mark that tells what other segments see (builder.mark) with
// the numbers that they have now; false if one of them is gone.
func (n *renumberer) marks(key string) (string, bool) {
	var numbers []int
	for rest := []byte(key); len(rest) > 0; {
		x, length := binary.Uvarint(rest)
		rest = rest[length:]
		if len(numbers)%2 == 1 {
			to := n.Segments.Of(int(x) - 1)
			if to == paths.None {
				return "", false
			}
			x = uint64(to + 1)
		}
		numbers = append(numbers, int(x))
	}
	return lists.Key(numbers), true
}

// interner returns the interner under the numbers of now: rule sets and effects keep theirs,
// and mean the same.
func (n *renumberer) interner() *matrix.Interner {
	was := n.Matrix.Interner
	if n.SameEffects() && n.SameTerms() {
		return was
	}
	was.Mu.RLock()
	defer was.Mu.RUnlock()
	l := &matrix.Interner{
		Terms: make(map[verdict.Term]int32, len(was.Terms)), ByTerm: make([]verdict.Term, len(was.ByTerm)),
		RuleSets: slices.Clip(was.RuleSets), RuleSetOf: maps.Clone(was.RuleSetOf),
		Effects: make([]verdict.Effect, len(was.Effects)), EffectOf: make(map[verdict.Effect]int32, len(was.Effects)),
	}
	for i, v := range was.ByTerm {
		is, ok := n.Term(v)
		if l.ByTerm[i] = is; ok {
			l.Terms[is] = int32(i)
		}
	}
	for i, e := range was.Effects {
		is, ok := n.Effect(e)
		if l.Effects[i] = is; ok {
			l.EffectOf[is] = int32(i)
		}
	}
	return l
}

// blocks returns the blocks. What is in them goes by the numbers of rule sets, effects
// and classes, but for terms of rulebooks and the exits by which the far end is reached.
func (n *renumberer) blocks() classes.Table[*matrix.Block] {
	if n.Segments.Same() && n.Networks.Same() && n.Exits.Same() && n.SameTerms() {
		return n.Matrix.Blocks
	}
	out := slices.Clone(movedTable(&n.Segments, n.Matrix.Blocks))
	for from := range out {
		out[from].Is = slices.Clone(out[from].Is)
		for i, was := range out[from].Is {
			out[from].Is[i] = n.block(was, classes.Pair{From: from, To: int(out[from].With[i])}, len(out)-1)
		}
	}
	return out
}

// block returns a block, of two domains as they are numbered now.
func (n *renumberer) block(was *matrix.Block, p classes.Pair, outside int) *matrix.Block {
	b := *was
	b.From, b.To = p.From, p.To
	if p.From == outside {
		b.Src.Lines = n.byExit(was.Src.Lines)
	}
	if p.To == outside {
		b.Dst.Lines = n.byExit(was.Dst.Lines)
	}
	if !n.SameTerms() {
		b.Terms = make([]verdict.Term, len(was.Terms))
		for i, v := range was.Terms {
			b.Terms[i], _ = n.Term(v)
		}
	}
	return &b
}

// byExit returns the lines of classes outside, which each have one for each exit, after
// the one for none: an exit that comes brings nobody into any group.
func (n *renumberer) byExit(lines []int32) []int32 {
	if n.Exits.Same() {
		return lines
	}
	was, is := matrix.ExitsOf(n.Net), matrix.ExitsOf(n.to.Net)
	out := make([]int32, len(lines)/was*is)
	for i := range out {
		out[i] = lines[i/is*was]
	}
	for i, line := range lines {
		if exit := n.Exits.Of(i%was - 1); i%was > 0 && exit != paths.None {
			out[i/was*is+exit+1] = line
		}
	}
	return out
}

// inbound paths returns the inbound paths of each segment.
func (n *renumberer) gates() [][]matrix.Inbound {
	if n.Segments.Same() && n.Exits.Same() {
		return n.Matrix.Inbounds
	}
	out := slices.Clone(moved(&n.Segments, n.Matrix.Inbounds))
	for i := range out {
		out[i] = slices.Clone(out[i])
		for k := range out[i] {
			out[i][k].Exit = n.Exits.Of(out[i][k].Exit)
		}
	}
	return out
}

// matrix returns the matrix, of a partition.
func (n *renumberer) matrix(of *classes.Partition) *matrix.Totals {
	m := *n.Matrix.Totals.Found()
	m.Partition = of.ID
	if !n.Segments.Same() {
		m.Sums, m.Inbound, m.Counts = movedTable(&n.Segments, m.Sums), moved(&n.Segments, m.Inbound), matrix.CountAddresses(of, nil)
	}
	return &m
}

// moved returns a list by number under the numbers of now.
func moved[T any](n *recompile.Numbers, list []T) []T {
	if n.Same() {
		return list
	}
	out := make([]T, n.Count)
	for i, x := range list {
		if to := n.Of(i); to != paths.None {
			out[to] = x
		}
	}
	return out
}

// movedDomains returns a list by domain, of segments and the internet after them, under
// the numbers of now.
func movedDomains[T any](n *recompile.Numbers, list []T) []T {
	if n.Same() || len(list) == 0 {
		return slices.Clone(list)
	}
	return append(moved(n, list[:len(list)-1]), list[len(list)-1])
}

// movedTable returns a table under the numbers of now.
func movedTable[T any](n *recompile.Numbers, t classes.Table[T]) classes.Table[T] {
	if n.Same() {
		return t
	}
	domain := func(was int) int {
		if was == len(t)-1 {
			return n.Count
		}
		return n.Of(was)
	}
	var pairs []classes.Pair
	var is []T
	for p, x := range t.All() {
		if to := (classes.Pair{From: domain(p.From), To: domain(p.To)}); to.From != paths.None && to.To != paths.None {
			pairs, is = append(pairs, to), append(is, x)
		}
	}
	return classes.TableOf(n.Count+1, pairs, is)
}
