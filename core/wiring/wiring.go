// Package wiring edits how an estate hangs together: where networks live and are
// attached, what routes they have, which hubs are linked. It is pure: an edit
// gives another estate, which shares with the first whatever it leaves alone.
package wiring

import (
	"fmt"
	"net/netip"
	"slices"

	"bivium/core/estate"
)

// Op is what an edit does.
type Op string

// The edits there are. What they need of an Edit is said beside them.
const (
	Live      Op = "live"       // Network, Subnet ("" for all of them), Segment ("" for none)
	Attach    Op = "attach"     // Network, Hub, Cost, Uplink; one that is there already gets this cost and uplink
	Detach    Op = "detach"     // Network, Hub
	Bring     Op = "bring"      // Network, Hub, Prefix, Segment: a static prefix
	Withdraw  Op = "withdraw"   // Network, Hub, Prefix, Segment
	Learn     Op = "learn"      // Network, Hub, Prefix, Segment, Status: of a learned prefix
	SetRoute  Op = "set-route"  // Network, Prefix, Via
	DropRoute Op = "drop-route" // Network, Prefix
	Link      Op = "link"       // Hub, Other, Cost; one that is there already gets this cost
	Unlink    Op = "unlink"     // Hub, Other
	OfferHub  Op = "offer-hub"  // Network, Other: Network offers its hub to Other, which it is peered with
	RefuseHub Op = "refuse-hub" // Network, Other
	OpenExit  Op = "open-exit"  // Name, Hub, Segments
	CloseExit Op = "close-exit" // Name
	// Translate shows a subnet, or all within a prefix, to a segment under other
	// addresses: Network, Hub, Segment, Prefix (inside), Outside.
	Translate   Op = "translate"
	Untranslate Op = "untranslate"  // Network, Hub, Segment, Prefix
	AddHub      Op = "add-hub"      // Name, Account, Region
	DropHub     Op = "drop-hub"     // Name
	AddSegment  Op = "add-segment"  // Name; it denies by default
	DropSegment Op = "drop-segment" // Name
	Filter      Op = "filter"       // Network, Hub, Accepts, Announces: empty for everything
)

// Edit is one edit of how an estate hangs together.
type Edit struct {
	Op        Op             `json:"op"`
	Network   string         `json:"network,omitempty"`
	Subnet    string         `json:"subnet,omitempty"`
	Segment   string         `json:"segment,omitempty"`
	Hub       string         `json:"hub,omitempty"`
	Other     string         `json:"other,omitempty"`
	Name      string         `json:"name,omitempty"`
	Account   string         `json:"account,omitempty"`
	Region    string         `json:"region,omitempty"`
	Segments  []string       `json:"segments,omitempty"`
	Cost      int            `json:"cost,omitempty"`
	Uplink    string         `json:"uplink,omitempty"`
	Prefix    netip.Prefix   `json:"prefix,omitzero"`
	Outside   netip.Prefix   `json:"outside,omitzero"`
	Accepts   []netip.Prefix `json:"accepts,omitempty"`
	Announces []netip.Prefix `json:"announces,omitempty"`
	Via       estate.Via     `json:"via,omitempty"`
	Status    string         `json:"status,omitempty"`
}

// Error is an edit that cannot be made.
type Error struct {
	At      int // the place of the edit among those given
	Key     string
	Message string
	Fix     string
}

// Error says what is wrong, and with which edit.
func (e *Error) Error() string { return fmt.Sprintf("edit %d, %s: %s", e.At+1, e.Key, e.Message) }

// Apply returns the estate after some edits, made in their order. An edit that
// speaks of what is not there is an Error, and nothing is changed.
func Apply(e *estate.Estate, edits []Edit) (*estate.Estate, error) {
	next := *e
	b := &bench{e: &next, own: map[string]bool{}}
	for i := range edits {
		b.at, b.edit = i, &edits[i]
		do, ok := doers[edits[i].Op]
		if !ok {
			return nil, b.fault("op", fmt.Sprintf("there is no edit %q", edits[i].Op), "write one that docs/formats.md lists")
		}
		if err := do(b); err != nil {
			return nil, err
		}
	}
	return &next, nil
}

