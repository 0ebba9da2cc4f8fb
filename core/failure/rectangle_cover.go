package failure

import (
	"bivium/core/classes"
	"bivium/core/lists"
	"bivium/core/matrix"
)

// rectangles puts pairs of groups, flows between which get another effect, into rectangles:
// all of some groups with all of others, of one place each, which change alike. What
// there is between them is added up at once then.
type rectangles struct {
	*failureEvaluator
	*matrix.Block
	row  []rectangleKey // of the row at hand, by first appearance
	cols [][]int        // likewise: groups of destinations
	list []rectangle
	at   map[rectangleKey]int
	ids  map[string]int // of lists of groups
}

type rectangle struct {
	rectangleKey
	ps, qs []*group
}

type rectangleKey struct {
	from, to     int32 // places
	is           int32
	pMove, qMove bool
	id           int // of the destinations, once they are known
}

// note notes the group of destinations of that number in the row at hand.
func (o *rectangles) note(col int, from, to, is int32) {
	key := rectangleKey{from: from, to: to, is: is, qMove: o.groups[o.Block.To][col].moved}
	i := len(o.row) - 1
	for i >= 0 && o.row[i] != key {
		i--
	}
	if i < 0 {
		i = len(o.row)
		o.row = append(o.row, key)
		if len(o.cols) <= i {
			o.cols = append(o.cols, nil)
		}
		o.cols[i] = o.cols[i][:0]
	}
	o.cols[i] = append(o.cols[i], col)
}

// endRow ends a row: the group of sources of that number.
func (o *rectangles) endRow(row int) {
	p := o.groups[o.Block.From][row]
	for i, key := range o.row {
		key.id, key.pMove = classes.Number(o.ids, lists.Key(o.cols[i])), p.moved
		n, fresh := classes.Numbered(o.at, key, len(o.list))
		if fresh {
			x := rectangle{rectangleKey: key}
			for _, col := range o.cols[i] {
				x.qs = append(x.qs, o.groups[o.Block.To][col])
			}
			o.list = append(o.list, x)
		}
		o.list[n].ps = append(o.list[n].ps, p)
	}
	o.row = o.row[:0]
}

type placeKey struct {
	axis  *matrix.Side
	place int32
}

// joined returns groups of one place of a side as one. If they are most of what is
// there, it is all of that, without some: what is known of the place is used again.
func (f *failureEvaluator) joined(x *matrix.Side, domain int, place int32, groups []*group) *group {
	if len(groups) == 1 {
		return groups[0]
	}
	out := &group{moved: groups[0].moved}
	for _, g := range groups {
		out.pathBuckets = append(out.pathBuckets, g.pathBuckets...)
	}
	if out.moved {
		return out
	}
	all := f.placeLines(x, domain, place)
	if 2*len(out.pathBuckets) < len(all.pathBuckets) {
		return out
	}
	f.epoch++
	for _, h := range out.pathBuckets {
		h.mark = f.epoch
	}
	out.pathClass = all
	for _, h := range all.pathBuckets {
		if h.mark != f.epoch {
			out.minus = append(out.minus, h)
		}
	}
	return out
}

// placeLines returns all pathBuckets of a place of a side.
func (f *failureEvaluator) placeLines(x *matrix.Side, domain int, place int32) *pathClassLines {
	key := placeKey{x, place}
	known := f.byPlace[key]
	if known == nil {
		known = &pathClassLines{lines: map[ruleIndexKey][]lineSize{}}
		for _, h := range f.pathBuckets[domain] {
			if x.Place(&f.Classes[h.classes[0]].Header) == place {
				known.pathBuckets = append(known.pathBuckets, h)
			}
		}
		f.byPlace[key] = known
	}
	return known
}
