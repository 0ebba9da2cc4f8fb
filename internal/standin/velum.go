package standin

import (
	"crypto/rand"
	"encoding/json"
	"net/http"
	"net/netip"
	"strings"
	"sync"
	"time"

	"github.com/labstack/echo/v4"
)

// tokenLife is how long a token of Velum is good for.
const tokenLife = 10 * time.Minute

// Velum answers as the cloud Velum does: a key and a secret buy a token for some
// minutes, and one address answers all questions, in numbered pages.
//
//	POST /token   {"key": K, "secret": S}        {"token": T, "seconds": 600}
//	POST /query   {"of": "networks", "page": 1}  {"page": 1, "pages": N, "rows": [...], "count": N}
func (w *World) Velum() http.Handler {
	var mu sync.Mutex
	type pass struct {
		account string
		until   time.Time
	}
	passes := map[string]pass{}
	holder := func(r *http.Request) string {
		mu.Lock()
		defer mu.Unlock()
		p := passes[r.Header.Get("Velum-Token")]
		if time.Now().After(p.until) {
			return ""
		}
		return p.account
	}
	e := echo.New()
	e.POST("/token", func(c echo.Context) error {
		var ask struct{ Key, Secret string }
		if err := json.NewDecoder(c.Request().Body).Decode(&ask); err != nil {
			return echo.ErrBadRequest
		}
		a, ok := w.byKey("velum", ask.Key)
		if !ok || ask.Secret != a.Secret {
			return echo.NewHTTPError(http.StatusForbidden, "key and secret do not fit")
		}
		token := rand.Text()
		mu.Lock()
		passes[token] = pass{a.Name, time.Now().Add(tokenLife)}
		mu.Unlock()
		return c.JSON(http.StatusOK, map[string]any{"token": token, "seconds": int(tokenLife.Seconds())})
	})
	e.POST("/query", func(c echo.Context) error {
		a, ok := w.account("velum", holder(c.Request()))
		if !ok {
			return echo.NewHTTPError(http.StatusUnauthorized, "the token is not good, or no longer")
		}
		var ask struct {
			Of   string
			Page int
			Net  string // that rules are asked of
		}
		if err := json.NewDecoder(c.Request().Body).Decode(&ask); err != nil || ask.Page < 1 {
			return echo.ErrBadRequest
		}
		answer := map[string]any{"page": ask.Page}
		rows := []map[string]any{}
		count := 0
		switch ask.Of {
		case "networks":
			part, _ := cut(a.Networks, (ask.Page-1)*pageSize)
			count = len(a.Networks)
			for _, n := range part {
				ranges := map[string]any{}
				for _, s := range n.Subnets {
					ranges[s.Name] = s.Prefix
				}
				routes := []string{}
				for _, r := range n.Table {
					routes = append(routes, r.To.String()+" "+strings.Replace(r.Via, "peer:", "peer ", 1))
				}
				rows = append(rows, map[string]any{"uid": n.ID, "title": n.Name, "place": n.Region, "attributes": n.Tags, "ranges": ranges, "routes": routes, "peers": n.Peers, "openToInternet": n.Gateway})
			}
		case "hosts":
			part, _ := cut(a.Machines, (ask.Page-1)*pageSize)
			count = len(a.Machines)
			for _, m := range part {
				row := map[string]any{"uid": m.ID, "title": m.Name, "net": m.Network, "attributes": m.Tags}
				if len(m.Addresses) > 0 {
					row["address"], row["furtherAddresses"] = m.Addresses[0], m.Addresses[1:]
				}
				rows = append(rows, row)
			}
		case "rules":
			rules, there := a.rulesOn(ask.Net)
			if !there {
				return echo.ErrNotFound
			}
			for _, r := range rules {
				rows = append(rows, map[string]any{"range": r.On, "priority": r.Priority, "verb": r.Action, "match": strings.TrimSpace(r.Protocol + " " + r.Ports), "sources": []netip.Prefix{r.From}})
			}
			count = len(rows)
		case "parts":
			for kind, list := range map[string][]Part{"hub": a.Hubs, "firewall": a.Walls} {
				for _, p := range list {
					rows = append(rows, map[string]any{"kind": kind, "title": p.Name, "place": p.Region, "condition": p.State, "because": p.Why})
				}
			}
			count = len(rows)
		default:
			return echo.ErrNotFound
		}
		answer["rows"], answer["count"], answer["pages"] = rows, count, (count+pageSize-1)/pageSize
		return c.JSON(http.StatusOK, answer)
	})
	return w.misbehave(holder, e)
}
