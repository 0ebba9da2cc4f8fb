package survey

import (
	"slices"

	"bivium/core/paths"
	"bivium/core/verdict"
)

// block is all flows from one domain to another, factored: who has a say
// depends on the row of the source and the column of the destination alone, and
// what the way does to it on their kinds of place. Rows and columns are far
// fewer than classes.
type block struct {
	from, to int // domains
	context  verdict.Context
	voices   []verdict.Voice
	threads  *threads

	held     [2][][]int32 // by row and by column: the units that hold it
	rows     []row
	stances  []int32   // that occur in the rows, by number in the ledger
	effects  [][]int32 // by places: the effect of the ways between them, or -1 for no flow
	near     [2]int32  // within a segment: the effect of local ways, not enforced and enforced
	src, dst axis
}

// axis is what a block tells of the classes of one of its domains: the line (a
// row or column), the kind of place, and the kind, which is both.
type axis struct {
	lines   []int32 // inside: by set of groups; outside: see lineAt
	bySpot  []int32 // the place of each spot of the domain; or else
	byClass []int32 // that of each class
	places  int
	grid    []int32 // the kind of each line and place; outside: of each class
	kinds   []kind
	bulks   []bulk // by kind: how much there is of it; as destinations, what the sources see
}

// line returns the row or column of a class inside.
func (x *axis) line(c *ticket) int32 { return x.lines[c.set] }

// place returns the kind of place of a class.
func (x *axis) place(c *ticket) int32 {
	if x.byClass != nil {
		return x.byClass[c.at]
	}
	return x.bySpot[c.spotAt]
}

// kind returns the kind of a class.
func (x *axis) kind(c *ticket) int32 {
	if c.network == paths.None {
		return x.grid[c.at]
	}
	return x.grid[int(x.line(c))*x.places+int(x.place(c))]
}

// threads say what the lines of a block are. Blocks that share them have the same
// lines under the same numbers, with the same stances where they cross; either may
// have more lines than the other.
type threads struct{ _ byte } // known by its address alone

// unitKey is a different side of some voices, in a form that can be compared.
type unitKey string

// row is the stances on flows from one row of sources.
type row struct {
	palette []int32  // the different stances, by number in the ledger
	cells   []uint32 // by column: a place in the palette
}

// kind is a row or column at a kind of place.
type kind struct {
	line, place int32 // row or column; for a destination outside, the position of its class instead
}

// exitsOf returns how many rows or columns each class outside has.
func exitsOf(net *paths.Net) int { return len(net.Exits) + 1 }

// lineAt returns the row or column of a class outside, by position, that is
// reached through an exit: groups depend on it.
func (x *axis) lineAt(net *paths.Net, at, exit int) int32 {
	return x.lines[at*exitsOf(net)+exit+1]
}

// stance returns the stance on flows from a row to a column.
func (b *block) stance(row, col int32) int32 {
	r := &b.rows[row]
	return r.palette[r.cells[col]]
}

// surveyor makes blocks.
type surveyor struct {
	*partition
	judge  *verdict.Judge
	ledger *ledger
	known  func(b *block, from, to int) (effect int32, ok bool) // the ways between two spots, where that is known already; or nil
}

// newBlock returns the block of flows from one domain to another, without its
// effects.
func (v *surveyor) newBlock(from, to int) *block {
	d := func(domain int) int {
		if domain == len(v.inside) {
			return verdict.Outside
		}
		return domain
	}
	b := &block{from: from, to: to, context: v.judge.ContextOf(d(from), d(to)), voices: v.judge.VoicesBetween(d(from), d(to)), threads: &threads{}}
	f := &former{surveyor: v, block: b}
	f.listen(d(from))
	f.draw(0)
	f.draw(1)
	f.fill(b.held[0], b.held[1])
	return b
}

