package standin

import (
	"cmp"
	"encoding/json"
	"fmt"
	"net/http"
	"net/netip"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/labstack/echo/v4"

	"bivium/internal/standin/dataplane"
)

// fabric is what hubs and firewalls hold. Everything is replaced whole, under a version.
type fabric struct {
	hubs       map[string]versioned[HubConfig]
	segments   map[string]versioned[dataplane.Segment]
	pools      map[string]versioned[PoolConfig]
	placements versioned[map[string]map[string]Placed] // by network and subnet
}

type versioned[T any] struct {
	Version int `json:"version"`
	Is      T   `json:"is"`
}

// Placed is which segment a subnet lies in.
type Placed struct {
	Segment string
	Prefix  netip.Prefix
}

// HubConfig is the wiring of a hub. What is up and down it finds out by itself.
type HubConfig struct {
	Links []struct {
		Name, To string
		Cost     int
		Segments []string
		Down     bool
	}
	Attachments []struct {
		Name, Network      string
		Cost               int
		Routes             []dataplane.Brought
		Accepts, Announces []netip.Prefix
		Filtered           [2]bool // whether accepts, and announces, are filters: an empty one lets nothing by
		Translate          []dataplane.Translation
	}
	Exits []struct {
		Name     string
		Segments []string
	}
	Publications []dataplane.Publication
}

// PoolConfig is the firewalls of a pool, and their rulebook.
type PoolConfig struct {
	Firewalls []struct{ Name, Hub string }
	Book      bool
	Rules     []dataplane.BookRule
}

// fabricKey is the bearer token of the hubs' interface.
const fabricKey = "hub-token"

// Hubs answers as the hubs and their firewalls do: a bearer token, and one document for each
// hub, for the match list of each segment, which all hubs hold, for each pool, and for which
// subnet lies in which segment.
//
//	GET /hubs/NAME       {"version": V, "is": {...}}; likewise /segments/NAME, /pools/NAME, /placements/all
//	GET /documents       ["hubs/NAME", ...], what there is
//	DELETE /hubs/NAME    with the version in If-Match
//	POST /packets        [...] Packets that machines send; what came of each is answered
//	PUT /hubs/NAME       {...}, with the version of before in If-Match; 204 with the next in ETag, or 412
func (w *World) Hubs() http.Handler {
	e := echo.New()
	e.Use(func(next echo.HandlerFunc) echo.HandlerFunc {
		return func(c echo.Context) error {
			if c.Request().Header.Get("Authorization") != "Bearer "+fabricKey {
				return echo.NewHTTPError(http.StatusUnauthorized, "another token is needed")
			}
			return next(c)
		}
	})
	e.GET("/:kind/:name", func(c echo.Context) error {
		w.mu.RLock()
		defer w.mu.RUnlock()
		switch c.Param("kind") {
		case "hubs":
			return c.JSON(http.StatusOK, w.fabric.hubs[c.Param("name")])
		case "segments":
			return c.JSON(http.StatusOK, w.fabric.segments[c.Param("name")])
		case "pools":
			return c.JSON(http.StatusOK, w.fabric.pools[c.Param("name")])
		case "placements":
			return c.JSON(http.StatusOK, w.fabric.placements)
		}
		return echo.ErrNotFound
	})
	e.GET("/documents", func(c echo.Context) error {
		w.mu.RLock()
		defer w.mu.RUnlock()
		out := slices.Concat(under("hubs", w.fabric.hubs), under("segments", w.fabric.segments), under("pools", w.fabric.pools))
		return c.JSON(http.StatusOK, slices.Sorted(slices.Values(out)))
	})
	e.POST("/packets", func(c echo.Context) error {
		var all []Packet
		if err := json.NewDecoder(c.Request().Body).Decode(&all); err != nil {
			return echo.NewHTTPError(http.StatusBadRequest, err.Error())
		}
		return c.JSON(http.StatusOK, w.SendAll(all))
	})
	e.DELETE("/:kind/:name", func(c echo.Context) error {
		version, _ := strconv.Atoi(strings.Trim(c.Request().Header.Get("If-Match"), `"`)) //nolint:errcheck // none is 0
		w.mu.Lock()
		defer w.mu.Unlock()
		name, err := c.Param("name"), error(echo.ErrNotFound)
		switch c.Param("kind") {
		case "hubs":
			err = remove(w.fabric.hubs, name, version)
		case "segments":
			err = remove(w.fabric.segments, name, version)
		case "pools":
			err = remove(w.fabric.pools, name, version)
		}
		if err != nil {
			return err
		}
		return c.NoContent(http.StatusNoContent)
	})
	e.PUT("/:kind/:name", func(c echo.Context) error {
		version, _ := strconv.Atoi(strings.Trim(c.Request().Header.Get("If-Match"), `"`)) //nolint:errcheck // none is 0
		w.mu.Lock()
		defer w.mu.Unlock()
		next, err := 0, error(nil)
		switch name := c.Param("name"); c.Param("kind") {
		case "hubs":
			next, err = replace(c, &w.fabric.hubs, name, version)
		case "segments":
			next, err = replace(c, &w.fabric.segments, name, version)
		case "pools":
			next, err = replace(c, &w.fabric.pools, name, version)
		case "placements":
			all := map[string]versioned[map[string]map[string]Placed]{"all": w.fabric.placements}
			next, err = replace(c, &all, "all", version)
			w.fabric.placements = all["all"]
		default:
			return echo.ErrNotFound
		}
		if err != nil {
			return err
		}
		c.Response().Header().Set("ETag", fmt.Sprintf(`"%d"`, next))
		return c.NoContent(http.StatusNoContent)
	})
	return e
}

