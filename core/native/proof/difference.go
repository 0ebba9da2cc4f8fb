package proof

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"github.com/bits-and-blooms/bitset"
	"go4.org/netipx"

	"bivium/core/intervals"
	"bivium/core/native/reader"
	"bivium/core/verdict"
)

// differing is a difference as it is gathered.
type differing struct {
	Difference
	from, dest []intervals.Range
	atoms      *bitset.BitSet
}

// note adds flows to those that differ: flows of two pieces first, which are joined at the end.
func (p *prover) note(f *verdict.Flow, src, dst *piece, atom int32, meant, found *reader.Fate) {
	d := Difference{From: f.Segment, To: verdict.Internet, Witness: *f, Meant: *meant, Found: *found, Change: changeOf(meant, found)}
	if dst.class.Internal() {
		d.To = p.s.Net.Segments[dst.class.End.Segment]
	}
	if !found.Delivered && found.Blocked == "" {
		d.Blur = p.r.BlurOf(f)
	}
	seen := dst.own
	if src.class.Internal() && dst.class.Internal() {
		first := p.seenFrom(dst, src.class.End.Segment)
		seen = intervals.Range{From: first, To: offset(dst.own.To, dst.own.From, first)}
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	key := fmt.Sprint(d.From, d.To, d.Change, d.Blur, meant, found, f.Publication, src.own, seen)
	x, known := p.found[key]
	if !known {
		x = &differing{Difference: d, from: []intervals.Range{src.own}, dest: []intervals.Range{seen}, atoms: bitset.New(uint(p.s.Atoms.Len()))}
		p.found[key] = x
	}
	if first, some := x.atoms.NextSet(0); some && uint(atom) < first {
		x.Witness = *f // the same one, in whatever order flows are looked at
	}
	x.atoms.Set(uint(atom))
}

func changeOf(meant, found *reader.Fate) Change {
	switch {
	case !meant.Delivered && found.Delivered:
		return Opened
	case meant.Delivered && !found.Delivered:
		return Closed
	case found.Delivered && slices.ContainsFunc(meant.Pools, func(pool string) bool { return !slices.Contains(found.Pools, pool) }):
		return Past
	}
	return Others
}

// proof returns what was found: pairs of pieces that differ alike are joined, first those of one
// source, then those with the same destinations.
func (p *prover) proof() *Proof {
	var all []*differing
	for _, x := range p.found {
		all = append(all, x)
	}
	alike := func(x *differing) string {
		return fmt.Sprint(x.From, x.To, x.Change, x.Blur, x.Meant, x.Found, x.Witness.Publication, x.atoms.String())
	}
	slices.SortFunc(all, func(a, b *differing) int {
		return cmp.Or(a.from[0].From.Compare(b.from[0].From), a.dest[0].From.Compare(b.dest[0].From), strings.Compare(alike(a), alike(b)))
	})
	all = join(all, func(x *differing) string { return alike(x) + fmt.Sprint(x.from) }, func(a, b *differing) { a.dest = append(a.dest, b.dest...) })
	all = join(all, func(x *differing) string { return alike(x) + fmt.Sprint(x.dest) }, func(a, b *differing) { a.from = append(a.from, b.from...) })
	out := &Proof{Incomplete: p.incomplete, Differences: p.routed, Unheld: p.unheldAt, of: p.of, read: p.r, cuts: p.cuts, looked: p.looks, differs: len(p.found) > 0}
	slices.SortFunc(out.Unheld, func(a, b Unheld) int {
		return cmp.Or(strings.Compare(a.Network, b.Network), slices.CompareFunc(a.Prefixes, b.Prefixes, netip.Prefix.Compare))
	})
	for _, x := range all {
		x.Sources, x.Destinations, x.Services = words(prefixes(x.from)), words(prefixes(x.dest)), p.s.Atoms.Union(x.atoms)
		if x.Blur != reader.Sharp {
			out.Stricter = append(out.Stricter, x.Difference)
		} else {
			out.Differences = append(out.Differences, x.Difference)
		}
	}
	return out
}

// join merges those that have the same key into the first of them.
func join(all []*differing, key func(*differing) string, merge func(into, from *differing)) []*differing {
	first := map[string]*differing{}
	var out []*differing
	for _, x := range all {
		k := key(x)
		if f, known := first[k]; known {
			merge(f, x)
			continue
		}
		first[k] = x
		out = append(out, x)
	}
	return out
}

func prefixes(ranges []intervals.Range) []netip.Prefix {
	var b netipx.IPSetBuilder
	for _, r := range ranges {
		b.AddRange(netipx.IPRangeFrom(r.From, r.To))
	}
	set, err := b.IPSet()
	if err != nil {
		return nil // ranges are of one family each
	}
	return set.Prefixes()
}

func words(p []netip.Prefix) []string {
	out := make([]string, len(p))
	for i := range p {
		out[i] = p[i].String()
	}
	return out
}
