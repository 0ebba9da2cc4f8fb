package proof

import (
	"github.com/bits-and-blooms/bitset"

	"bivium/core/classes"
	"bivium/core/matrix"
)

// need is far groups of a scene to and from which the same atoms must pass.
type need struct {
	atoms  *bitset.BitSet
	groups *bitset.BitSet
}

// rowKey is one line of the own side of a block.
type rowKey struct {
	block *matrix.Block
	line  int32
}

// rowsOf returns what must pass between an own piece and the far groups of a scene, block by block.
func (u *unitProof) rowsOf(x *scene, own *piece, s int, out bool) [][]need {
	var rows [][]need
	for i, b := range x.blocks {
		switch {
		case out:
			rows = append(rows, u.rowOf(x, i, b.Src.Line(&own.class.Header), out))
		case b.From == s || own.class.Seen[b.From] == classes.SeesIt:
			rows = append(rows, u.rowOf(x, i, b.Dst.Line(&own.class.Header), out))
		}
	}
	return rows
}

// rowOf returns what must pass between an own line of a block of a scene and its far groups.
func (p *prover) rowOf(x *scene, block int, line int32, out bool) []need {
	b := x.blocks[block]
	key := rowKey{b, line}
	x.mu.Lock()
	row, known := x.rows[key]
	x.mu.Unlock()
	if known {
		return row
	}
	at := map[*bitset.BitSet]int{}
	for _, g := range x.groupsOf[block] {
		from, to := line, x.groups[g].line
		if !out {
			from, to = to, from
		}
		atoms := p.second[p.meant[b.RuleSet(from, to)]]
		if atoms.None() {
			continue
		}
		i, known := at[atoms]
		if !known {
			i = len(row)
			at[atoms] = i
			row = append(row, need{atoms, bitset.New(uint(len(x.groups)))})
		}
		row[i].groups.Set(uint(g))
	}
	x.mu.Lock()
	x.rows[key] = row
	x.mu.Unlock()
	return row
}

// wholly returns what rules of one way pass to and from all pieces of far groups, whatever other
// rules there are; nothing for a list that also denies.
func (u *unitProof) wholly(x *scene, out bool) []need {
	if !u.allows {
		return nil
	}
	at := map[*bitset.BitSet]int{}
	var all []need
	for i := range u.rules {
		r := &u.rules[i]
		if r.out != out || r.own != nil {
			continue
		}
		k, known := at[r.atoms]
		if !known {
			k = len(all)
			at[r.atoms] = k
			all = append(all, need{r.atoms, bitset.New(uint(len(x.groups)))})
		}
		if r.peer == nil {
			all[k].groups = bitset.New(uint(len(x.groups))).Complement()
			continue
		}
		for _, set := range r.peer {
			all[k].groups.InPlaceUnion(x.cover(set, u.theirs).whole)
		}
	}
	return all
}
