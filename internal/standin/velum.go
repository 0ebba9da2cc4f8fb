package standin

import (
	"crypto/rand"
	"encoding/json"
	"maps"
	"net/http"
	"net/netip"
	"slices"
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
//	POST /write   {"net": ID, "range": R, "version": V, "rules": [...]}   {"version": V+1}, or 409
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
				routes := velumRoutes(n.Table)
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
			lists, there := a.listsOf(ask.Net)
			if !there {
				return echo.ErrNotFound
			}
			for _, on := range slices.Sorted(maps.Keys(lists)) {
				rows = append(rows, map[string]any{"range": on, "version": lists[on].Version, "rules": velumRules(lists[on].Lines)})
			}
			count = len(rows)
		case "table":
			n, version, there := a.tableOf(ask.Net)
			if !there {
				return echo.ErrNotFound
			}
			rows = append(rows, map[string]any{"version": version, "routes": velumRoutes(n.Table), "peers": velumPeers(n)})
			count = 1
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
	e.POST("/write", func(c echo.Context) error {
		account := holder(c.Request())
		if account == "" {
			return echo.NewHTTPError(http.StatusUnauthorized, "the token is not good, or no longer")
		}
		var ask struct {
			Net, Range string
			Version    int
			Rules      []velumRule
			Routes     []string // a table of routes, instead of a list
			Peers      []string // with them: "ID", or "ID by its hub"
		}
		if err := json.NewDecoder(c.Request().Body).Decode(&ask); err != nil {
			return echo.NewHTTPError(http.StatusBadRequest, err.Error())
		}
		if ask.Routes != nil {
			entries, err := velumTable(ask.Routes)
			if err != nil {
				return echo.NewHTTPError(http.StatusUnprocessableEntity, err.Error())
			}
			peers := make([]peer, len(ask.Peers))
			for i, line := range ask.Peers {
				peers[i].network, peers[i].offers = strings.CutSuffix(line, byItsHub)
			}
			version, err := w.putTable(account, ask.Net, ask.Version, entries, peers)
			if err != nil {
				return written(err)
			}
			return c.JSON(http.StatusOK, map[string]any{"version": version})
		}
		lines := make([]Line, len(ask.Rules))
		for i := range ask.Rules {
			line, err := ask.Rules[i].line()
			if err != nil {
				return echo.NewHTTPError(http.StatusUnprocessableEntity, err.Error())
			}
			lines[i] = line
		}
		version, err := w.putOn(account, ask.Net, ask.Range, ask.Version, lines, checkVelum)
		if err != nil {
			return written(err)
		}
		return c.JSON(http.StatusOK, map[string]any{"version": version})
	})
	return w.misbehave(holder, e)
}

// velumRule is a rule as Velum writes it: own is the side of the range, other the other one.
type velumRule struct {
	Priority int            `json:"priority"`
	Way      string         `json:"way"` // in or out
	Verb     string         `json:"verb"`
	Match    []string       `json:"match"` // "tcp 443", "udp 53 from 1024-65535", "protocols 0-5"; none for all
	Own      []netip.Prefix `json:"own"`
	Other    []netip.Prefix `json:"other"`
	Author   string         `json:"author,omitempty"`
}

func velumRoutes(table []Entry) []string {
	routes := []string{}
	for _, r := range table {
		routes = append(routes, r.To.String()+" "+strings.Replace(r.Via, "peer:", "peer ", 1))
	}
	return routes
}

// byItsHub follows a peer whose hub a network uses.
const byItsHub = " by its hub"

func velumPeers(n *Network) []string {
	out := []string{}
	for _, p := range n.peersOf() {
		line := p.network
		if p.offers {
			line += byItsHub
		}
		out = append(out, line)
	}
	return out
}

func velumTable(routes []string) ([]Entry, error) {
	table := make([]Entry, len(routes))
	for i, line := range routes {
		to, via, _ := strings.Cut(line, " ")
		p, err := netip.ParsePrefix(to)
		if err != nil {
			return nil, err
		}
		table[i] = Entry{p, strings.Replace(via, "peer ", "peer:", 1)}
	}
	return table, nil
}

func velumRules(lines []Line) []velumRule {
	out := make([]velumRule, len(lines))
	for i, l := range lines {
		out[i] = velumRule{l.Order, "in", "deny", nil, l.Own, l.Peer, l.By}
		if l.Out {
			out[i].Way = "out"
		}
		if l.Allow {
			out[i].Verb = "allow"
		}
		for _, m := range l.Matches {
			out[i].Match = append(out[i].Match, m.words(" "))
		}
	}
	return out
}

func (r *velumRule) line() (Line, error) {
	l := Line{Order: r.Priority, Out: r.Way == "out", Allow: r.Verb == "allow", Own: r.Own, Peer: r.Other, By: r.Author}
	for _, prefixes := range [2][]netip.Prefix{l.Own, l.Peer} {
		if len(prefixes) > mostVelumPrefixes {
			return l, &limitError{"prefixes in one set", len(prefixes), mostVelumPrefixes}
		}
	}
	for _, text := range r.Match {
		m, err := matchIn(text, " ")
		if err != nil {
			return l, err
		}
		l.Matches = append(l.Matches, m)
	}
	return l, nil
}
