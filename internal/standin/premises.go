package standin

import (
	"encoding/json"
	"maps"
	"net/http"
	"net/netip"
	"slices"
	"strconv"

	"github.com/labstack/echo/v4"
)

// Premises answers as the controller of an organisation's own sites does: sites
// with their networks and uplinks, devices in one list, and a key in a header.
//
//	GET /sites?from=0     {"sites": [...], "of": N}
//	GET /devices?from=0   {"devices": [...], "of": N}
//	GET /acls?site=ID     access lists as RFC 8519 models them, in the JSON of RFC 7951: two for each
//	                      lan, LAN:in and LAN:out, and the version of each lan's
//	PUT /acls?site=ID&lan=L   the same for one lan, with the version of before
//	GET /routes?site=ID   {"routes": [{"destination-prefix", "next-hop"}], "tunnels": [{"to", "transit"}], "version": V}
//	PUT /routes?site=ID   the same, with the version of before
//	GET /uplinks          {"uplinks": [...]}
func (w *World) Premises() http.Handler {
	e := echo.New()
	known := func(c echo.Context) (Account, int, error) {
		a, ok := w.byKey("premises", c.Request().Header.Get("Controller-Key"))
		if !ok || c.Request().Header.Get("Controller-Secret") != a.Secret {
			return a, 0, echo.NewHTTPError(http.StatusUnauthorized, "another key is needed")
		}
		from, _ := strconv.Atoi(c.QueryParam("from")) //nolint:errcheck // a bad place begins anew
		return a, from, nil
	}
	e.GET("/sites", func(c echo.Context) error {
		a, from, err := known(c)
		if err != nil {
			return err
		}
		part, _ := cut(a.Networks, from)
		sites := []map[string]any{}
		for _, n := range part {
			lans := []map[string]any{}
			for _, s := range n.Subnets {
				lans = append(lans, map[string]any{"name": s.Name, "prefix": s.Prefix})
			}
			sites = append(sites, map[string]any{"site": n.ID, "name": n.Name, "type": n.Kind, "region": n.Region, "notes": n.Tags, "lans": lans, "uplink": n.Uplink, "routes": siteRoutes(n), "tunnels": tunnels(n)})
		}
		return c.JSON(http.StatusOK, map[string]any{"sites": sites, "of": len(a.Networks)})
	})
	e.GET("/devices", func(c echo.Context) error {
		a, from, err := known(c)
		if err != nil {
			return err
		}
		part, _ := cut(a.Machines, from)
		devices := []map[string]any{}
		for _, m := range part {
			devices = append(devices, map[string]any{"serial": m.ID, "name": m.Name, "site": m.Network, "addresses": m.Addresses, "notes": m.Tags})
		}
		return c.JSON(http.StatusOK, map[string]any{"devices": devices, "of": len(a.Machines)})
	})
	e.GET("/acls", func(c echo.Context) error {
		a, _, err := known(c)
		if err != nil {
			return err
		}
		lists, there := a.listsOf(c.QueryParam("site"))
		if !there {
			return echo.ErrNotFound
		}
		acls, versions := []accessList{}, map[string]int{}
		for _, name := range slices.Sorted(maps.Keys(lists)) {
			versions[name] = lists[name].Version
			acls = append(acls, accessLists(name, lists[name].Lines)...)
		}
		return c.JSON(http.StatusOK, map[string]any{"ietf-access-control-list:acls": map[string]any{"acl": acls}, "versions": versions})
	})
	e.PUT("/acls", func(c echo.Context) error {
		a, _, err := known(c)
		if err != nil {
			return err
		}
		var ask struct {
			ACLs struct {
				ACL []accessList `json:"acl"`
			} `json:"ietf-access-control-list:acls"`
			Version int `json:"version"`
		}
		if err := json.NewDecoder(c.Request().Body).Decode(&ask); err != nil {
			return echo.NewHTTPError(http.StatusBadRequest, err.Error())
		}
		var lines []Line
		for i := range ask.ACLs.ACL {
			some, err := ask.ACLs.ACL[i].lines()
			if err != nil {
				return echo.NewHTTPError(http.StatusUnprocessableEntity, err.Error())
			}
			lines = append(lines, some...)
		}
		if _, there := a.listsOf(c.QueryParam("site")); !there {
			return echo.ErrNotFound
		}
		next, err := w.putOn(a.Name, c.QueryParam("site"), c.QueryParam("lan"), ask.Version, lines, func([]Line) error { return nil })
		if err != nil {
			return written(err)
		}
		return c.JSON(http.StatusOK, map[string]any{"version": next})
	})
	e.GET("/routes", func(c echo.Context) error {
		a, _, err := known(c)
		if err != nil {
			return err
		}
		n, version, there := a.tableOf(c.QueryParam("site"))
		if !there {
			return echo.ErrNotFound
		}
		return c.JSON(http.StatusOK, map[string]any{"routes": siteRoutes(n), "tunnels": tunnels(n), "version": version})
	})
	e.PUT("/routes", func(c echo.Context) error {
		a, _, err := known(c)
		if err != nil {
			return err
		}
		var ask struct {
			Routes  []siteRoute `json:"routes"`
			Tunnels []tunnel    `json:"tunnels"`
			Version int         `json:"version"`
		}
		if err := json.NewDecoder(c.Request().Body).Decode(&ask); err != nil {
			return echo.NewHTTPError(http.StatusBadRequest, err.Error())
		}
		var table []Entry
		for _, r := range ask.Routes {
			table = append(table, Entry{r.Prefix, r.NextHop})
		}
		peers := make([]peer, len(ask.Tunnels))
		for i, t := range ask.Tunnels {
			peers[i] = peer{t.To, t.Transit}
		}
		next, err := w.putTable(a.Name, c.QueryParam("site"), ask.Version, table, peers)
		if err != nil {
			return written(err)
		}
		return c.JSON(http.StatusOK, map[string]any{"version": next})
	})
	e.GET("/uplinks", func(c echo.Context) error {
		a, _, err := known(c)
		if err != nil {
			return err
		}
		uplinks := []map[string]any{}
		for _, n := range a.Networks {
			uplinks = append(uplinks, map[string]any{"site": n.ID, "name": n.Name, "region": n.Region, "state": n.Uplink, "remark": n.Why})
		}
		return c.JSON(http.StatusOK, map[string]any{"uplinks": uplinks})
	})
	return w.misbehave(func(r *http.Request) string {
		a, _ := w.byKey("premises", r.Header.Get("Controller-Key"))
		return a.Name
	}, e)
}

// siteRoute is an entry of the route table of a site.
type siteRoute struct {
	Prefix  netip.Prefix `json:"destination-prefix"`
	NextHop string       `json:"next-hop"`
}

func siteRoutes(n *Network) []siteRoute {
	out := []siteRoute{}
	for _, r := range n.Table {
		out = append(out, siteRoute{r.To, r.Via})
	}
	return out
}

// tunnel is a site's end of a direct tunnel to another network. Transit says that it uses the hub
// of that.
type tunnel struct {
	To      string `json:"to"`
	Transit bool   `json:"transit"`
}

func tunnels(n *Network) []tunnel {
	out := []tunnel{}
	for _, p := range n.peersOf() {
		out = append(out, tunnel{p.network, p.offers})
	}
	return out
}
