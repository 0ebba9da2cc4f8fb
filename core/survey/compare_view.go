package survey

import "slices"

// view is one of two surveys, at the flows between two alignedDomains.
type view struct {
	*Survey
	vectors  []int32 // see comparer
	block    *block
	from, to int // domains
}

// tokens of the ends of a flow, beside the kinds of a block.
const (
	absent  int32 = -1 // no such endpoint, or no flows with it
	nowhere int32 = -2 // nothing is found under the address
)

// end is what a pairing asks of a class that a joint is of.
type end struct {
	ticket
	seen []see
	is   bool // there is one
}

// endOf returns the end of a class, or none for -1.
func (p *partition) endOf(class int) end {
	if class < 0 {
		return end{}
	}
	return end{p.classes[class].ticket, p.classes[class].seen, true}
}

// source returns the kind of an end as a source.
func (v *view) source(e *end) int32 {
	switch {
	case !e.is:
		return absent
	case v.block == nil:
		return 0
	}
	return v.block.src.kind(&e.ticket)
}

// target returns the kind of an end as a destination.
func (v *view) target(e *end) int32 {
	if !e.is || v.from < 0 { // one of the two is not there
		return absent
	}
	switch e.seen[v.from] {
	case seesNothing:
		return nowhere
	case seesIt:
		if v.block != nil { // else nobody is there to send
			return v.block.dst.kind(&e.ticket)
		}
	}
	return absent
}

// far returns the vector of flows between two kinds, 0 for none, on ways that
// are not local.
func (v *view) far(src, dst int32) int32 {
	from := v.outOf(src)
	return from.to(dst)
}

// outlook is what a view tells of the flows from one kind of sources.
type outlook struct {
	*view
	src     int32
	row     *row
	effects []int32   // by place of destinations
	known   [][]int32 // by place, those of one effect alike: by cell, the vector and one more, or 0; or nil
}

func (v *view) outOf(src int32) outlook {
	o := outlook{view: v, src: src}
	if src >= 0 && v.block != nil {
		k := &v.block.src.kinds[src]
		o.row, o.effects = &v.block.rows[k.line], v.block.effects[k.place]
	}
	return o
}

// to returns the vector of flows to a kind of destinations; see far.
func (o *outlook) to(dst int32) int32 {
	switch {
	case o.src == absent || dst == absent:
		return 0
	case dst == nowhere:
		return o.vectors[0]
	}
	d := &o.block.dst.kinds[dst]
	effect := o.effects[d.place]
	if effect == noEffect {
		return 0
	}
	col := d.line
	if o.view.to == len(o.inside) {
		col = o.block.dst.lineAt(o.net, int(d.line), o.ledger.effectAt(effect).Exit)
	}
	cell := o.row.cells[col]
	if o.known == nil {
		return o.vectorOf(combination{o.row.palette[cell], effect})
	}
	known := &o.known[d.place][cell]
	if *known == 0 {
		*known = o.vectorOf(combination{o.row.palette[cell], effect}) + 1
	}
	return *known - 1
}

// vectorOf returns the vector of a combination, 0 for one that no flow has: of two kinds
// that only members of one network have, all paths may be local.
func (v *view) vectorOf(c combination) int32 {
	vector, occurs := v.settled(c)
	if !occurs {
		return 0
	}
	return v.vectors[vector]
}

// remember lets an outlook keep what it has told, if it will be asked about so many
// destinations that some have the same: tables of verdicts are large.
func (o *outlook) remember(asked int) {
	if o.row == nil || asked < 2*len(o.row.palette) {
		return
	}
	var effects []int32
	var tables [][]int32
	o.known = make([][]int32, len(o.effects))
	for place, e := range o.effects {
		k := slices.Index(effects, e)
		if k < 0 {
			k = len(effects)
			effects, tables = append(effects, e), append(tables, make([]int32, len(o.row.palette)))
		}
		o.known[place] = tables[k]
	}
}

// near returns the vector of local flows between two classes, 0 for none.
func (v *view) near(src, dst int) int32 {
	if src < 0 || dst < 0 {
		return 0
	}
	c, ok := v.combine(&v.classes[src].ticket, &v.classes[dst].ticket)
	if !ok {
		return 0
	}
	return v.vectors[v.verdicts[c.effect][c.stance]]
}
