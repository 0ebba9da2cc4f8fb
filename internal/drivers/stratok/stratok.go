// Package stratok reads accounts of the cloud Stratok.
package stratok

import (
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"net/http"
	"net/netip"
	"net/url"
	"regexp"
	"strconv"
	"strings"
	"time"

	"bivium/core/inventory"
	"bivium/core/native/config"
	"bivium/internal/drivers"
	"bivium/internal/drivers/call"
)

type driver struct{ client *call.Client }

// New returns the driver of an account. Each request is signed with the secret
// of the access.
func New(a drivers.Access, c *call.Client) drivers.Driver {
	c.Sign = func(r *http.Request) error {
		date := time.Now().UTC().Format(http.TimeFormat)
		mac := hmac.New(sha256.New, []byte(a.Secret))
		fmt.Fprintf(mac, "%s %s %s", r.Method, r.URL.RequestURI(), date)
		r.Header.Set("Date", date)
		r.Header.Set("Stratok-Key", a.Key)
		r.Header.Set("Stratok-Signature", hex.EncodeToString(mac.Sum(nil)))
		return nil
	}
	return &driver{c}
}

// route is an entry of a route table.
type route struct {
	Destination netip.Prefix
	Target      string
}

// joined is a network's end of a peering.
type joined struct {
	Net          string `json:"net"`
	LendsTransit bool   `json:"lendsTransit"`
}

type network struct {
	ID, Label, Zone string
	Meta            map[string]string
	Subnets         []string
	RIB             []route
	Joined          []string
	Egress          bool
}

type host struct {
	ID, Label string
	IPs       []netip.Addr
	Meta      map[string]string
}

// place is where a reading is: at a page of networks, or at one of the hosts of
// a network of such a page, which are read network by network.
type place struct {
	Networks string `json:"networks"`        // path of the page of networks
	Hosts    string `json:"hosts,omitempty"` // path of the page of hosts; "" before the first
	Skip     int    `json:"skip,omitempty"`  // networks of the page whose hosts have been read
	ID       string `json:"id,omitempty"`    // of the network whose hosts are read
	Total    int    `json:"total,omitempty"` // networks in all, and hosts as far as counted
}

// batch is how many networks' hosts one page holds at most.
const batch = 50

// Page reads a page of networks, and then their hosts, network by network. A
// network that is gone by then has none, and is noted.
func (d *driver) Page(ctx context.Context, cursor string) (*drivers.Page, error) {
	at := place{Networks: "/nets"}
	if err := drivers.ReadCursor(cursor, &at); err != nil {
		return nil, err
	}
	var nets []network
	header, err := d.client.Get(ctx, at.Networks, &nets)
	if err != nil {
		return nil, err
	}
	page := &drivers.Page{}
	if at.Skip == 0 && at.Hosts == "" && at.ID == "" {
		for i := range nets {
			n, err := nets[i].read()
			if err != nil {
				return nil, &drivers.AnswerError{Asked: "network " + nets[i].ID, Err: err}
			}
			page.Networks = append(page.Networks, n)
		}
		if at.Total == 0 {
			at.Total = total(header)
		}
	}
	for range batch {
		if at.Skip >= len(nets) {
			break
		}
		at.ID = nets[at.Skip].ID
		if at.Hosts == "" {
			at.Hosts = "/nets/" + url.PathEscape(at.ID) + "/hosts"
		}
		if err := d.hosts(ctx, &at, page); err != nil {
			return nil, err
		}
	}
	page.Total = at.Total
	switch next := following(header); {
	case at.Skip < len(nets):
		page.Next = drivers.Cursor(at)
	case next != "":
		page.Next = drivers.Cursor(place{Networks: next, Total: at.Total})
	}
	return page, nil
}

// hosts reads one page of the hosts of a network, and moves the place on.
func (d *driver) hosts(ctx context.Context, at *place, page *drivers.Page) error {
	first := !strings.Contains(at.Hosts, "?")
	var hosts []host
	header, err := d.client.Get(ctx, at.Hosts, &hosts)
	switch {
	case errors.Is(err, drivers.ErrMissing):
		page.Notes = append(page.Notes, "network "+at.ID+" disappeared during the sync")
		header = nil
	case err != nil:
		return err
	case first:
		at.Total += total(header)
	}
	for _, h := range hosts {
		page.Workloads = append(page.Workloads, inventory.Workload{ID: h.ID, Name: h.Label, Network: at.ID, Addresses: h.IPs, Tags: h.Meta})
	}
	if at.Hosts = following(header); at.Hosts == "" {
		at.Skip++
	}
	return nil
}

var link = regexp.MustCompile(`<([^>]+)>; *rel="?next"?`)

// following returns the path of the next page that a Link header names.
func following(h http.Header) string {
	m := link.FindStringSubmatch(h.Get("Link"))
	if m == nil || !strings.HasPrefix(m[1], "/") {
		return ""
	}
	return m[1]
}

func total(h http.Header) int {
	n, err := strconv.Atoi(h.Get("Total-Count"))
	if err != nil {
		return 0 // the provider does not say
	}
	return n
}

