package standin

import (
	"cmp"
	"encoding/json"
	"fmt"
	"maps"
	"net/http"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"github.com/labstack/echo/v4"
)

// Cirra answers as the cloud Cirra does: one list for each kind of thing, a
// cursor to go on with, and a bearer token.
//
//	GET /v1/ACCOUNT/networks?cursor=C   {"items": [...], "next": "C", "total": N}
//	GET /v1/ACCOUNT/machines?cursor=C   likewise
//	GET /v1/ACCOUNT/lists               {"items": [{"name", "version", "entries"}]}; one of them with ?only=NAME
//	GET /v1/ACCOUNT/bindings            {"items": [{"machine", "version", "lists"}], "default": {...}}; likewise
//	PUT /v1/ACCOUNT/lists/NAME          {"version": V, "entries": [...]}  {"version": V+1}, or 409
//	PUT /v1/ACCOUNT/bindings/MACHINE    {"version": V, "lists": [...]}    likewise
//	PUT /v1/ACCOUNT/default/-           likewise
//	GET /v1/ACCOUNT/tables              {"items": [{"network", "version", "table", "peerings"}]}
//	PUT /v1/ACCOUNT/tables/NETWORK      {"version": V, "table": [...], "peerings": [...]}  likewise
//	DELETE /v1/ACCOUNT/lists/NAME?version=V; likewise bindings
//	GET /v1/ACCOUNT/parts               {"hubs": [...], "firewalls": [...]}
func (w *World) Cirra() http.Handler {
	e := echo.New()
	e.GET("/v1/:account/:list", func(c echo.Context) error {
		a, ok := w.account("cirra", c.Param("account"))
		token, bearer := strings.CutPrefix(c.Request().Header.Get("Authorization"), "Bearer ")
		if !ok || !bearer || token != a.Secret {
			return echo.NewHTTPError(http.StatusUnauthorized, "no such account, or another token")
		}
		from, _ := strconv.Atoi(unseal(c.QueryParam("cursor"))) //nolint:errcheck // a bad cursor begins anew
		switch c.Param("list") {
		case "networks":
			part, next := cut(a.Networks, from)
			items := make([]map[string]any, len(part))
			for i, n := range part {
				items[i] = map[string]any{"networkId": n.ID, "displayName": n.Name, "region": n.Region, "tags": pairs(n.Tags), "blocks": blocks(n), "table": table(n), "peeredWith": n.Peers, "internetGateway": n.Gateway}
			}
			return c.JSON(http.StatusOK, listing(items, next, len(a.Networks)))
		case "machines":
			part, next := cut(a.Machines, from)
			items := make([]map[string]any, len(part))
			for i, m := range part {
				items[i] = map[string]any{"machineId": m.ID, "hostName": m.Name, "interfaces": []any{map[string]any{"networkId": m.Network, "addresses": m.Addresses}}, "tags": pairs(m.Tags)}
			}
			return c.JSON(http.StatusOK, listing(items, next, len(a.Machines)))
		case "lists":
			items := []map[string]any{}
			for _, name := range asked(c, a.native.entries) {
				items = append(items, map[string]any{"name": name, "version": a.native.entries[name].Version, "entries": cirraEntries(a.native.entries[name].Lines)})
			}
			return c.JSON(http.StatusOK, map[string]any{"items": items})
		case "bindings":
			items := []map[string]any{}
			for _, m := range asked(c, a.native.bindings) {
				items = append(items, map[string]any{"machine": m, "version": a.native.bindings[m].Version, "lists": a.native.bindings[m].Lists})
			}
			return c.JSON(http.StatusOK, map[string]any{"items": items, "default": map[string]any{"version": a.native.standard.Version, "lists": a.native.standard.Lists}})
		case "tables":
			items := []map[string]any{}
			for _, n := range a.Networks {
				items = append(items, map[string]any{"network": n.ID, "version": a.native.tables[n.ID], "table": table(n), "peerings": cirraPeers(n)})
			}
			return c.JSON(http.StatusOK, map[string]any{"items": items})
		case "parts":
			return c.JSON(http.StatusOK, map[string]any{"hubs": a.Hubs, "firewalls": a.Walls})
		}
		return echo.ErrNotFound
	})
	e.PUT("/v1/:account/:list/:name", func(c echo.Context) error {
		a, ok := w.account("cirra", c.Param("account"))
		token, bearer := strings.CutPrefix(c.Request().Header.Get("Authorization"), "Bearer ")
		if !ok || !bearer || token != a.Secret {
			return echo.NewHTTPError(http.StatusUnauthorized, "no such account, or another token")
		}
		var ask struct {
			Version int          `json:"version"`
			Entries []cirraEntry `json:"entries"`
			Lists   []string     `json:"lists"`
			Table   []struct {
				Destination netip.Prefix
				Target      string
			} `json:"table"`
			Peerings []cirraPeer `json:"peerings"`
		}
		if err := json.NewDecoder(c.Request().Body).Decode(&ask); err != nil {
			return echo.NewHTTPError(http.StatusBadRequest, err.Error())
		}
		version, err := 0, error(nil)
		switch c.Param("list") {
		case "lists":
			lines := make([]Line, len(ask.Entries))
			for i := range ask.Entries {
				if lines[i], err = ask.Entries[i].line(); err != nil {
					return echo.NewHTTPError(http.StatusUnprocessableEntity, err.Error())
				}
			}
			version, err = w.putEntries(a.Name, c.Param("name"), ask.Version, lines)
		case "bindings":
			version, err = w.bind(a.Name, c.Param("name"), ask.Version, ask.Lists)
		case "default":
			version, err = w.bind(a.Name, "", ask.Version, ask.Lists)
		case "tables":
			var entries []Entry
			for _, r := range ask.Table {
				entries = append(entries, Entry{r.Destination, r.Target})
			}
			peers := make([]peer, len(ask.Peerings))
			for i, p := range ask.Peerings {
				peers[i] = peer{p.NetworkID, p.RemoteGateway}
			}
			version, err = w.putTable(a.Name, c.Param("name"), ask.Version, entries, peers)
		default:
			return echo.ErrNotFound
		}
		if err != nil {
			return written(err)
		}
		return c.JSON(http.StatusOK, map[string]any{"version": version})
	})
	e.DELETE("/v1/:account/:list/:name", func(c echo.Context) error {
		a, ok := w.account("cirra", c.Param("account"))
		token, bearer := strings.CutPrefix(c.Request().Header.Get("Authorization"), "Bearer ")
		if !ok || !bearer || token != a.Secret {
			return echo.NewHTTPError(http.StatusUnauthorized, "no such account, or another token")
		}
		version, _ := strconv.Atoi(c.QueryParam("version")) //nolint:errcheck // none is 0
		err := errMissing
		switch c.Param("list") {
		case "lists":
			err = w.dropEntries(a.Name, c.Param("name"), version)
		case "bindings":
			err = w.unbind(a.Name, c.Param("name"), version)
		}
		if err != nil {
			return written(err)
		}
		return c.NoContent(http.StatusNoContent)
	})
	return w.misbehave(func(r *http.Request) string {
		parts := strings.Split(r.URL.Path, "/")
		if len(parts) < 3 {
			return ""
		}
		return parts[2]
	}, e)
}

