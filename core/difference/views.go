package difference

import (
	"slices"

	"bivium/core/classes"
	"bivium/core/matrix"
)

// view is one of two matrices, at the flows between two aligned domains.
type view struct {
	*matrix.Matrix
	vectors  []int32 // see comparer
	block    *matrix.Block
	from, to int // domains
}

// tokens of the ends of a flow, beside the kinds of a block.
const (
	absent  int32 = -1 // no such endpoint, or no flows with it
	nowhere int32 = -2 // nothing is found under the address
)

// end is what a pairing asks of a class that an intersection is of.
type end struct {
	classes.Header
	seen []classes.Visibility
	is   bool // there is one
}

// endOf returns the end of a class, or none for -1.
func endOf(p *classes.Partition, class int) end {
	if class < 0 {
		return end{}
	}
	return end{p.Classes[class].Header, p.Classes[class].Seen, true}
}

// source returns the kind of an end as a source.
func (v *view) source(e *end) int32 {
	switch {
	case !e.is:
		return absent
	case v.block == nil:
		return 0
	}
	return v.block.Src.Kind(&e.Header)
}

// target returns the kind of an end as a destination.
func (v *view) target(e *end) int32 {
	if !e.is || v.from < 0 { // one of the two is not there
		return absent
	}
	switch e.seen[v.from] {
	case classes.SeesNothing:
		return nowhere
	case classes.SeesIt:
		if v.block != nil { // else nobody is there to send
			return v.block.Dst.Kind(&e.Header)
		}
	}
	return absent
}

// rowView is what a view tells of the flows from one kind of sources.
type rowView struct {
	*view
	src     int32
	row     *matrix.Row
	effects []int32   // by place of destinations
	known   [][]int32 // by place, those of one effect alike: by cell, the vector and one more, or 0; or nil
}

func (v *view) outOf(src int32) rowView {
	o := rowView{view: v, src: src}
	if src >= 0 && v.block != nil {
		k := &v.block.Src.Kinds[src]
		o.row, o.effects = &v.block.Rows[k.Line], v.block.Effects[k.Place]
	}
	return o
}

// vectorTo returns the vector of flows to a kind of destinations, 0 for none, on paths that are not
// local.
func (o *rowView) vectorTo(dst int32) int32 {
	switch {
	case o.src == absent || dst == absent:
		return 0
	case dst == nowhere:
		return o.vectors[0]
	}
	d := &o.block.Dst.Kinds[dst]
	effect := o.effects[d.Place]
	if effect == matrix.NoEffect {
		return 0
	}
	col := d.Line
	if o.view.to == len(o.Inside) {
		col = o.block.Dst.LineAt(o.Net, int(d.Line), o.Interner.EffectAt(effect).Exit)
	}
	cell := o.row.Cells[col]
	if o.known == nil {
		return o.vectorOf(matrix.Combination{RuleSet: o.row.Palette[cell], Effect: effect})
	}
	known := &o.known[d.Place][cell]
	if *known == 0 {
		*known = o.vectorOf(matrix.Combination{RuleSet: o.row.Palette[cell], Effect: effect}) + 1
	}
	return *known - 1
}

// vectorOf returns the vector of a combination, 0 for one that no flow has: of two kinds
// that only members of one network have, all paths may be local.
func (v *view) vectorOf(c matrix.Combination) int32 {
	vector, occurs := v.Settled(c)
	if !occurs {
		return 0
	}
	return v.vectors[vector]
}

// remember lets an rowView keep what it has told, if it will be asked about so many
// destinations that some have the same: tables of verdicts are large.
func (o *rowView) remember(asked int) {
	if o.row == nil || asked < 2*len(o.row.Palette) {
		return
	}
	var effects []int32
	var tables [][]int32
	o.known = make([][]int32, len(o.effects))
	for place, e := range o.effects {
		k := slices.Index(effects, e)
		if k < 0 {
			k = len(effects)
			effects, tables = append(effects, e), append(tables, make([]int32, len(o.row.Palette)))
		}
		o.known[place] = tables[k]
	}
}

// near returns the vector of local flows between two classes, 0 for none.
func (v *view) near(src, dst int) int32 {
	if src < 0 || dst < 0 {
		return 0
	}
	c, ok := v.CombinationOf(&v.Classes[src].Header, &v.Classes[dst].Header)
	if !ok {
		return 0
	}
	return v.vectors[v.Verdicts[c.Effect][c.RuleSet]]
}
