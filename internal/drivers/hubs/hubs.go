// Package hubs writes what hubs and their firewalls hold: the wiring of each hub, the match list
// of each segment, which all hubs hold, and the rulebook of each pool.
package hubs

import (
	"context"
	"fmt"
	"net/http"
	"net/netip"
	"net/url"
	"strconv"
	"strings"
	"time"

	"bivium/core/estate"
	"bivium/core/native/config"
	"bivium/core/native/plan"
	"bivium/core/space"
	"bivium/internal/drivers"
	"bivium/internal/drivers/call"
)

// Driver writes to the hubs of one estate.
type Driver struct {
	client   *call.Client
	Networks Networks
}

// New returns the driver of the hubs that are reached with an access: its secret is a bearer
// token.
func New(a drivers.Access, c *call.Client) *Driver {
	c.Sign = func(r *http.Request) error {
		r.Header.Set("Authorization", "Bearer "+a.Secret)
		return nil
	}
	return &Driver{client: c}
}

type service struct{ Protocols, Sources, Ports [2]int }

type end struct {
	Segment, Exit string
	Prefixes      []netip.Prefix
	Every         bool
}

type brought struct {
	Segment        string
	Prefix         netip.Prefix
	Static, Subnet bool
}

type translation struct {
	Inside, Outside netip.Prefix
	Segment         string
}

type link struct {
	Name, To string
	Cost     int
	Segments []string
	Down     bool
}

type attachment struct {
	Name, Network      string
	Cost               int
	Routes             []brought
	Accepts, Announces []netip.Prefix
	Filtered           [2]bool
	Translate          []translation
}

type exit struct {
	Name     string
	Segments []string
}

type publication struct {
	Name, Exit, Segment string
	To                  []netip.Prefix
	Services            []service
	Any                 bool
}

type match struct {
	From, To []end
	Services []service
	Any      bool
	Verb     string
	Through  []step
}

type step struct {
	Pool   string
	IsOpen bool
}

type imported struct {
	Seen, Own netip.Prefix
	Of        string
}

type bookRule struct {
	From, To       []end
	AnyFrom, AnyTo bool
	Services       []service
	Any, Pass      bool
	Reject         bool // what does not pass; else it is dropped
}

type firewall struct{ Name, Hub string }

// wiring is what a hub holds.
type wiring struct {
	Links        []link
	Attachments  []attachment
	Exits        []exit
	Publications []publication
}

// matchList is what all hubs hold for a segment.
type matchList struct {
	Imports []imported
	Rules   []match
}

// firewalls is what the firewalls of a pool hold.
type firewalls struct {
	Firewalls []firewall
	Book      bool
	Rules     []bookRule
}

// kinds are where documents are, by their kind.
var kinds = map[plan.Kind]string{plan.KindHub: "hubs", plan.KindSegment: "segments", plan.KindPool: "pools", plan.KindPlacement: "placements"}

// Held is what a document holds, with its version.
type Held struct {
	Body    *plan.Body
	Version string
}

// All returns what hubs and firewalls hold: some documents, and whatever else is there. Documents
// that are not there are left out.
func (d *Driver) All(ctx context.Context, keys []plan.Key) (map[plan.Key]Held, error) {
	var there []string
	if _, err := d.client.Get(ctx, "/documents", &there); err != nil {
		return nil, err
	}
	wanted := map[plan.Key]bool{}
	for _, key := range keys {
		wanted[key] = path(key) != ""
	}
	for _, at := range there {
		for kind, where := range kinds {
			if escaped, is := strings.CutPrefix(at, where+"/"); is {
				name, err := url.PathUnescape(escaped)
				if err != nil {
					return nil, &drivers.AnswerError{Asked: "/documents", Err: err}
				}
				wanted[plan.Key{Kind: kind, Name: name}] = true
			}
		}
	}
	out := map[plan.Key]Held{}
	for key, is := range wanted {
		if !is {
			continue
		}
		body, version, err := d.Get(ctx, key)
		if err != nil {
			return nil, err
		}
		if body != nil {
			out[key] = Held{body, version}
		}
	}
	return out, nil
}

