package standin

import (
	"net/http"
	"strconv"
	"strings"

	"github.com/labstack/echo/v4"
)

// Cirra answers as the cloud Cirra does: one list for each kind of thing, a
// cursor to go on with, and a bearer token.
//
//	GET /v1/ACCOUNT/networks?cursor=C   {"items": [...], "next": "C", "total": N}
//	GET /v1/ACCOUNT/machines?cursor=C   likewise
//	GET /v1/ACCOUNT/lists?network=ID    {"items": [...]}
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
			rules, there := a.rulesOn(c.QueryParam("network"))
			if !there {
				return echo.ErrNotFound
			}
			items := make([]map[string]any, len(rules))
			for i, r := range rules { // lists allow, and say nothing else
				items[i] = map[string]any{"machine": r.On, "entry": map[string]any{"protocol": r.Protocol, "ports": r.Ports, "source": r.From}}
			}
			return c.JSON(http.StatusOK, map[string]any{"items": items})
		case "parts":
			return c.JSON(http.StatusOK, map[string]any{"hubs": a.Hubs, "firewalls": a.Walls})
		}
		return echo.ErrNotFound
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
