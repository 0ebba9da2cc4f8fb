package matrix

import (
	"slices"

	"bivium/core/limits"
	"bivium/core/lists"
	"bivium/core/parallel"
	"bivium/core/paths"
)

// drawLines finds the lines of one side.
func (f *ruleSetBuilder) drawLines(side int) {
	domain, x := f.Block.From, &f.Src
	if side == 1 {
		domain, x = f.Block.To, &f.Dst
	}
	lines := f.lines(domain, side)
	x.Lines, f.MatchSets[side] = lines.of, lines.units
}

// redrawLines finds the lines of one side, of which some sets of groups may have come: those
// that the block had are of the lines that they were of.
func (f *ruleSetBuilder) redrawLines(side int, was *Block) {
	domain, x, old := f.Block.From, &f.Src, &was.Src
	if side == 1 {
		domain, x, old = f.Block.To, &f.Dst, &was.Dst
	}
	list := &f.Local[domain]
	lines := lineSet{units: slices.Clip(was.MatchSets[side]), of: slices.Clip(old.Lines), before: was.found[side].of(was.MatchSets[side], f.always[side]), known: map[string]int32{}}
	unitsOf := map[int][]int32{} // by group
	for _, g := range f.inGroup[side] {
		unitsOf[g.group] = append(unitsOf[g.group], g.unit)
	}
	for _, set := range list.Sets[len(old.Lines):] {
		var named []int32
		for _, group := range f.Sets[set] {
			named = append(named, unitsOf[group]...)
		}
		lines.of = append(lines.of, lines.line(named, f.always[side]))
	}
	x.Lines, f.MatchSets[side] = lines.of, lines.units
}

// lineFinder finds the lines of one side of a block by the units that hold them. It is made
// when it is first asked.
type lineFinder struct {
	once  parallel.Once
	known map[string]int32
}

// of returns the lines by the units that hold them, but for those that hold everyone.
func (n *lineFinder) of(held [][]int32, always []int32) map[string]int32 {
	n.once.Do(func() {
		n.known = make(map[string]int32, len(held))
		for line, units := range held {
			some := slices.DeleteFunc(slices.Clone(units), func(u int32) bool { return slices.Contains(always, u) })
			n.known[lists.Key32(some)] = int32(line)
		}
	})
	return n.known
}

// ruleSetBuilder forms the rows of a block.
type ruleSetBuilder struct {
	*Builder
	*Block
	units   [2]int       // how many different sides the terms have, from and to
	unitOf  [2][]int32   // by term: its units
	inGroup [2][]inGroup // the units that name groups
	always  [2][]int32   // the units that hold everyone
	parts   [][]part     // by unit of sources: what it says to each unit of destinations
}

// inGroup says that a unit names a group.
type inGroup struct {
	group int
	unit  int32
}

// part is what one unit of sources has to say to one unit of destinations.
type part struct {
	to    int32
	terms []int32 // by place in the block, sorted
}

// collectTerms finds the units of the terms.
func (f *ruleSetBuilder) collectTerms(from int) {
	known := [2]map[unitKey]int32{{}, {}}
	for i, v := range f.Terms {
		src, dst := f.Judge.SidesOf(v, from)
		for side, list := range [2][]int{src, dst} {
			key := unitKey("any")
			if list != nil {
				key = unitKey("in" + lists.Key(list))
			}
			unit, ok := known[side][key]
			if !ok {
				unit = int32(f.units[side])
				known[side][key] = unit
				f.units[side]++
				for _, g := range list {
					f.inGroup[side] = append(f.inGroup[side], inGroup{g, unit})
				}
				if list == nil {
					f.always[side] = append(f.always[side], unit)
				}
			}
			f.unitOf[side] = append(f.unitOf[side], unit)
		}
		f.say(f.unitOf[0][i], f.unitOf[1][i], int32(i))
	}
}

// say notes that a term speaks between two units.
func (f *ruleSetBuilder) say(from, to, term int32) {
	for int(from) >= len(f.parts) {
		f.parts = append(f.parts, nil)
	}
	list := f.parts[from]
	if n := len(list); n > 0 && list[n-1].to == to {
		list[n-1].terms = append(list[n-1].terms, term)
		return
	}
	f.parts[from] = append(list, part{to, []int32{term}})
}

// lineSet is the rows or columns of a block: which units hold each of them, and
// which sets of groups, or classes outside, are in which.
type lineSet struct {
	units  [][]int32
	of     []int32
	before map[string]int32 // lines that were there already
	known  map[string]int32
	key    []byte
}

