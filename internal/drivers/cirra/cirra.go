// Package cirra reads accounts of the cloud Cirra.
package cirra

import (
	"context"
	"net/http"
	"net/netip"
	"net/url"

	"bivium/core/inventory"
	"bivium/internal/drivers"
	"bivium/internal/drivers/call"
)

type driver struct {
	client *call.Client
	path   string
}

// New returns the driver of an account. The secret of the access is a bearer
// token.
func New(a drivers.Access, c *call.Client) drivers.Driver {
	c.Sign = func(r *http.Request) error {
		r.Header.Set("Authorization", "Bearer "+a.Secret)
		return nil
	}
	return &driver{c, "/v1/" + url.PathEscape(a.Account)}
}

type tag struct{ Key, Value string }

type network struct {
	NetworkID   string `json:"networkId"`
	DisplayName string
	Region      string
	Tags        []tag
	Blocks      []struct {
		BlockName string
		CIDR      netip.Prefix
	}
	Table []struct {
		Destination netip.Prefix
		Target      string
	}
	PeeredWith      []string
	InternetGateway bool
}

type machine struct {
	MachineID  string `json:"machineId"`
	HostName   string
	Interfaces []struct {
		NetworkID string `json:"networkId"`
		Addresses []netip.Addr
	}
	Tags []tag
}

type place struct {
	Machines bool   `json:"machines,omitempty"`
	Cursor   string `json:"cursor,omitempty"`
	Networks int    `json:"networks,omitempty"` // in all
}

// Page reads the networks, and after them the machines.
func (d *driver) Page(ctx context.Context, cursor string) (*drivers.Page, error) {
	var at place
	if err := drivers.ReadCursor(cursor, &at); err != nil {
		return nil, err
	}
	query := "?" + url.Values{"cursor": {at.Cursor}}.Encode()
	page := &drivers.Page{}
	if !at.Machines {
		var answer struct {
			Items []network
			Next  string
			Total int
		}
		if _, err := d.client.Get(ctx, d.path+"/networks"+query, &answer); err != nil {
			return nil, err
		}
		for i := range answer.Items {
			page.Networks = append(page.Networks, answer.Items[i].read())
		}
		page.Total = answer.Total
		page.Next = drivers.Cursor(place{Machines: answer.Next == "", Cursor: answer.Next, Networks: answer.Total})
		return page, nil
	}
	var answer struct {
		Items []machine
		Next  string
		Total int
	}
	if _, err := d.client.Get(ctx, d.path+"/machines"+query, &answer); err != nil {
		return nil, err
	}
	for i := range answer.Items {
		page.Workloads = append(page.Workloads, answer.Items[i].read())
	}
	page.Total = at.Networks + answer.Total
	if answer.Next != "" {
		page.Next = drivers.Cursor(place{Machines: true, Cursor: answer.Next, Networks: at.Networks})
	}
	return page, nil
}

func (n *network) read() inventory.Network {
	out := inventory.Network{ID: n.NetworkID, Name: n.DisplayName, Kind: "cloud", Region: n.Region, Tags: tags(n.Tags), Peers: n.PeeredWith, Gateway: n.InternetGateway}
	for _, b := range n.Blocks {
		out.Subnets = append(out.Subnets, inventory.Subnet{Name: b.BlockName, Prefix: b.CIDR})
	}
	for _, r := range n.Table {
		out.Routes = append(out.Routes, inventory.Route{To: r.Destination, Via: r.Target})
	}
	return out
}

func (m *machine) read() inventory.Workload {
	out := inventory.Workload{ID: m.MachineID, Name: m.HostName, Tags: tags(m.Tags)}
	for i, one := range m.Interfaces {
		if i == 0 {
			out.Network = one.NetworkID
		}
		if one.NetworkID == out.Network {
			out.Addresses = append(out.Addresses, one.Addresses...)
		}
	}
	return out
}

func tags(list []tag) map[string]string {
	out := make(map[string]string, len(list))
	for _, t := range list {
		out[t.Key] = t.Value
	}
	return out
}

// Rules reads the lists of the machines of a network; they allow, and what no list
// names is denied.
func (d *driver) Rules(ctx context.Context, network string) ([]drivers.RuleList, error) {
	var answer struct {
		Items []struct {
			Machine string
			Entry   struct{ Protocol, Ports, Source string }
		}
	}
	if _, err := d.client.Get(ctx, d.path+"/lists?"+url.Values{"network": {network}}.Encode(), &answer); err != nil {
		return nil, err
	}
	return drivers.InLists(len(answer.Items), func(i int) (on, text string) {
		x := answer.Items[i]
		return x.Machine, "allow " + x.Entry.Protocol + " " + x.Entry.Ports + " from " + x.Entry.Source
	}), nil
}

// Health reads the state of the hubs and firewalls.
func (d *driver) Health(ctx context.Context) ([]drivers.Health, error) {
	var answer struct {
		Hubs, Firewalls []struct{ Name, Region, State, Why string }
	}
	if _, err := d.client.Get(ctx, d.path+"/parts", &answer); err != nil {
		return nil, err
	}
	var out []drivers.Health
	for _, h := range answer.Hubs {
		out = append(out, drivers.Health{Kind: "hub", Name: h.Name, Region: h.Region, State: h.State, Why: h.Why})
	}
	for _, f := range answer.Firewalls {
		out = append(out, drivers.Health{Kind: "firewall", Name: f.Name, Region: f.Region, State: f.State, Why: f.Why})
	}
	return out, nil
}
