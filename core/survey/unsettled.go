package survey

import (
	"slices"

	"bivium/core/lists"
	"bivium/core/parallel"
)

// fresh reports whether there may be other flows between two domains than before.
func (b *rebuilder) fresh(from, to int) bool {
	return b.rebuilt[pair{from, to}] || b.touches(from) || b.touches(to)
}

// unsettled returns the combinations that flows have after the edit and that nothing is
// known of, but for flows from the internet; there may be some that no flow has. Cost: of
// what may have changed, the palettes of rows; where something in one was never settled,
// the columns too.
func (b *rebuilder) unsettled() []combination {
	stances, _ := b.ledger.len()
	var jobs []func()
	var found [][]combination
	for from := range b.inside {
		for _, x := range b.next.blocks[from].is {
			if !b.fresh(from, x.to) {
				continue
			}
			at := len(found)
			found = append(found, nil)
			jobs = append(jobs, func() {
				u := unsettling{rebuilder: b, block: x, stances: stances, cells: map[[2]int32]*missing{}}
				u.look()
				found[at] = u.found
			})
		}
	}
	parallel.Run(jobs)
	return slices.Concat(found...)
}

// unsettling looks for combinations of one block.
type unsettling struct {
	*rebuilder
	block   *block
	stances int                   // how many there are
	cells   map[[2]int32]*missing // by row and effect
	met     [][]uint64            // by effect, a bit for each stance: it is found
	found   []combination
}

// missing is the cells of the palette of a row that were never settled for an effect.
type missing struct {
	is   []bool
	left int
}

// look looks at flows that have an end among the classes that changed, or at all where
// nothing is as before.
func (u *unsettling) look() {
	x := u.block
	all := [2][]kind{x.src.there(), x.dst.there()}
	if !u.akin(x.from, x.to) {
		u.lookAt(all[0], all[1])
		if x.from == x.to {
			u.lookNear(u.allNear())
		}
		return
	}
	sources, targets := u.changed(&x.src, x.from), u.changed(&x.dst, x.to)
	u.lookAt(sources, all[1])
	u.lookAt(all[0], targets)
	if x.from == x.to {
		u.lookNear(u.changedNear())
	}
}

// there returns the kinds of which there is something.
func (x *axis) there() []kind {
	out := make([]kind, 0, len(x.kinds))
	for i, k := range x.kinds {
		if x.bulks[i].members > 0 {
			out = append(out, k)
		}
	}
	return out
}

// changed returns the kinds that have classes that changed, of one side of the block.
func (u *unsettling) changed(x *axis, domain int) []kind {
	tickets := u.next.roll(domain).tickets
	has := make([]bool, len(x.kinds))
	var out []kind
	for _, at := range u.moved[1][domain] {
		if u.classes[u.of(domain)[at]].seen[u.block.from] != seesIt {
			continue
		}
		if k := x.kind(&tickets[at]); !has[k] {
			has[k] = true
			out = append(out, x.kinds[k])
		}
	}
	return out
}

// lookAt looks at the flows from some kinds to others.
func (u *unsettling) lookAt(sources, targets []kind) {
	x := u.block
	if x.to == len(u.inside) {
		for _, src := range sources {
			for _, dst := range targets {
				if e := x.effects[src.place][dst.place]; e != noEffect {
					u.meet(combination{x.stance(src.line, x.dst.lineAt(u.net, int(dst.line), u.ledger.effectAt(e).Exit)), e})
				}
			}
		}
		return
	}
	rows, places := linesBy(sources, func(k kind) (of, at int32) { return k.line, k.place }), linesBy(targets, func(k kind) (of, at int32) { return k.place, k.line })
	var effects []int32
	for line, from := range rows {
		for place, columns := range places {
			if effects = effects[:0]; len(columns) == 0 {
				continue
			}
			for _, p := range from {
				if e := x.effects[p][place]; e != noEffect && !slices.Contains(effects, e) {
					effects = append(effects, e)
				}
			}
			for _, e := range effects {
				u.meetAll(int32(line), e, columns)
			}
		}
	}
}

