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
	Forget    Op = "forget"     // Network, Hub, Prefix, Segment: a learned prefix
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
	Filter      Op = "filter"       // Network, Hub, Accepts, Announces: nil for everything
	// Hear lets a router announce prefixes at an attachment, or changes what it may:
	// Network, Hub, Router, AS, Segment, May, Limit (0 for the usual one).
	Hear  Op = "hear"
	Quiet Op = "quiet" // Network, Hub, Router: it may not any more
	// Show lets a share show addresses of one of its segments under others: Name,
	// Segment, Prefix (inside), Outside.
	Show   Op = "show"
	Unshow Op = "unshow" // Name, Segment, Prefix
	Speak  Op = "speak"  // Name, AS, Speaker: a hub listens for routers; 0 and "" for not any more
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
	Accepts   []netip.Prefix `json:"accepts,omitzero"`
	Announces []netip.Prefix `json:"announces,omitzero"`
	Via       estate.Via     `json:"via,omitempty"`
	Status    string         `json:"status,omitempty"`
	Router    netip.Addr     `json:"router,omitzero"`
	AS        int            `json:"as,omitempty"`
	May       []netip.Prefix `json:"may,omitempty"`
	Limit     int            `json:"limit,omitempty"`
	Speaker   string         `json:"speaker,omitempty"`
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
			return nil, b.fault("op", fmt.Sprintf("unknown edit %q", edits[i].Op), "use an edit listed in docs/formats.md")
		}
		if err := do(b); err != nil {
			return nil, err
		}
	}
	estate.NameConnections(&next)
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
	Forget: (*bench).forget, Hear: (*bench).hear, Quiet: (*bench).quiet, Speak: (*bench).speak,
	Show: (*bench).show, Unshow: (*bench).unshow,
	AddHub: (*bench).addHub, DropHub: (*bench).dropHub, AddSegment: (*bench).addSegment, DropSegment: (*bench).dropSegment,
}

func (b *bench) fault(key, message, fix string) error {
	return &Error{At: b.at, Key: key, Message: message, Fix: fix}
}

func (b *bench) missing(key, kind, name string) error {
	return b.fault(key, fmt.Sprintf("unknown %s %q", kind, name), "use one that exists")
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
	return b.attachmentWith(func(*estate.Attachment) bool { return true })
}

// attached reports whether an attachment is one of the network to the hub of the edit.
func (b *bench) attached(a *estate.Attachment) bool {
	return a.Network == b.edit.Network && a.Hub == b.edit.Hub
}

// attachmentWith is attachment for what one of several has alone: a network may be
// attached to a hub more than once.
func (b *bench) attachmentWith(has func(*estate.Attachment) bool) (*estate.Attachment, error) {
	var these []int
	for k := range b.e.Attachments {
		if b.attached(&b.e.Attachments[k]) {
			these = append(these, k)
		}
	}
	if len(these) == 0 {
		return nil, b.fault("hub", fmt.Sprintf("network %s is not attached to %s", b.edit.Network, b.edit.Hub), "attach it first")
	}
	which := 0 // of these: the one that has it; if none has, any can say so
	if k := slices.IndexFunc(these, func(i int) bool { return has(&b.e.Attachments[i]) }); k >= 0 {
		which = k
	}
	if slices.ContainsFunc(these[which+1:], func(i int) bool { return has(&b.e.Attachments[i]) }) {
		return nil, b.fault("hub", fmt.Sprintf("network %s has several attachments at %s, and this edit would change only one", b.edit.Network, b.edit.Hub), "detach it and attach it once, or edit the document")
	}
	mine(b, "attachments", &b.e.Attachments)
	a := &b.e.Attachments[these[which]]
	if key := fmt.Sprint("attachment ", a.Network, "@", a.Hub, " ", which); !b.own[key] {
		b.own[key] = true
		a.Static, a.Learned, a.Translate = slices.Clone(a.Static), slices.Clone(a.Learned), slices.Clone(a.Translate)
		a.Sessions = slices.Clone(a.Sessions)
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

// prefixes checks the prefixes at a key.
func (b *bench) prefixes(key string, list ...netip.Prefix) error {
	for _, p := range list {
		if !p.IsValid() || p != p.Masked() {
			return b.fault(key, "a prefix is an address and a length without host bits", "write one such as 10.1.0.0/16")
		}
	}
	return nil
}
