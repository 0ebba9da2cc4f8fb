package revise

import (
	"slices"

	"bivium/core/classes"
	"bivium/core/lists"
	"bivium/core/matrix"
	"bivium/core/parallel"
)

// fresh reports whether there may be other flows between two domains than before.
func (b *rebuilder) fresh(from, to int) bool {
	return b.rebuilt[classes.Pair{From: from, To: to}] || b.touches(from) || b.touches(to)
}

// unsettled returns the combinations that flows have after the edit and that nothing is
// known of, but for flows from the internet; there may be some that no flow has. Cost: of
// what may have changed, the palettes of rows; where something in one was never settled,
// the columns too.
func (b *rebuilder) unsettled() []matrix.Combination {
	ruleSets, _ := b.Interner.Len()
	var jobs []func()
	var found [][]matrix.Combination
	for from := range b.Inside {
		for _, x := range b.next.Blocks[from].Is {
			if !b.fresh(from, x.To) {
				continue
			}
			at := len(found)
			found = append(found, nil)
			jobs = append(jobs, func() {
				u := unsettledFinder{rebuilder: b, block: x, ruleSets: ruleSets, cells: map[[2]int32]*missing{}}
				u.find()
				found[at] = u.found
			})
		}
	}
	parallel.Run(jobs)
	return slices.Concat(found...)
}

// unsettledFinder looks for combinations of one block.
type unsettledFinder struct {
	*rebuilder
	block    *matrix.Block
	ruleSets int                   // how many there are
	cells    map[[2]int32]*missing // by row and effect
	met      [][]uint64            // by effect, a bit for each rule set: it is found
	found    []matrix.Combination
}

// missing is the cells of the palette of a row that were never settled for an effect.
type missing struct {
	is   []bool
	left int
}

// find looks at flows that have an end among the classes that changed, or at all where
// nothing is as before.
func (u *unsettledFinder) find() {
	x := u.block
	all := [2][]matrix.Kind{there(&x.Src), there(&x.Dst)}
	if !u.onlyMoved(x.From, x.To) {
		u.findBetween(all[0], all[1])
		if x.From == x.To {
			u.findLocal(u.allNear())
		}
		return
	}
	sources, targets := u.changed(&x.Src, x.From), u.changed(&x.Dst, x.To)
	u.findBetween(sources, all[1])
	u.findBetween(all[0], targets)
	if x.From == x.To {
		u.findLocal(u.changedNear())
	}
}

// there returns the kinds of which there is something.
func there(x *matrix.Side) []matrix.Kind {
	out := make([]matrix.Kind, 0, len(x.Kinds))
	for i, k := range x.Kinds {
		if x.Amounts[i].Members > 0 {
			out = append(out, k)
		}
	}
	return out
}

// changed returns the kinds that have classes that changed, of one side of the block.
func (u *unsettledFinder) changed(x *matrix.Side, domain int) []matrix.Kind {
	headers := u.next.Columns(domain).Headers
	has := make([]bool, len(x.Kinds))
	var out []matrix.Kind
	for _, at := range u.moved[1][domain] {
		if u.Classes[u.ClassesIn(domain)[at]].Seen[u.block.From] != classes.SeesIt {
			continue
		}
		if k := x.Kind(&headers[at]); !has[k] {
			has[k] = true
			out = append(out, x.Kinds[k])
		}
	}
	return out
}

// findBetween looks at the flows from some kinds to others.
func (u *unsettledFinder) findBetween(sources, targets []matrix.Kind) {
	x := u.block
	if x.To == len(u.Inside) {
		for _, src := range sources {
			for _, dst := range targets {
				if e := x.Effects[src.Place][dst.Place]; e != matrix.NoEffect {
					u.add(matrix.Combination{RuleSet: x.RuleSet(src.Line, x.Dst.LineAt(u.Net, int(dst.Line), u.Interner.EffectAt(e).Exit)), Effect: e})
				}
			}
		}
		return
	}
	rows, places := linesBy(sources, func(k matrix.Kind) (of, at int32) { return k.Line, k.Place }), linesBy(targets, func(k matrix.Kind) (of, at int32) { return k.Place, k.Line })
	var effects []int32
	for line, from := range rows {
		for place, columns := range places {
			if effects = effects[:0]; len(columns) == 0 {
				continue
			}
			for _, p := range from {
				if e := x.Effects[p][place]; e != matrix.NoEffect && !slices.Contains(effects, e) {
					effects = append(effects, e)
				}
			}
			for _, e := range effects {
				u.addAll(int32(line), e, columns)
			}
		}
	}
}