// reline returns the block of two domains of which some endpoints may be others than
// those of a block, and all voices are the same, without its effects. kept says for
// which side there are the same sets of groups: it has the same lines then. Mostly the
// other has too; else the block is formed anew.
func (v *surveyor) reline(was *block, kept [2]bool) *block {
	b := &block{
		from: was.from, to: was.to, context: was.context, voices: was.voices, threads: was.threads, held: was.held, rows: was.rows, stances: was.stances,
		src: axis{lines: was.src.lines}, dst: axis{lines: was.dst.lines},
	}
	if kept[0] && kept[1] {
		return b
	}
	f := &former{surveyor: v, block: b}
	from := was.from
	if from == len(v.inside) {
		from = verdict.Outside
	}
	f.listen(from)
	for side := range kept {
		if !kept[side] {
			f.draw(side)
		}
	}
	begins := func(side int) bool {
		n := len(was.held[side])
		return len(b.held[side]) >= n && slices.EqualFunc(b.held[side][:n], was.held[side], slices.Equal)
	}
	same := begins(0) && begins(1)
	if !same {
		b.threads = &threads{}
	}
	if !same || len(b.held[0]) != len(was.held[0]) || len(b.held[1]) != len(was.held[1]) {
		f.fill(b.held[0], b.held[1])
	}
	return b
}

// draw finds the lines of one side.
func (f *former) draw(side int) {
	domain, x := f.block.from, &f.src
	if side == 1 {
		domain, x = f.block.to, &f.dst
	}
	lines := f.lines(domain, side)
	x.lines, f.held[side] = lines.of, lines.units
}

// former forms the rows of a block.
type former struct {
	*surveyor
	*block
	units   [2]int       // how many different sides the voices have, from and to
	unitOf  [2][]int32   // by voice: its units
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
	to     int32
	voices []int32 // by place in the block, sorted
}

