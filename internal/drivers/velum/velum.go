// Package velum reads accounts of the cloud Velum.
package velum

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/netip"
	"slices"
	"strings"

	"bivium/core/inventory"
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
	if d.token != "" {
		_, err := d.client.Post(ctx, "/query", ask, out)
		if !errors.Is(err, drivers.ErrCredential) {
			return err
		}
	}
	var answer struct{ Token string }
	if _, err := d.client.Post(ctx, "/token", map[string]string{"key": d.access.Key, "secret": d.access.Secret}, &answer); err != nil {
		return err
	}
	d.token = answer.Token
	_, err := d.client.Post(ctx, "/query", ask, out)
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
	out := inventory.Network{ID: n.UID, Name: n.Title, Kind: "cloud", Region: n.Place, Tags: n.Attributes, Peers: n.Peers, Gateway: n.OpenToInternet}
	for name, prefix := range n.Ranges {
		out.Subnets = append(out.Subnets, inventory.Subnet{Name: name, Prefix: prefix})
	}
	slices.SortFunc(out.Subnets, func(a, b inventory.Subnet) int { return a.Prefix.Addr().Compare(b.Prefix.Addr()) })
	for _, line := range n.Routes {
		to, via, _ := strings.Cut(line, " ")
		prefix, err := netip.ParsePrefix(to)
		if err != nil {
			return out, fmt.Errorf("route %q: %w", line, err)
		}
		out.Routes = append(out.Routes, inventory.Route{To: prefix, Via: strings.Replace(via, "peer ", "peer:", 1)})
	}
	return out, nil
}

// Rules reads the ordered rules on the ranges of a network.
func (d *driver) Rules(ctx context.Context, network string) ([]drivers.RuleList, error) {
	var answer struct {
		Rows []struct {
			Range, Verb, Match string
			Priority           int
			Sources            []string
		}
	}
	if err := d.query(ctx, map[string]any{"of": "rules", "page": 1, "net": network}, &answer); err != nil {
		return nil, err
	}
	return drivers.InLists(len(answer.Rows), func(i int) (on, text string) {
		r := answer.Rows[i]
		return r.Range, fmt.Sprintf("%d %s %s from %s", r.Priority, r.Verb, r.Match, strings.Join(r.Sources, ", "))
	}), nil
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
