package estate

import (
	"fmt"
	"iter"
	"maps"
	"net/netip"
	"slices"
	"sync"

	"go4.org/netipx"
)

// claim is one prefix by which a network claims to be the home of addresses in
// a segment (M2.1).
type claim struct {
	network string
	prefix  netip.Prefix
	subnet  bool
	static  bool
	form    string // of its path, with two numbers
	at      [2]int
	ref     Ref

	translated bool
}

func (c *claim) path() string { return fmt.Sprintf(c.form, c.at[0], c.at[1]) }

// String returns what claims, and which prefix.
func (c *claim) String() string { return fmt.Sprintf("%s (%s)", c.ref, c.prefix) }

// homes reports F2, overlapping homes in one segment, F8, overlapping subnets in one
// network, and F14, subnets of one network that are seen under the same prefix. Each claim
// is reported once, with those before it that it overlaps.
func (c *checker) homes() {
	bySegment := map[string][]claim{}
	var segments []string
	put := func(segment string, cl claim) {
		if segment == "" || !c.looksAt(segment) {
			return
		}
		if _, ok := bySegment[segment]; !ok {
			segments = append(segments, segment)
		}
		bySegment[segment] = append(bySegment[segment], cl)
	}
	translated := translations(c.e)
	for i := range c.e.Networks {
		n := &c.e.Networks[i]
		if !slices.ContainsFunc(n.Subnets, func(s Subnet) bool { return c.looksAt(n.SegmentOf(&s)) }) {
			continue
		}
		var own []claim
		seen := map[string][]claim{} // by segment
		for j := range n.Subnets {
			s := &n.Subnets[j]
			cl := claim{n.Name, s.Prefix, true, false, "networks[%d].subnets[%d].prefix", [2]int{i, j}, Ref{KindSubnet, n.Name + "/" + s.Name}, false}
			own = append(own, cl)
			if shown, ok := Shown(translated[n.Name], n.SegmentOf(s), s.Prefix); ok {
				cl.prefix, cl.translated = shown, true
			}
			put(n.SegmentOf(s), cl)
			if c.looksAt(n.SegmentOf(s)) {
				seen[n.SegmentOf(s)] = append(seen[n.SegmentOf(s)], cl)
			}
		}
		eachInside(own, func(b *claim, wider []claimed) {
			c.clash(OverlapInside, "", b, everyOf(wider))
		})
		if len(translated[n.Name]) > 0 {
			c.seenAlike(seen)
		}
	}
	for i, a := range c.e.Attachments {
		of := Ref{KindAttachment, a.Network + "@" + a.Hub}
		for j, s := range a.Static {
			put(s.Segment, claim{a.Network, s.Prefix, false, true, "attachments[%d].static[%d].prefix", [2]int{i, j}, of, false})
		}
		for j, l := range a.Learned {
			if l.Claims() {
				put(l.Segment, claim{a.Network, l.Prefix, false, false, "attachments[%d].learned[%d].prefix", [2]int{i, j}, of, false})
			}
		}
	}
	for _, segment := range segments {
		claims := bySegment[segment]
		subnets := sync.OnceValue(func() *netipx.IPSet { return subnetSet(claims) })
		eachInside(claims, func(b *claim, wider []claimed) {
			c.clash(Overlap, segment, b, c.othersOf(b, wider, subnets))
		})
	}
}

// seenAlike reports subnets of one network that a segment sees under addresses in common.
func (c *checker) seenAlike(seen map[string][]claim) {
	for _, segment := range slices.Sorted(maps.Keys(seen)) {
		eachInside(seen[segment], func(b *claim, wider []claimed) {
			some := everyOf(wider)
			if !b.translated {
				some = translatedOf(wider)
			}
			c.clash(BadTranslation, segment, b, some)
		})
	}
}

// Clash is what tells a fault of overlapping addresses from others, whatever else an edit
// changes.
type Clash struct {
	Of   string   // what claims the addresses, and where
	With []string // the first of those that do so too
	More bool     // there are others
}

// mostNamed is how many things a fault names of those that overlap with one.
const mostNamed = 8

// clash reports a claim that overlaps with some before it.
func (c *checker) clash(code Code, segment string, b *claim, some iter.Seq[*claim]) {
	var with []*claim
	for a := range some {
		if with = append(with, a); len(with) > mostNamed {
			break
		}
	}
	if len(with) == 0 {
		return
	}
	clash := &Clash{Of: fmt.Sprint(segment, " ", b), More: len(with) > mostNamed}
	refs, names, prefixes := []Ref{b.ref}, []string{segment, b.String()}, []netip.Prefix(nil)
	for _, a := range with[:min(len(with), mostNamed)] {
		refs, names, prefixes = append(refs, a.ref), append(names, a.String()), append(prefixes, a.prefix)
		clash.With = append(clash.With, fmt.Sprint(segment, " ", a))
	}
	c.add(code, Overlapping, refs, names, "%s", b.path())
	f := &c.faults[len(c.faults)-1]
	f.Clash, f.Prefixes = clash, append(prefixes, b.prefix)
}

