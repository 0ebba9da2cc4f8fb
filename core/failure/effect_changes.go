package failure

import (
	"bivium/core/intervals"
	"bivium/core/matrix"
)

// effectChange is the flows between two groups whose effect changes.
type effectChange struct {
	*failureEvaluator
	block    *matrix.Block
	p, q     *group
	from, to *filter
	was, is  int32
	shifts   []int32 // by rule set, see shiftsOf
	sums     []sum
}

// sum is the flows of an exchange whose outcomes go from one list to another.
type sum struct {
	shift    int32
	tally    intervals.Tally
	row, col lineSize // an example
}

// sum returns the sum of the flows of a rule set, nil if they keep their outcomes.
func (e *effectChange) sum(ruleSet int32) *sum {
	shift := e.shifts[ruleSet]
	if shift == 0 {
		shift = e.shift(e.was, e.is, ruleSet)
		e.shifts[ruleSet] = shift
	}
	if shift < 0 {
		return nil
	}
	for int(shift) >= len(e.sumAt) {
		e.sumAt = append(e.sumAt, 0)
	}
	if e.sumAt[shift] == 0 {
		e.sums = append(e.sums, sum{shift: shift})
		e.sumAt[shift] = int32(len(e.sums))
	}
	return &e.sums[e.sumAt[shift]-1]
}

// direct adds the flows between some rows and columns, or takes them away.
func (e *effectChange) direct(rows, cols []lineSize, sign int) {
	for i := range rows {
		r := &e.block.Rows[rows[i].line]
		if len(e.cells) < len(r.Palette) {
			e.failureEvaluator.cells = make([]cellSum, 2*len(r.Palette))
		}
		for k := range cols {
			cell := r.Cells[cols[k].line]
			c := &e.cells[cell]
			if c.col == nil {
				c.col = &cols[k]
				e.failureEvaluator.used = append(e.used, cell)
			}
			c.size.Add(cols[k].size)
		}
		for _, cell := range e.used {
			c := &e.cells[cell]
			if x := e.sum(r.Palette[cell]); x != nil {
				if x.row.count == 0 && sign > 0 {
					x.row, x.col = rows[i], *c.col
				}
				x.tally.Product(rows[i].size, c.size, sign)
			}
			*c = cellSum{}
		}
		e.failureEvaluator.used = e.used[:0]
	}
}

// cellSum is the columns of one cell of a row's palette, added up.
type cellSum struct {
	size intervals.Size
	col  *lineSize // one of them
}

// share is how much of a line's flows with a path class are of one rule set.
type share struct {
	ruleSet int32
	size    intervals.Size
	line    lineSize // on the other side, one of them
}

type mixKey struct {
	axis      *matrix.Side // of the path class
	pathClass *pathClassLines
}

// effectShares are how the lines of one side share those of a path class of the other among rule sets.
// They do not depend on what fails.
type effectShares struct {
	*effectChange
	mixKey
	filter *filter    // of the classes of the path class
	known  *[][]share // by line; nil where it is not known yet
}

// mixesWith returns the mixes with a path class of a side.
func (e *effectChange) mixesWith(x *matrix.Side, class *pathClassLines) effectShares {
	key := mixKey{x, class}
	known := e.mixed[key]
	if known == nil {
		lines := len(e.block.MatchSets[0])
		if x == &e.block.Src {
			lines = len(e.block.MatchSets[1])
		}
		list := make([][]share, lines)
		known = &list
		e.mixed[key] = known
	}
	f := e.to
	if x == &e.block.Src {
		f = e.from
	}
	return effectShares{e, key, f, known}
}

// sharesOf returns how a row shares the columns of the path class among rule sets, or a column the rows.
func (m effectShares) sharesOf(line int32) []share {
	if known := (*m.known)[line]; known != nil {
		return known
	}
	e, x, class, f := m.effectChange, m.axis, m.pathClass, m.filter
	g := &group{pathClass: class, pathBuckets: class.pathBuckets}
	shares := e.shares[:0]
	for _, l := range g.on(e.Matrix, x, f) {
		ruleSet := e.at(line, l.line, x)
		if e.slots[ruleSet] == 0 {
			shares = append(shares, share{ruleSet: ruleSet, line: l})
			e.slots[ruleSet] = int32(len(shares))
		}
		shares[e.slots[ruleSet]-1].size.Add(l.size)
	}
	for i := range shares {
		e.slots[shares[i].ruleSet] = 0
	}
	e.failureEvaluator.shares = shares
	known := append(make([]share, 0, len(shares)), shares...) // not nil, if empty
	(*m.known)[line] = known
	return known
}

// at returns the rule set between a line and one of the other side.
func (e *effectChange) at(line, other int32, x *matrix.Side) int32 {
	if x == &e.block.Dst {
		return e.block.RuleSet(line, other)
	}
	return e.block.RuleSet(other, line)
}

// rows adds up the flows from the rows of p to the path class of q.
func (e *effectChange) rows() {
	minus, split := merge(e.Matrix, e.q.minus, &e.block.Dst, e.to), e.mixesWith(&e.block.Dst, e.q.pathClass)
	for _, row := range e.p.on(e.Matrix, &e.block.Src, e.from) {
		for _, s := range split.sharesOf(row.line) {
			if x := e.sum(s.ruleSet); x != nil {
				if x.row.count == 0 {
					x.row, x.col = row, s.line
					x.col.class = -1
				}
				x.tally.Product(row.size, s.size, 1)
			}
		}
		e.direct([]lineSize{row}, minus, -1)
	}
}

