package survey

// exchange is the flows between two groups whose effect changes.
type exchange struct {
	*failureEvaluator
	block    *block
	p, q     *group
	from, to *filter
	was, is  int32
	shifts   []int32 // by stance, see shiftsOf
	sums     []sum
}

// sum is the flows of an exchange whose outcomes go from one list to another.
type sum struct {
	shift    int32
	tally    tally
	row, col lineSize // an example
}

// sum returns the sum of the flows of a stance, nil if they keep their outcomes.
func (e *exchange) sum(stance int32) *sum {
	shift := e.shifts[stance]
	if shift == 0 {
		shift = e.shift(e.was, e.is, stance)
		e.shifts[stance] = shift
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
func (e *exchange) direct(rows, cols []lineSize, sign int) {
	for i := range rows {
		r := &e.block.rows[rows[i].line]
		if len(e.cells) < len(r.palette) {
			e.failureEvaluator.cells = make([]cellSum, 2*len(r.palette))
		}
		for k := range cols {
			cell := r.cells[cols[k].line]
			c := &e.cells[cell]
			if c.col == nil {
				c.col = &cols[k]
				e.failureEvaluator.used = append(e.used, cell)
			}
			c.size.add(cols[k].size)
		}
		for _, cell := range e.used {
			c := &e.cells[cell]
			if x := e.sum(r.palette[cell]); x != nil {
				if x.row.count == 0 && sign > 0 {
					x.row, x.col = rows[i], *c.col
				}
				x.tally.product(rows[i].size, c.size, sign)
			}
			*c = cellSum{}
		}
		e.failureEvaluator.used = e.used[:0]
	}
}

// cellSum is the columns of one cell of a row's palette, added up.
type cellSum struct {
	size size
	col  *lineSize // one of them
}

// share is how much of a line's flows with a spot are of one stance.
type share struct {
	stance int32
	size   size
	line   lineSize // on the other side, one of them
}

type mixKey struct {
	axis *axis // of the spot
	spot *spotLines
}

// mixes are how the lines of one axis share those of a spot of the other among stances.
// They do not depend on what fails.
type mixes struct {
	*exchange
	mixKey
	filter *filter    // of the classes of the spot
	known  *[][]share // by line; nil where it is not known yet
}

// mixesWith returns the mixes with a spot of an axis.
func (e *exchange) mixesWith(x *axis, spot *spotLines) mixes {
	key := mixKey{x, spot}
	known := e.mixed[key]
	if known == nil {
		lines := len(e.block.held[0])
		if x == &e.block.src {
			lines = len(e.block.held[1])
		}
		list := make([][]share, lines)
		known = &list
		e.mixed[key] = known
	}
	f := e.to
	if x == &e.block.src {
		f = e.from
	}
	return mixes{e, key, f, known}
}

// of returns how a row shares the columns of the spot among stances, or a column the rows.
func (m mixes) of(line int32) []share {
	if known := (*m.known)[line]; known != nil {
		return known
	}
	e, x, spot, f := m.exchange, m.axis, m.spot, m.filter
	g := &group{spot: spot, pathBuckets: spot.pathBuckets}
	shares := e.shares[:0]
	for _, l := range g.on(e.Survey, x, f) {
		stance := e.at(line, l.line, x)
		if e.slots[stance] == 0 {
			shares = append(shares, share{stance: stance, line: l})
			e.slots[stance] = int32(len(shares))
		}
		shares[e.slots[stance]-1].size.add(l.size)
	}
	for i := range shares {
		e.slots[shares[i].stance] = 0
	}
	e.failureEvaluator.shares = shares
	known := append(make([]share, 0, len(shares)), shares...) // not nil, if empty
	(*m.known)[line] = known
	return known
}

// at returns the stance between a line and one of the other axis.
func (e *exchange) at(line, other int32, x *axis) int32 {
	if x == &e.block.dst {
		return e.block.stance(line, other)
	}
	return e.block.stance(other, line)
}

// rows adds up the flows from the rows of p to the spot of q.
func (e *exchange) rows() {
	minus, split := merge(e.Survey, e.q.minus, &e.block.dst, e.to), e.mixesWith(&e.block.dst, e.q.spot)
	for _, row := range e.p.on(e.Survey, &e.block.src, e.from) {
		for _, s := range split.of(row.line) {
			if x := e.sum(s.stance); x != nil {
				if x.row.count == 0 {
					x.row, x.col = row, s.line
					x.col.class = -1
				}
				x.tally.product(row.size, s.size, 1)
			}
		}
		e.direct([]lineSize{row}, minus, -1)
	}
}

// cols adds up the flows from the spot of p to the columns of q.
func (e *exchange) cols() {
	minus, split := merge(e.Survey, e.p.minus, &e.block.src, e.from), e.mixesWith(&e.block.src, e.p.spot)
	for _, col := range e.q.on(e.Survey, &e.block.dst, e.to) {
		for _, s := range split.of(col.line) {
			if x := e.sum(s.stance); x != nil {
				if x.row.count == 0 {
					x.row, x.col = s.line, col
					x.row.class = -1
				}
				x.tally.product(s.size, col.size, 1)
			}
		}
		e.direct(minus, []lineSize{col}, -1)
	}
}

// total is how much of the flows from one spot to another is of one stance.
type total struct {
	stance   int32
	pairs    tally
	row, col lineSize // an example
}

type totalKey struct {
	block    *block
	from, to *spotLines
}

// totals returns how the flows between all of two spots share among stances. It does
// not depend on what fails.
func (e *exchange) totals() []total {
	key := totalKey{e.block, e.p.spot, e.q.spot}
	known, ok := e.wholes[key]
	if ok {
		return known
	}
	rows := (&group{spot: key.from, pathBuckets: key.from.pathBuckets}).on(e.Survey, &e.block.src, e.from)
	at := map[int32]int{}
	split := e.mixesWith(&e.block.dst, key.to)
	for i := range rows {
		for _, s := range split.of(rows[i].line) {
			n, ok := at[s.stance]
			if !ok {
				n = len(known)
				at[s.stance] = n
				known = append(known, total{stance: s.stance, row: rows[i], col: s.line})
			}
			known[n].pairs.product(rows[i].size, s.size, 1)
		}
	}
	e.wholes[key] = known
	return known
}

// whole adds up the flows from the spot of p to that of q: all, without those of the
// rows and of the columns that are not in the groups, of which some are both.
func (e *exchange) whole() {
	totals := e.totals()
	for i := range totals {
		if x := e.sum(totals[i].stance); x != nil {
			if x.row.count == 0 {
				x.row, x.col = totals[i].row, totals[i].col
				x.row.class, x.col.class = -1, -1
			}
			totals[i].pairs.sumInto(&x.tally)
		}
	}
	rows, cols := merge(e.Survey, e.p.minus, &e.block.src, e.from), merge(e.Survey, e.q.minus, &e.block.dst, e.to)
	toQ, toP := e.mixesWith(&e.block.dst, e.q.spot), e.mixesWith(&e.block.src, e.p.spot)
	for i := range rows {
		for _, s := range toQ.of(rows[i].line) {
			if x := e.sum(s.stance); x != nil {
				x.tally.product(rows[i].size, s.size, -1)
			}
		}
	}
	for i := range cols {
		for _, s := range toP.of(cols[i].line) {
			if x := e.sum(s.stance); x != nil {
				x.tally.product(s.size, cols[i].size, -1)
			}
		}
	}
	e.direct(rows, cols, 1)
}

// finish adds the sums to the impact.
func (e *exchange) finish() {
	for i := range e.sums {
		x := &e.sums[i]
		e.sumAt[x.shift] = 0
		if x.tally.zero() {
			continue
		}
		turns := e.turnsAt[x.shift]
		for k := range turns {
			turn := e.turnAt(e.block.from, e.block.to, &turns[k])
			x.tally.sumInto(&turn.tally)
			turn.atoms.InPlaceUnion(turns[k].atoms)
			e.show(turn, &turns[k], x)
		}
	}
	e.failureEvaluator.sums = e.sums
}

// show keeps a flow of a turn, between workloads if it can.
func (e *exchange) show(turn *Turn, t *turning, x *sum) {
	if turn.told >= 3 {
		return
	}
	src, dst := e.p.classOn(e.Survey, &e.block.src, e.from, &x.row), e.q.classOn(e.Survey, &e.block.dst, e.to, &x.col)
	if src < 0 || dst < 0 || e.block.from == e.block.to && e.network(src) == e.network(dst) {
		if src, dst = e.search(x.shift); src < 0 {
			return
		}
	}
	if told := 1 + e.telling(Member{Class: src}, Member{Class: dst}); told > turn.told {
		turn.told, turn.Witness = told, e.flowBetween(src, dst, t.atoms)
	}
}

// search looks through both groups for a flow of a sum, of two networks where
// the ways within one are local.
func (e *exchange) search(shift int32) (src, dst int) {
	near := e.block.from == e.block.to
	for _, g := range e.p.pathBuckets {
		for _, h := range e.q.pathBuckets {
			if near && g.network == h.network {
				continue
			}
			for _, row := range g.on(e.Survey, &e.block.src, e.from) {
				for _, col := range h.on(e.Survey, &e.block.dst, e.to) {
					if e.shift(e.was, e.is, e.block.stance(row.line, col.line)) == shift {
						return row.class, col.class
					}
				}
			}
		}
	}
	return -1, -1
}