// looksAt reports whether the homes of a segment are looked at.
func (c *checker) looksAt(segment string) bool { return c.only == nil || c.only[segment] }

// othersOf returns the claims of other networks, of those before b that hold its prefix,
// with which it may not overlap (F2).
func (c *checker) othersOf(b *claim, wider []claimed, subnets func() *netipx.IPSet) iter.Seq[*claim] {
	mayBear := func(bearer, home *claim) bool {
		return bearer.static && c.peered[unordered([2]string{bearer.network, home.network})]
	}
	return func(yield func(*claim) bool) {
		for i := range wider {
			x := &wider[i]
			if !x.subnets.others(b.network, func(a *claim) bool { return !b.subnet && mayBear(b, a) || yield(a) }) {
				return
			}
			if !b.subnet && subnets().ContainsPrefix(b.prefix) { // which is what overlaps
				continue
			}
			if !x.borne.others(b.network, func(a *claim) bool { return b.subnet && mayBear(a, b) || yield(a) }) {
				return
			}
		}
	}
}

func subnetSet(claims []claim) *netipx.IPSet {
	var b netipx.IPSetBuilder
	for _, cl := range claims {
		if cl.subnet {
			b.AddPrefix(cl.prefix)
		}
	}
	set, err := b.IPSet()
	if err != nil { // prefixes are checked when they are read
		panic("estate: " + err.Error())
	}
	return set
}

// claimed is what claims one prefix.
type claimed struct {
	prefix         netip.Prefix
	subnets, borne runs
	translated     []*claim // subnets that are
}

func (x *claimed) add(b *claim) {
	if !b.subnet {
		x.borne.add(b)
		return
	}
	x.subnets.add(b)
	if b.translated {
		x.translated = append(x.translated, b)
	}
}

// runs are claims in their order, those of one network that follow each other together.
type runs [][]*claim

func (r *runs) add(b *claim) {
	if n := len(*r) - 1; n >= 0 && (*r)[n][0].network == b.network {
		(*r)[n] = append((*r)[n], b)
		return
	}
	*r = append(*r, []*claim{b})
}

// others calls f for the claims of networks other than one, until it returns false.
func (r runs) others(network string, f func(*claim) bool) bool {
	for _, run := range r {
		if run[0].network != network && slices.ContainsFunc(run, func(a *claim) bool { return !f(a) }) {
			return false
		}
	}
	return true
}

// everyOf returns all subnets of some prefixes.
func everyOf(wider []claimed) iter.Seq[*claim] {
	return func(yield func(*claim) bool) {
		for i := range wider {
			if !wider[i].subnets.others("", yield) {
				return
			}
		}
	}
}

// translatedOf returns those that are translated.
func translatedOf(wider []claimed) iter.Seq[*claim] {
	return func(yield func(*claim) bool) {
		for i := range wider {
			if slices.ContainsFunc(wider[i].translated, func(a *claim) bool { return !yield(a) }) {
				return
			}
		}
	}
}

// eachInside calls f for each claim, with those before it whose prefixes hold its own.
// Sorted by address and then by width, a prefix comes after all that hold it, so a stack of
// open prefixes finds them. Cost: O(n log n), and what f does.
func eachInside(claims []claim, f func(b *claim, wider []claimed)) {
	sorted := slices.Clone(claims)
	slices.SortStableFunc(sorted, func(a, b claim) int { return ComparePrefixes(a.prefix, b.prefix) })
	var open []claimed
	for i := range sorted {
		b := &sorted[i]
		for len(open) > 0 && !open[len(open)-1].prefix.Overlaps(b.prefix) {
			open = open[:len(open)-1]
		}
		if len(open) > 0 {
			f(b, open)
		}
		if len(open) == 0 || open[len(open)-1].prefix != b.prefix {
			open = append(open, claimed{prefix: b.prefix})
		}
		open[len(open)-1].add(b)
	}
}

// ComparePrefixes orders prefixes by address, IPv4 first, and then the wider
// before the narrower.
func ComparePrefixes(a, b netip.Prefix) int {
	if c := a.Addr().Compare(b.Addr()); c != 0 {
		return c
	}
	return a.Bits() - b.Bits()
}
