package survey

import (
	"slices"

	"bivium/core/lists"
	"bivium/core/parallel"
	"bivium/core/paths"
	"bivium/core/verdict"
)

// noEffect stands where there is no flow between two kinds of places.
const noEffect int32 = -1

// unseen is the place of a spot of which a segment sees nobody.
const unseen int32 = -1

// effects are those of the ways between the spots of two segments: from all of the
// one, to those of the other of which it sees somebody.
type effects struct {
	*block
	from, to []int
	matrix   [][]int32
}

// addEffects finds the effects of the ways between the places of some blocks, and
// puts places that ways do not tell apart into one kind. One segment may have
// most of the spots, so the work is shared out by lines.
func (v *surveyor) addEffects(blocks []*block) {
	var lines, ends []func()
	for _, b := range blocks {
		switch {
		case b.from == len(v.inside): // gates lead in
		case b.to == len(v.inside):
			lines = append(lines, func() {
				v.outward(b)
				v.addKinds(b)
			})
		default:
			x := &effects{b, v.spotIn[b.from], v.spotsSeen(b.from, b.to), make([][]int32, len(v.spotIn[b.from]))}
			for i := range x.matrix {
				x.matrix[i] = make([]int32, len(x.to))
				lines = append(lines, func() { v.fillLine(x, i) })
			}
			ends = append(ends, func() {
				v.inward(x)
				v.addKinds(b)
			})
		}
	}
	parallel.Run(lines)
	parallel.Run(ends)
}

// spotsSeen returns those spots of a segment at which another sees somebody.
func (v *surveyor) spotsSeen(from, to int) []int {
	if from == to {
		return v.spotIn[to]
	}
	seen := make([]bool, len(v.spotIn[to]))
	for _, at := range v.seenBy(from, to) {
		seen[v.roll(to).tickets[at].spotAt] = true
	}
	var out []int
	for at, s := range v.spotIn[to] {
		if seen[at] {
			out = append(out, s)
		}
	}
	return out
}

// fillLine finds the effects from one spot to others. Within a segment a way and
// the one back are found at once: they have the same paths.
func (v *surveyor) fillLine(x *effects, i int) {
	within := x.block.from == x.block.to
	first := 0
	if within {
		first = i
	}
	for k := first; k < len(x.to); k++ {
		there, back := v.between(x.block, &v.spots[x.from[i]], &v.spots[x.to[k]])
		x.matrix[i][k] = there
		if within {
			x.matrix[k][i] = back
		}
	}
}

// inward puts the effects between the spots of two segments into the block.
func (v *surveyor) inward(x *effects) {
	b := x.block
	if b.from == b.to {
		fillAlone(x.matrix)
		for enforced := range b.near {
			b.near[enforced] = v.ledger.effect(verdict.LocalEffect(enforced == 1))
		}
	}
	var places []int32
	b.src.bySpot, places, b.effects = reduce(x.matrix, len(x.to))
	b.dst.bySpot = slices.Repeat([]int32{unseen}, len(v.spotIn[b.to]))
	for i, s := range x.to {
		b.dst.bySpot[v.spots[s].at] = places[i]
	}
}

// onlyLocal stands for a spot of one network to itself, whose ways are all local.
const onlyLocal int32 = -2

// between returns the effect of the ways from a spot to another; within a
// segment also that of the ways back.
func (v *surveyor) between(b *block, from, to *spot) (there, back int32) {
	if from.four != to.four {
		return noEffect, noEffect
	}
	src, dst := &from.one, &to.one
	if b.from == b.to && src.Home.Network == dst.Home.Network {
		switch {
		case to.other.Addr.IsValid():
			dst = &to.other
		case from.other.Addr.IsValid():
			src = &from.other
		default:
			return onlyLocal, onlyLocal
		}
	}
	way := v.judge.WayTo(src, dst)
	there = v.ledger.effect(v.judge.EffectOf(&way))
	if b.from == b.to {
		way = way.Reversed()
		back = v.ledger.effect(v.judge.EffectOf(&way))
	}
	return there, back
}

// fillAlone gives spots that have no flows to each other, but local ones, an
// effect that lets them be like others.
func fillAlone(matrix [][]int32) {
	for i, line := range matrix {
		for k, e := range line {
			if e == onlyLocal {
				matrix[i][k] = neighbour(matrix, i, k)
			}
		}
	}
}

func neighbour(matrix [][]int32, i, k int) int32 {
	for other, e := range matrix[i] {
		if other != k && e >= 0 {
			return e
		}
	}
	for other := range matrix {
		if e := matrix[other][k]; other != i && e >= 0 {
			return e
		}
	}
	return noEffect
}

// reduce puts equal rows and equal columns of a matrix into one. It returns the
// kind of each row and column, and the effects by kind.
func reduce(matrix [][]int32, width int) (rowKind, colKind []int32, effects [][]int32) {
	rowKind, rows := alike(len(matrix), func(i int) []int32 { return matrix[i] })
	column := func(k int) []int32 {
		out := make([]int32, len(rows))
		for i, r := range rows {
			out[i] = matrix[r][k]
		}
		return out
	}
	colKind, cols := alike(width, column)
	effects = make([][]int32, len(rows))
	for i, r := range rows {
		for _, c := range cols {
			effects[i] = append(effects[i], matrix[r][c])
		}
	}
	return rowKind, colKind, effects
}

// alike numbers lists so that equal ones have one number, and returns the first
// of each.
func alike(n int, list func(int) []int32) (numbers []int32, firsts []int) {
	known := map[string]int32{}
	for i := range n {
		key := lists.Key32(list(i))
		k, ok := known[key]
		if !ok {
			k = int32(len(firsts))
			known[key] = k
			firsts = append(firsts, i)
		}
		numbers = append(numbers, k)
	}
	return numbers, firsts
}

// outward finds the effects from the networks of a segment to the spots outside.
func (v *surveyor) outward(b *block) {
	to := v.spotIn[b.to]
	type homely struct { // where classes are at home, and in which family
		home paths.Home
		four bool
	}
	byHome, byAnchors := map[homely]int32{}, map[string]int32{}
	var matrix [][]int32
	classes := v.of(b.from)
	places := make([]int32, len(classes))
	for i, c := range classes {
		class := v.classes[c]
		home := homely{class.End.Home, class.four}
		at, known := byHome[home]
		if known {
			places[i] = at
			continue
		}
		family := "6"
		if class.four {
			family = "4"
		}
		key := family + v.net.Anchors(class.End.Home)
		at, known = byAnchors[key]
		if !known {
			at = int32(len(matrix))
			byAnchors[key] = at
			line := make([]int32, len(to))
			for k, s := range to {
				line[k] = noEffect
				if v.spots[s].four == class.four {
					way := v.judge.WayTo(&class.End, &v.spots[s].one)
					line[k] = v.ledger.effect(v.judge.EffectOf(&way))
				}
			}
			matrix = append(matrix, line)
		}
		places[i], byHome[home] = at, at
	}
	rowKind, colKind, found := reduce(matrix, len(to))
	for i := range places {
		places[i] = rowKind[places[i]]
	}
	b.effects, b.src.byClass, b.dst.bySpot = found, places, colKind
}
