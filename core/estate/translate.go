package estate

import (
	"fmt"
	"net/netip"
)

// Image returns the prefix under which a translation shows another, if that lies
// within its inside (M12.1, M12.2).
func (t *Translation) Image(p netip.Prefix) (netip.Prefix, bool) {
	if t.Inside.Bits() > p.Bits() || !t.Inside.Contains(p.Addr()) {
		return netip.Prefix{}, false
	}
	return netip.PrefixFrom(Rebase(p.Addr(), t.Outside), p.Bits()), true
}

// Rebase returns the address that has the network part of a prefix, and the rest
// of another address of its family.
func Rebase(a netip.Addr, onto netip.Prefix) netip.Addr {
	from, to := a.AsSlice(), onto.Addr().AsSlice()
	for i := range from {
		mask := byte(0)
		if left := onto.Bits() - 8*i; left >= 8 {
			mask = 0xff
		} else if left > 0 {
			mask = 0xff << (8 - left)
		}
		from[i] = from[i]&^mask | to[i]&mask
	}
	out, _ := netip.AddrFromSlice(from)
	return out
}

// translations are those of the attachments of each network.
func translations(e *Estate) map[string][]Translation {
	out := map[string][]Translation{}
	for i := range e.Attachments {
		a := &e.Attachments[i]
		out[a.Network] = append(out[a.Network], a.Translate...)
	}
	return out
}

// Shown returns the prefix under which a segment sees a subnet of it (M12.2), given
// the translations of its network.
func Shown(all []Translation, segment string, subnet netip.Prefix) (netip.Prefix, bool) {
	for i := range all {
		if all[i].Segment == segment && all[i].Sound() {
			if p, ok := all[i].Image(subnet); ok {
				return p, true
			}
		}
	}
	return subnet, false
}

// Sound reports whether both prefixes are of one family and length, and not the same
// (M12.1).
func (t *Translation) Sound() bool {
	return t.Inside.Addr().Is4() == t.Outside.Addr().Is4() && t.Inside.Bits() == t.Outside.Bits() && t.Inside != t.Outside
}

// unsound returns the form of what is wrong with a translation that is not sound.
func (t *Translation) unsound() Form {
	if t.Inside == t.Outside {
		return SamePrefix
	}
	return OtherLength
}

// translate reports F14.
func (c *checker) translate() {
	type placed struct {
		Translation
		path string
		ref  Ref
	}
	of := map[string][]placed{}
	for i := range c.e.Attachments {
		a := &c.e.Attachments[i]
		ref := Ref{KindAttachment, a.Network + "@" + a.Hub}
		for k, t := range a.Translate {
			path := fmt.Sprintf("attachments[%d].translate[%d]", i, k)
			c.need(ref, KindSegment, t.Segment, "%s.segment", path)
			if !t.Sound() {
				c.add(BadTranslation, t.unsound(), []Ref{ref}, args(t.Inside, t.Outside), "%s", path+".outside")
				continue
			}
			of[a.Network] = append(of[a.Network], placed{t, path, ref})
		}
	}
	if len(of) == 0 {
		return
	}
	c.eachBorne(func(network, segment string, p netip.Prefix, at Ref, path string) {
		for _, t := range of[network] {
			if t.Segment == segment && t.Inside.Overlaps(p) {
				c.add(BadTranslation, Advertised, []Ref{at, t.ref}, args(p, segment, t.Inside), "%s", path)
			}
		}
	})
	for i := range c.e.Networks {
		n := &c.e.Networks[i]
		all := of[n.Name]
		for k := range all {
			t := &all[k]
			for _, o := range all[:k] {
				if t.Segment == o.Segment && t.Translation != o.Translation && (t.Inside.Overlaps(o.Inside) || t.Outside.Overlaps(o.Outside)) {
					c.add(BadTranslation, Conflict, []Ref{t.ref, o.ref}, args(t.Segment, n.Name, o.Inside, o.Outside, t.Inside, t.Outside), "%s", t.path)
				}
			}
			for x := range n.Subnets {
				s := &n.Subnets[x]
				if n.SegmentOf(s) == t.Segment && s.Prefix.Overlaps(t.Inside) && s.Prefix.Bits() < t.Inside.Bits() {
					c.add(BadTranslation, PartOfSubnet, []Ref{t.ref, {KindSubnet, n.Name + "/" + s.Name}}, args(t.Inside, s.Prefix), "%s", t.path+".inside")
				}
			}
		}
	}
}

// eachBorne calls f for each static and accepted learned prefix of an attachment.
func (c *checker) eachBorne(f func(network, segment string, p netip.Prefix, at Ref, path string)) {
	for i := range c.e.Attachments {
		a := &c.e.Attachments[i]
		at := Ref{KindAttachment, a.Network + "@" + a.Hub}
		for k, s := range a.Static {
			f(a.Network, s.Segment, s.Prefix, at, fmt.Sprintf("attachments[%d].static[%d].prefix", i, k))
		}
		for k, l := range a.Learned {
			if l.Status == "accepted" {
				f(a.Network, l.Segment, l.Prefix, at, fmt.Sprintf("attachments[%d].learned[%d].prefix", i, k))
			}
		}
	}
}
