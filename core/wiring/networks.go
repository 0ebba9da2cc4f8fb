package wiring

import (
	"cmp"
	"fmt"
	"slices"

	"bivium/core/estate"
)

func (b *bench) live() error {
	n, err := b.network()
	if err != nil {
		return err
	}
	if b.edit.Segment != "" {
		if err := b.segment("segment", b.edit.Segment); err != nil {
			return err
		}
	}
	if b.edit.Subnet == "" {
		n.Segment = b.edit.Segment
		for i := range n.Subnets {
			n.Subnets[i].Segment = ""
		}
		return nil
	}
	i := slices.IndexFunc(n.Subnets, func(s estate.Subnet) bool { return s.Name == b.edit.Subnet })
	if i < 0 {
		return b.missing("subnet", "subnet", n.Name+"/"+b.edit.Subnet)
	}
	if n.Segment != "" { // each subnet says its own from now on
		for k := range n.Subnets {
			n.Subnets[k].Segment = n.SegmentOf(&n.Subnets[k])
		}
		n.Segment = ""
	}
	n.Subnets[i].Segment = b.edit.Segment
	return nil
}

func (b *bench) attach() error {
	if _, err := b.network(); err != nil {
		return err
	}
	if err := b.hub("hub", b.edit.Hub); err != nil {
		return err
	}
	if b.edit.Cost < 0 {
		return b.fault("cost", "a cost must be 0 or more", "use 0 or more")
	}
	mine(b, "attachments", &b.e.Attachments)
	if slices.ContainsFunc(b.e.Attachments, func(a estate.Attachment) bool { return b.attached(&a) }) {
		a, err := b.attachment()
		if err == nil {
			a.Cost, a.Uplink = b.edit.Cost, b.edit.Uplink
		}
		return err
	}
	b.e.Attachments = append(b.e.Attachments, estate.Attachment{Network: b.edit.Network, Hub: b.edit.Hub, Cost: b.edit.Cost, State: "up", Uplink: b.edit.Uplink})
	return nil
}

// detach takes the network off the hub, however often it is attached there.
func (b *bench) detach() error {
	if _, err := b.attachmentWith(func(*estate.Attachment) bool { return false }); err != nil {
		return err
	}
	b.e.Attachments = slices.DeleteFunc(b.e.Attachments, func(a estate.Attachment) bool { return b.attached(&a) })
	return nil
}

func (b *bench) bring() error {
	a, err := b.attachment()
	if err != nil {
		return err
	}
	if err := b.segment("segment", b.edit.Segment); err != nil {
		return err
	}
	s := estate.Static{Prefix: b.edit.Prefix, Segment: b.edit.Segment}
	if err := b.prefixes("prefix", s.Prefix); err != nil {
		return err
	}
	if !slices.Contains(a.Static, s) {
		a.Static = append(a.Static, s)
	}
	return nil
}

func (b *bench) withdraw() error {
	s := estate.Static{Prefix: b.edit.Prefix, Segment: b.edit.Segment}
	a, err := b.attachmentWith(func(a *estate.Attachment) bool { return slices.Contains(a.Static, s) })
	if err != nil {
		return err
	}
	if !slices.Contains(a.Static, s) {
		return b.missing("prefix", "static prefix", s.Prefix.String())
	}
	a.Static = slices.DeleteFunc(a.Static, func(x estate.Static) bool { return x == s })
	return nil
}

func (b *bench) setRoute() error {
	n, err := b.network()
	if err != nil {
		return err
	}
	if err := b.prefixes("prefix", b.edit.Prefix); err != nil {
		return err
	}
	via, err := estate.ParseVia(string(b.edit.Via))
	if err != nil {
		return b.fault("via", err.Error(), "write hub, internet, none or peer:NAME")
	}
	if i := slices.IndexFunc(n.Routes, func(r estate.Route) bool { return r.To == b.edit.Prefix }); i >= 0 {
		n.Routes[i].Via = via
		return nil
	}
	n.Routes = append(n.Routes, estate.Route{To: b.edit.Prefix, Via: via})
	return nil
}

func (b *bench) dropRoute() error {
	n, err := b.network()
	if err != nil {
		return err
	}
	if !slices.ContainsFunc(n.Routes, func(r estate.Route) bool { return r.To == b.edit.Prefix }) {
		return b.missing("prefix", "route", b.edit.Prefix.String())
	}
	n.Routes = slices.DeleteFunc(n.Routes, func(r estate.Route) bool { return r.To == b.edit.Prefix })
	return nil
}

func (b *bench) peering() (*estate.Peering, error) {
	i := slices.IndexFunc(b.e.Peerings, func(p estate.Peering) bool {
		return p.Between == [2]string{b.edit.Network, b.edit.Other} || p.Between == [2]string{b.edit.Other, b.edit.Network}
	})
	if i < 0 {
		return nil, b.fault("other", fmt.Sprintf("networks %s and %s are not peered", b.edit.Network, b.edit.Other), "choose two peered networks")
	}
	mine(b, "peerings", &b.e.Peerings)
	return &b.e.Peerings[i], nil
}

func (b *bench) offerHub() error {
	p, err := b.peering()
	if err != nil {
		return err
	}
	if p.OffersHub != "" && p.OffersHub != b.edit.Network {
		return b.fault("network", fmt.Sprintf("%s already offers its hub, and only one side of a peering can", p.OffersHub), "stop offering that hub first")
	}
	p.OffersHub = b.edit.Network
	return nil
}

func (b *bench) refuseHub() error {
	p, err := b.peering()
	if err != nil {
		return err
	}
	if p.OffersHub == b.edit.Network {
		p.OffersHub = ""
	}
	return nil
}

func (b *bench) translate() error {
	a, err := b.attachment()
	if err != nil {
		return err
	}
	return b.putOutside(&a.Translate)
}

func (b *bench) untranslate() error {
	a, err := b.attachmentWith(func(a *estate.Attachment) bool { return slices.ContainsFunc(a.Translate, b.translatesSame) })
	if err != nil {
		return err
	}
	return b.dropOutside(&a.Translate, "translation of")
}

// putOutside adds what the edit shows under other addresses to a list, in place of
// what that said of the same.
func (b *bench) putOutside(list *[]estate.Translation) error {
	if err := b.segment("segment", b.edit.Segment); err != nil {
		return err
	}
	if err := cmp.Or(b.prefixes("prefix", b.edit.Prefix), b.prefixes("outside", b.edit.Outside)); err != nil {
		return err
	}
	t := estate.Translation{Inside: b.edit.Prefix, Outside: b.edit.Outside, Segment: b.edit.Segment}
	*list = append(slices.DeleteFunc(*list, b.translatesSame), t)
	return nil
}

// dropOutside takes it out.
func (b *bench) dropOutside(list *[]estate.Translation, kind string) error {
	if !slices.ContainsFunc(*list, b.translatesSame) {
		return b.missing("prefix", kind, b.edit.Prefix.String())
	}
	*list = slices.DeleteFunc(*list, b.translatesSame)
	return nil
}

func (b *bench) translatesSame(t estate.Translation) bool {
	return t.Inside == b.edit.Prefix && t.Segment == b.edit.Segment
}

func (b *bench) filter() error {
	a, err := b.attachment()
	if err != nil {
		return err
	}
	if err := cmp.Or(b.prefixes("accepts", b.edit.Accepts...), b.prefixes("announces", b.edit.Announces...)); err != nil {
		return err
	}
	a.Accepts, a.Announces = slices.Clone(b.edit.Accepts), slices.Clone(b.edit.Announces)
	return nil
}