// linesBy returns one number of kinds by the other.
func linesBy(kinds []matrix.Kind, keys func(matrix.Kind) (of, at int32)) [][]int32 {
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

// addAll looks at the flows of a row to some columns, on paths of an effect.
func (u *unsettledFinder) addAll(line, effect int32, columns []int32) {
	r := &u.block.Rows[line]
	if len(columns) < len(r.Palette) { // few have changed
		for _, col := range columns {
			u.add(matrix.Combination{RuleSet: r.Palette[r.Cells[col]], Effect: effect})
		}
		return
	}
	m := u.missing(line, effect)
	for i := 0; m.left > 0 && i < len(columns); i++ {
		if cell := r.Cells[columns[i]]; m.is[cell] {
			m.is[cell] = false
			m.left--
			u.found = append(u.found, matrix.Combination{RuleSet: r.Palette[cell], Effect: effect})
		}
	}
}

// add looks at a combination.
func (u *unsettledFinder) add(c matrix.Combination) {
	for int(c.Effect) >= len(u.met) {
		u.met = append(u.met, nil)
	}
	met := u.met[c.Effect]
	if met == nil {
		met = make([]uint64, (u.ruleSets+63)/64)
		u.met[c.Effect] = met
	}
	word, bit := &met[c.RuleSet/64], uint64(1)<<(c.RuleSet%64)
	if *word&bit != 0 {
		return
	}
	*word |= bit
	if _, settled := u.before.Settled(c); !settled {
		u.found = append(u.found, c)
	}
}

// missing returns the cells of a row that were never settled for an effect, and are not
// found yet.
func (u *unsettledFinder) missing(line, effect int32) *missing {
	key := [2]int32{line, effect}
	m, known := u.cells[key]
	if !known {
		m = &missing{}
		u.cells[key] = m
		palette := u.block.Rows[line].Palette
		for i, ruleSet := range palette {
			c := matrix.Combination{RuleSet: ruleSet, Effect: effect}
			if _, settled := u.before.Settled(c); settled {
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
func (u *unsettledFinder) allNear() map[int32]*neighbours {
	return u.near(func(int32) bool { return true })
}

// changedNear returns those of networks of which some classes changed.
func (u *unsettledFinder) changedNear() map[int32]*neighbours {
	headers := u.next.Columns(u.block.From).Headers
	changed := make([]bool, len(u.Net.Networks))
	for _, at := range u.moved[1][u.block.From] {
		changed[headers[at].Network] = true
	}
	return u.near(func(network int32) bool { return changed[network] })
}

func (u *unsettledFinder) near(which func(network int32) bool) map[int32]*neighbours {
	x, out := u.block, map[int32]*neighbours{}
	headers := u.next.Columns(x.From).Headers
	for i := range headers {
		t := &headers[i]
		if !which(t.Network) {
			continue
		}
		n := out[t.Network]
		if n == nil {
			n = &neighbours{}
			out[t.Network] = n
		}
		n.rows, n.columns = append(n.rows, x.Src.Line(t)), append(n.columns, x.Dst.Line(t))
	}
	return out
}

// findLocal looks at the flows between members of one network: the paths are local.
func (u *unsettledFinder) findLocal(networks map[int32]*neighbours) {
	for network, n := range networks {
		for _, list := range []*[]int32{&n.rows, &n.columns} {
			slices.Sort(*list)
			*list = slices.Compact(*list)
		}
		within, between := u.Net.EnforcesLocally(int(network), true), u.Net.EnforcesLocally(int(network), false)
		for _, line := range n.rows {
			u.addAll(line, u.block.Near[lists.OneIf(within)], n.columns)
			if between != within { // some of these flows are between two subnets
				u.addAll(line, u.block.Near[lists.OneIf(between)], n.columns)
			}
		}
	}
}