// linesBy returns one number of kinds by the other.
func linesBy(kinds []kind, keys func(kind) (of, at int32)) [][]int32 {
	var out [][]int32
	for _, k := range kinds {
		of, at := keys(k)
		for int(of) >= len(out) {
			out = append(out, nil)
		}
		out[of] = append(out[of], at)
	}
	return out
}

// meetAll looks at the flows of a row to some columns, on ways of an effect.
func (u *unsettling) meetAll(line, effect int32, columns []int32) {
	r := &u.block.rows[line]
	if len(columns) < len(r.palette) { // few have changed
		for _, col := range columns {
			u.meet(combination{r.palette[r.cells[col]], effect})
		}
		return
	}
	m := u.missing(line, effect)
	for i := 0; m.left > 0 && i < len(columns); i++ {
		if cell := r.cells[columns[i]]; m.is[cell] {
			m.is[cell] = false
			m.left--
			u.found = append(u.found, combination{r.palette[cell], effect})
		}
	}
}

// meet looks at a combination.
func (u *unsettling) meet(c combination) {
	for int(c.effect) >= len(u.met) {
		u.met = append(u.met, nil)
	}
	met := u.met[c.effect]
	if met == nil {
		met = make([]uint64, (u.stances+63)/64)
		u.met[c.effect] = met
	}
	word, bit := &met[c.stance/64], uint64(1)<<(c.stance%64)
	if *word&bit != 0 {
		return
	}
	*word |= bit
	if _, settled := u.before.settled(c); !settled {
		u.found = append(u.found, c)
	}
}

// missing returns the cells of a row that were never settled for an effect, and are not
// found yet.
func (u *unsettling) missing(line, effect int32) *missing {
	key := [2]int32{line, effect}
	m, known := u.cells[key]
	if !known {
		m = &missing{}
		u.cells[key] = m
		palette := u.block.rows[line].palette
		for i, stance := range palette {
			c := combination{stance, effect}
			if _, settled := u.before.settled(c); settled {
				continue
			}
			if m.is == nil {
				m.is = make([]bool, len(palette))
			}
			m.is[i] = true
			m.left++
		}
	}
	return m
}

// neighbours are the rows and columns of the members of a network.
type neighbours struct{ rows, columns []int32 }

// allNear returns those of each network.
func (u *unsettling) allNear() map[int32]*neighbours {
	return u.near(func(int32) bool { return true })
}

// changedNear returns those of networks of which some classes changed.
func (u *unsettling) changedNear() map[int32]*neighbours {
	tickets := u.next.roll(u.block.from).tickets
	changed := make([]bool, len(u.net.Networks))
	for _, at := range u.moved[1][u.block.from] {
		changed[tickets[at].network] = true
	}
	return u.near(func(network int32) bool { return changed[network] })
}

func (u *unsettling) near(which func(network int32) bool) map[int32]*neighbours {
	x, out := u.block, map[int32]*neighbours{}
	tickets := u.next.roll(x.from).tickets
	for i := range tickets {
		t := &tickets[i]
		if !which(t.network) {
			continue
		}
		n := out[t.network]
		if n == nil {
			n = &neighbours{}
			out[t.network] = n
		}
		n.rows, n.columns = append(n.rows, x.src.line(t)), append(n.columns, x.dst.line(t))
	}
	return out
}

// lookNear looks at the flows between members of one network: the ways are local.
func (u *unsettling) lookNear(networks map[int32]*neighbours) {
	for network, n := range networks {
		for _, list := range []*[]int32{&n.rows, &n.columns} {
			slices.Sort(*list)
			*list = slices.Compact(*list)
		}
		within, between := u.net.EnforcesLocally(int(network), true), u.net.EnforcesLocally(int(network), false)
		for _, line := range n.rows {
			u.meetAll(line, u.block.near[lists.OneIf(within)], n.columns)
			if between != within { // some of these flows are between two subnets
				u.meetAll(line, u.block.near[lists.OneIf(between)], n.columns)
			}
		}
	}
}
