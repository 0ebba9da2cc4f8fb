package survey

import (
	"encoding/binary"
	"maps"
	"slices"
	"strings"
	"sync"

	"bivium/core/lists"
	"bivium/core/paths"
	"bivium/core/verdict"
)

// renumbered returns the survey under the numbers of another judge of the family,
// whose estate has the same, and besides that other things in which nothing is or goes,
// or lacks some of those (see verdict.Bridge). What the surveys have in common they share.
// Cost: copying the classes and the blocks, without going through what is in them.
func (s *Survey) renumbered(j *verdict.Judge) *Survey {
	n := &renumberer{Renumbering: s.judge.Renumbering(j), Survey: s, to: j}
	next := *s
	next.judge, next.pairCounters = j, &sync.Pool{}
	next.partition = n.partition()
	next.ledger = n.ledger()
	next.blocks, next.gates = n.blocks(), n.gates()
	if !lists.Same(s.judge.Settings(), j.Settings()) {
		next.ruleIndex = j.NewRuleIndex(s.atoms)
	}
	next.overview = &overview{find: func() *matrix { return n.matrix(next.partition) }}
	return &next
}

// renumberer puts a survey under other numbers.
type renumberer struct {
	*verdict.Renumbering
	*Survey
	to *verdict.Judge
}

// partition returns the partition: a new one, of classes with the same numbers.
func (n *renumberer) partition() *partition {
	old := n.Survey.partition
	p := *old
	p.net, p.graft = n.to.Net(), nil
	p.alike, p.split = n.relike()
	if n.Segments.Same() && n.Networks.Same() {
		return &p
	}
	p.id, p.rolls, p.addresses, p.numbers = partitions.Add(1), &rolls{}, &directory{}, &numbers{}
	p.numbering = p.id
	p.inside, p.local, p.spotIn = moved(&n.Segments, old.inside), moved(&n.Segments, old.local), movedDomains(&n.Segments, old.spotIn)
	p.spots = slices.Clone(old.spots)
	for i := range p.spots {
		x := &p.spots[i]
		if x.segment = n.Segments.Of(x.segment); x.segment == paths.None && x.likeness != paths.None {
			x.segment = gone
		}
		n.end(&x.one)
		n.end(&x.other)
	}
	n.reclass(&p)
	return &p
}

// gone is the segment of spots that nobody is at any more.
const gone = paths.None - 1

// reclass gives the classes of a partition the numbers that things have now.
func (n *renumberer) reclass(p *partition) {
	old := n.Survey.partition
	all := make([]Class, len(old.classes))
	p.classes = make([]*Class, len(old.classes))
	sights := map[sightKey][]see{}
	domains := len(old.inside)
	for i, was := range old.classes {
		c := &all[i]
		p.classes[i] = c
		if len(was.Ranges) == 0 {
			continue // nobody is in it, wherever it was
		}
		*c = *was
		n.end(&c.End)
		if c.network = int32(n.Networks.Of(int(was.network))); int(was.domain) == domains {
			c.domain = int32(len(p.inside))
		} else {
			c.domain = int32(n.Segments.Of(int(was.domain)))
		}
		if n.Segments.Same() {
			continue
		}
		unlike := seesOther
		switch {
		case !c.Internal():
			unlike = seesIt
		case paths.Private(c.Ranges[0].From):
			unlike = seesNothing
		}
		c.seen = n.sight(sights, was.seen, unlike)
	}
}

// sightKey is a list of what segments see, and what those that come see.
type sightKey struct {
	first *see
	fresh see
}

