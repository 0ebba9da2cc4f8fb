package standin

import (
	"maps"
	"net/http"
	"slices"
	"strconv"

	"github.com/labstack/echo/v4"
)

// Premises answers as the controller of an organisation's own sites does: sites
// with their networks and uplinks, devices in one list, and a key in a header.
//
//	GET /sites?from=0     {"sites": [...], "of": N}
//	GET /devices?from=0   {"devices": [...], "of": N}
//	GET /acls?site=ID     access lists as RFC 8519 models them, in the JSON of RFC 7951
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
			sites = append(sites, map[string]any{"site": n.ID, "name": n.Name, "type": n.Kind, "region": n.Region, "notes": n.Tags, "lans": lans, "uplink": n.Uplink})
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
		rules, there := a.rulesOn(c.QueryParam("site"))
		if !there {
			return echo.ErrNotFound
		}
		lists := map[string][]map[string]any{}
		for i, r := range rules {
			forwarding := map[string]string{"allow": "accept", "deny": "drop"}[r.Action]
			lists[r.On] = append(lists[r.On], map[string]any{
				"name":    "rule-" + strconv.Itoa(i+1),
				"matches": map[string]any{"ipv4": map[string]any{"source-ipv4-network": r.From}, r.Protocol: map[string]any{"destination-port": map[string]any{"port": r.Ports}}},
				"actions": map[string]any{"forwarding": "ietf-access-control-list:" + forwarding},
			})
		}
		acls := []map[string]any{}
		for _, name := range slices.Sorted(maps.Keys(lists)) {
			acls = append(acls, map[string]any{"name": name, "type": "ipv4-acl-type", "aces": map[string]any{"ace": lists[name]}})
		}
		return c.JSON(http.StatusOK, map[string]any{"ietf-access-control-list:acls": map[string]any{"acl": acls}})
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
