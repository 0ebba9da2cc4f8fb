package view

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"go4.org/netipx"

	"bivium/core/estate"
	"bivium/core/paths"
	"bivium/core/wiring"
)

// Remedies finds edits of the wiring that fix faults of addresses used twice.
type Remedies struct {
	E    *estate.Estate
	Net  *paths.Net
	free map[bool]*netipx.IPSet // by whether of IPv4: what can be given out; found when it is asked for
}

// RemediesFor returns what would keep apart the networks that are placed and what is there:
// where it is attached, or where a share would bring it.
func (r *Remedies) RemediesFor(networks map[string]bool, x *Refusal) []Remedy {
	var out []Remedy
	refs := x.Fault.Refs
	switch x.Fault.Code {
	case estate.Overlap:
	case estate.ForbiddenShare: // it speaks of shares: what is placed is what they would bring
		refs = r.subnetsOf(networks)
		out = r.showing(&x.Fault)
	default:
		return []Remedy{}
	}
	refs = slices.DeleteFunc(slices.Clone(refs), func(ref estate.Ref) bool {
		network, _, _ := strings.Cut(ref.Name, "/")
		return !networks[network]
	})
	return distinct(append(out, r.translating(refs)...))
}

// of returns what would fix a fault that an estate has: either of what overlaps can be
// translated, and what a share may not bring can be shown under other addresses.
func (r *Remedies) of(f *estate.Fault) []Remedy {
	switch f.Code {
	case estate.Overlap:
		return distinct(r.translating(f.Refs))
	case estate.ForbiddenShare:
		return distinct(r.showing(f))
	}
	return []Remedy{}
}

func distinct(list []Remedy) []Remedy {
	out := []Remedy{}
	for _, m := range list {
		if !slices.ContainsFunc(out, func(o Remedy) bool { return o.Words == m.Words }) {
			out = append(out, m)
		}
	}
	return out
}

// translating returns translations of those things that are subnets of attached networks.
func (r *Remedies) translating(refs []estate.Ref) []Remedy {
	var out []Remedy
	for _, ref := range refs {
		name, subnet, _ := strings.Cut(ref.Name, "/")
		n := slices.IndexFunc(r.E.Networks, func(n estate.Network) bool { return n.Name == name })
		if ref.Kind != estate.KindSubnet || n < 0 {
			continue
		}
		network := &r.E.Networks[n]
		k := slices.IndexFunc(network.Subnets, func(s estate.Subnet) bool { return s.Name == subnet })
		if k < 0 {
			continue
		}
		s := &network.Subnets[k]
		segment := network.SegmentOf(s)
		free, ok := r.freePrefix(s.Prefix)
		if !ok {
			continue
		}
		m := Remedy{Words: fmt.Sprintf("translate %s for %s to %s", ref.Name, segment, free)}
		for _, a := range r.E.Attachments {
			if a.Network == name {
				m.Edits = append(m.Edits, wiring.Edit{Op: wiring.Translate, Network: name, Hub: a.Hub, Segment: segment, Prefix: s.Prefix, Outside: free})
			}
		}
		if len(m.Edits) > 0 {
			out = append(out, m)
		}
	}
	return out
}

// showing returns the edit that lets a forbidden share show what it would bring
// under other addresses: those of the home that the address of the fault has.
func (r *Remedies) showing(f *estate.Fault) []Remedy {
	at := slices.IndexFunc(r.E.Shares, func(s estate.Share) bool { return s.Name == f.Refs[0].Name })
	if at < 0 || !f.At.IsValid() {
		return nil
	}
	s := &r.E.Shares[at]
	of, to := s.Owner.Segment, s.Guest.Segment
	if strings.HasSuffix(f.Path, ".guest") {
		of, to = to, of
	}
	home, ok := r.Net.Home(r.Net.Segment(of), f.At)
	if !ok {
		return nil
	}
	inside := home.Prefix.Masked()
	if slices.ContainsFunc(s.Show, func(t estate.Translation) bool { return t.Segment == of && t.Inside.Overlaps(inside) }) {
		return nil // it is shown already, and that is what is in the way
	}
	free, ok := r.freePrefix(inside)
	if !ok {
		return nil
	}
	return []Remedy{{
		Words: fmt.Sprintf("in share %s, translate %s of %s for %s to %s", s.Name, inside, of, to, free),
		Edits: []wiring.Edit{{Op: wiring.Show, Name: s.Name, Segment: of, Prefix: inside, Outside: free}},
	}}
}

// subnetsOf returns the subnets of some networks that are in segments.
func (r *Remedies) subnetsOf(networks map[string]bool) []estate.Ref {
	var out []estate.Ref
	for i := range r.E.Networks {
		n := &r.E.Networks[i]
		for k := range n.Subnets {
			if networks[n.Name] && n.SegmentOf(&n.Subnets[k]) != "" {
				out = append(out, estate.Ref{Kind: estate.KindSubnet, Name: n.Name + "/" + n.Subnets[k].Name})
			}
		}
	}
	return out
}

// setAside are the addresses that are set aside for translation, by whether of IPv4:
// shared address space (RFC 6598), and local addresses with a global ID that is nobody's
// (RFC 4193).
var setAside = map[bool]netip.Prefix{true: netip.MustParsePrefix("100.64.0.0/10"), false: netip.MustParsePrefix("fd64:6276:6d00::/40")}

// freePrefix returns the first prefix of the size of another, among those set
// aside for translation, that nothing of any segment overlaps, for shares may bring it.
func (r *Remedies) freePrefix(as netip.Prefix) (netip.Prefix, bool) {
	four := as.Addr().Is4()
	if as.Bits() < setAside[four].Bits() {
		return netip.Prefix{}, false
	}
	if r.free == nil {
		r.free = map[bool]*netipx.IPSet{true: r.freeOf(true), false: r.freeOf(false)}
	}
	if r.free[four] == nil {
		return netip.Prefix{}, false
	}
	p, _, ok := r.free[four].RemoveFreePrefix(uint8(as.Bits()))
	return p, ok
}

// freeOf returns what is free of what is set aside, or nil.
func (r *Remedies) freeOf(four bool) *netipx.IPSet {
	var free netipx.IPSetBuilder
	free.AddPrefix(setAside[four])
	for i := range r.Net.Segments {
		r.Net.EachHomePrefix(i, free.RemovePrefix)
	}
	for i := range r.E.Shares {
		for _, t := range r.E.Shares[i].Show {
			free.RemovePrefix(t.Outside)
		}
	}
	set, err := free.IPSet()
	if err != nil {
		return nil
	}
	return set
}

// Remedy is edits that fix something.
type Remedy struct {
	Words string        `json:"words"`
	Edits []wiring.Edit `json:"edits"`
}

// Refusal is a fault that an edit would bring, with its remedies.
type Refusal struct {
	At       string   `json:"at"` // the field of the edit that brings it, "" where that is not one of its own
	Code     string   `json:"code"`
	Message  string   `json:"message"`
	Fix      string   `json:"fix"`
	Refs     []Thing  `json:"refs"`
	Prefixes []string `json:"prefixes"` // the prefixes that overlap, where some do
	Remedies []Remedy `json:"remedies"` // edits that, made too, would avoid it

	Fault estate.Fault `json:"-"`
}