// sight returns what the segments see that there are now. Classes share the lists.
func (n *renumberer) sight(known map[sightKey][]see, was []see, fresh see) []see {
	key := sightKey{fresh: fresh}
	if len(was) > 0 {
		key.first = &was[0]
	}
	seen, ok := known[key]
	if !ok {
		seen = slices.Repeat([]see{fresh}, n.Segments.Count)
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
func (n *renumberer) end(e *verdict.Endpoint) {
	if !e.Addr.IsValid() {
		return
	}
	e.Exit = n.Exits.Of(e.Exit)
	if e.Internal() {
		e.Segment, e.Home.Network = n.Segments.Of(e.Segment), n.Networks.Of(e.Home.Network)
	}
}

// relike returns the numbers of what makes ways alike, and the networks that are told
// apart now though they share a number. What is gone leaves its number unused.
func (n *renumberer) relike() (out map[string]int, split []int) {
	out, used, split := relike(n.net, n.to.Net(), n.Networks.Of, n.alike)
	for key, number := range n.alike {
		if used[number] {
			continue
		}
		if marks, ok := strings.CutPrefix(key, "seen "); !ok {
			key = goneKey(number)
		} else if marks, ok = n.marks(marks); ok {
			key = "seen " + marks
		} else {
			key = goneKey(number)
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

// ledger returns the ledger under the numbers of now: stances and effects keep theirs,
// and mean the same.
func (n *renumberer) ledger() *ledger {
	was := n.Survey.ledger
	if n.SameEffects() && n.SameVoices() {
		return was
	}
	was.mu.RLock()
	defer was.mu.RUnlock()
	l := &ledger{
		voices: make(map[verdict.Voice]int32, len(was.voices)), byVoice: make([]verdict.Voice, len(was.byVoice)),
		stances: slices.Clip(was.stances), stanceOf: maps.Clone(was.stanceOf),
		effects: make([]verdict.Effect, len(was.effects)), effectOf: make(map[verdict.Effect]int32, len(was.effects)),
	}
	for i, v := range was.byVoice {
		is, ok := n.Voice(v)
		if l.byVoice[i] = is; ok {
			l.voices[is] = int32(i)
		}
	}
	for i, e := range was.effects {
		is, ok := n.Effect(e)
		if l.effects[i] = is; ok {
			l.effectOf[is] = int32(i)
		}
	}
	return l
}

// blocks returns the blocks. What is in them goes by the numbers of stances, effects
// and classes, but for voices of rulebooks and the exits by which the far end is reached.
func (n *renumberer) blocks() table[*block] {
	if n.Segments.Same() && n.Networks.Same() && n.Exits.Same() && n.SameVoices() {
		return n.Survey.blocks
	}
	out := slices.Clone(movedTable(&n.Segments, n.Survey.blocks))
	for from := range out {
		out[from].is = slices.Clone(out[from].is)
		for i, was := range out[from].is {
			out[from].is[i] = n.block(was, pair{from, int(out[from].with[i])}, len(out)-1)
		}
	}
	return out
}

// block returns a block, of two domains as they are numbered now.
func (n *renumberer) block(was *block, p pair, outside int) *block {
	b := *was
	b.from, b.to = p.from, p.to
	if p.from == outside {
		b.src.lines = n.byExit(was.src.lines)
	}
	if p.to == outside {
		b.dst.lines = n.byExit(was.dst.lines)
	}
	if !n.SameVoices() {
		b.voices = make([]verdict.Voice, len(was.voices))
		for i, v := range was.voices {
			b.voices[i], _ = n.Voice(v)
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
	was, is := exitsOf(n.net), exitsOf(n.to.Net())
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

// gates returns the gates of each segment.
func (n *renumberer) gates() [][]gate {
	if n.Segments.Same() && n.Exits.Same() {
		return n.Survey.gates
	}
	out := slices.Clone(moved(&n.Segments, n.Survey.gates))
	for i := range out {
		out[i] = slices.Clone(out[i])
		for k := range out[i] {
			out[i][k].exit = n.Exits.Of(out[i][k].exit)
		}
	}
	return out
}

// matrix returns the matrix, of a partition.
func (n *renumberer) matrix(of *partition) *matrix {
	m := *n.Survey.overview.found()
	m.of = of.id
	if !n.Segments.Same() {
		m.sums, m.inbound, m.crowds = movedTable(&n.Segments, m.sums), moved(&n.Segments, m.inbound), crowdsOf(of, nil)
	}
	return &m
}

// moved returns a list by number under the numbers of now.
func moved[T any](n *verdict.Numbers, list []T) []T {
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
func movedDomains[T any](n *verdict.Numbers, list []T) []T {
	if n.Same() || len(list) == 0 {
		return slices.Clone(list)
	}
	return append(moved(n, list[:len(list)-1]), list[len(list)-1])
}

// movedTable returns a table under the numbers of now.
func movedTable[T any](n *verdict.Numbers, t table[T]) table[T] {
	if n.Same() {
		return t
	}
	domain := func(was int) int {
		if was == len(t)-1 {
			return n.Count
		}
		return n.Of(was)
	}
	var pairs []pair
	var is []T
	for p, x := range t.all() {
		if to := (pair{domain(p.from), domain(p.to)}); to.from != paths.None && to.to != paths.None {
			pairs, is = append(pairs, to), append(is, x)
		}
	}
	return tableOf(n.Count+1, pairs, is)
}
