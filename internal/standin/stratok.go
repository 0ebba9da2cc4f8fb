package standin

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"net/http"
	"net/netip"
	"strconv"
	"strings"

	"github.com/labstack/echo/v4"
)

// Stratok answers as the cloud Stratok does: each request is signed, lists go on
// at the address that the Link header names (RFC 8288), and hosts are listed
// network by network.
//
//	GET /nets              [{...}]
//	GET /nets/ID/hosts     [{...}]
//	GET /nets/ID/rules     [{...}]
//	PUT /nets/ID/rules     [{...}], with the version of before in If-Match
//	GET /nets/ID/rib       [{...}]
//	PUT /nets/ID/rib       [{...}], likewise
//	GET /parts             [{...}]
//
// Stratok-Signature is the HMAC-SHA-256 (RFC 2104) of the method, a space, the
// path with its query, a space and the Date header, in hexadecimal.
func (w *World) Stratok() http.Handler {
	e := echo.New()
	signed := func(c echo.Context) (Account, error) {
		r := c.Request()
		a, ok := w.byKey("stratok", r.Header.Get("Stratok-Key"))
		mac := hmac.New(sha256.New, []byte(a.Secret))
		fmt.Fprintf(mac, "%s %s %s", r.Method, r.URL.RequestURI(), r.Header.Get("Date"))
		if !ok || !hmac.Equal([]byte(hex.EncodeToString(mac.Sum(nil))), []byte(r.Header.Get("Stratok-Signature"))) {
			return a, echo.NewHTTPError(http.StatusForbidden, "the signature does not fit")
		}
		return a, nil
	}
	e.GET("/nets", func(c echo.Context) error {
		a, err := signed(c)
		if err != nil {
			return err
		}
		part := goOn(c, a.Networks)
		out := []map[string]any{}
		for _, n := range part {
			subnets := []string{}
			for _, s := range n.Subnets {
				subnets = append(subnets, s.Name+"="+s.Prefix.String())
			}
			out = append(out, map[string]any{"id": n.ID, "label": n.Name, "zone": n.Region, "meta": n.Tags, "subnets": subnets, "rib": table(n), "joined": n.Peers, "egress": n.Gateway})
		}
		return c.JSON(http.StatusOK, out)
	})
	e.GET("/nets/:id/hosts", func(c echo.Context) error {
		a, err := signed(c)
		if err != nil {
			return err
		}
		for _, n := range a.Networks {
			if n.ID != c.Param("id") {
				continue
			}
			out := []map[string]any{}
			for _, m := range goOn(c, a.in[n.ID]) {
				out = append(out, map[string]any{"id": m.ID, "label": m.Name, "ips": m.Addresses, "meta": m.Tags})
			}
			return c.JSON(http.StatusOK, out)
		}
		return echo.ErrNotFound
	})
	e.GET("/nets/:id/rules", func(c echo.Context) error {
		a, err := signed(c)
		if err != nil {
			return err
		}
		lists, there := a.listsOf(c.Param("id"))
		if !there {
			return echo.ErrNotFound
		}
		l := lists[""]
		if l == nil {
			l = &List{}
		}
		c.Response().Header().Set("ETag", fmt.Sprintf(`"%d"`, l.Version))
		out := []stratokRule{}
		for i := range l.Lines {
			out = append(out, stratokRuleOf(i+1, &l.Lines[i]))
		}
		return c.JSON(http.StatusOK, out)
	})
	e.PUT("/nets/:id/rules", func(c echo.Context) error {
		a, err := signed(c)
		if err != nil {
			return err
		}
		var rules []stratokRule
		if err := json.NewDecoder(c.Request().Body).Decode(&rules); err != nil {
			return echo.NewHTTPError(http.StatusBadRequest, err.Error())
		}
		lines := make([]Line, len(rules))
		for i := range rules {
			if lines[i], err = rules[i].line(); err != nil {
				return echo.NewHTTPError(http.StatusUnprocessableEntity, err.Error())
			}
		}
		version, _ := strconv.Atoi(strings.Trim(c.Request().Header.Get("If-Match"), `"`)) //nolint:errcheck // none is 0
		if _, there := a.listsOf(c.Param("id")); !there {
			return echo.ErrNotFound
		}
		next, err := w.putOn(a.Name, c.Param("id"), "", version, lines, checkStratok)
		if err != nil {
			return written(err)
		}
		c.Response().Header().Set("ETag", fmt.Sprintf(`"%d"`, next))
		return c.NoContent(http.StatusNoContent)
	})
	e.GET("/nets/:id/rib", func(c echo.Context) error {
		a, err := signed(c)
		if err != nil {
			return err
		}
		n, version, there := a.tableOf(c.Param("id"))
		if !there {
			return echo.ErrNotFound
		}
		c.Response().Header().Set("ETag", fmt.Sprintf(`"%d"`, version))
		joined := []stratokPeer{}
		for _, p := range n.peersOf() {
			joined = append(joined, stratokPeer{p.network, p.offers})
		}
		return c.JSON(http.StatusOK, map[string]any{"rib": table(n), "joined": joined})
	})
	e.PUT("/nets/:id/rib", func(c echo.Context) error {
		a, err := signed(c)
		if err != nil {
			return err
		}
		var ask struct {
			RIB []struct {
				Destination netip.Prefix
				Target      string
			} `json:"rib"`
			Joined []stratokPeer `json:"joined"`
		}
		if err := json.NewDecoder(c.Request().Body).Decode(&ask); err != nil {
			return echo.NewHTTPError(http.StatusBadRequest, err.Error())
		}
		var entries []Entry
		for _, r := range ask.RIB {
			entries = append(entries, Entry{r.Destination, r.Target})
		}
		peers := make([]peer, len(ask.Joined))
		for i, p := range ask.Joined {
			peers[i] = peer{p.Net, p.LendsTransit}
		}
		version, _ := strconv.Atoi(strings.Trim(c.Request().Header.Get("If-Match"), `"`)) //nolint:errcheck // none is 0
		next, err := w.putTable(a.Name, c.Param("id"), version, entries, peers)
		if err != nil {
			return written(err)
		}
		c.Response().Header().Set("ETag", fmt.Sprintf(`"%d"`, next))
		return c.NoContent(http.StatusNoContent)
	})
	e.GET("/parts", func(c echo.Context) error {
		a, err := signed(c)
		if err != nil {
			return err
		}
		return c.JSON(http.StatusOK, append(kinded("hub", a.Hubs), kinded("firewall", a.Walls)...))
	})
	return w.misbehave(func(r *http.Request) string {
		a, _ := w.byKey("stratok", r.Header.Get("Stratok-Key"))
		return a.Name
	}, e)
}