// cols adds up the flows from the path class of p to the columns of q.
func (e *effectChange) cols() {
	minus, split := merge(e.Matrix, e.p.minus, &e.block.Src, e.from), e.mixesWith(&e.block.Src, e.p.pathClass)
	for _, col := range e.q.on(e.Matrix, &e.block.Dst, e.to) {
		for _, s := range split.sharesOf(col.line) {
			if x := e.sum(s.ruleSet); x != nil {
				if x.row.count == 0 {
					x.row, x.col = s.line, col
					x.row.class = -1
				}
				x.tally.Product(s.size, col.size, 1)
			}
		}
		e.direct(minus, []lineSize{col}, -1)
	}
}

// total is how much of the flows from one path class to another is of one rule set.
type total struct {
	ruleSet  int32
	pairs    intervals.Tally
	row, col lineSize // an example
}

type totalKey struct {
	block    *matrix.Block
	from, to *pathClassLines
}

// totals returns how the flows between all of two path classes share among rule sets. It does
// not depend on what fails.
func (e *effectChange) totals() []total {
	key := totalKey{e.block, e.p.pathClass, e.q.pathClass}
	known, ok := e.wholes[key]
	if ok {
		return known
	}
	rows := (&group{pathClass: key.from, pathBuckets: key.from.pathBuckets}).on(e.Matrix, &e.block.Src, e.from)
	at := map[int32]int{}
	split := e.mixesWith(&e.block.Dst, key.to)
	for i := range rows {
		for _, s := range split.sharesOf(rows[i].line) {
			n, ok := at[s.ruleSet]
			if !ok {
				n = len(known)
				at[s.ruleSet] = n
				known = append(known, total{ruleSet: s.ruleSet, row: rows[i], col: s.line})
			}
			known[n].pairs.Product(rows[i].size, s.size, 1)
		}
	}
	e.wholes[key] = known
	return known
}

// whole adds up the flows from the path class of p to that of q: all, without those of the
// rows and of the columns that are not in the groups, of which some are both.
func (e *effectChange) whole() {
	totals := e.totals()
	for i := range totals {
		if x := e.sum(totals[i].ruleSet); x != nil {
			if x.row.count == 0 {
				x.row, x.col = totals[i].row, totals[i].col
				x.row.class, x.col.class = -1, -1
			}
			totals[i].pairs.SumInto(&x.tally)
		}
	}
	rows, cols := merge(e.Matrix, e.p.minus, &e.block.Src, e.from), merge(e.Matrix, e.q.minus, &e.block.Dst, e.to)
	toQ, toP := e.mixesWith(&e.block.Dst, e.q.pathClass), e.mixesWith(&e.block.Src, e.p.pathClass)
	for i := range rows {
		for _, s := range toQ.sharesOf(rows[i].line) {
			if x := e.sum(s.ruleSet); x != nil {
				x.tally.Product(rows[i].size, s.size, -1)
			}
		}
	}
	for i := range cols {
		for _, s := range toP.sharesOf(cols[i].line) {
			if x := e.sum(s.ruleSet); x != nil {
				x.tally.Product(s.size, cols[i].size, -1)
			}
		}
	}
	e.direct(rows, cols, 1)
}

// finish adds the sums to the impact.
func (e *effectChange) finish() {
	for i := range e.sums {
		x := &e.sums[i]
		e.sumAt[x.shift] = 0
		if x.tally.Zero() {
			continue
		}
		turns := e.turnsAt[x.shift]
		for k := range turns {
			turn := e.turnAt(e.block.From, e.block.To, &turns[k])
			x.tally.SumInto(&turn.tally)
			turn.atoms.InPlaceUnion(turns[k].atoms)
			e.show(turn, &turns[k], x)
		}
	}
	e.failureEvaluator.sums = e.sums
}

// show keeps a flow of a turn, between workloads if it can.
func (e *effectChange) show(turn *Turn, t *turning, x *sum) {
	if turn.told >= 3 {
		return
	}
	src, dst := e.p.classOn(e.Matrix, &e.block.Src, e.from, &x.row), e.q.classOn(e.Matrix, &e.block.Dst, e.to, &x.col)
	if src < 0 || dst < 0 || e.block.From == e.block.To && e.network(src) == e.network(dst) {
		if src, dst = e.search(x.shift); src < 0 {
			return
		}
	}
	if told := 1 + e.WitnessRank(matrix.Member{Class: src}, matrix.Member{Class: dst}); told > turn.told {
		turn.told, turn.Witness = told, e.flowBetween(src, dst, t.atoms)
	}
}

// search looks through both groups for a flow of a sum, of two networks where
// the paths within one are local.
func (e *effectChange) search(shift int32) (src, dst int) {
	near := e.block.From == e.block.To
	for _, g := range e.p.pathBuckets {
		for _, h := range e.q.pathBuckets {
			if near && g.network == h.network {
				continue
			}
			for _, row := range g.on(e.Matrix, &e.block.Src, e.from) {
				for _, col := range h.on(e.Matrix, &e.block.Dst, e.to) {
					if e.shift(e.was, e.is, e.block.RuleSet(row.line, col.line)) == shift {
						return row.class, col.class
					}
				}
			}
		}
	}
	return -1, -1
}
