package standin

import (
	"errors"
	"fmt"
	"maps"
	"net/http"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"github.com/labstack/echo/v4"
)

// Match is some services: a range of protocol numbers, of source ports and of destination ports
// (or ICMP types). A range of ports that goes beyond those of the protocol means all of them.
type Match struct {
	Protocols, Sources, Ports [2]int
}

// everything is every service.
var everything = Match{[2]int{0, 255}, [2]int{0, 65535}, [2]int{0, 65535}}

// Line is one rule of a list as a provider has it. Own is the side of the network or workload
// that the list hangs on. No matches and no prefixes stand for all.
type Line struct {
	Order   int
	Out     bool
	Allow   bool
	Target  string // Stratok: of which workloads
	Matches []Match
	Own     []netip.Prefix
	Peer    []netip.Prefix
	List    string // Cirra: the list whose bearers are the other side
	By      string // who wrote it, if the provider knows
}

// List is rules under one version: it is replaced whole.
type List struct {
	Version int
	Lines   []Line
}

// Binding is the lists that a machine bears.
type Binding struct {
	Version int
	Lists   []string
}

// native is what an account holds beside its inventory.
type native struct {
	lists    map[[2]string]*List // by network, and what it hangs on there: a subnet, or "" for the network
	entries  map[string]*List    // Cirra: by name
	bindings map[string]*Binding // Cirra: by machine
	standard Binding             // Cirra: what a machine bears that nobody bound anything to
	tables   map[string]int      // the versions of route tables, by network
}

func (n *native) clone() *native {
	c := *n
	c.lists, c.entries, c.bindings, c.tables = maps.Clone(n.lists), maps.Clone(n.entries), maps.Clone(n.bindings), maps.Clone(n.tables)
	return &c
}

// What can be wrong with something that is to be written.
var (
	errVersion = errors.New("somebody else has written this since")
	errMissing = errors.New("there is no such thing")
)

// limitError says that something is larger than the provider takes.
type limitError struct {
	what         string
	count, limit int
}

func (e *limitError) Error() string {
	return fmt.Sprintf("%d %s; the limit is %d", e.count, e.what, e.limit)
}

// Limits of the providers.
const (
	mostVelumRules    = 3997
	mostVelumPrefixes = 4000
	mostStratokRules  = 500
	mostCirraEntries  = 60
	mostCirraLists    = 5
)

// begin takes the rules that were written by hand into lists.
func (a *Account) begin() {
	a.native = &native{map[[2]string]*List{}, map[string]*List{}, map[string]*Binding{}, Binding{1, []string{"default"}}, map[string]int{}}
	a.native.entries["default"] = &List{Version: 1}
	for _, r := range a.Rules {
		if r.By == "" { // else it comes by hand, once the rest is there
			a.byHand(r)
		}
	}
}

// Plant adds, in all accounts, the rules that somebody wrote by hand.
func (w *World) Plant() error {
	for name := range w.Credentials() {
		if err := w.change(name, func(a *Account) {
			for _, r := range a.Rules {
				if r.By != "" {
					a.byHand(r)
				}
			}
		}); err != nil {
			return err
		}
	}
	return nil
}

// byHand adds a rule as somebody would at the provider's console.
func (a *Account) byHand(r Rule) {
	line := Line{Order: r.Priority, Allow: r.Action == "allow", By: r.By}
	if m, ok := matchOf(r.Protocol, r.Ports); ok {
		line.Matches = []Match{m}
	}
	if r.From.IsValid() && r.From.Bits() > 0 {
		line.Peer = []netip.Prefix{r.From}
	}
	switch a.Provider {
	case "cirra":
		name := "by-hand-" + r.On
		i := slices.IndexFunc(a.Machines, func(m *Machine) bool { return m.Name == r.On || m.ID == r.On })
		if i < 0 {
			return
		}
		a.native.insert(a.native.entries, name, line)
		bound := a.bound(a.Machines[i].ID)
		if !slices.Contains(bound.Lists, name) {
			a.native.bindings[a.Machines[i].ID] = &Binding{bound.Version + 1, append(slices.Clone(bound.Lists), name)}
		}
		return
	case "stratok":
		line.Target = r.On
		r.On = ""
	}
	key := [2]string{r.Network, r.On}
	l := &List{}
	if was := a.native.lists[key]; was != nil {
		*l = *was
	}
	a.native.lists[key] = l
	if line.Order == 0 {
		line.Order = 1
		for _, x := range l.Lines {
			line.Order = max(line.Order, x.Order+1)
		}
	}
	l.Lines = append(slices.Clone(l.Lines), line)
	slices.SortStableFunc(l.Lines, func(x, y Line) int { return x.Order - y.Order })
	l.Version++
}

