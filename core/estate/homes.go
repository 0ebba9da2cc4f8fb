package estate

import (
	"fmt"
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

// homes reports F2, overlapping homes in one segment, and F8, overlapping
// subnets in one network. Each overlapping pair is reported once.
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
		for j := range n.Subnets {
			s := &n.Subnets[j]
			cl := claim{n.Name, s.Prefix, true, false, "networks[%d].subnets[%d].prefix", [2]int{i, j}, Ref{KindSubnet, n.Name + "/" + s.Name}, false}
			own = append(own, cl)
			if shown, ok := Shown(translated[n.Name], n.SegmentOf(s), s.Prefix); ok {
				cl.prefix, cl.translated = shown, true
			}
			put(n.SegmentOf(s), cl)
		}
		eachOverlap(own, func(a, b claim) {
			c.add(OverlapInside, []Ref{b.ref, a.ref}, "give one of them another prefix",
				fmt.Sprintf("subnets %s (%s) and %s (%s) of one network overlap", a.ref.Name, a.prefix, b.ref.Name, b.prefix), "%s", b.path())
		})
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
		eachOverlap(claims, func(a, b claim) {
			if a.network == b.network && a.subnet && b.subnet && (a.translated || b.translated) {
				c.add(BadTranslation, []Ref{b.ref, a.ref}, "translate to addresses that the network does not have there",
					fmt.Sprintf("in segment %s, %s and %s of one network would both be seen as %s", segment, a.ref, b.ref, b.prefix), "%s", b.path())
			}
			if c.overlapIsFault(a, b, subnets) {
				c.add(Overlap, []Ref{b.ref, a.ref}, "move one to another segment, give it another prefix, translate it, or withdraw the route",
					fmt.Sprintf("in segment %s, %s (%s) and %s (%s) both claim the same addresses", segment, a.ref, a.prefix, b.ref, b.prefix), "%s", b.path())
			}
		})
	}
}

// looksAt reports whether the homes of a segment are looked at.
func (c *checker) looksAt(segment string) bool { return c.only == nil || c.only[segment] }

// overlapIsFault decides F2 for two overlapping claims of one segment.
func (c *checker) overlapIsFault(a, b claim, subnets func() *netipx.IPSet) bool {
	switch {
	case a.network == b.network:
		return false
	case a.subnet && b.subnet:
		return true
	case !a.subnet && !b.subnet:
		// The narrower of two prefixes that overlap is the overlap.
		narrow := a.prefix
		if b.prefix.Bits() > narrow.Bits() {
			narrow = b.prefix
		}
		return !subnets().ContainsPrefix(narrow)
	}
	bearer, home := a, b
	if a.subnet {
		bearer, home = b, a
	}
	return !bearer.static || !c.peered[unordered([2]string{bearer.network, home.network})]
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

// eachOverlap calls f for each two claims whose prefixes overlap, the wider
// first. Sorted by address and then by width, a prefix comes after all that
// contain it, so a stack of open prefixes finds the pairs. Cost: O(n log n)
// plus the pairs.
func eachOverlap(claims []claim, f func(a, b claim)) {
	sorted := slices.Clone(claims)
	slices.SortStableFunc(sorted, func(a, b claim) int { return ComparePrefixes(a.prefix, b.prefix) })
	var open []claim
	for _, b := range sorted {
		for len(open) > 0 && !open[len(open)-1].prefix.Overlaps(b.prefix) {
			open = open[:len(open)-1]
		}
		for _, a := range open {
			f(a, b)
		}
		open = append(open, b)
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