// under returns where the documents of a kind are.
func under[T any](kind string, documents map[string]versioned[T]) []string {
	out := []string{}
	for name := range documents {
		out = append(out, kind+"/"+url.PathEscape(name))
	}
	return out
}

// replace replaces a document, if it is of a version.
func replace[T any](c echo.Context, in *map[string]versioned[T], name string, version int) (int, error) {
	var is T
	if err := json.NewDecoder(c.Request().Body).Decode(&is); err != nil {
		return 0, echo.NewHTTPError(http.StatusBadRequest, err.Error())
	}
	if (*in)[name].Version != version {
		return 0, echo.NewHTTPError(http.StatusPreconditionFailed, errVersion.Error())
	}
	if *in == nil {
		*in = map[string]versioned[T]{}
	}
	(*in)[name] = versioned[T]{version + 1, is}
	return version + 1, nil
}

// remove removes a document, if it is of a version.
func remove[T any](from map[string]versioned[T], name string, version int) error {
	if from[name].Version != version {
		return echo.NewHTTPError(http.StatusPreconditionFailed, errVersion.Error())
	}
	delete(from, name)
	return nil
}

// Packet is a packet that is to be sent, and what came of it.
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
	dataplane.Fate
	Took time.Duration `json:"took"` // nanoseconds
}

// Send carries a packet by what everything holds now.
func (w *World) Send(p Packet) Sent {
	begun := time.Now()
	fate := w.Plane().Send(dataplane.Packet(p))
	return Sent{fate, time.Since(begun)}
}

// SendAll carries packets by what everything holds now, one after another.
func (w *World) SendAll(all []Packet) []Sent {
	plane, out := w.Plane(), make([]Sent, len(all))
	for i, p := range all {
		begun := time.Now()
		fate := plane.Send(dataplane.Packet(p))
		out[i] = Sent{fate, time.Since(begun)}
	}
	return out
}

// Plane returns the data plane of the world as it is now.
func (w *World) Plane() *dataplane.World {
	w.mu.RLock()
	defer w.mu.RUnlock()
	out := &dataplane.World{Networks: map[string]*dataplane.Network{}, Hubs: map[string]*dataplane.Hub{}, Segments: map[string]*dataplane.Segment{}, Pools: map[string]*dataplane.Pool{}}
	called := map[string]string{} // names of networks, by ID
	for _, a := range w.accounts {
		for _, n := range a.Networks {
			called[n.ID] = n.Name
		}
	}
	uplink := map[string]string{}
	for _, a := range w.accounts {
		for _, n := range a.Networks {
			out.Networks[n.Name] = w.planeNetwork(a, n, called)
			uplink[n.Name] = n.Uplink
		}
	}
	state := map[string]string{}
	for _, a := range w.accounts {
		for _, p := range slices.Concat(a.Hubs, a.Walls) {
			state[p.Name] = p.State
		}
	}
	for name, h := range w.fabric.hubs {
		out.Hubs[name] = planeHub(&h.Is, uplink, called, out)
	}
	for name, s := range w.fabric.segments {
		out.Segments[name] = &s.Is
	}
	for name, p := range w.fabric.pools {
		x := &dataplane.Pool{Book: p.Is.Book, Rules: p.Is.Rules}
		for _, f := range p.Is.Firewalls {
			if state[f.Name] != "down" && state[f.Hub] != "down" {
				x.Hubs = append(x.Hubs, f.Hub)
			}
		}
		out.Pools[name] = x
	}
	return out
}