func (n *network) read() (inventory.Network, error) {
	out := inventory.Network{ID: n.ID, Name: n.Label, Kind: "cloud", Region: n.Zone, Tags: n.Meta, Peers: n.Joined, Gateway: n.Egress}
	for _, s := range n.Subnets {
		name, text, _ := strings.Cut(s, "=")
		prefix, err := netip.ParsePrefix(text)
		if err != nil {
			return out, fmt.Errorf("subnet %q: %w", s, err)
		}
		out.Subnets = append(out.Subnets, inventory.Subnet{Name: name, Prefix: prefix})
	}
	for _, r := range n.RIB {
		out.Routes = append(out.Routes, inventory.Route{To: r.Destination, Via: r.Target})
	}
	return out, nil
}

// rule is a rule as Stratok writes it.
type rule struct {
	Order  int            `json:"order"`
	Way    string         `json:"way"`
	Do     string         `json:"do"`
	Target string         `json:"target,omitempty"`
	On     []string       `json:"on"`
	Here   []netip.Prefix `json:"here"`
	There  []netip.Prefix `json:"there"`
	Made   string         `json:"made,omitempty"`
}

// Native reads the ordered lists of some networks.
func (d *driver) Native(ctx context.Context, networks []string) (*drivers.Native, error) {
	out := &drivers.Native{}
	for _, n := range networks {
		var rules []rule
		header, err := d.client.Get(ctx, "/nets/"+url.PathEscape(n)+"/rules", &rules)
		if err != nil {
			return nil, err
		}
		l := drivers.NetworkList{Network: n, Version: strings.Trim(header.Get("ETag"), `"`)}
		for i := range rules {
			r := &rules[i]
			x := config.Rule{Order: i + 1, Out: r.Way == "outbound", Allow: r.Do == "allow", Target: r.Target, Own: drivers.Side(r.Here), Peer: drivers.Side(r.There)}
			for _, text := range r.On {
				s, err := drivers.ReadWords(text, ":")
				if err != nil {
					return nil, &drivers.AnswerError{Asked: "the rules of " + n, Err: err}
				}
				x.Services = append(x.Services, s)
			}
			l.Rules, l.By = append(l.Rules, x), append(l.By, r.Made)
		}
		out.Lists = append(out.Lists, l)
		var table struct {
			RIB    []route
			Joined []joined
		}
		if header, err = d.client.Get(ctx, "/nets/"+url.PathEscape(n)+"/rib", &table); err != nil {
			return nil, err
		}
		t := drivers.Table{Network: n, Version: strings.Trim(header.Get("ETag"), `"`)}
		for _, r := range table.RIB {
			t.Routes = append(t.Routes, inventory.Route{To: r.Destination, Via: r.Target})
		}
		for _, p := range table.Joined {
			t.Peers = append(t.Peers, drivers.Peer{Network: p.Net, OffersHub: p.LendsTransit})
		}
		out.Tables = append(out.Tables, t)
	}
	return out, nil
}

// Put replaces the list of one network.
func (d *driver) Put(ctx context.Context, p *drivers.Put) (string, error) {
	if p.Table != nil {
		rib := make([]route, len(p.Table))
		for i, r := range p.Table {
			rib[i] = route{r.To, r.Via}
		}
		peers := make([]joined, len(p.Peers))
		for i, x := range p.Peers {
			peers[i] = joined{x.Network, x.OffersHub}
		}
		return d.put(ctx, p, "rib", map[string]any{"rib": rib, "joined": peers})
	}
	if p.List == nil {
		return "", errors.New("the lists of Stratok hang on networks")
	}
	rules := make([]rule, len(p.List.Rules))
	for i := range rules {
		r := &p.List.Rules[i]
		x := rule{r.Order, "inbound", "deny", r.Target, []string{}, drivers.Prefixes(r.Own), drivers.Prefixes(r.Peer), ""}
		if r.Out {
			x.Way = "outbound"
		}
		if r.Allow {
			x.Do = "allow"
		}
		for _, s := range r.Services {
			x.On = append(x.On, drivers.Words(s, ":"))
		}
		rules[i] = x
	}
	return d.put(ctx, p, "rules", rules)
}

func (d *driver) put(ctx context.Context, p *drivers.Put, what string, body any) (string, error) {
	header, err := d.client.Put(ctx, "/nets/"+url.PathEscape(p.Network)+"/"+what, map[string]string{"If-Match": `"` + p.Version + `"`}, body, nil)
	if err != nil {
		return "", err
	}
	return strings.Trim(header.Get("ETag"), `"`), nil
}

// Health reads the state of the hubs and firewalls.
func (d *driver) Health(ctx context.Context) ([]drivers.Health, error) {
	var answer []struct{ Kind, Label, Zone, Status, Note string }
	if _, err := d.client.Get(ctx, "/parts", &answer); err != nil {
		return nil, err
	}
	var out []drivers.Health
	for _, r := range answer {
		out = append(out, drivers.Health{Kind: r.Kind, Name: r.Label, Region: r.Zone, State: r.Status, Why: r.Note})
	}
	return out, nil
}