// goOn returns the part of a list that a request asks for, and names the address
// of the next.
func goOn[T any](c echo.Context, list []T) []T {
	from, _ := strconv.Atoi(c.QueryParam("skip")) //nolint:errcheck // a bad place begins anew
	part, next := cut(list, from)
	c.Response().Header().Set("Total-Count", strconv.Itoa(len(list)))
	if next >= 0 {
		c.Response().Header().Set("Link", fmt.Sprintf(`<%s?skip=%d>; rel="next"`, c.Request().URL.Path, next))
	}
	return part
}

func kinded(kind string, parts []Part) []map[string]any {
	out := []map[string]any{}
	for _, p := range parts {
		out = append(out, map[string]any{"kind": kind, "label": p.Name, "zone": p.Region, "status": p.State, "note": p.Why})
	}
	return out
}

// stratokRule is a rule as Stratok writes it: here is the side of the network, there the other.
type stratokRule struct {
	Order  int            `json:"order"`
	Way    string         `json:"way"` // inbound or outbound
	Do     string         `json:"do"`
	Target string         `json:"target,omitempty"`
	On     []string       `json:"on"` // "tcp:443", "protocols:0-5"; none for all
	Here   []netip.Prefix `json:"here"`
	There  []netip.Prefix `json:"there"`
	Made   string         `json:"made,omitempty"` // by whom
}

func stratokRuleOf(order int, l *Line) stratokRule {
	r := stratokRule{order, "inbound", "deny", l.Target, nil, l.Own, l.Peer, l.By}
	if l.Out {
		r.Way = "outbound"
	}
	if l.Allow {
		r.Do = "allow"
	}
	for _, m := range l.Matches {
		r.On = append(r.On, m.words(":"))
	}
	return r
}

func (r *stratokRule) line() (Line, error) {
	l := Line{Order: r.Order, Out: r.Way == "outbound", Allow: r.Do == "allow", Target: r.Target, Own: r.Here, Peer: r.There, By: r.Made}
	for _, text := range r.On {
		m, err := matchIn(text, ":")
		if err != nil {
			return l, err
		}
		l.Matches = append(l.Matches, m)
	}
	return l, nil
}

// stratokPeer is a network's end of a peering as Stratok writes it.
type stratokPeer struct {
	Net          string `json:"net"`
	LendsTransit bool   `json:"lendsTransit"`
}
