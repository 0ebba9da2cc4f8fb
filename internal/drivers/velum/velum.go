// Package velum reads accounts of the cloud Velum.
package velum

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"bivium/core/estate"
	"bivium/core/inventory"
	"bivium/core/native/config"
	"bivium/internal/drivers"
	"bivium/internal/drivers/call"
)

type driver struct {
	client *call.Client
	access drivers.Access
	token  string
}

// New returns the driver of an account. Key and secret of the access buy a token
// that is good for some minutes; it is bought anew when it is no longer.
func New(a drivers.Access, c *call.Client) drivers.Driver {
	d := &driver{client: c, access: a}
	c.Sign = func(r *http.Request) error {
		r.Header.Set("Velum-Token", d.token)
		return nil
	}
	return d
}

// query asks one question, with another token if the one at hand is not good.
func (d *driver) query(ctx context.Context, ask map[string]any, out any) error {
	return d.ask(ctx, "/query", ask, out)
}

// ask sends a body, with another token if the one at hand is not good.
func (d *driver) ask(ctx context.Context, path string, ask map[string]any, out any) error {
	if d.token != "" {
		_, err := d.client.Post(ctx, path, ask, out)
		if !errors.Is(err, drivers.ErrCredential) {
			return err
		}
	}
	var answer struct{ Token string }
	if _, err := d.client.Post(ctx, "/token", map[string]string{"key": d.access.Key, "secret": d.access.Secret}, &answer); err != nil {
		return err
	}
	d.token = answer.Token
	_, err := d.client.Post(ctx, path, ask, out)
	return err
}

type network struct {
	UID, Title, Place string
	Attributes        map[string]string
	Ranges            map[string]netip.Prefix
	Routes            []string
	Peers             []string
	OpenToInternet    bool
}

type host struct {
	UID, Title, Net  string
	Attributes       map[string]string
	Address          netip.Addr
	FurtherAddresses []netip.Addr
}

type place struct {
	Hosts    bool `json:"hosts,omitempty"`
	Page     int  `json:"page"`
	Networks int  `json:"networks,omitempty"` // in all
}

// Page reads the networks, and after them the hosts.
func (d *driver) Page(ctx context.Context, cursor string) (*drivers.Page, error) {
	at := place{Page: 1}
	if err := drivers.ReadCursor(cursor, &at); err != nil {
		return nil, err
	}
	page := &drivers.Page{}
	next := at
	next.Page++
	if !at.Hosts {
		var answer struct {
			Rows         []network
			Pages, Count int
		}
		if err := d.query(ctx, map[string]any{"of": "networks", "page": at.Page}, &answer); err != nil {
			return nil, err
		}
		for i := range answer.Rows {
			n, err := answer.Rows[i].read()
			if err != nil {
				return nil, &drivers.AnswerError{Asked: "network " + answer.Rows[i].UID, Err: err}
			}
			page.Networks = append(page.Networks, n)
		}
		page.Total, next.Networks = answer.Count, answer.Count
		if at.Page >= answer.Pages {
			next.Hosts, next.Page = true, 1
		}
		page.Next = drivers.Cursor(next)
		return page, nil
	}
	var answer struct {
		Rows         []host
		Pages, Count int
	}
	if err := d.query(ctx, map[string]any{"of": "hosts", "page": at.Page}, &answer); err != nil {
		return nil, err
	}
	for i := range answer.Rows {
		h := &answer.Rows[i]
		w := inventory.Workload{ID: h.UID, Name: h.Title, Network: h.Net, Tags: h.Attributes}
		if h.Address.IsValid() {
			w.Addresses = append([]netip.Addr{h.Address}, h.FurtherAddresses...)
		}
		page.Workloads = append(page.Workloads, w)
	}
	page.Total = at.Networks + answer.Count
	if at.Page < answer.Pages {
		page.Next = drivers.Cursor(next)
	}
	return page, nil
}

func (n *network) read() (inventory.Network, error) {
	out := inventory.Network{ID: n.UID, Name: n.Title, Kind: "cloud", Region: n.Place, Tags: n.Attributes, Peers: n.Peers, Gateway: n.OpenToInternet, Enforcement: estate.EnforceSubnets}
	for name, prefix := range n.Ranges {
		out.Subnets = append(out.Subnets, inventory.Subnet{Name: name, Prefix: prefix})
	}
	slices.SortFunc(out.Subnets, func(a, b inventory.Subnet) int { return a.Prefix.Addr().Compare(b.Prefix.Addr()) })
	var err error
	out.Routes, err = routesIn(n.Routes)
	return out, err
}

// rule is a rule as Velum writes it.
type rule struct {
	Priority int            `json:"priority"`
	Match    []string       `json:"match"`
	Own      []netip.Prefix `json:"own"`
	Other    []netip.Prefix `json:"other"`
	Author   string         `json:"author,omitempty"`
}

// wire is a rule on the wire.
type wire struct {
	Way  string `json:"way"`
	Verb string `json:"verb"`
	rule
}