// bench is an estate that is worked on. Lists are copied before they are changed
// for the first time.
type bench struct {
	e    *estate.Estate
	own  map[string]bool
	at   int
	edit *Edit
}

var doers = map[Op]func(*bench) error{
	Live: (*bench).live, Attach: (*bench).attach, Detach: (*bench).detach, Bring: (*bench).bring, Withdraw: (*bench).withdraw,
	Learn: (*bench).learn, SetRoute: (*bench).setRoute, DropRoute: (*bench).dropRoute, Link: (*bench).link, Unlink: (*bench).unlink,
	OfferHub: (*bench).offerHub, RefuseHub: (*bench).refuseHub, OpenExit: (*bench).openExit, CloseExit: (*bench).closeExit,
	Translate: (*bench).translate, Untranslate: (*bench).untranslate, Filter: (*bench).filter,
	AddHub: (*bench).addHub, DropHub: (*bench).dropHub, AddSegment: (*bench).addSegment, DropSegment: (*bench).dropSegment,
}

func (b *bench) fault(key, message, fix string) error {
	return &Error{At: b.at, Key: key, Message: message, Fix: fix}
}

func (b *bench) missing(key, kind, name string) error {
	return b.fault(key, fmt.Sprintf("there is no %s %q", kind, name), "name one that is there")
}

// mine copies a list the first time that it is changed.
func mine[T any](b *bench, name string, list *[]T) {
	if !b.own[name] {
		b.own[name] = true
		*list = slices.Clone(*list)
	}
}

// network returns a network to work on.
func (b *bench) network() (*estate.Network, error) {
	i := slices.IndexFunc(b.e.Networks, func(n estate.Network) bool { return n.Name == b.edit.Network })
	if i < 0 {
		return nil, b.missing("network", "network", b.edit.Network)
	}
	mine(b, "networks", &b.e.Networks)
	n := &b.e.Networks[i]
	if key := "network " + n.Name; !b.own[key] {
		b.own[key] = true
		n.Subnets, n.Routes = slices.Clone(n.Subnets), slices.Clone(n.Routes)
	}
	return n, nil
}

// attachment returns an attachment to work on.
func (b *bench) attachment() (*estate.Attachment, error) {
	i := slices.IndexFunc(b.e.Attachments, func(a estate.Attachment) bool { return a.Network == b.edit.Network && a.Hub == b.edit.Hub })
	if i < 0 {
		return nil, b.fault("hub", fmt.Sprintf("network %s is not attached to %s", b.edit.Network, b.edit.Hub), "attach it first")
	}
	mine(b, "attachments", &b.e.Attachments)
	a := &b.e.Attachments[i]
	if key := "attachment " + a.Network + "@" + a.Hub; !b.own[key] {
		b.own[key] = true
		a.Static, a.Learned, a.Translate = slices.Clone(a.Static), slices.Clone(a.Learned), slices.Clone(a.Translate)
	}
	return a, nil
}

func (b *bench) segment(key, name string) error {
	if !slices.ContainsFunc(b.e.Segments, func(s estate.Segment) bool { return s.Name == name }) {
		return b.missing(key, "segment", name)
	}
	return nil
}

func (b *bench) hub(key, name string) error {
	if !slices.ContainsFunc(b.e.Hubs, func(h estate.Hub) bool { return h.Name == name }) {
		return b.missing(key, "hub", name)
	}
	return nil
}

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
		return b.fault("cost", "a cost is 0 or more", "write 0 or more")
	}
	mine(b, "attachments", &b.e.Attachments)
	if a, err := b.attachment(); err == nil {
		a.Cost, a.Uplink = b.edit.Cost, b.edit.Uplink
		return nil
	}
	b.e.Attachments = append(b.e.Attachments, estate.Attachment{Network: b.edit.Network, Hub: b.edit.Hub, Cost: b.edit.Cost, State: "up", Uplink: b.edit.Uplink})
	return nil
}

func (b *bench) detach() error {
	if _, err := b.attachment(); err != nil {
		return err
	}
	b.e.Attachments = slices.DeleteFunc(b.e.Attachments, func(a estate.Attachment) bool {
		return a.Network == b.edit.Network && a.Hub == b.edit.Hub
	})
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
	if !s.Prefix.IsValid() || s.Prefix != s.Prefix.Masked() {
		return b.fault("prefix", "a prefix is an address and a length, without host bits", "write one such as 10.1.0.0/16")
	}
	if !slices.Contains(a.Static, s) {
		a.Static = append(a.Static, s)
	}
	return nil
}

