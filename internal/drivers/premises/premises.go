// Package premises reads an organisation's own sites from their controller.
package premises

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"net/netip"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"bivium/core/estate"
	"bivium/core/inventory"
	"bivium/core/native/config"
	"bivium/internal/drivers"
	"bivium/internal/drivers/acl"
	"bivium/internal/drivers/call"
)

type driver struct{ client *call.Client }

// New returns the driver of a controller, which is given key and secret of the
// access in headers.
func New(a drivers.Access, c *call.Client) drivers.Driver {
	c.Sign = func(r *http.Request) error {
		r.Header.Set("Controller-Key", a.Key)
		r.Header.Set("Controller-Secret", a.Secret)
		return nil
	}
	return &driver{c}
}

type site struct {
	Site, Name, Type, Region string
	Notes                    map[string]string
	Lans                     []struct {
		Name   string
		Prefix netip.Prefix
	}
	Uplink  string
	Routes  []route
	Tunnels []tunnel
}

// tunnel is a site's end of a direct tunnel to another network: a peering.
type tunnel struct {
	To      string `json:"to"`
	Transit bool   `json:"transit"` // it uses the hub of the other network
}

// route is an entry of a site's route table.
type route struct {
	Prefix  netip.Prefix `json:"destination-prefix"`
	NextHop string       `json:"next-hop"`
}

func (r *route) read() inventory.Route { return inventory.Route{To: r.Prefix, Via: r.NextHop} }

type device struct {
	Serial, Name, Site string
	Addresses          []netip.Addr
	Notes              map[string]string
}

type place struct {
	Devices bool `json:"devices,omitempty"`
	From    int  `json:"from"`
	Sites   int  `json:"sites,omitempty"` // in all
}

// Page reads the sites, and after them the devices.
func (d *driver) Page(ctx context.Context, cursor string) (*drivers.Page, error) {
	var at place
	if err := drivers.ReadCursor(cursor, &at); err != nil {
		return nil, err
	}
	page := &drivers.Page{}
	if !at.Devices {
		var answer struct {
			Sites []site
			Of    int
		}
		if _, err := d.client.Get(ctx, fmt.Sprintf("/sites?from=%d", at.From), &answer); err != nil {
			return nil, err
		}
		for i := range answer.Sites {
			page.Networks = append(page.Networks, answer.Sites[i].read())
		}
		page.Total = answer.Of
		next := place{From: at.From + len(answer.Sites), Sites: answer.Of}
		if next.From >= answer.Of || len(answer.Sites) == 0 {
			next.Devices, next.From = true, 0
		}
		page.Next = drivers.Cursor(next)
		return page, nil
	}
	var answer struct {
		Devices []device
		Of      int
	}
	if _, err := d.client.Get(ctx, fmt.Sprintf("/devices?from=%d", at.From), &answer); err != nil {
		return nil, err
	}
	for _, one := range answer.Devices {
		page.Workloads = append(page.Workloads, inventory.Workload{ID: one.Serial, Name: one.Name, Network: one.Site, Addresses: one.Addresses, Tags: one.Notes})
	}
	page.Total = at.Sites + answer.Of
	if next := at.From + len(answer.Devices); next < answer.Of && len(answer.Devices) > 0 {
		page.Next = drivers.Cursor(place{Devices: true, From: next, Sites: at.Sites})
	}
	return page, nil
}

func (s *site) read() inventory.Network {
	out := inventory.Network{ID: s.Site, Name: s.Name, Kind: s.Type, Region: s.Region, Tags: s.Notes, Uplink: s.Uplink, Enforcement: estate.EnforceSubnets}
	for _, l := range s.Lans {
		out.Subnets = append(out.Subnets, inventory.Subnet{Name: l.Name, Prefix: l.Prefix})
	}
	for i := range s.Routes {
		out.Routes = append(out.Routes, s.Routes[i].read())
	}
	for _, t := range s.Tunnels {
		out.Peers = append(out.Peers, t.To)
	}
	return out
}

