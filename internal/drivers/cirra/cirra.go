// Package cirra reads accounts of the cloud Cirra.
package cirra

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/netip"
	"net/url"
	"strconv"
	"strings"

	"bivium/core/inventory"
	"bivium/core/native/config"
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

// route is an entry of a route table.
type route struct {
	Destination netip.Prefix
	Target      string
}

// peering is a network's end of a peering.
type peering struct {
	NetworkID     string `json:"networkId"`
	RemoteGateway bool   `json:"remoteGateway"`
}

type network struct {
	NetworkID   string `json:"networkId"`
	DisplayName string
	Region      string
	Tags        []tag
	Blocks      []struct {
		BlockName string
		CIDR      netip.Prefix
	}
	Table           []route
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

// entry is an entry as Cirra writes it.
type entry struct {
	Direction string `json:"direction"`
	Protocol  string `json:"protocol"`
	Ports     string `json:"ports,omitempty"`
	Peer      string `json:"peer"`
	CreatedBy string `json:"createdBy,omitempty"`
}

// Native reads the lists of the account, and which machines bear them.
func (d *driver) Native(ctx context.Context, _ []string) (*drivers.Native, error) {
	out := &drivers.Native{}
	if err := d.lists(ctx, "", out); err != nil {
		return nil, err
	}
	if err := d.bindings(ctx, "", out); err != nil {
		return nil, err
	}
	return out, d.tables(ctx, out)
}

// One implements drivers.Single. Tables come together: there are as many as networks.
func (d *driver) One(ctx context.Context, p *drivers.Put) (*drivers.Native, error) {
	out := &drivers.Native{}
	switch {
	case p.Table != nil:
		return out, d.tables(ctx, out)
	case p.Entries != nil:
		return out, d.lists(ctx, p.Entries.Name, out)
	case p.Workload != "":
		return out, d.bindings(ctx, p.Workload, out)
	}
	return out, d.bindings(ctx, "-", out) // what is borne by default comes with any
}

// only asks for one thing, or for all.
func only(name string) string {
	if name == "" {
		return ""
	}
	return "?only=" + url.QueryEscape(name)
}

// lists adds one list, or all.
func (d *driver) lists(ctx context.Context, name string, out *drivers.Native) error {
	var lists struct {
		Items []struct {
			Name    string
			Version int
			Entries []entry
		}
	}
	if _, err := d.client.Get(ctx, d.path+"/lists"+only(name), &lists); err != nil {
		return err
	}
	for _, l := range lists.Items {
		x := drivers.EntryList{Version: strconv.Itoa(l.Version), EntryList: config.EntryList{Name: l.Name}}
		for i := range l.Entries {
			e, err := l.Entries[i].read()
			if err != nil {
				return &drivers.AnswerError{Asked: "list " + l.Name, Err: err}
			}
			x.Entries, x.By = append(x.Entries, e), append(x.By, l.Entries[i].CreatedBy)
		}
		out.Entries = append(out.Entries, x)
	}
	return nil
}

// bindings adds which lists one machine bears, or all do, and those that others bear.
func (d *driver) bindings(ctx context.Context, machine string, out *drivers.Native) error {
	var bound struct {
		Items []struct {
			Machine string
			Version int
			Lists   []string
		}
		Default struct {
			Version int
			Lists   []string
		}
	}
	if _, err := d.client.Get(ctx, d.path+"/bindings"+only(machine), &bound); err != nil {
		return err
	}
	for _, b := range bound.Items {
		out.Bindings = append(out.Bindings, drivers.Binding{Version: strconv.Itoa(b.Version), Workload: b.Machine, Lists: b.Lists})
	}
	out.Bindings = append(out.Bindings, drivers.Binding{Version: strconv.Itoa(bound.Default.Version), Lists: bound.Default.Lists})
	return nil
}

// tables adds the route tables and peerings of all networks.
func (d *driver) tables(ctx context.Context, out *drivers.Native) error {
	var tables struct {
		Items []struct {
			Network  string
			Version  int
			Table    []route
			Peerings []peering
		}
	}
	if _, err := d.client.Get(ctx, d.path+"/tables", &tables); err != nil {
		return err
	}
	for _, t := range tables.Items {
		x := drivers.Table{Network: t.Network, Version: strconv.Itoa(t.Version)}
		for _, r := range t.Table {
			x.Routes = append(x.Routes, inventory.Route{To: r.Destination, Via: r.Target})
		}
		for _, p := range t.Peerings {
			x.Peers = append(x.Peers, drivers.Peer{Network: p.NetworkID, OffersHub: p.RemoteGateway})
		}
		out.Tables = append(out.Tables, x)
	}
	return nil
}

func (e *entry) read() (config.Entry, error) {
	out := config.Entry{Out: e.Direction == "egress", Service: config.Anything}
	if e.Protocol != "" {
		text := e.Protocol
		if strings.Contains(text, "-") {
			text = "protocols " + text
		} else if e.Ports != "" {
			text += " " + e.Ports
		}
		var err error
		if out.Service, err = drivers.ReadWords(text, " "); err != nil {
			return out, err
		}
	}
	if name, list := strings.CutPrefix(e.Peer, "list:"); list {
		out.Peers = name
		return out, nil
	}
	if e.Peer == "" {
		return out, errors.New("an entry has no peer")
	}
	var err error
	out.Peer, err = netip.ParsePrefix(e.Peer)
	return out, err
}

// Put replaces a list, or what a machine bears.
func (d *driver) Put(ctx context.Context, p *drivers.Put) (string, error) {
	version, _ := strconv.Atoi(p.Version) //nolint:errcheck // none is 0
	body, path := map[string]any{"version": version}, d.path
	switch {
	case p.Remove && p.Entries != nil:
		return "", d.client.Remove(ctx, path+"/lists/"+url.PathEscape(p.Entries.Name)+"?version="+p.Version, nil)
	case p.Remove:
		return "", d.client.Remove(ctx, path+"/bindings/"+url.PathEscape(p.Workload)+"?version="+p.Version, nil)
	case p.Table != nil:
		table := make([]route, len(p.Table))
		for i, r := range p.Table {
			table[i] = route{r.To, r.Via}
		}
		peerings := make([]peering, len(p.Peers))
		for i, x := range p.Peers {
			peerings[i] = peering{x.Network, x.OffersHub}
		}
		body["table"], body["peerings"], path = table, peerings, path+"/tables/"+url.PathEscape(p.Network)
	case p.Entries != nil:
		entries := make([]entry, len(p.Entries.Entries))
		for i := range entries {
			entries[i] = written(&p.Entries.Entries[i])
		}
		body["entries"], path = entries, path+"/lists/"+url.PathEscape(p.Entries.Name)
	case p.Workload != "":
		body["lists"], path = p.Bears, path+"/bindings/"+url.PathEscape(p.Workload)
	case p.Bears != nil:
		body["lists"], path = p.Bears, path+"/default/-"
	default:
		return "", errors.New("the lists of Cirra are borne by machines")
	}
	var answer struct{ Version int }
	_, err := d.client.Put(ctx, path, nil, body, &answer)
	return strconv.Itoa(answer.Version), err
}

func written(e *config.Entry) entry {
	out := entry{Direction: "ingress", Peer: e.Peer.String()}
	if e.Out {
		out.Direction = "egress"
	}
	if e.Peers != "" {
		out.Peer = "list:" + e.Peers
	}
	switch s := e.Service; {
	case s == config.Anything:
	case s.FirstProtocol == s.LastProtocol:
		out.Protocol = drivers.Protocol(s.FirstProtocol)
		_, out.Ports, _ = strings.Cut(drivers.Words(s, " "), " ")
	default:
		out.Protocol = fmt.Sprintf("%d-%d", s.FirstProtocol, s.LastProtocol)
	}
	return out
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
