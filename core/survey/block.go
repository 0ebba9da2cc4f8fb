package survey

import (
	"slices"
	"sync/atomic"

	"bivium/core/lists"
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
	found    [2]*lineFinder // by side: how its lines are found
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
	// crossings is how many pairs of lines were looked at.
	crossings atomic.Int64
	// sideBefore tells of one side of a block what it was, where its endpoints are those
	// of before; or nil.
	sideBefore func(b *block, side int) *axis
	// mendKinds gives one side of a block, of so many places, its kinds, if they can be told
	// from those of before; or nil.
	mendKinds func(b *block, side, places int) bool
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
	b := &block{from: from, to: to, context: v.judge.ContextOf(d(from), d(to)), voices: v.judge.VoicesBetween(d(from), d(to)), threads: &threads{}, found: [2]*lineFinder{{}, {}}}
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
		src: axis{lines: was.src.lines}, dst: axis{lines: was.dst.lines}, found: was.found,
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
	for side, domain := range [2]int{was.from, was.to} {
		switch {
		case kept[side]:
		case domain == len(v.inside):
			f.draw(side)
			b.found[side] = &lineFinder{}
		default:
			f.redraw(side, was)
			b.found[side] = &lineFinder{}
		}
	}
	begins := func(side int) bool {
		n := len(was.held[side])
		return len(b.held[side]) >= n && (lists.Same(b.held[side][:n], was.held[side]) || slices.EqualFunc(b.held[side][:n], was.held[side], slices.Equal))
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
