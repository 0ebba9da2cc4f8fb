package plan

// aligned is a rule of either of two lists, in an order that both keep.
type aligned[T any] struct {
	rule T
	in   byte // inBoth, inWas or inIs
}

const (
	inBoth byte = iota
	inWas
	inIs
)

// align puts two lists into one, by a longest sequence of rules that are in both. Of lists whose
// pairs are too many to look at, nothing is taken for the same. Cost: the product of the rules.
func align[T any](a, b []T, keysA, keysB []string) []aligned[T] {
	out := make([]aligned[T], 0, len(a)+len(b))
	i, k := 0, 0
	if len(a)*len(b) <= mostPairs {
		width := len(b) + 1
		length := make([]int32, (len(a)+1)*width)
		for i := len(a) - 1; i >= 0; i-- {
			for k := len(b) - 1; k >= 0; k-- {
				if keysA[i] == keysB[k] {
					length[i*width+k] = length[(i+1)*width+k+1] + 1
				} else {
					length[i*width+k] = max(length[(i+1)*width+k], length[i*width+k+1])
				}
			}
		}
		for i < len(a) && k < len(b) {
			switch {
			case keysA[i] == keysB[k]:
				out = append(out, aligned[T]{a[i], inBoth})
				i, k = i+1, k+1
			case length[(i+1)*width+k] >= length[i*width+k+1]:
				out = append(out, aligned[T]{a[i], inWas})
				i++
			default:
				out = append(out, aligned[T]{b[k], inIs})
				k++
			}
		}
	}
	for ; i < len(a); i++ {
		out = append(out, aligned[T]{a[i], inWas})
	}
	for ; k < len(b); k++ {
		out = append(out, aligned[T]{b[k], inIs})
	}
	return out
}

// merged returns what passes both of two aligned lists, as the rules that both have, in their
// order, with few others between them. False where that does not come out so simply: where a rule
// that only one of them has does more than to let pass or to deny, or denies after one that lets
// the same pass.
//
// A packet whose first match is in both lists finds it here. One that a rule of one list alone
// lets pass goes by what the other says, so that the rule is left out; what a rule of either list
// alone denies is denied in its place. What a rule of the one and a rule of the other let pass is
// let pass at the later of their places: whatever comes before in either list stands before it.
func (o *ordered[T]) merged(all []aligned[T]) ([]T, bool) {
	var out []T
	var passing [2][]T // rules of the one list alone, and of the other alone, so far
	met := 0
	for i := range all {
		r := &all[i].rule
		if all[i].in == inBoth {
			out = append(out, *r)
			continue
		}
		side := int(all[i].in - inWas)
		switch {
		case o.denies(r):
			if o.overlaps(r, passing[side]) {
				return nil, false
			}
			out = append(out, *r)
		case o.free(r):
			others := passing[1-side]
			if met += len(others); met > mostPairs {
				return nil, false
			}
			for k := range others {
				if both, ok := o.meet(r, &others[k]); ok {
					out = append(out, both)
				}
			}
			passing[side] = append(passing[side], *r)
		default:
			return nil, false
		}
	}
	return out, true
}

// overlaps reports whether a rule and any of some others match a packet.
func (o *ordered[T]) overlaps(a *T, others []T) bool {
	for i := range others {
		if _, ok := o.meet(a, &others[i]); ok {
			return true
		}
	}
	return false
}
