// Package standin plays the outside world: three clouds and the premises, each
// with an interface of its own over real sockets on loopback. Its state is in
// memory; faults come on request. What it holds is nobody else's business: the
// product knows of it what it reads.
package standin

import (
	"bytes"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"sync"

	"go.yaml.in/yaml/v3"
	"golang.org/x/time/rate"
)

// World is everything there is outside. It is safe for concurrent use.
type World struct {
	mu       sync.RWMutex
	accounts map[string]*Account
	fabric   fabric
}

// Account is what one customer of a provider has.
type Account struct {
	Name     string     `yaml:"name"`
	Provider string     `yaml:"provider"`
	Key      string     `yaml:"key"`
	Secret   string     `yaml:"secret"`
	Networks []*Network `yaml:"networks"`
	Machines []*Machine `yaml:"machines"`
	Rules    []Rule     `yaml:"rules"`
	Hubs     []Part     `yaml:"hubs"`
	Walls    []Part     `yaml:"firewalls"`
	Rate     float64    `yaml:"rate"` // requests a second that are answered; 0 for 200

	native *native
	faults *faults
	rate   *rate.Limiter
	in     map[string][]*Machine // by network
}

// Part is a hub or a firewall that a provider runs, as far as its health goes.
type Part struct {
	Name   string `yaml:"name" json:"name"`
	Region string `yaml:"region" json:"region"`
	State  string `yaml:"state" json:"state"`
	Why    string `yaml:"why" json:"why,omitempty"`
}

// Network is a virtual network, or a site's.
type Network struct {
	ID      string            `yaml:"id"`
	Name    string            `yaml:"name"`
	Kind    string            `yaml:"kind"`
	Region  string            `yaml:"region"`
	Tags    map[string]string `yaml:"tags"`
	Subnets []Subnet          `yaml:"subnets"`
	Table   []Entry           `yaml:"table"`
	Peers   []string          `yaml:"peers"`   // by ID: its ends of peerings
	Offered []string          `yaml:"offered"` // those of the peers that offer it their hub
	Gateway bool              `yaml:"gateway"`
	Uplink  string            `yaml:"uplink"`
	Why     string            `yaml:"why"` // of an uplink that is not up
	Router  *Router           `yaml:"router"`
}

// Subnet is one prefix of a network.
type Subnet struct {
	Name   string       `yaml:"name"`
	Prefix netip.Prefix `yaml:"prefix"`
}

// Entry is one entry of a route table: to hub, internet, none, or a peer's ID.
type Entry struct {
	To  netip.Prefix `yaml:"to"`
	Via string       `yaml:"via"`
}

// Rule is a rule that somebody wrote by hand: each provider has a way of its own
// to write it.
type Rule struct {
	Network  string       `yaml:"network"` // ID
	On       string       `yaml:"on"`      // a subnet or a machine of it, by name
	Priority int          `yaml:"priority"`
	Action   string       `yaml:"action"` // allow or deny
	Protocol string       `yaml:"protocol"`
	Ports    string       `yaml:"ports"`
	From     netip.Prefix `yaml:"from"`
	By       string       `yaml:"by"` // who wrote it
}

// Machine is a workload. Network is the ID of a network, of this account or of
// another.
type Machine struct {
	ID        string            `yaml:"id" json:"id"`
	Name      string            `yaml:"name" json:"name"`
	Network   string            `yaml:"network" json:"network"`
	Addresses []netip.Addr      `yaml:"addresses" json:"addresses"`
	Tags      map[string]string `yaml:"tags" json:"tags"`
}

// Read returns the world that a document describes.
func Read(document []byte) (*World, error) {
	var file struct {
		Accounts []*Account `yaml:"accounts"`
	}
	d := yaml.NewDecoder(bytes.NewReader(document))
	d.KnownFields(true)
	if err := d.Decode(&file); err != nil {
		return nil, fmt.Errorf("read the world: %w", err)
	}
	w := &World{accounts: map[string]*Account{}}
	for _, a := range file.Accounts {
		w.Add(a)
	}
	return w, nil
}

// Add puts an account into the world. IDs that are missing are made of names.
func (w *World) Add(a *Account) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.accounts == nil {
		w.accounts = map[string]*Account{}
	}
	for _, n := range a.Networks {
		if n.ID == "" {
			n.ID = "net-" + strings.ReplaceAll(strings.ToLower(n.Name), " ", "-")
		}
	}
	for i, m := range a.Machines {
		if m.ID == "" {
			m.ID = fmt.Sprintf("m-%s-%05d", a.Name, i+1)
		}
	}
	a.faults = &faults{}
	if a.Rate == 0 {
		a.Rate = 200
	}
	a.rate = rate.NewLimiter(rate.Limit(a.Rate), int(a.Rate))
	a.begin()
	a.index()
	w.accounts[a.Name] = a
}

func (a *Account) index() {
	a.in = map[string][]*Machine{}
	for _, m := range a.Machines {
		a.in[m.Network] = append(a.in[m.Network], m)
	}
}

// Start lets a machine appear in an account; one of the same ID is replaced.
func (w *World) Start(account string, m *Machine) error {
	return w.change(account, func(a *Account) {
		a.Machines = append(slices.DeleteFunc(slices.Clone(a.Machines), func(o *Machine) bool { return o.ID == m.ID }), m)
	})
}

// Stop lets a machine go, by ID or name.
func (w *World) Stop(account, machine string) error {
	return w.change(account, func(a *Account) {
		a.Machines = slices.DeleteFunc(slices.Clone(a.Machines), func(m *Machine) bool { return m.ID == machine || m.Name == machine })
	})
}

// Drop lets a network go, by ID, with the machines in it.
func (w *World) Drop(account, network string) error {
	return w.change(account, func(a *Account) {
		a.Networks = slices.DeleteFunc(slices.Clone(a.Networks), func(n *Network) bool { return n.ID == network })
		a.Machines = slices.DeleteFunc(slices.Clone(a.Machines), func(m *Machine) bool { return m.Network == network })
	})
}

func (w *World) change(account string, f func(*Account)) error {
	w.mu.Lock()
	defer w.mu.Unlock()
	a, ok := w.accounts[account]
	if !ok {
		return fmt.Errorf("the world has no account %q", account)
	}
	a.native = a.native.clone() // whoever reads has the one before
	f(a)
	a.index()
	return nil
}

// account returns an account of a provider, with its lists as they are now.
func (w *World) account(provider, name string) (Account, bool) {
	w.mu.RLock()
	defer w.mu.RUnlock()
	a, ok := w.accounts[name]
	if !ok || a.Provider != provider {
		return Account{}, false
	}
	return *a, true
}

// byKey returns the account of a provider that a key is of.
func (w *World) byKey(provider, key string) (Account, bool) {
	w.mu.RLock()
	name := ""
	for _, a := range w.accounts {
		if a.Provider == provider && a.Key == key {
			name = a.Name
		}
	}
	w.mu.RUnlock()
	return w.account(provider, name)
}