// Native reads the lists on the ranges of some networks.
func (d *driver) Native(ctx context.Context, networks []string) (*drivers.Native, error) {
	out := &drivers.Native{}
	for _, n := range networks {
		var answer struct {
			Rows []struct {
				Range   string
				Version int
				Rules   []wire
			}
		}
		if err := d.query(ctx, map[string]any{"of": "rules", "page": 1, "net": n}, &answer); err != nil {
			return nil, err
		}
		for _, row := range answer.Rows {
			l := drivers.NetworkList{Network: n, Version: strconv.Itoa(row.Version), List: config.List{On: row.Range}}
			for i := range row.Rules {
				r, err := row.Rules[i].read()
				if err != nil {
					return nil, &drivers.AnswerError{Asked: "the rules of " + row.Range, Err: err}
				}
				l.Rules, l.By = append(l.Rules, r), append(l.By, row.Rules[i].Author)
			}
			out.Lists = append(out.Lists, l)
		}
		table, err := d.table(ctx, n)
		if err != nil {
			return nil, err
		}
		out.Tables = append(out.Tables, *table)
	}
	return out, nil
}

// byItsHub follows a peer whose hub a network uses.
const byItsHub = " by its hub"

func (d *driver) table(ctx context.Context, network string) (*drivers.Table, error) {
	var answer struct {
		Rows []struct {
			Version int
			Routes  []string
			Peers   []string
		}
	}
	if err := d.query(ctx, map[string]any{"of": "table", "page": 1, "net": network}, &answer); err != nil {
		return nil, err
	}
	out := &drivers.Table{Network: network}
	for _, row := range answer.Rows {
		routes, err := routesIn(row.Routes)
		if err != nil {
			return nil, &drivers.AnswerError{Asked: "the routes of " + network, Err: err}
		}
		out.Version, out.Routes = strconv.Itoa(row.Version), routes
		for _, line := range row.Peers {
			p := drivers.Peer{}
			p.Network, p.OffersHub = strings.CutSuffix(line, byItsHub)
			out.Peers = append(out.Peers, p)
		}
	}
	return out, nil
}

func routesIn(lines []string) ([]inventory.Route, error) {
	var out []inventory.Route
	for _, line := range lines {
		to, via, _ := strings.Cut(line, " ")
		prefix, err := netip.ParsePrefix(to)
		if err != nil {
			return nil, fmt.Errorf("route %q: %w", line, err)
		}
		out = append(out, inventory.Route{To: prefix, Via: strings.Replace(via, "peer ", "peer:", 1)})
	}
	return out, nil
}

func (r *wire) read() (config.Rule, error) {
	out := config.Rule{Order: r.Priority, Out: r.Way == "out", Allow: r.Verb == "allow", Own: drivers.Side(r.Own), Peer: drivers.Side(r.Other)}
	for _, text := range r.Match {
		s, err := drivers.ReadWords(text, " ")
		if err != nil {
			return out, err
		}
		out.Services = append(out.Services, s)
	}
	return out, nil
}

// Put replaces the list on one range.
func (d *driver) Put(ctx context.Context, p *drivers.Put) (string, error) {
	if p.Table != nil {
		return d.putTable(ctx, p)
	}
	if p.List == nil {
		return "", errors.New("the lists of Velum hang on ranges")
	}
	rules := make([]wire, len(p.List.Rules))
	for i := range rules {
		r := &p.List.Rules[i]
		x := wire{"in", "deny", rule{Priority: r.Order, Match: []string{}, Own: drivers.Prefixes(r.Own), Other: drivers.Prefixes(r.Peer)}}
		if r.Out {
			x.Way = "out"
		}
		if r.Allow {
			x.Verb = "allow"
		}
		for _, s := range r.Services {
			x.Match = append(x.Match, drivers.Words(s, " "))
		}
		rules[i] = x
	}
	version, _ := strconv.Atoi(p.Version) //nolint:errcheck // none is 0
	var answer struct{ Version int }
	err := d.ask(ctx, "/write", map[string]any{"net": p.Network, "range": p.List.On, "version": version, "rules": rules}, &answer)
	return strconv.Itoa(answer.Version), err
}

func (d *driver) putTable(ctx context.Context, p *drivers.Put) (string, error) {
	routes := make([]string, len(p.Table))
	for i, r := range p.Table {
		routes[i] = r.To.String() + " " + strings.Replace(r.Via, "peer:", "peer ", 1)
	}
	peers := make([]string, len(p.Peers))
	for i, x := range p.Peers {
		if peers[i] = x.Network; x.OffersHub {
			peers[i] += byItsHub
		}
	}
	version, _ := strconv.Atoi(p.Version) //nolint:errcheck // none is 0
	var answer struct{ Version int }
	err := d.ask(ctx, "/write", map[string]any{"net": p.Network, "version": version, "routes": routes, "peers": peers}, &answer)
	return strconv.Itoa(answer.Version), err
}

// Health reads the state of the hubs and firewalls.
func (d *driver) Health(ctx context.Context) ([]drivers.Health, error) {
	var answer struct {
		Rows []struct{ Kind, Title, Place, Condition, Because string }
	}
	if err := d.query(ctx, map[string]any{"of": "parts", "page": 1}, &answer); err != nil {
		return nil, err
	}
	var out []drivers.Health
	for _, r := range answer.Rows {
		out = append(out, drivers.Health{Kind: r.Kind, Name: r.Title, Region: r.Place, State: r.Condition, Why: r.Because})
	}
	return out, nil
}