// path returns where a document is; "" for one that hubs do not have.
func path(key plan.Key) string {
	kind := kinds[key.Kind]
	if kind == "" {
		return ""
	}
	return "/" + kind + "/" + url.PathEscape(key.Name)
}

// Get returns what a document holds now, with its version; no body where it is not there.
func (d *Driver) Get(ctx context.Context, key plan.Key) (*plan.Body, string, error) {
	switch key.Kind {
	case plan.KindHub:
		return get(ctx, d, key, func(w *wiring) *plan.Body { return w.read(key.Name) })
	case plan.KindSegment:
		return get(ctx, d, key, func(m *matchList) *plan.Body { return m.read(key.Name) })
	case plan.KindPool:
		return get(ctx, d, key, func(f *firewalls) *plan.Body { return f.read(key.Name) })
	case plan.KindPlacement:
		return get(ctx, d, key, func(p *map[string]map[string]placed) *plan.Body { return readPlacements(*p) })
	}
	return nil, "", drivers.ErrMissing
}

func get[T any](ctx context.Context, d *Driver, key plan.Key, read func(*T) *plan.Body) (*plan.Body, string, error) {
	var now struct {
		Version int
		Is      T
	}
	if _, err := d.client.Get(ctx, path(key), &now); err != nil {
		return nil, "", err
	}
	if now.Version == 0 {
		return nil, "", nil
	}
	return d.Networks.read(read(&now.Is)), strconv.Itoa(now.Version), nil
}

// Put replaces a document that is of a version, or removes it if there is no body, and returns
// the version that it has from then on: it is in force. drivers.ErrChanged if it is of another.
// What the estate says to be down of links is written so: the hub of a circuit that is taken
// down does not use it.
func (d *Driver) Put(ctx context.Context, key plan.Key, version string, body *plan.Body) (string, error) {
	if version == "" {
		version = "0"
	}
	headers := map[string]string{"If-Match": strconv.Quote(version)}
	if body == nil {
		return "", d.client.Remove(ctx, path(key), headers)
	}
	body = d.Networks.written(body)
	var sent any
	switch key.Kind {
	case plan.KindHub:
		sent = wiringOf(body.Hub, body.Links)
	case plan.KindSegment:
		sent = matchListOf(body.Segment)
	case plan.KindPool:
		sent = firewallsOf(body.Pool, body.Firewalls)
	case plan.KindPlacement:
		sent = placementsOf(body.Placements)
	default:
		return "", drivers.ErrMissing
	}
	header, err := d.client.Put(ctx, path(key), headers, sent, nil)
	if err != nil {
		return "", err
	}
	return strings.Trim(header.Get("ETag"), `"`), nil
}

// Packet is a test packet that a workload sends: its segment, or "internet", and both ends.
type Packet struct {
	Segment     string     `json:"segment"`
	From        netip.Addr `json:"from"`
	To          netip.Addr `json:"to"`
	Protocol    int        `json:"protocol"`
	SourcePort  int        `json:"sport"`
	Port        int        `json:"port"`
	Publication string     `json:"publication,omitempty"`
}

// Sent is what came of a packet.
type Sent struct {
	Delivered bool
	Answered  bool
	Pools     []string // that it went through, in order
	Blocked   string   // the pool whose rulebook dropped it
	Error     *Error   // that came back; nil for none
	Hops      []Hop
	Took      time.Duration `json:"took"`
}

// Error is what a router or a firewall sent back in the place of an answer.
type Error struct {
	Says string // ICMP host unreachable, or what else it was
	From string // whose it is, with its kind: network yard
}

// Hop is what one list, hub or firewall did with the packet.
type Hop struct {
	At   string
	Name string
	On   string // the subnet or list of a network
	Rule int    // of its list, from 1; 0 for none
	Said string
}

