package matrix

import (
	"slices"

	"bivium/core/classes"
	"bivium/core/lists"
	"bivium/core/parallel"
	"bivium/core/paths"
	"bivium/core/verdict"
)

// NoEffect stands where there is no flow between two kinds of places.
const NoEffect int32 = -1

// Unseen is the place of a path class of which a segment sees nobody.
const Unseen int32 = -1

// effects are those of the paths between the path classes of two segments: from all of the
// one, to those of the other of which it sees somebody.
type effects struct {
	*Block
	from, to []int
	matrix   [][]int32
}

// AddEffects finds the effects of the paths between the places of some blocks, and
// puts places that paths do not tell apart into one kind. One segment may have
// most of the path classes, so the work is shared out by lines.
func (v *Builder) AddEffects(blocks []*Block) {
	var lines, ends []func()
	for _, b := range blocks {
		switch {
		case b.From == len(v.Inside): // inbound paths lead in
		case b.To == len(v.Inside):
			lines = append(lines, func() {
				v.outward(b)
				v.AddKinds(b)
			})
		default:
			x := &effects{b, v.PathClassesIn[b.From], v.PathClassesSeen(b.From, b.To), make([][]int32, len(v.PathClassesIn[b.From]))}
			for i := range x.matrix {
				x.matrix[i] = make([]int32, len(x.to))
				lines = append(lines, func() { v.fillLine(x, i) })
			}
			ends = append(ends, func() {
				v.inward(x)
				v.AddKinds(b)
			})
		}
	}
	parallel.Run(lines)
	parallel.Run(ends)
}

// PathClassesSeen returns those path classes of a segment at which another sees somebody.
func (v *Builder) PathClassesSeen(from, to int) []int {
	if from == to {
		return v.PathClassesIn[to]
	}
	seen := make([]bool, len(v.PathClassesIn[to]))
	for _, at := range v.SeenBy(from, to) {
		seen[v.Columns(to).Headers[at].PathClassAt] = true
	}
	var out []int
	for at, s := range v.PathClassesIn[to] {
		if seen[at] {
			out = append(out, s)
		}
	}
	return out
}

// fillLine finds the effects from one path class to others. Within a segment a way and
// the one back are found at once: they have the same paths.
func (v *Builder) fillLine(x *effects, i int) {
	within := x.Block.From == x.Block.To
	first := 0
	if within {
		first = i
	}
	for k := first; k < len(x.to); k++ {
		there, back := v.between(x.Block, &v.PathClasses[x.from[i]], &v.PathClasses[x.to[k]])
		x.matrix[i][k] = there
		if within {
			x.matrix[k][i] = back
		}
	}
}

// inward puts the effects between the path classes of two segments into the block.
func (v *Builder) inward(x *effects) {
	b := x.Block
	if b.From == b.To {
		fillAlone(x.matrix)
		for enforced := range b.Near {
			b.Near[enforced] = v.Interner.Effect(verdict.LocalEffect(enforced == 1))
		}
	}
	var places []int32
	b.Src.ByPathClass, places, b.Effects = reduce(x.matrix, len(x.to))
	b.Dst.ByPathClass = slices.Repeat([]int32{Unseen}, len(v.PathClassesIn[b.To]))
	for i, s := range x.to {
		b.Dst.ByPathClass[v.PathClasses[s].At] = places[i]
	}
}

// onlyLocal stands for a path class of one network to itself, whose paths are all local.
const onlyLocal int32 = -2

// between returns the effect of the paths from a path class to another; within a
// segment also that of the paths back.
func (v *Builder) between(b *Block, from, to *classes.PathClass) (there, back int32) {
	if from.Four != to.Four {
		return NoEffect, NoEffect
	}
	src, dst := &from.One, &to.One
	if b.From == b.To && src.Home.Network == dst.Home.Network {
		switch {
		case to.Other.Addr.IsValid():
			dst = &to.Other
		case from.Other.Addr.IsValid():
			src = &from.Other
		default:
			return onlyLocal, onlyLocal
		}
	}
	way := v.Judge.WayTo(src, dst)
	there = v.Interner.Effect(v.Judge.EffectOf(&way))
	if b.From == b.To {
		way = way.Reversed()
		back = v.Interner.Effect(v.Judge.EffectOf(&way))
	}
	return there, back
}

// fillAlone gives path classes that have no flows to each other, but local ones, an
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
	return NoEffect
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

// outward finds the effects from the networks of a segment to the path classes outside.
func (v *Builder) outward(b *Block) {
	to := v.PathClassesIn[b.To]
	type homely struct { // where classes are at home, and in which family
		home paths.Home
		four bool
	}
	byHome, byAnchors := map[homely]int32{}, map[string]int32{}
	var matrix [][]int32
	classes := v.ClassesIn(b.From)
	places := make([]int32, len(classes))
	for i, c := range classes {
		class := v.Classes[c]
		home := homely{class.End.Home, class.Four}
		at, known := byHome[home]
		if known {
			places[i] = at
			continue
		}
		family := "6"
		if class.Four {
			family = "4"
		}
		key := family + v.Net.Anchors(class.End.Home)
		at, known = byAnchors[key]
		if !known {
			at = int32(len(matrix))
			byAnchors[key] = at
			line := make([]int32, len(to))
			for k, s := range to {
				line[k] = NoEffect
				if v.PathClasses[s].Four == class.Four {
					way := v.Judge.WayTo(&class.End, &v.PathClasses[s].One)
					line[k] = v.Interner.Effect(v.Judge.EffectOf(&way))
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
	b.Effects, b.Src.ByClass, b.Dst.ByPathClass = found, places, colKind
}
