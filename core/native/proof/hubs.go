package proof

import (
	"encoding/binary"
	"net/netip"
	"slices"
	"sync"

	"github.com/bits-and-blooms/bitset"

	"bivium/core/classes"
	"bivium/core/estate"
	"bivium/core/lists"
	"bivium/core/matrix"
	"bivium/core/native/config"
	"bivium/core/native/reader"
	"bivium/core/parallel"
)

// books is which rules of rulebooks hold endpoints, as numbers of different such lists.
type books struct {
	mu    sync.Mutex
	byKey map[string]int32
	rules [][]*bitset.BitSet // by number, by rulebook of the configuration: the rules
}

func (b *books) number(rules []*bitset.BitSet) int32 {
	key := ""
	for _, r := range rules {
		if r != nil {
			key += lists.BitsKey(r)
		}
		key += "|"
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	i, ok := b.byKey[key]
	if !ok {
		i = int32(len(b.rules))
		b.byKey[key] = i
		b.rules = append(b.rules, rules)
	}
	return i
}

// hubProof is what match lists are held to.
type hubProof struct {
	*prover
	books books
	marks [2][]once[[]int32] // by side, segment, and exit after those; by piece: the rules of rulebooks
}

// proveHubs holds the match list of each segment, and the rulebooks that it steers to, to what
// is intended.
func (p *prover) proveHubs() {
	h := &hubProof{prover: p, books: books{byKey: map[string]int32{}}}
	inside, exits := len(p.s.Inside), len(p.s.Net.Exits)
	h.marks = [2][]once[[]int32]{make([]once[[]int32], inside+exits), make([]once[[]int32], inside+exits)}
	jobs := make([]func(), inside)
	for s := range inside {
		jobs[s] = func() { h.prove(s) }
	}
	parallel.Run(jobs)
}

func (h *hubProof) src(domain int) []int32 {
	return h.marks[0][domain].get(func() []int32 { return h.booksOf(domain, 0) })
}

func (h *hubProof) dst(domain int) []int32 {
	return h.marks[1][domain].get(func() []int32 { return h.booksOf(domain, 1) })
}

// once is something that is worked out when it is asked for.
type once[T any] struct {
	do sync.Once
	is T
}

func (o *once[T]) get(find func() T) T {
	o.do.Do(func() { o.is = find() })
	return o.is
}

// booksOf returns, by piece of a segment or of the internet behind an exit, which rules of
// rulebooks hold it on one side.
func (h *hubProof) booksOf(domain, side int) []int32 {
	v, segment, exit := h.outside, "", ""
	if domain < len(h.s.Inside) {
		v, segment = h.own[domain], h.s.Net.Segments[domain]
	} else {
		exit = h.s.Net.Exits[domain-len(h.s.Inside)].Name
	}
	marks := make([][]*bitset.BitSet, len(v))
	for i := range marks {
		marks[i] = make([]*bitset.BitSet, len(h.r.Config.Pools))
	}
	for k, pool := range h.r.Config.Pools {
		for i := range marks {
			marks[i][k] = bitset.New(uint(len(pool.Rules)))
		}
		for n, rule := range pool.Rules {
			ends := [2][]config.End{rule.From, rule.To}[side]
			if rule.Any[side] {
				for i := range marks {
					marks[i][k].Set(uint(n))
				}
			}
			for _, e := range ends {
				if e.Segment != segment || e.Exit != exit {
					continue
				}
				for i := range v {
					if e.Set == nil || reader.InSet(e.Set, v[i].own.From) {
						marks[i][k].Set(uint(n))
					}
				}
			}
		}
	}
	out := make([]int32, len(v))
	for i := range marks {
		out[i] = h.books.number(marks[i])
	}
	return out
}

// marked returns, by piece of a view, the rules of a list that hold it on one side.
func marked(v view, rules []config.HubRule, exit string, side func(*config.HubRule) []config.End) []*bitset.BitSet {
	out := make([]*bitset.BitSet, len(v))
	for i := range out {
		out[i] = bitset.New(uint(len(rules)))
	}
	spans := map[*config.Set][]span{}
	for n := range rules {
		for _, e := range side(&rules[n]) {
			if e.Exit != exit {
				continue
			}
			if e.Set == nil {
				for i := range out {
					out[i].Set(uint(n))
				}
				continue
			}
			known, ok := spans[e.Set]
			if !ok {
				known = v.spans(e.Set.Prefixes)
				spans[e.Set] = known
			}
			for _, s := range known {
				for i := s.first; i < s.last; i++ {
					out[i].Set(uint(n))
				}
			}
		}
	}
	return out
}

func fromOf(r *config.HubRule) []config.End { return r.From }
func toOf(r *config.HubRule) []config.End   { return r.To }

// listProof is what the match list of one segment is held to.
type listProof struct {
	*hubProof
	segment int
	rules   []config.HubRule
	atoms   []*bitset.BitSet // by rule
	known   map[string]*bitset.BitSet
}

// group is pieces that are in one line of a block, and that no rule of a list or of a rulebook
// tells apart.
type group struct {
	line   int32
	rules  *bitset.BitSet
	book   int32
	pieces []int
}

func (h *hubProof) prove(s int) {
	if h.listStands(s) {
		return
	}
	l := &listProof{hubProof: h, segment: s, known: map[string]*bitset.BitSet{}}
	if list := h.r.List(s); list != nil {
		l.rules = list.Rules
	}
	for i := range l.rules {
		l.atoms = append(l.atoms, h.prover.atoms(l.rules[i].Services))
	}
	out := h.seenBy(s)
	from, to := marked(h.own[s], l.rules, "", fromOf), marked(out, l.rules, "", toOf)
	inside := len(h.s.Inside)
	toPieces := make([][]int, inside) // by segment
	for i := range out {
		d := out[i].class.End.Segment
		toPieces[d] = append(toPieces[d], i)
	}
	sources := lists.Below(len(h.own[s]))
	for t := range inside {
		b := h.s.Blocks.At(s, t)
		if b == nil {
			continue
		}
		l.block(b, h.own[s], out, l.grouped(sources, from, maskOf(toPieces[t], to, len(l.rules)), h.src(s), func(i int) int32 { return b.Src.Line(&h.own[s][i].class.Header) }),
			l.grouped(below(toPieces[t]), to, nil, h.bookAt(out, h.dst), func(i int) int32 { return b.Dst.Line(&out[i].class.Header) }))
	}
	for x := range h.s.Net.Exits {
		l.exit(x, from)
	}
}

func below(some []int) []int32 {
	out := make([]int32, len(some))
	for i, x := range some {
		out[i] = int32(x)
	}
	return out
}

// exit holds the list to what is intended of flows through one exit, either way.
func (l *listProof) exit(x int, from []*bitset.BitSet) {
	h, s, inside := l.hubProof, l.segment, len(l.s.Inside)
	name := h.s.Net.Exits[x].Name
	if b := h.s.Blocks.At(s, inside); b != nil && h.s.Net.Exits[x].Serves(s) {
		to := marked(h.outside, l.rules, name, toOf)
		var seen []int
		for i := range h.outside {
			if h.outside[i].class.Seen[s] == classes.SeesIt {
				seen = append(seen, i)
			}
		}
		l.block(b, h.own[s], h.outside, l.grouped(lists.Below(len(h.own[s])), from, maskOf(seen, to, len(l.rules)), h.src(s), func(i int) int32 { return b.Src.Line(&h.own[s][i].class.Header) }),
			l.grouped(below(seen), to, nil, h.dst(inside+x), func(i int) int32 { return b.Dst.LineAt(h.s.Net, int(h.outside[i].class.At), x) }))
	}
	b := h.s.Blocks.At(inside, s)
	if b == nil {
		return
	}
	var led []int
	for i := range h.own[s] {
		if h.published(x, s, &h.own[s][i]) {
			led = append(led, i)
		}
	}
	if len(led) > 0 {
		to := marked(h.own[s], l.rules, "", toOf)
		l.block(b, h.outside, h.own[s], l.grouped(lists.Below(len(h.outside)), marked(h.outside, l.rules, name, fromOf), maskOf(led, to, len(l.rules)), h.src(inside+x), func(i int) int32 { return b.Src.LineAt(h.s.Net, int(h.outside[i].class.At), x) }),
			l.grouped(below(led), to, nil, h.dst(s), func(i int) int32 { return b.Dst.Line(&h.own[s][i].class.Header) }))
	}
}

// published reports whether a publication at an exit leads to a piece, as meant or as found.
func (h *hubProof) published(exit, segment int, x *piece) bool {
	e := h.s.Judge.Estate
	for i := range e.Publications {
		p := &e.Publications[i]
		if p.Enabled && p.Exit == h.s.Net.Exits[exit].Name && p.To.Segment == h.s.Net.Segments[segment] && h.s.Judge.HoldsSide(p.To.Groups, &x.class.End) {
			return true
		}
	}
	return slices.ContainsFunc(h.r.Publications, func(p reader.Publication) bool {
		return p.By == exit && p.Of == segment && reader.InSet(&config.Set{Prefixes: p.To}, x.own.From)
	})
}

// bookAt returns the numbers of rulebook rules of the pieces of a view of several segments.
func (h *hubProof) bookAt(v view, of func(segment int) []int32) []int32 {
	out := make([]int32, len(v))
	for i := range v {
		s := v[i].class.End.Segment
		at, begins := slices.BinarySearchFunc(h.own[s], v[i].own.From, func(p piece, a netip.Addr) int { return p.own.From.Compare(a) })
		if !begins {
			at-- // where a segment sees other addresses, its view may be cut finer
		}
		out[i] = of(s)[at]
	}
	return out
}

// maskOf returns the rules that hold some pieces.
func maskOf(some []int, marks []*bitset.BitSet, rules int) *bitset.BitSet {
	out := bitset.New(uint(rules))
	for _, i := range some {
		out.InPlaceUnion(marks[i])
	}
	return out
}

// grouped groups pieces that have the same line, rules and rulebook rules, of the rules in a
// mask if that is not nil.
func (l *listProof) grouped(some []int32, marks []*bitset.BitSet, mask *bitset.BitSet, books []int32, line func(int) int32) []*group {
	at := map[string]*group{}
	var out []*group
	var key []byte
	for _, n := range some {
		i := int(n)
		rules := marks[i]
		if mask != nil {
			rules = rules.Intersection(mask)
		}
		g := group{line: line(i), rules: rules, book: books[i]}
		key = binary.LittleEndian.AppendUint32(binary.LittleEndian.AppendUint32(key[:0], uint32(g.line)), uint32(g.book))
		for _, w := range rules.Words() {
			key = binary.LittleEndian.AppendUint64(key, w)
		}
		known, ok := at[string(key)]
		if !ok {
			known = &g
			at[string(key)] = known
			out = append(out, known)
		}
		known.pieces = append(known.pieces, i)
	}
	return out
}

// block holds the list to what is intended between two sides of a block.
func (l *listProof) block(b *matrix.Block, src, dst view, rows, cols []*group) {
	var key []byte
	for _, row := range rows {
		for _, col := range cols {
			ruleSet := b.RuleSet(row.line, col.line)
			key = binary.LittleEndian.AppendUint32(key[:0], uint32(ruleSet))
			key = binary.LittleEndian.AppendUint32(binary.LittleEndian.AppendUint32(key, uint32(row.book)), uint32(col.book))
			key = appendCommon(key, row.rules, col.rules)
			wrong, known := l.known[string(key)]
			if !known {
				wrong = l.wrong(l.meaningOf(ruleSet), row, col)
				l.known[string(key)] = wrong
			}
			if wrong == nil {
				continue
			}
			for _, i := range row.pieces {
				for _, k := range col.pieces {
					l.look(&src[i], &dst[k], wrong)
				}
			}
		}
	}
}

// appendCommon appends the numbers of the rules that both sides are held by.
func appendCommon(key []byte, a, b *bitset.BitSet) []byte {
	x, y := a.Words(), b.Words()
	for i := range min(len(x), len(y)) {
		if w := x[i] & y[i]; w != 0 {
			key = binary.LittleEndian.AppendUint64(binary.LittleEndian.AppendUint32(key, uint32(i)), w)
		}
	}
	return key
}

// wrong returns the atoms for which the list does not do what is meant, nil for none.
func (l *listProof) wrong(m *meaning, row, col *group) *bitset.BitSet {
	var out *bitset.BitSet
	both := row.rules.Intersection(col.rules)
	for atom := range l.s.Atoms.Len() {
		if !l.right(m, atom, both, row.book, col.book) {
			if out == nil {
				out = bitset.New(uint(l.s.Atoms.Len()))
			}
			out.Set(uint(atom))
		}
	}
	return out
}

func (l *listProof) right(m *meaning, atom int, rules *bitset.BitSet, from, to int32) bool {
	var first *config.HubRule
	for n, ok := rules.NextSet(0); ok; n, ok = rules.NextSet(n + 1) {
		if l.atoms[n].Test(uint(atom)) {
			first = &l.rules[n]
			break
		}
	}
	switch {
	case first == nil || first.Verb == config.Deny:
		return m.action[atom] == estate.Deny
	case first.Verb == config.Permit:
		return m.action[atom] == estate.Allow
	case m.action[atom] != estate.Inspect || len(first.Through) != len(m.pools[atom]):
		return false
	}
	for i, step := range first.Through {
		pool := &l.s.Judge.Pools[m.pools[atom][i]]
		if step.Pool != pool.Name || (step.OnFailure == "open") != pool.Open || m.passes[atom][i] != l.bookRight(step.Pool, atom, from, to) {
			return false
		}
	}
	return true
}

// bookRight reports whether the rulebook of a pool passes an atom between endpoints that some
// of its rules hold.
func (l *listProof) bookRight(pool string, atom int, from, to int32) bool {
	k := slices.IndexFunc(l.r.Config.Pools, func(p config.Pool) bool { return p.Name == pool })
	if k < 0 || l.r.Config.Pools[k].Rulebook == "" {
		return true
	}
	both := l.books.rules[from][k].Intersection(l.books.rules[to][k])
	for n, ok := both.NextSet(0); ok; n, ok = both.NextSet(n + 1) {
		if r := &l.r.Config.Pools[k].Rules[n]; l.prover.atoms(r.Services).Test(uint(atom)) {
			return r.Verb == "pass"
		}
	}
	return false
}