func (w *World) planeNetwork(a *Account, n *Network, called map[string]string) *dataplane.Network {
	out := &dataplane.Network{Provider: a.Provider, Lists: map[string][]dataplane.Rule{}}
	for _, s := range n.Subnets {
		out.Subnets = append(out.Subnets, dataplane.Subnet{Name: s.Name, Prefix: s.Prefix, Segment: w.segmentOf(n, s.Prefix)})
	}
	for _, e := range n.Table {
		via := e.Via
		if peer, ok := strings.CutPrefix(via, "peer:"); ok {
			via = "peer:" + called[peer]
		}
		out.Table = append(out.Table, dataplane.Route{To: e.To, Via: via})
	}
	for _, p := range n.peersOf() {
		if w.hasEnd(p.network, n.ID) {
			out.Peers = append(out.Peers, dataplane.Peer{Network: called[p.network], Offers: p.offers})
		}
	}
	out.Machines = map[netip.Addr]bool{}
	for _, other := range w.accounts { // machines may live in networks of others
		for _, m := range other.Machines {
			if m.Network == n.ID {
				for _, address := range m.Addresses {
					out.Machines[address] = true
				}
			}
		}
	}
	for key, l := range a.native.lists {
		if key[0] == n.ID {
			out.Lists[key[1]] = planeRules(l.Lines)
		}
	}
	if a.Provider != "cirra" {
		return out
	}
	out.Bears = map[netip.Addr][]dataplane.Entry{}
	out.Standard = a.planeEntries(a.native.standard.Lists)
	for _, other := range w.accounts { // machines may live in networks of others
		for _, m := range other.Machines {
			if m.Network != n.ID {
				continue
			}
			bound := a.bound(m.ID)
			for _, address := range m.Addresses {
				out.Bears[address] = a.planeEntries(bound.Lists)
			}
		}
	}
	return out
}

// segmentOf returns the segment that a prefix of a network lies in, which hubs know by its ID or name.
func (w *World) segmentOf(n *Network, prefix netip.Prefix) string {
	for _, called := range [2]string{n.ID, n.Name} {
		for _, p := range w.fabric.placements.Is[called] {
			if p.Prefix == prefix {
				return p.Segment
			}
		}
	}
	return ""
}

// hasEnd reports whether a network has its end of the peering with another: a peering with one
// end does not work.
func (w *World) hasEnd(network, other string) bool {
	for _, a := range w.accounts {
		for _, n := range a.Networks {
			if n.ID == network {
				return slices.Contains(n.Peers, other)
			}
		}
	}
	return false
}

func planeRules(lines []Line) []dataplane.Rule {
	out := make([]dataplane.Rule, len(lines))
	for i, l := range lines {
		out[i] = dataplane.Rule{Out: l.Out, Allow: l.Allow, Services: planeServices(l.Matches), Own: l.Own, Peer: l.Peer, AnyOwn: len(l.Own) == 0, AnyPeer: len(l.Peer) == 0}
	}
	return out
}

func planeServices(m []Match) []dataplane.Service {
	var out []dataplane.Service
	for _, x := range m {
		out = append(out, dataplane.Service(x))
	}
	return out
}

func (a *Account) planeEntries(lists []string) []dataplane.Entry {
	var out []dataplane.Entry
	for _, name := range lists {
		l := a.native.entries[name]
		if l == nil {
			continue
		}
		for i, x := range l.Lines {
			e := dataplane.Entry{List: name, Place: i + 1, Out: x.Out, Service: dataplane.Service(everything), Peers: a.bearers(x.List)}
			if len(x.Matches) > 0 {
				e.Service = dataplane.Service(x.Matches[0])
			}
			if len(x.Peer) > 0 {
				e.Peer = x.Peer[0]
			}
			out = append(out, e)
		}
	}
	return out
}

// bearers returns the addresses of the machines that bear a list.
func (a *Account) bearers(list string) []netip.Addr {
	var out []netip.Addr
	if list == "" {
		return nil
	}
	for _, m := range a.Machines {
		if slices.Contains(a.bound(m.ID).Lists, list) {
			out = append(out, m.Addresses...)
		}
	}
	return out
}

func planeHub(h *HubConfig, uplink, called map[string]string, world *dataplane.World) *dataplane.Hub {
	out := &dataplane.Hub{Publications: h.Publications}
	for _, l := range h.Links {
		out.Links = append(out.Links, dataplane.Link{To: l.To, Cost: l.Cost, Up: !l.Down, Segments: l.Segments})
	}
	for _, a := range h.Attachments {
		a.Network = cmp.Or(called[a.Network], a.Network)
		x := dataplane.Attachment{Name: a.Name, Network: a.Network, Cost: a.Cost, Up: uplink[a.Network] != "down", Routes: a.Routes, Translate: a.Translate}
		if a.Filtered[0] {
			x.Accepts = append([]netip.Prefix{}, a.Accepts...)
		}
		if a.Filtered[1] {
			x.Announces = append([]netip.Prefix{}, a.Announces...)
		}
		out.Attachments = append(out.Attachments, x)
		n := world.Networks[a.Network]
		if n == nil { // a partner's, that no account has
			n = &dataplane.Network{}
			world.Networks[a.Network] = n
		}
		for _, r := range a.Routes {
			if !r.Subnet {
				n.Held = append(n.Held, dataplane.Held{Segment: r.Segment, Prefix: r.Prefix})
			} else if n.Provider == "" {
				n.Subnets = append(n.Subnets, dataplane.Subnet{Name: r.Prefix.String(), Prefix: r.Prefix, Segment: r.Segment})
			}
		}
	}
	for _, x := range h.Exits {
		out.Exits = append(out.Exits, dataplane.Exit{Name: x.Name, Up: true, Segments: x.Segments})
	}
	return out
}