// lines puts the classes of a domain into lines by the units that hold them.
func (f *ruleSetBuilder) lines(domain, side int) lineSet {
	if domain == len(f.Inside) {
		return f.linesOutside(side)
	}
	list := &f.Local[domain]
	out := lineSet{of: make([]int32, len(list.Sets)), known: map[string]int32{}}
	ends := make([]int32, len(list.Sets)+1) // of the units of each set, in one list
	for _, x := range f.inGroup[side] {
		for _, set := range list.With(x.group) {
			ends[set+1]++
		}
	}
	for i := range out.of {
		ends[i+1] += ends[i]
	}
	at := slices.Clone(ends)
	units := make([]int32, ends[len(out.of)])
	for _, x := range f.inGroup[side] {
		for _, set := range list.With(x.group) {
			units[at[set]] = x.unit
			at[set]++
		}
	}
	nobody := int32(-1) // the line of those that no side names
	for i := range out.of {
		switch named := units[ends[i]:ends[i+1]]; {
		case len(named) > 0:
			out.of[i] = out.line(named, f.always[side])
		case nobody < 0:
			nobody = out.line(nil, f.always[side])
			fallthrough
		default:
			out.of[i] = nobody
		}
	}
	return out
}

// linesOutside is lines for external endpoints, whose groups depend on the exit.
func (f *ruleSetBuilder) linesOutside(side int) lineSet {
	out := lineSet{known: map[string]int32{}}
	for _, c := range f.Outside {
		for exit := paths.None; exit < len(f.Net.Exits); exit++ {
			end := f.Judge.External(f.Classes[c].End.Addr, exit)
			var named []int32
			for _, x := range f.inGroup[side] {
				if _, in := slices.BinarySearch(end.Groups, x.group); in {
					named = append(named, x.unit)
				}
			}
			out.of = append(out.of, out.line(named, f.always[side]))
		}
	}
	return out
}

// line returns the number of the line that some units hold, and those that hold
// everyone. It sorts the first.
func (l *lineSet) line(named, always []int32) int32 {
	slices.Sort(named)
	named = slices.Compact(named)
	l.key = appendUnits(l.key[:0], named)
	i, ok := l.before[string(l.key)]
	if !ok {
		i, ok = l.known[string(l.key)]
	}
	if !ok {
		i = int32(len(l.units))
		l.known[string(l.key)] = i
		units := slices.Concat(named, always)
		slices.Sort(units)
		l.units = append(l.units, units)
	}
	return i
}

func appendUnits(b []byte, units []int32) []byte {
	for _, u := range units {
		b = append(b, byte(u), byte(u>>8), byte(u>>16), byte(u>>24))
	}
	return b
}

// termsAtColumn is what a unit of sources says to one column.
type termsAtColumn struct {
	col  int32
	what int32 // number of a list of terms
}

// count counts pairs of lines, of all blocks together.
func (f *ruleSetBuilder) count(crossings int) {
	if f.crossings.Add(int64(crossings)) > limits.Crossings {
		panic(&limits.Exceeded{What: "pairs of source and destination classes", Most: limits.Crossings, Fix: "use fewer and larger groups in rules"})
	}
}

// fillRows forms the rows. Rows that share the units with the most to say share the
// work: the rows are taken in an order in which neighbours begin alike.
func (f *ruleSetBuilder) fillRows(rows, cols [][]int32) {
	f.count(len(rows) * len(cols))
	w := &columnWeaver{ruleSetBuilder: f, lists: [][]int32{nil}, known: map[string]int32{"": 0}, next: map[uint64]int32{}}
	sayings := f.sayings(cols, w)
	order := make([][]int32, len(rows))
	for r, units := range rows {
		for _, u := range units {
			if len(sayings[u]) > 0 {
				order[r] = append(order[r], u)
			}
		}
		slices.SortFunc(order[r], func(a, b int32) int {
			if d := len(sayings[b]) - len(sayings[a]); d != 0 {
				return d
			}
			return int(a - b)
		})
	}
	sequence := make([]int, len(rows))
	for r := range sequence {
		sequence[r] = r
	}
	slices.SortFunc(sequence, func(a, b int) int { return slices.Compare(order[a], order[b]) })
	f.Rows = make([]Row, len(rows))
	begun := [][]int32{make([]int32, len(cols))} // by how many units: the rule sets so far
	var before []int32
	for _, r := range sequence {
		same := 0
		for same < len(before) && same < len(order[r]) && before[same] == order[r][same] {
			same++
		}
		begun = begun[:same+1]
		for _, u := range order[r][same:] {
			if len(begun)*len(cols) > limits.Crossings {
				f.count(len(begun) * len(cols))
			}
			cells := append([]int32(nil), begun[len(begun)-1]...)
			w.weave(cells, sayings[u])
			begun = append(begun, cells)
		}
		before = order[r]
		f.Rows[r] = w.row(begun[len(begun)-1])
	}
	w.publish()
}

