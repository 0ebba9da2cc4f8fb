package hubs

import (
	"cmp"
	"slices"

	"bivium/core/native/plan"
)

// Networks are the networks that hubs call otherwise than the estate does: by the IDs of their
// providers, which stay when a network is renamed.
type Networks struct {
	ids   map[string]string // by name in the estate
	names map[string]string // by ID
}

// NetworksOf returns the networks of some IDs, by their names in the estate. Others keep their names.
func NetworksOf(ids map[string]string) Networks {
	n := Networks{ids, map[string]string{}}
	for name, id := range ids {
		n.names[id] = name
	}
	return n
}

// written returns a document as hubs have it, and read as the estate has it.
func (n *Networks) written(b *plan.Body) *plan.Body { return renamed(b, n.ids) }

func (n *Networks) read(b *plan.Body) *plan.Body { return renamed(b, n.names) }

// renamed returns a document with other names for some networks.
func renamed(b *plan.Body, to map[string]string) *plan.Body {
	if b == nil || len(to) == 0 {
		return b
	}
	other := func(name string) string { return cmp.Or(to[name], name) }
	out := *b
	if b.Hub != nil {
		h := *b.Hub
		h.Attachments = slices.Clone(h.Attachments)
		for i := range h.Attachments {
			h.Attachments[i].Network = other(h.Attachments[i].Network)
		}
		out.Hub = &h
	}
	out.Placements = slices.Clone(b.Placements)
	for i := range out.Placements {
		out.Placements[i].Network = other(out.Placements[i].Network)
	}
	slices.SortFunc(out.Placements, func(a, b plan.Placement) int {
		return cmp.Or(cmp.Compare(a.Network, b.Network), cmp.Compare(a.Subnet, b.Subnet))
	})
	return &out
}