// acls are access lists on the wire, with versions beside them.
type acls struct {
	ACLs struct {
		ACL []acl.List `json:"acl"`
	} `json:"ietf-access-control-list:acls"`
	Versions map[string]int `json:"versions,omitempty"`
	Version  int            `json:"version"`
}

// Native reads the access lists (RFC 8519) and route tables of some sites.
func (d *driver) Native(ctx context.Context, networks []string) (*drivers.Native, error) {
	out := &drivers.Native{}
	for _, n := range networks {
		var answer acls
		if _, err := d.client.Get(ctx, "/acls?site="+url.QueryEscape(n), &answer); err != nil {
			return nil, err
		}
		lists := map[string]*drivers.NetworkList{}
		for lan, version := range answer.Versions { // one may be empty
			lists[lan] = &drivers.NetworkList{Network: n, Version: strconv.Itoa(version), List: config.List{On: lan}}
		}
		for i := range answer.ACLs.ACL {
			a := &answer.ACLs.ACL[i]
			lan, _, _ := strings.Cut(a.Name, ":")
			if lists[lan] == nil {
				lists[lan] = &drivers.NetworkList{Network: n, Version: strconv.Itoa(answer.Versions[lan]), List: config.List{On: lan}}
			}
			if err := a.Read(&lists[lan].List); err != nil {
				return nil, &drivers.AnswerError{Asked: "access list " + a.Name, Err: err}
			}
		}
		for _, lan := range slices.Sorted(maps.Keys(lists)) {
			out.Lists = append(out.Lists, *lists[lan])
		}
		var table struct {
			Routes  []route
			Tunnels []tunnel
			Version int
		}
		if _, err := d.client.Get(ctx, "/routes?site="+url.QueryEscape(n), &table); err != nil {
			return nil, err
		}
		t := drivers.Table{Network: n, Version: strconv.Itoa(table.Version)}
		for i := range table.Routes {
			t.Routes = append(t.Routes, table.Routes[i].read())
		}
		for _, x := range table.Tunnels {
			t.Peers = append(t.Peers, drivers.Peer{Network: x.To, OffersHub: x.Transit})
		}
		out.Tables = append(out.Tables, t)
	}
	return out, nil
}

// Put replaces the access lists of one lan, or the route table of a site with its tunnels to other
// networks, which are its peerings.
func (d *driver) Put(ctx context.Context, p *drivers.Put) (string, error) {
	if p.Table != nil {
		routes := make([]route, len(p.Table))
		for i, r := range p.Table {
			routes[i] = route{r.To, r.Via}
		}
		tunnels := make([]tunnel, len(p.Peers))
		for i, x := range p.Peers {
			tunnels[i] = tunnel{x.Network, x.OffersHub}
		}
		version, _ := strconv.Atoi(p.Version) //nolint:errcheck // none is 0
		var answer struct{ Version int }
		_, err := d.client.Put(ctx, "/routes?"+url.Values{"site": {p.Network}}.Encode(), nil, map[string]any{"routes": routes, "tunnels": tunnels, "version": version}, &answer)
		return strconv.Itoa(answer.Version), err
	}
	if p.List == nil {
		return "", errors.New("premises have access lists on lans and route tables, and nothing else")
	}
	var body acls
	body.Version, _ = strconv.Atoi(p.Version) //nolint:errcheck // none is 0
	body.ACLs.ACL = acl.Lists(p.List)
	var answer struct{ Version int }
	_, err := d.client.Put(ctx, "/acls?"+url.Values{"site": {p.Network}, "lan": {p.List.On}}.Encode(), nil, body, &answer)
	return strconv.Itoa(answer.Version), err
}

// Health reads the state of the uplinks.
func (d *driver) Health(ctx context.Context) ([]drivers.Health, error) {
	var answer struct {
		Uplinks []struct{ Name, Region, State, Remark string }
	}
	if _, err := d.client.Get(ctx, "/uplinks", &answer); err != nil {
		return nil, err
	}
	var out []drivers.Health
	for _, u := range answer.Uplinks {
		if u.State != "" { // a network without an uplink of its own
			out = append(out, drivers.Health{Kind: "uplink", Name: u.Name, Region: u.Region, State: u.State, Why: u.Remark})
		}
	}
	return out, nil
}
