package matrix

import (
	"slices"
	"sync/atomic"

	"bivium/core/classes"
	"bivium/core/lists"
	"bivium/core/paths"
	"bivium/core/verdict"
)

// Block is all flows from one domain to another, factored: who has a say
// depends on the row of the source and the column of the destination alone, and
// what the way does to it on their kinds of place. Rows and columns are far
// fewer than classes.
type Block struct {
	From, To int // domains
	Context  verdict.Context
	Terms    []verdict.Term
	Layout   *layout

	MatchSets [2][][]int32 // by row and by column: the units that hold it
	Rows      []Row
	RuleSets  []int32   // that occur in the rows, by number in the interner
	Effects   [][]int32 // by places: the effect of the paths between them, or -1 for no flow
	Near      [2]int32  // within a segment: the effect of local paths, not enforced and enforced
	Src, Dst  Side
	found     [2]*lineFinder // by side: how its lines are found
}

// Side is what a block tells of the classes of one of its domains: the line (a
// row or column), the kind of place, and the kind, which is both.
type Side struct {
	Lines       []int32 // inside: by set of groups; outside: see lineAt
	ByPathClass []int32 // the place of each path class of the domain; or else
	ByClass     []int32 // that of each class
	Places      int
	Grid        []int32 // the kind of each line and place; outside: of each class
	Kinds       []Kind
	Amounts     []classes.Amount // by kind: how much there is of it; as destinations, what the sources see
}

// Line returns the row or column of a class inside.
func (x *Side) Line(c *classes.Header) int32 { return x.Lines[c.Set] }

// Place returns the kind of place of a class.
func (x *Side) Place(c *classes.Header) int32 {
	if x.ByClass != nil {
		return x.ByClass[c.At]
	}
	return x.ByPathClass[c.PathClassAt]
}

// Kind returns the kind of a class.
func (x *Side) Kind(c *classes.Header) int32 {
	if c.Network == paths.None {
		return x.Grid[c.At]
	}
	return x.Grid[int(x.Line(c))*x.Places+int(x.Place(c))]
}

// layout say what the lines of a block are. Blocks that share them have the same
// lines under the same numbers, with the same rule sets where they cross; either may
// have more lines than the other.
type layout struct{ _ byte } // known by its address alone

// unitKey is a different side of some terms, in a form that can be compared.
type unitKey string

// Row is the rule sets on flows from one row of sources.
type Row struct {
	Palette []int32  // the different rule sets, by number in the interner
	Cells   []uint32 // by column: a place in the palette
}

// Kind is a row or column at a kind of place.
type Kind struct {
	Line, Place int32 // row or column; for a destination outside, the position of its class instead
}

// ExitsOf returns how many rows or columns each class outside has.
func ExitsOf(net *paths.Net) int { return len(net.Exits) + 1 }

// LineAt returns the row or column of a class outside, by position, that is
// reached through an exit: groups depend on it.
func (x *Side) LineAt(net *paths.Net, at, exit int) int32 {
	return x.Lines[at*ExitsOf(net)+exit+1]
}

// RuleSet returns the rule set on flows from a row to a column.
func (b *Block) RuleSet(row, col int32) int32 {
	r := &b.Rows[row]
	return r.Palette[r.Cells[col]]
}

// Builder makes blocks.
type Builder struct {
	*classes.Partition
	Judge    *verdict.Judge
	Interner *Interner
	// crossings is how many pairs of lines were looked at.
	crossings atomic.Int64
	// sideBefore tells of one side of a block what it was, where its endpoints are those
	// of before; or nil.
	SideBefore func(b *Block, side int) *Side
	// mendKinds gives one side of a block, of so many places, its kinds, if they can be told
	// from those of before; or nil.
	PatchKinds func(b *Block, side, places int) bool
}

// NewBlock returns the block of flows from one domain to another, without its
// effects.
func (v *Builder) NewBlock(from, to int) *Block {
	d := func(domain int) int {
		if domain == len(v.Inside) {
			return verdict.Outside
		}
		return domain
	}
	b := &Block{From: from, To: to, Context: v.Judge.ContextOf(d(from), d(to)), Terms: v.Judge.TermsBetween(d(from), d(to)), Layout: &layout{}, found: [2]*lineFinder{{}, {}}}
	f := &ruleSetBuilder{Builder: v, Block: b}
	f.collectTerms(d(from))
	f.drawLines(0)
	f.drawLines(1)
	f.fillRows(b.MatchSets[0], b.MatchSets[1])
	return b
}

// Reline returns the block of two domains of which some endpoints may be others than
// those of a block, and all terms are the same, without its effects. kept says for
// which side there are the same sets of groups: it has the same lines then. Mostly the
// other has too; else the block is formed anew.
func (v *Builder) Reline(was *Block, kept [2]bool) *Block {
	b := &Block{
		From: was.From, To: was.To, Context: was.Context, Terms: was.Terms, Layout: was.Layout, MatchSets: was.MatchSets, Rows: was.Rows, RuleSets: was.RuleSets,
		Src: Side{Lines: was.Src.Lines}, Dst: Side{Lines: was.Dst.Lines}, found: was.found,
	}
	if kept[0] && kept[1] {
		return b
	}
	f := &ruleSetBuilder{Builder: v, Block: b}
	from := was.From
	if from == len(v.Inside) {
		from = verdict.Outside
	}
	f.collectTerms(from)
	for side, domain := range [2]int{was.From, was.To} {
		switch {
		case kept[side]:
		case domain == len(v.Inside):
			f.drawLines(side)
			b.found[side] = &lineFinder{}
		default:
			f.redrawLines(side, was)
			b.found[side] = &lineFinder{}
		}
	}
	begins := func(side int) bool {
		n := len(was.MatchSets[side])
		return len(b.MatchSets[side]) >= n && (lists.Same(b.MatchSets[side][:n], was.MatchSets[side]) || slices.EqualFunc(b.MatchSets[side][:n], was.MatchSets[side], slices.Equal))
	}
	same := begins(0) && begins(1)
	if !same {
		b.Layout = &layout{}
	}
	if !same || len(b.MatchSets[0]) != len(was.MatchSets[0]) || len(b.MatchSets[1]) != len(was.MatchSets[1]) {
		f.fillRows(b.MatchSets[0], b.MatchSets[1])
	}
	return b
}