// sayings returns what each unit of sources says to each column.
func (f *ruleSetBuilder) sayings(cols [][]int32, w *columnWeaver) [][]termsAtColumn {
	holds := make([][]int32, f.units[1]) // by unit of destinations: its columns
	for c, units := range cols {
		for _, u := range units {
			holds[u] = append(holds[u], int32(c))
		}
	}
	out := make([][]termsAtColumn, f.units[0])
	what := make([]int32, len(cols))
	for u := range out {
		if u >= len(f.parts) {
			continue
		}
		var touched []int32
		for _, p := range f.parts[u] {
			list := w.list(p.terms)
			for _, c := range holds[p.to] {
				if what[c] == 0 {
					touched = append(touched, c)
				}
				what[c] = w.join(what[c], list)
			}
		}
		slices.Sort(touched)
		for _, c := range touched {
			out[u] = append(out[u], termsAtColumn{c, what[c]})
			what[c] = 0
		}
	}
	return out
}

// columnWeaver joins lists of terms. Lists are known by number, the empty one by 0.
type columnWeaver struct {
	*ruleSetBuilder
	lists [][]int32
	known map[string]int32
	next  map[uint64]int32 // two lists, to the one of both
	stamp []int32          // by list: its place in the palette at hand, from 1
}

// list returns the number of a sorted list of terms.
func (w *columnWeaver) list(terms []int32) int32 {
	key := lists.Key32(terms)
	i, ok := w.known[key]
	if !ok {
		i = int32(len(w.lists))
		w.known[key] = i
		w.lists = append(w.lists, terms)
	}
	return i
}

// join returns the number of the list of two.
func (w *columnWeaver) join(a, b int32) int32 {
	if a == 0 || a == b {
		return b
	}
	key := uint64(a)<<32 | uint64(b)
	i, ok := w.next[key]
	if !ok {
		merged := append(append(make([]int32, 0, len(w.lists[a])+len(w.lists[b])), w.lists[a]...), w.lists[b]...)
		slices.Sort(merged)
		i = w.list(slices.Compact(merged))
		w.next[key] = i
	}
	return i
}

// weave adds what a unit says to a row.
func (w *columnWeaver) weave(cells []int32, sayings []termsAtColumn) {
	lastOld, lastWhat, last := int32(-1), int32(-1), int32(0)
	for _, s := range sayings {
		old := cells[s.col]
		if old != lastOld || s.what != lastWhat {
			lastOld, lastWhat, last = old, s.what, w.join(old, s.what)
		}
		cells[s.col] = last
	}
}

// row returns a row with a palette of its own, of lists for now.
func (w *columnWeaver) row(lists []int32) Row {
	if len(w.stamp) < len(w.lists) {
		w.stamp = append(w.stamp, make([]int32, 2*len(w.lists)-len(w.stamp))...)
	}
	r := Row{Cells: make([]uint32, len(lists))}
	for c, list := range lists {
		at := w.stamp[list]
		if at == 0 {
			r.Palette = append(r.Palette, list)
			at = int32(len(r.Palette))
			w.stamp[list] = at
		}
		r.Cells[c] = uint32(at - 1)
	}
	for _, list := range r.Palette {
		w.stamp[list] = 0
	}
	return r
}

// publish puts the numbers of the interner in place of those of lists.
func (w *columnWeaver) publish() {
	l := w.Interner
	l.Mu.Lock()
	defer l.Mu.Unlock()
	term := make([]int32, len(w.Terms))
	for i, v := range w.Terms {
		term[i] = l.term(v)
	}
	numberOf := make([]int32, len(w.lists))
	for i := range numberOf {
		numberOf[i] = -1
	}
	for r := range w.Rows {
		for i, list := range w.Rows[r].Palette {
			if numberOf[list] < 0 {
				terms := make([]int32, len(w.lists[list]))
				for k, v := range w.lists[list] {
					terms[k] = term[v]
				}
				numberOf[list] = l.ruleSet(w.Context, terms)
				w.RuleSets = append(w.RuleSets, numberOf[list])
			}
			w.Rows[r].Palette[i] = numberOf[list]
		}
	}
}
