package native

import (
	"net/netip"
	"slices"

	"github.com/bits-and-blooms/bitset"
	"go4.org/netipx"

	"bivium/core/intervals"
	"bivium/core/lists"
	"bivium/core/native/config"
	"bivium/core/native/cover"
	"bivium/core/paths"
	"bivium/core/space"
)

// drafts adds the entries of what passes: by the addresses for which the same services pass,
// or by the services that pass for the same addresses, whichever are fewer. Pieces are in order.
func (u *unit) drafts(drafts []draft, pieces []piece, out bool, services func([]space.Box) []space.Box) []draft {
	var sets picked
	for i := range pieces {
		if !pieces[i].free {
			sets.pick(pieces[i].passes)
		}
	}
	different := slices.DeleteFunc(slices.Sorted(slices.Values(sets.take())), func(set int32) bool { return set == 0 })
	one := func(atoms *bitset.BitSet, of []int32) draft {
		boxes := u.services(atoms)
		if boxes == nil {
			boxes = []space.Box{config.Anything}
		}
		return draft{out, boxes, u.peersOf(pieces, of), atoms, func() {
			for i := range pieces {
				if !pieces[i].free && slices.Contains(of, pieces[i].passes) {
					pieces[i].ask(u.grounds)
				}
			}
		}}
	}
	bySet := make([]draft, len(different))
	for i, set := range different {
		bySet[i] = one(u.sets.At(set), different[i:i+1])
	}
	if len(different) > 1 {
		var byService []draft
		for _, l := range u.layersOf(different) {
			byService = append(byService, one(l.atoms, l.of))
		}
		if written(byService, services) < written(bySet, services) {
			bySet = byService
		}
	}
	slices.SortFunc(bySet, func(a, b draft) int { return slices.CompareFunc(a.services, b.services, compareBoxes) })
	for _, d := range bySet {
		d.services = services(d.services)
		drafts = append(drafts, d)
	}
	return drafts
}

// layer is atoms that are in the same ones of some sets.
type layer struct {
	atoms *bitset.BitSet
	of    []int32 // the numbers of the sets
}

// layersOf returns the atoms of some sets, layer by layer.
func (u *unit) layersOf(sets []int32) []layer {
	key := lists.Key32(sets)
	if known, ok := u.scratch.layers[key]; ok {
		return known
	}
	var out []layer
	for _, atoms := range cover.Fold(u.s.Atoms.Len(), func(atom int) string {
		key := make([]byte, len(sets))
		for i, set := range sets {
			if u.sets.At(set).Test(uint(atom)) {
				key[i] = 1
			}
		}
		return string(key)
	}) {
		l := layer{atoms: bitset.New(uint(u.s.Atoms.Len()))}
		for _, atom := range atoms {
			l.atoms.Set(uint(atom))
		}
		for _, set := range sets {
			if u.sets.At(set).Test(uint(atoms[0])) {
				l.of = append(l.of, set)
			}
		}
		if len(l.of) > 0 {
			out = append(out, l)
		}
	}
	u.scratch.layers[key] = out
	return out
}

// peersOf returns the fewest prefixes that have the addresses of pieces, which are in order, for
// which what passes is one of some sets, and of others only what is free. They stand until the next
// workload.
func (u *unit) peersOf(pieces []piece, of []int32) []netip.Prefix {
	from, free := len(u.scratch.peers), false
	var last intervals.Range
	put := func() {
		if last.From.IsValid() {
			u.scratch.peers = netipx.IPRangeFrom(last.From, last.To).AppendPrefixes(u.scratch.peers)
		}
	}
	for i := range pieces {
		p := &pieces[i]
		free = free || p.free
		if p.free || p.passes != of[0] && !slices.Contains(of[1:], p.passes) {
			continue
		}
		if last.From.IsValid() && touch(last, p.Range) {
			if last.To.Compare(p.To) < 0 {
				last.To = p.To
			}
			continue
		}
		put()
		last = p.Range
	}
	put()
	out := u.scratch.peers[from:len(u.scratch.peers):len(u.scratch.peers)]
	if free && len(out) > 1 {
		out = widened(out, u.stops(pieces, of), 1)
	}
	return out
}

// touch reports whether a range begins in another that begins before it, or right behind that.
func touch(last, next intervals.Range) bool {
	return last.To.BitLen() == next.From.BitLen() && (last.To.Next() == next.From || last.To.Compare(next.From) >= 0)
}

// stops returns all addresses but those of pieces, which are in order, that are free or pass one of
// some sets.
func (u *unit) stops(pieces []piece, of []int32) []intervals.Range {
	var open []intervals.Range
	for i := range pieces {
		if p := &pieces[i]; p.free || slices.Contains(of, p.passes) {
			open = append(open, p.Range)
		}
	}
	open = merged(open)
	var out []intervals.Range
	for _, p := range paths.Everything() {
		out = append(out, less(rangeOf(p), open)...)
	}
	slices.SortFunc(out, func(a, b intervals.Range) int { return a.From.Compare(b.From) })
	return out
}