func (n *native) insert(in map[string]*List, name string, line Line) {
	l := &List{}
	if was := in[name]; was != nil {
		*l = *was
	}
	in[name] = l
	l.Lines, l.Version = append(slices.Clone(l.Lines), line), l.Version+1
}

// bound returns the lists that a machine bears.
func (a *Account) bound(machine string) Binding {
	if b := a.native.bindings[machine]; b != nil {
		return *b
	}
	return a.native.standard
}

// protocols are those that have names.
var protocols = map[string]int{"icmp": 1, "tcp": 6, "udp": 17, "icmpv6": 58}

func matchOf(protocol, ports string) (Match, bool) {
	if protocol == "any" || protocol == "" {
		return everything, false
	}
	m := everything
	number, known := protocols[protocol]
	if !known {
		n, err := strconv.Atoi(protocol)
		if err != nil {
			return m, false
		}
		number = n
	}
	m.Protocols = [2]int{number, number}
	if ports != "" {
		first, last, _ := strings.Cut(ports, "-")
		m.Ports[0], _ = strconv.Atoi(first) //nolint:errcheck // the document of the world is right
		if m.Ports[1] = m.Ports[0]; last != "" {
			m.Ports[1], _ = strconv.Atoi(last) //nolint:errcheck // likewise
		}
	}
	return m, true
}

// Hand adds a rule by hand, as somebody does at the console of the provider.
func (w *World) Hand(account string, r Rule) error {
	return w.change(account, func(a *Account) { a.byHand(r) })
}

// replaced returns a list in the place of another, if that is of the version that its writer saw.
func replaced(was *List, version int, lines []Line) (*List, error) {
	now := 0
	if was != nil {
		now = was.Version
	}
	if now != version {
		return was, errVersion
	}
	return &List{version + 1, lines}, nil
}

// putOn replaces the list of a network or of one of its subnets, and returns its next version.
// check says what the provider does not take.
func (w *World) putOn(account, network, on string, version int, lines []Line, check func([]Line) error) (int, error) {
	if err := check(lines); err != nil {
		return 0, err
	}
	key, err := [2]string{network, on}, error(nil)
	failed := w.change(account, func(a *Account) {
		if !a.hangs(network, on) {
			err = errMissing
			return
		}
		var l *List
		if l, err = replaced(a.native.lists[key], version, lines); err == nil {
			a.native.lists[key] = l
		}
	})
	return version + 1, errors.Join(failed, err)
}

// hangs reports whether a list can hang on something of a network: a subnet, or all of it.
func (a *Account) hangs(network, on string) bool {
	return slices.ContainsFunc(a.Networks, func(n *Network) bool {
		return n.ID == network && (on == "" || on == "*" || slices.ContainsFunc(n.Subnets, func(s Subnet) bool { return s.Name == on }))
	})
}

// putEntries replaces a list of Cirra, and returns its next version.
func (w *World) putEntries(account, name string, version int, lines []Line) (int, error) {
	if len(lines) > mostCirraEntries {
		return 0, &limitError{"entries", len(lines), mostCirraEntries}
	}
	var err error
	failed := w.change(account, func(a *Account) {
		var l *List
		if l, err = replaced(a.native.entries[name], version, lines); err == nil {
			a.native.entries[name] = l
		}
	})
	return version + 1, errors.Join(failed, err)
}

// dropEntries removes a list of Cirra that no machine bears.
func (w *World) dropEntries(account, name string, version int) error {
	var err error
	failed := w.change(account, func(a *Account) {
		l := a.native.entries[name]
		switch {
		case l == nil:
			err = errMissing
		case l.Version != version:
			err = errVersion
		case name == "default" || len(a.bearers(name)) > 0:
			err = errors.New("machines bear the list")
		default:
			delete(a.native.entries, name)
		}
	})
	return errors.Join(failed, err)
}

// unbind lets a machine bear what all bear that nobody bound anything to.
func (w *World) unbind(account, machine string, version int) error {
	var err error
	failed := w.change(account, func(a *Account) {
		b := a.native.bindings[machine]
		switch {
		case b == nil:
			err = errMissing
		case b.Version != version:
			err = errVersion
		default:
			delete(a.native.bindings, machine)
		}
	})
	return errors.Join(failed, err)
}

