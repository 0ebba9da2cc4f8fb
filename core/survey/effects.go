package survey

import (
	"slices"

	"bivium/core/paths"
	"bivium/core/verdict"
)

// noEffect stands where there is no flow between two kinds of places.
const noEffect int32 = -1

// addEffects finds the effects of the ways between the places of a block, and
// puts places that ways do not tell apart into one kind.
func (v *surveyor) addEffects(b *block) {
	switch {
	case b.to == len(v.inside):
		v.outward(b)
	default:
		v.inward(b)
	}
	v.addKinds(b)
}

// inward finds the effects between the spots of two segments.
func (v *surveyor) inward(b *block) {
	from, to := v.spotIn[b.from], v.spotIn[b.to]
	matrix := make([][]int32, len(from))
	for i, s := range from {
		matrix[i] = make([]int32, len(to))
		for k, t := range to {
			matrix[i][k] = v.between(b, &v.spots[s], &v.spots[t])
		}
	}
	if b.from == b.to {
		fillAlone(matrix)
		for enforced := range b.near {
			b.near[enforced] = v.ledger.effect(verdict.LocalEffect(enforced == 1))
		}
	}
	rowKind, colKind, effects := reduce(matrix, len(to))
	b.effects = effects
	b.erOf, b.ecOf = v.placesOf(b.from, from, rowKind), v.placesOf(b.to, to, colKind)
}

// onlyLocal stands for a spot of one network to itself, whose ways are all local.
const onlyLocal int32 = -2

// between returns the effect of the ways between two spots.
func (v *surveyor) between(b *block, from, to *spot) int32 {
	if from.four != to.four {
		return noEffect
	}
	src, dst := &from.one, &to.one
	if b.from == b.to && src.Home.Network == dst.Home.Network {
		switch {
		case to.other.Addr.IsValid():
			dst = &to.other
		case from.other.Addr.IsValid():
			src = &from.other
		default:
			return onlyLocal
		}
	}
	way := v.judge.WayTo(src, dst)
	return v.ledger.effect(v.judge.EffectOf(&way))
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
		key := unitsKey(list(i))
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

// placesOf returns the kind of place of each class of a domain, given that of
// its spots.
func (v *surveyor) placesOf(domain int, spots []int, kind []int32) []int32 {
	classes := v.of(domain)
	out := make([]int32, len(classes))
	bySpot := map[int]int32{}
	for i, s := range spots {
		bySpot[s] = kind[i]
	}
	for i, c := range classes {
		out[i] = bySpot[v.classes[c].spot]
	}
	return out
}

// outward finds the effects from the networks of a segment to the spots outside.
func (v *surveyor) outward(b *block) {
	to := v.spotIn[b.to]
	byAnchors := map[string]int32{}
	var matrix [][]int32
	classes := v.of(b.from)
	places := make([]int32, len(classes))
	for i, c := range classes {
		class := &v.classes[c]
		family := "6"
		if class.four {
			family = "4"
		}
		key := family + v.net.Anchors(class.End.Home.Network)
		at, known := byAnchors[key]
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
		places[i] = at
	}
	rowKind, colKind, effects := reduce(matrix, len(to))
	for i := range places {
		places[i] = rowKind[places[i]]
	}
	b.effects, b.erOf, b.ecOf = effects, places, v.placesOf(b.to, to, colKind)
}

// addKinds finds the kinds of the classes of a block.
func (v *surveyor) addKinds(b *block) {
	b.sources = v.kindsOf(b.from, b.rowOf, b.erOf, func(*Class) bool { return true })
	b.targets = v.kindsOf(b.to, b.colOf, b.ecOf, func(c *Class) bool { return c.seen[b.from] == seesIt })
}

func (v *surveyor) kindsOf(domain int, lines, places []int32, has func(*Class) bool) kinds {
	classes := v.of(domain)
	out := kinds{of: make([]int32, len(classes))}
	known := map[kind]int32{}
	for i, c := range classes {
		if !has(&v.classes[c]) {
			out.of[i] = -1
			continue
		}
		k := kind{int32(i), places[i]}
		if domain < len(v.inside) {
			k.line = lines[i]
		}
		n, ok := known[k]
		if !ok {
			n = int32(len(out.list))
			known[k] = n
			out.list = append(out.list, k)
		}
		out.of[i] = n
	}
	return out
}

// spotsOf returns the spots of each domain.
func (p *partition) spotsOf() [][]int {
	out := make([][]int, len(p.inside)+1)
	for i := range p.spots {
		domain := p.spots[i].segment
		if domain == paths.None {
			domain = len(p.inside)
		}
		out[domain] = append(out[domain], i)
	}
	for i := range out {
		slices.Sort(out[i])
	}
	return out
}