// listen finds the units of the voices.
func (f *former) listen(from int) {
	known := [2]map[unitKey]int32{{}, {}}
	for i, v := range f.voices {
		src, dst := f.judge.SidesOf(v, from)
		for side, list := range [2][]int{src, dst} {
			key := unitKey("any")
			if list != nil {
				key = unitKey("in" + keyOf(list))
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

// say notes that a voice speaks between two units.
func (f *former) say(from, to, voice int32) {
	for int(from) >= len(f.parts) {
		f.parts = append(f.parts, nil)
	}
	list := f.parts[from]
	if n := len(list); n > 0 && list[n-1].to == to {
		list[n-1].voices = append(list[n-1].voices, voice)
		return
	}
	f.parts[from] = append(list, part{to, []int32{voice}})
}

// lineSet is the rows or columns of a block: which units hold each of them, and
// which sets of groups, or classes outside, are in which.
type lineSet struct {
	units [][]int32
	of    []int32
	known map[string]int32
	key   []byte
}

// lines puts the classes of a domain into lines by the units that hold them.
func (f *former) lines(domain, side int) lineSet {
	if domain == len(f.inside) {
		return f.linesOutside(side)
	}
	list := &f.local[domain]
	out := lineSet{of: make([]int32, len(list.sets)), known: map[string]int32{}}
	ends := make([]int32, len(list.sets)+1) // of the units of each set, in one list
	for _, x := range f.inGroup[side] {
		for _, set := range list.of(x.group) {
			ends[set+1]++
		}
	}
	for i := range out.of {
		ends[i+1] += ends[i]
	}
	at := slices.Clone(ends)
	units := make([]int32, ends[len(out.of)])
	for _, x := range f.inGroup[side] {
		for _, set := range list.of(x.group) {
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
func (f *former) linesOutside(side int) lineSet {
	out := lineSet{known: map[string]int32{}}
	for _, c := range f.outside {
		for exit := paths.None; exit < len(f.net.Exits); exit++ {
			end := f.judge.External(f.classes[c].End.Addr, exit)
			var named []int32
			for _, x := range f.inGroup[side] {
				if _, in := slices.BinarySearch(end.Groups(), x.group); in {
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
	i, ok := l.known[string(l.key)]
	if !ok {
		i = int32(len(l.units))
		l.known[string(l.key)] = i
		units := slices.Concat(named, always)
		slices.Sort(units)
		l.units = append(l.units, units)
	}
	return i
}

func unitsKey(units []int32) string {
	return string(appendUnits(make([]byte, 0, 4*len(units)), units))
}

func appendUnits(b []byte, units []int32) []byte {
	for _, u := range units {
		b = append(b, byte(u), byte(u>>8), byte(u>>16), byte(u>>24))
	}
	return b
}

// saying is what a unit of sources says to one column.
type saying struct {
	col  int32
	what int32 // number of a list of voices
}

// fill forms the rows. Rows that share the units with the most to say share the
// work: the rows are taken in an order in which neighbours begin alike.
func (f *former) fill(rows, cols [][]int32) {
	w := &weaver{former: f, lists: [][]int32{nil}, known: map[string]int32{"": 0}, next: map[uint64]int32{}}
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
	f.rows = make([]row, len(rows))
	begun := [][]int32{make([]int32, len(cols))} // by how many units: the stances so far
	var before []int32
	for _, r := range sequence {
		same := 0
		for same < len(before) && same < len(order[r]) && before[same] == order[r][same] {
			same++
		}
		begun = begun[:same+1]
		for _, u := range order[r][same:] {
			cells := append([]int32(nil), begun[len(begun)-1]...)
			w.weave(cells, sayings[u])
			begun = append(begun, cells)
		}
		before = order[r]
		f.rows[r] = w.row(begun[len(begun)-1])
	}
	w.publish()
}

// sayings returns what each unit of sources says to each column.
func (f *former) sayings(cols [][]int32, w *weaver) [][]saying {
	holds := make([][]int32, f.units[1]) // by unit of destinations: its columns
	for c, units := range cols {
		for _, u := range units {
			holds[u] = append(holds[u], int32(c))
		}
	}
	out := make([][]saying, f.units[0])
	what := make([]int32, len(cols))
	for u := range out {
		if u >= len(f.parts) {
			continue
		}
		var touched []int32
		for _, p := range f.parts[u] {
			list := w.list(p.voices)
			for _, c := range holds[p.to] {
				if what[c] == 0 {
					touched = append(touched, c)
				}
				what[c] = w.join(what[c], list)
			}
		}
		slices.Sort(touched)
		for _, c := range touched {
			out[u] = append(out[u], saying{c, what[c]})
			what[c] = 0
		}
	}
	return out
}

// weaver joins lists of voices. Lists are known by number, the empty one by 0.
type weaver struct {
	*former
	lists [][]int32
	known map[string]int32
	next  map[uint64]int32 // two lists, to the one of both
	stamp []int32          // by list: its place in the palette at hand, from 1
}

// list returns the number of a sorted list of voices.
func (w *weaver) list(voices []int32) int32 {
	key := unitsKey(voices)
	i, ok := w.known[key]
	if !ok {
		i = int32(len(w.lists))
		w.known[key] = i
		w.lists = append(w.lists, voices)
	}
	return i
}

// join returns the number of the list of two.
func (w *weaver) join(a, b int32) int32 {
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
func (w *weaver) weave(cells []int32, sayings []saying) {
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
func (w *weaver) row(lists []int32) row {
	if len(w.stamp) < len(w.lists) {
		w.stamp = append(w.stamp, make([]int32, 2*len(w.lists)-len(w.stamp))...)
	}
	r := row{cells: make([]uint32, len(lists))}
	for c, list := range lists {
		at := w.stamp[list]
		if at == 0 {
			r.palette = append(r.palette, list)
			at = int32(len(r.palette))
			w.stamp[list] = at
		}
		r.cells[c] = uint32(at - 1)
	}
	for _, list := range r.palette {
		w.stamp[list] = 0
	}
	return r
}

// publish puts the numbers of the ledger in place of those of lists.
func (w *weaver) publish() {
	l := w.ledger
	l.mu.Lock()
	defer l.mu.Unlock()
	voice := make([]int32, len(w.voices))
	for i, v := range w.voices {
		voice[i] = l.voice(v)
	}
	stanceOf := make([]int32, len(w.lists))
	for i := range stanceOf {
		stanceOf[i] = -1
	}
	for r := range w.rows {
		for i, list := range w.rows[r].palette {
			if stanceOf[list] < 0 {
				voices := make([]int32, len(w.lists[list]))
				for k, v := range w.lists[list] {
					voices[k] = voice[v]
				}
				stanceOf[list] = l.stance(w.context, voices)
				w.stances = append(w.stances, stanceOf[list])
			}
			w.rows[r].palette[i] = stanceOf[list]
		}
	}
}