// Send has packets sent where their workloads are, and returns what came of each.
func (d *Driver) Send(ctx context.Context, p []Packet) ([]Sent, error) {
	var out []Sent
	if _, err := d.client.Post(ctx, "/packets", p, &out); err != nil {
		return nil, err
	}
	if len(out) != len(p) {
		return nil, &drivers.AnswerError{Asked: "packets", Err: fmt.Errorf("%d were sent, and %d answered", len(p), len(out))}
	}
	return out, nil
}

func wiringOf(h *config.Hub, links []estate.Link) *wiring {
	body := &wiring{}
	for _, l := range links {
		x := link{Name: l.Name, To: l.Between[0], Cost: l.Cost, Segments: l.Segments, Down: l.State == "down"}
		if x.To == h.Name {
			x.To = l.Between[1]
		}
		body.Links = append(body.Links, x)
	}
	for _, a := range h.Attachments {
		x := attachment{Name: a.Name, Network: a.Network, Cost: a.Cost, Accepts: a.Accepts, Announces: a.Announces, Filtered: [2]bool{a.Accepts != nil, a.Announces != nil}}
		for _, r := range a.Routes {
			x.Routes = append(x.Routes, brought{r.Segment, r.Prefix, r.Borne && !r.Learned, !r.Borne})
		}
		for _, t := range a.Translate {
			x.Translate = append(x.Translate, translation{t.Inside, t.Outside, t.Segment})
		}
		body.Attachments = append(body.Attachments, x)
	}
	for _, e := range h.Exits {
		body.Exits = append(body.Exits, exit{e.Name, e.Segments})
	}
	for _, p := range h.Publications {
		body.Publications = append(body.Publications, publication{p.Name, p.Exit, p.Segment, p.To, services(p.Services), p.Services == nil})
	}
	return body
}

func (w *wiring) read(hub string) *plan.Body {
	out := &plan.Body{Hub: &config.Hub{Name: hub}}
	for _, l := range w.Links {
		x := estate.Link{Name: l.Name, Between: [2]string{hub, l.To}, Cost: l.Cost, Segments: l.Segments, State: "up"}
		if l.Down {
			x.State = "down"
		}
		out.Links, out.Hub.Links = append(out.Links, x), append(out.Hub.Links, x)
	}
	for _, a := range w.Attachments {
		x := config.Attachment{Name: a.Name, Network: a.Network, Cost: a.Cost}
		if a.Filtered[0] {
			x.Accepts = append([]netip.Prefix{}, a.Accepts...)
		}
		if a.Filtered[1] {
			x.Announces = append([]netip.Prefix{}, a.Announces...)
		}
		for _, r := range a.Routes {
			x.Routes = append(x.Routes, config.Route{Segment: r.Segment, Prefix: r.Prefix, Borne: !r.Subnet, Learned: !r.Subnet && !r.Static})
		}
		for _, t := range a.Translate {
			x.Translate = append(x.Translate, estate.Translation{Inside: t.Inside, Outside: t.Outside, Segment: t.Segment})
		}
		out.Hub.Attachments = append(out.Hub.Attachments, x)
	}
	for _, e := range w.Exits {
		out.Hub.Exits = append(out.Hub.Exits, estate.Exit{Name: e.Name, Hub: hub, Segments: e.Segments, State: "up"})
	}
	for _, p := range w.Publications {
		out.Hub.Publications = append(out.Hub.Publications, config.Publication{Name: p.Name, Exit: p.Exit, Segment: p.Segment, To: p.To, Services: boxes(p.Services, p.Any)})
	}
	return out
}

func matchListOf(s *config.Segment) *matchList {
	body := &matchList{}
	for _, i := range s.Imports {
		body.Imports = append(body.Imports, imported{i.Seen, i.Own, i.Of})
	}
	for i := range s.Rules {
		r := &s.Rules[i]
		m := match{From: ends(r.From), To: ends(r.To), Services: services(r.Services), Any: r.Services == nil, Verb: string(r.Verb)}
		for _, t := range r.Through {
			m.Through = append(m.Through, step{t.Pool, t.OnFailure == "open"})
		}
		body.Rules = append(body.Rules, m)
	}
	return body
}