func listing(items any, next, total int) map[string]any {
	out := map[string]any{"items": items, "total": total}
	if next >= 0 {
		out["next"] = seal(strconv.Itoa(next))
	}
	return out
}

func pairs(tags map[string]string) []map[string]string {
	out := []map[string]string{}
	for key, value := range tags {
		out = append(out, map[string]string{"key": key, "value": value})
	}
	return out
}

func blocks(n *Network) []map[string]any {
	out := []map[string]any{}
	for _, s := range n.Subnets {
		out = append(out, map[string]any{"blockName": s.Name, "cidr": s.Prefix})
	}
	return out
}

func table(n *Network) []map[string]any {
	out := []map[string]any{}
	for _, r := range n.Table {
		out = append(out, map[string]any{"destination": r.To, "target": r.Via})
	}
	return out
}

// cirraPeer is a network's end of a peering as Cirra writes it.
type cirraPeer struct {
	NetworkID     string `json:"networkId"`
	RemoteGateway bool   `json:"remoteGateway"`
}

func cirraPeers(n *Network) []cirraPeer {
	out := []cirraPeer{}
	for _, p := range n.peersOf() {
		out = append(out, cirraPeer{p.network, p.offers})
	}
	return out
}

// asked returns the names of some things in order; that which is asked for alone, if one is.
func asked[T any](c echo.Context, things map[string]T) []string {
	name := c.QueryParam("only")
	if name == "" {
		return slices.Sorted(maps.Keys(things))
	}
	if _, there := things[name]; !there {
		return nil
	}
	return []string{name}
}

// cirraEntry is an entry as Cirra writes it: it allows.
type cirraEntry struct {
	Direction string `json:"direction"` // ingress or egress
	Protocol  string `json:"protocol"`  // a name, a number or a range of numbers; "" for all
	Ports     string `json:"ports,omitempty"`
	Peer      string `json:"peer"` // a prefix, or "list:NAME"
	CreatedBy string `json:"createdBy,omitempty"`
}

func cirraEntries(lines []Line) []cirraEntry {
	out := make([]cirraEntry, len(lines))
	for i, l := range lines {
		e := cirraEntry{Direction: "ingress", CreatedBy: l.By}
		if l.Out {
			e.Direction = "egress"
		}
		if len(l.Matches) > 0 {
			m := l.Matches[0]
			e.Protocol = fmt.Sprintf("%d-%d", m.Protocols[0], m.Protocols[1])
			if m.Protocols[0] == m.Protocols[1] {
				e.Protocol = cmp.Or(names[m.Protocols[0]], strconv.Itoa(m.Protocols[0]))
			}
			if m.Ports != everything.Ports {
				e.Ports = fmt.Sprintf("%d-%d", m.Ports[0], m.Ports[1])
			}
		}
		switch {
		case l.List != "":
			e.Peer = "list:" + l.List
		case len(l.Peer) > 0:
			e.Peer = l.Peer[0].String()
		}
		out[i] = e
	}
	return out
}

func (e *cirraEntry) line() (Line, error) {
	l := Line{Out: e.Direction == "egress", Allow: true, By: e.CreatedBy}
	if e.Protocol != "" {
		m := everything
		if number, known := protocols[e.Protocol]; known {
			m.Protocols = [2]int{number, number}
		} else if err := rangeIn(e.Protocol, &m.Protocols); err != nil {
			return l, err
		}
		if e.Ports != "" {
			if err := rangeIn(e.Ports, &m.Ports); err != nil {
				return l, err
			}
		}
		l.Matches = []Match{m}
	}
	if name, list := strings.CutPrefix(e.Peer, "list:"); list {
		l.List = name
		return l, nil
	}
	p, err := netip.ParsePrefix(e.Peer)
	l.Peer = []netip.Prefix{p}
	return l, err
}