// tableOf returns a network with its route table and peerings, and their version.
func (a *Account) tableOf(network string) (*Network, int, bool) {
	i := slices.IndexFunc(a.Networks, func(n *Network) bool { return n.ID == network })
	if i < 0 {
		return nil, 0, false
	}
	return a.Networks[i], a.native.tables[network], true
}

// peer is a network's end of a peering.
type peer struct {
	network string
	offers  bool // its hub
}

// peersOf returns the ends of peerings that a network has.
func (n *Network) peersOf() []peer {
	out := make([]peer, len(n.Peers))
	for i, p := range n.Peers {
		out[i] = peer{p, slices.Contains(n.Offered, p)}
	}
	return out
}

// putTable replaces the route table of a network and its ends of peerings, and returns their
// next version.
func (w *World) putTable(account, network string, version int, table []Entry, peers []peer) (int, error) {
	err := errMissing
	failed := w.change(account, func(a *Account) {
		i := slices.IndexFunc(a.Networks, func(n *Network) bool { return n.ID == network })
		if i < 0 {
			return
		}
		if err = nil; a.native.tables[network] != version {
			err = errVersion
			return
		}
		next := *a.Networks[i]
		next.Table, next.Peers, next.Offered = table, nil, nil
		for _, p := range peers {
			next.Peers = append(next.Peers, p.network)
			if p.offers {
				next.Offered = append(next.Offered, p.network)
			}
		}
		a.Networks = slices.Clone(a.Networks)
		a.Networks[i] = &next
		a.native.tables[network] = version + 1
	})
	return version + 1, errors.Join(failed, err)
}

// bind lets a machine bear lists, or, for "", every machine that nobody bound anything to.
func (w *World) bind(account, machine string, version int, lists []string) (next int, err error) {
	if len(lists) > mostCirraLists {
		return 0, &limitError{"lists", len(lists), mostCirraLists}
	}
	failed := w.change(account, func(a *Account) {
		if machine != "" && !slices.ContainsFunc(a.Machines, func(m *Machine) bool { return m.ID == machine }) {
			err = errMissing
			return
		}
		for _, l := range lists {
			if a.native.entries[l] == nil {
				err = errMissing
				return
			}
		}
		was := a.native.standard
		if machine != "" {
			was = Binding{}
			if b := a.native.bindings[machine]; b != nil {
				was = *b
			}
		}
		if was.Version != version {
			err = errVersion
			return
		}
		next = version + 1
		if machine == "" {
			a.native.standard = Binding{next, lists}
		} else {
			a.native.bindings[machine] = &Binding{next, lists}
		}
	})
	return next, errors.Join(failed, err)
}

// listsOf returns the lists on a network, by what they hang on, and whether it is there.
func (a *Account) listsOf(network string) (map[string]*List, bool) {
	if !slices.ContainsFunc(a.Networks, func(n *Network) bool { return n.ID == network }) {
		return nil, false
	}
	out := map[string]*List{}
	for key, l := range a.native.lists {
		if key[0] == network {
			out[key[1]] = l
		}
	}
	return out, true
}

// checkVelum says what Velum does not take.
func checkVelum(lines []Line) error {
	if len(lines) > mostVelumRules {
		return &limitError{"rules", len(lines), mostVelumRules}
	}
	known := map[int]bool{}
	for _, l := range lines {
		if l.Order < 100 || l.Order > 4096 || known[l.Order] {
			return fmt.Errorf("priority %d: each must be another, from 100 to 4096", l.Order)
		}
		known[l.Order] = true
	}
	return nil
}

// checkStratok says what Stratok does not take.
func checkStratok(lines []Line) error {
	if len(lines) > mostStratokRules {
		return &limitError{"rules", len(lines), mostStratokRules}
	}
	return nil
}

// written returns the answer to something that could not be written.
func written(err error) error {
	var limit *limitError
	switch {
	case errors.Is(err, errVersion):
		return echo.NewHTTPError(http.StatusConflict, err.Error())
	case errors.Is(err, errMissing):
		return echo.ErrNotFound
	case errors.As(err, &limit):
		return echo.NewHTTPError(http.StatusRequestEntityTooLarge, err.Error())
	}
	return echo.NewHTTPError(http.StatusUnprocessableEntity, err.Error())
}