func (m *matchList) read(segment string) *plan.Body {
	out := &config.Segment{Name: segment}
	for _, i := range m.Imports {
		out.Imports = append(out.Imports, config.Import{Seen: i.Seen, Of: i.Of, Own: i.Own})
	}
	for _, r := range m.Rules {
		x := config.HubRule{From: endsIn(r.From), To: endsIn(r.To), Services: boxes(r.Services, r.Any), Verb: config.Verb(r.Verb)}
		for _, t := range r.Through {
			failure := "closed"
			if t.IsOpen {
				failure = "open"
			}
			x.Through = append(x.Through, config.Step{Pool: t.Pool, OnFailure: failure})
		}
		out.Rules = append(out.Rules, x)
	}
	return &plan.Body{Segment: out}
}

func firewallsOf(p *config.Pool, held []estate.Firewall) *firewalls {
	body := &firewalls{Book: p.Rulebook != ""}
	for _, f := range held {
		body.Firewalls = append(body.Firewalls, firewall{f.Name, f.Hub})
	}
	for i := range p.Rules {
		r := &p.Rules[i]
		body.Rules = append(body.Rules, bookRule{ends(r.From), ends(r.To), r.Any[0], r.Any[1], services(r.Services), r.Services == nil, r.Verb == "pass", r.Verb == "reject"})
	}
	return body
}

// rulebook is how a rulebook is called that was read: firewalls know no names of rulebooks.
const rulebook = "as read"

func (f *firewalls) read(pool string) *plan.Body {
	out := &plan.Body{Pool: &config.Pool{Name: pool}}
	for _, x := range f.Firewalls {
		out.Firewalls = append(out.Firewalls, estate.Firewall{Name: x.Name, Hub: x.Hub, State: "healthy"})
	}
	if f.Book {
		out.Pool.Rulebook = rulebook
	}
	for i, r := range f.Rules {
		x := config.BookRule{From: endsIn(r.From), To: endsIn(r.To), Any: [2]bool{r.AnyFrom, r.AnyTo}, Services: boxes(r.Services, r.Any), Verb: "drop", Number: i + 1}
		switch {
		case r.Pass:
			x.Verb = "pass"
		case r.Reject:
			x.Verb = "reject"
		}
		out.Pool.Rules = append(out.Pool.Rules, x)
	}
	return out
}

func boxes(list []service, any bool) []space.Box {
	if any {
		return nil
	}
	out := []space.Box{}
	for _, s := range list {
		out = append(out, space.Box{
			FirstProtocol: uint8(s.Protocols[0]), LastProtocol: uint8(s.Protocols[1]),
			SourcePorts: estate.Range{Lo: uint16(s.Sources[0]), Hi: uint16(s.Sources[1])}, Ports: estate.Range{Lo: uint16(s.Ports[0]), Hi: uint16(s.Ports[1])},
		})
	}
	return out
}

func endsIn(list []end) []config.End {
	var out []config.End
	for _, e := range list {
		x := config.End{Segment: e.Segment, Exit: e.Exit}
		if !e.Every {
			x.Set = &config.Set{Prefixes: e.Prefixes}
		}
		out = append(out, x)
	}
	return out
}

func services(boxes []space.Box) []service {
	var out []service
	for _, b := range boxes {
		out = append(out, service{[2]int{int(b.FirstProtocol), int(b.LastProtocol)}, [2]int{int(b.SourcePorts.Lo), int(b.SourcePorts.Hi)}, [2]int{int(b.Ports.Lo), int(b.Ports.Hi)}})
	}
	return out
}

func ends(list []config.End) []end {
	var out []end
	for _, e := range list {
		x := end{Segment: e.Segment, Exit: e.Exit, Every: e.Set == nil}
		if e.Set != nil {
			x.Prefixes = e.Set.Prefixes
		}
		out = append(out, x)
	}
	return out
}
