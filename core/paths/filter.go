package paths

import (
	"net/netip"
	"slices"

	"github.com/gaissmai/bart"
)

// filter returns a table of prefixes, nil for a list that is left out: such an attachment
// carries everything, and one with an empty list nothing (M13).
func filter(prefixes []netip.Prefix) *bart.Lite {
	if prefixes == nil {
		return nil
	}
	t := &bart.Lite{}
	for _, p := range prefixes {
		t.Insert(p)
	}
	return t
}

// Announces reports whether the hub tells the network the way to an address.
func (a *Attachment) Announces(to netip.Addr) bool {
	return a.announces == nil || a.announces.Contains(to)
}

// Accepts reports whether the hub takes from the network the way to an address.
func (a *Attachment) Accepts(to netip.Addr) bool { return a.accepts == nil || a.accepts.Contains(to) }

// carrying returns those of some attachments that pass a test; the list itself if
// all do.
func (n *Net) carrying(attachments []int, passes func(*Attachment) bool) []int {
	for k, i := range attachments {
		if !passes(&n.Attachments[i]) {
			out := slices.Clone(attachments[:k])
			for _, i := range attachments[k+1:] {
				if passes(&n.Attachments[i]) {
					out = append(out, i)
				}
			}
			return out
		}
	}
	return attachments
}

// eachFiltered calls f for the prefixes that the attachment is told of.
func (a *Attachment) eachFiltered(f func(netip.Prefix)) {
	for _, t := range []*bart.Lite{a.accepts, a.announces} {
		if t == nil {
			continue
		}
		for p := range t.All() {
			f(p)
		}
	}
}

// EachFiltered calls f for the prefixes that attachments are told to accept or to
// announce.
func (n *Net) EachFiltered(f func(netip.Prefix)) {
	for i := range n.Attachments {
		n.Attachments[i].eachFiltered(f)
	}
}
