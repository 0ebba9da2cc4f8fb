// Package hubs writes what hubs and their firewalls hold: the wiring of each hub, the match list
// of each segment, which all hubs hold, and the rulebook of each pool.
package hubs

import (
	"context"
	"net/http"
	"net/netip"
	"net/url"
	"strconv"

	"bivium/core/estate"
	"bivium/core/native/config"
	"bivium/core/space"
	"bivium/internal/drivers"
	"bivium/internal/drivers/call"
)

// Driver writes to the hubs of one estate.
type Driver struct{ client *call.Client }

// New returns the driver of the hubs that are reached with an access: its secret is a bearer
// token.
func New(a drivers.Access, c *call.Client) *Driver {
	c.Sign = func(r *http.Request) error {
		r.Header.Set("Authorization", "Bearer "+a.Secret)
		return nil
	}
	return &Driver{c}
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
}

type firewall struct{ Name, Hub string }

// put replaces a document, on its version of now.
func (d *Driver) put(ctx context.Context, path string, body any) error {
	var now struct{ Version int }
	if _, err := d.client.Get(ctx, path, &now); err != nil {
		return err
	}
	_, err := d.client.Put(ctx, path, map[string]string{"If-Match": quoted(now.Version)}, body, nil)
	return err
}

// PutHub replaces the wiring of a hub. What the estate says to be down of its links is written
// so: the hub of a circuit that is taken down does not use it.
func (d *Driver) PutHub(ctx context.Context, h *config.Hub, links []estate.Link) error {
	var body struct {
		Links        []link
		Attachments  []attachment
		Exits        []exit
		Publications []publication
	}
	for _, l := range h.Links {
		x := link{Name: l.Name, To: l.Between[0], Cost: l.Cost, Segments: l.Segments}
		if x.To == h.Name {
			x.To = l.Between[1]
		}
		for i := range links {
			x.Down = x.Down || links[i].Name == l.Name && links[i].State == "down"
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
	return d.put(ctx, "/hubs/"+url.PathEscape(h.Name), body)
}

// PutSegment replaces the match list of a segment, at all hubs.
func (d *Driver) PutSegment(ctx context.Context, s *config.Segment) error {
	var body struct {
		Imports []imported
		Rules   []match
	}
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
	return d.put(ctx, "/segments/"+url.PathEscape(s.Name), body)
}

// PutPool replaces the firewalls of a pool, and their rulebook.
func (d *Driver) PutPool(ctx context.Context, p *config.Pool, firewalls []estate.Firewall) error {
	var body struct {
		Firewalls []firewall
		Book      bool
		Rules     []bookRule
	}
	body.Book = p.Rulebook != ""
	for _, f := range firewalls {
		body.Firewalls = append(body.Firewalls, firewall{f.Name, f.Hub})
	}
	for i := range p.Rules {
		r := &p.Rules[i]
		body.Rules = append(body.Rules, bookRule{ends(r.From), ends(r.To), r.Any[0], r.Any[1], services(r.Services), r.Services == nil, r.Verb == "pass"})
	}
	return d.put(ctx, "/pools/"+url.PathEscape(p.Name), body)
}

// PutPlacements says which subnet of which network lies in which segment.
func (d *Driver) PutPlacements(ctx context.Context, networks []estate.Network) error {
	body := map[string]map[string]string{}
	for i := range networks {
		n := &networks[i]
		body[n.Name] = map[string]string{}
		for k := range n.Subnets {
			body[n.Name][n.Subnets[k].Name] = n.SegmentOf(&n.Subnets[k])
		}
	}
	return d.put(ctx, "/placements/all", body)
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

func quoted(version int) string { return strconv.Quote(strconv.Itoa(version)) }