func (b *bench) withdraw() error {
	a, err := b.attachment()
	if err != nil {
		return err
	}
	s := estate.Static{Prefix: b.edit.Prefix, Segment: b.edit.Segment}
	if !slices.Contains(a.Static, s) {
		return b.missing("prefix", "static prefix", s.Prefix.String())
	}
	a.Static = slices.DeleteFunc(a.Static, func(x estate.Static) bool { return x == s })
	return nil
}

func (b *bench) learn() error {
	a, err := b.attachment()
	if err != nil {
		return err
	}
	i := slices.IndexFunc(a.Learned, func(l estate.Learned) bool { return l.Prefix == b.edit.Prefix && l.Segment == b.edit.Segment })
	if i < 0 {
		return b.missing("prefix", "learned prefix", b.edit.Prefix.String())
	}
	if !slices.Contains([]string{"accepted", "waiting", "refused"}, b.edit.Status) {
		return b.fault("status", fmt.Sprintf("%q is no status", b.edit.Status), "write accepted, waiting or refused")
	}
	a.Learned[i].Status = b.edit.Status
	return nil
}

func (b *bench) setRoute() error {
	n, err := b.network()
	if err != nil {
		return err
	}
	if !b.edit.Prefix.IsValid() || b.edit.Prefix != b.edit.Prefix.Masked() {
		return b.fault("prefix", "a prefix is an address and a length, without host bits", "write one such as 10.1.0.0/16")
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

func (b *bench) link() error {
	for key, name := range map[string]string{"hub": b.edit.Hub, "other": b.edit.Other} {
		if err := b.hub(key, name); err != nil {
			return err
		}
	}
	if b.edit.Hub == b.edit.Other {
		return b.fault("other", "a link joins two hubs", "name another hub")
	}
	if b.edit.Cost < 1 {
		return b.fault("cost", "the cost of a link is 1 or more", "write 1 or more")
	}
	mine(b, "links", &b.e.Links)
	if i := b.linkAt(); i >= 0 {
		b.e.Links[i].Cost = b.edit.Cost
		return nil
	}
	b.e.Links = append(b.e.Links, estate.Link{Between: [2]string{b.edit.Hub, b.edit.Other}, Cost: b.edit.Cost, State: "up"})
	return nil
}

func (b *bench) linkAt() int {
	return slices.IndexFunc(b.e.Links, func(l estate.Link) bool {
		return l.Between == [2]string{b.edit.Hub, b.edit.Other} || l.Between == [2]string{b.edit.Other, b.edit.Hub}
	})
}

func (b *bench) unlink() error {
	i := b.linkAt()
	if i < 0 {
		return b.missing("other", "link", b.edit.Hub+"-"+b.edit.Other)
	}
	mine(b, "links", &b.e.Links)
	b.e.Links = slices.Delete(b.e.Links, i, i+1)
	return nil
}

func (b *bench) peering() (*estate.Peering, error) {
	i := slices.IndexFunc(b.e.Peerings, func(p estate.Peering) bool {
		return p.Between == [2]string{b.edit.Network, b.edit.Other} || p.Between == [2]string{b.edit.Other, b.edit.Network}
	})
	if i < 0 {
		return nil, b.fault("other", fmt.Sprintf("networks %s and %s are not peered", b.edit.Network, b.edit.Other), "name two that are")
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
		return b.fault("network", fmt.Sprintf("%s offers its hub already, and only one of the two can", p.OffersHub), "let it refuse first")
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

func (b *bench) openExit() error {
	if err := b.hub("hub", b.edit.Hub); err != nil {
		return err
	}
	for _, s := range b.edit.Segments {
		if err := b.segment("segments", s); err != nil {
			return err
		}
	}
	if len(b.edit.Segments) == 0 {
		return b.fault("segments", "an exit serves some segment", "name at least one")
	}
	if err := estate.CheckName(b.edit.Name); err != nil {
		return b.fault("name", err.Error(), "write a short name in small letters")
	}
	mine(b, "exits", &b.e.Exits)
	x := estate.Exit{Name: b.edit.Name, Hub: b.edit.Hub, Segments: slices.Clone(b.edit.Segments), State: "up"}
	if i := slices.IndexFunc(b.e.Exits, func(o estate.Exit) bool { return o.Name == x.Name }); i >= 0 {
		x.State, x.Description = b.e.Exits[i].State, b.e.Exits[i].Description
		b.e.Exits[i] = x
		return nil
	}
	b.e.Exits = append(b.e.Exits, x)
	return nil
}

func (b *bench) closeExit() error {
	i := slices.IndexFunc(b.e.Exits, func(x estate.Exit) bool { return x.Name == b.edit.Name })
	if i < 0 {
		return b.missing("name", "exit", b.edit.Name)
	}
	mine(b, "exits", &b.e.Exits)
	b.e.Exits = slices.Delete(b.e.Exits, i, i+1)
	return nil
}

func (b *bench) translate() error {
	a, err := b.attachment()
	if err != nil {
		return err
	}
	if err := b.segment("segment", b.edit.Segment); err != nil {
		return err
	}
	for key, p := range map[string]netip.Prefix{"prefix": b.edit.Prefix, "outside": b.edit.Outside} {
		if !p.IsValid() || p != p.Masked() {
			return b.fault(key, "a prefix is an address and a length, without host bits", "write one such as 100.64.0.0/16")
		}
	}
	t := estate.Translation{Inside: b.edit.Prefix, Outside: b.edit.Outside, Segment: b.edit.Segment}
	a.Translate = append(slices.DeleteFunc(a.Translate, b.translatesSame), t)
	return nil
}

func (b *bench) untranslate() error {
	a, err := b.attachment()
	if err != nil {
		return err
	}
	if !slices.ContainsFunc(a.Translate, b.translatesSame) {
		return b.missing("prefix", "translation of", b.edit.Prefix.String())
	}
	a.Translate = slices.DeleteFunc(a.Translate, b.translatesSame)
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
	for key, list := range map[string][]netip.Prefix{"accepts": b.edit.Accepts, "announces": b.edit.Announces} {
		for _, p := range list {
			if !p.IsValid() || p != p.Masked() {
				return b.fault(key, "a prefix is an address and a length, without host bits", "write one such as 10.1.0.0/16")
			}
		}
	}
	a.Accepts, a.Announces = slices.Clone(b.edit.Accepts), slices.Clone(b.edit.Announces)
	return nil
}

// fresh checks a name that a new thing is to have.
func (b *bench) fresh(kind string, taken bool) error {
	if err := estate.CheckName(b.edit.Name); err != nil {
		return b.fault("name", err.Error(), "write a short name in small letters")
	}
	if taken {
		return b.fault("name", fmt.Sprintf("there is a %s %s already", kind, b.edit.Name), "choose another name")
	}
	return nil
}

func (b *bench) addHub() error {
	if err := b.fresh("hub", b.hub("name", b.edit.Name) == nil); err != nil {
		return err
	}
	mine(b, "hubs", &b.e.Hubs)
	b.e.Hubs = append(b.e.Hubs, estate.Hub{Name: b.edit.Name, Account: b.edit.Account, Region: b.edit.Region})
	return nil
}

func (b *bench) dropHub() error {
	if err := b.hub("name", b.edit.Name); err != nil {
		return err
	}
	mine(b, "hubs", &b.e.Hubs)
	b.e.Hubs = slices.DeleteFunc(b.e.Hubs, func(h estate.Hub) bool { return h.Name == b.edit.Name })
	return nil
}

func (b *bench) addSegment() error {
	if err := b.fresh("segment", b.segment("name", b.edit.Name) == nil); err != nil {
		return err
	}
	mine(b, "segments", &b.e.Segments)
	b.e.Segments = append(b.e.Segments, estate.Segment{Name: b.edit.Name, Default: estate.Deny})
	return nil
}

func (b *bench) dropSegment() error {
	if err := b.segment("name", b.edit.Name); err != nil {
		return err
	}
	mine(b, "segments", &b.e.Segments)
	b.e.Segments = slices.DeleteFunc(b.e.Segments, func(s estate.Segment) bool { return s.Name == b.edit.Name })
	return nil
}
