package inventory

import (
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"

	"bivium/core/estate"
)

// LeftOut is what cannot be taken in: its network is unknown, or it has no
// address.
const LeftOut What = "left out"

// Taken is an estate with a reading taken in.
type Taken struct {
	Estate  *estate.Estate
	Known   []Known // all that is known of all accounts
	Changes []Change
	Altered bool // Estate is not as it was
}

// Take returns e with a reading of one account taken in, given what is known of
// all accounts so far. What the account says (networks, subnets, route tables,
// peerings, workloads, tags) is as it was read; what people say (segments,
// attachments, enforcement, labels by hand) stays. Things are recognised by
// their provider's ID, and the first time by name. What is gone leaves the
// estate, unless the estate speaks of it or the reading is partial. e and known
// are not changed; lists that do not differ are shared. Cost: the size of the
// estate and of the reading.
func Take(e *estate.Estate, known []Known, r *Reading, t *Table) Taken {
	next := *e
	k := taker{e: &next, reading: r, table: t, known: map[key]*Known{}, networkName: map[string]string{}}
	for i := range known {
		one := known[i]
		k.known[key{one.Account, one.Kind, one.ID}] = &one
		if one.Kind == NetworkKind {
			k.networkName[one.ID] = one.Name
		}
	}
	k.sound()
	k.account()
	k.networks()
	k.workloads()
	k.peerings()
	k.share(e)
	sortChanges(k.changes)
	return Taken{&next, k.all(), k.changes, k.altered}
}

type key struct {
	account string
	kind    Kind
	id      string
}

type taker struct {
	e           *estate.Estate
	reading     *Reading
	table       *Table
	known       map[key]*Known
	networkName map[string]string // by ID
	changes     []Change
	altered     bool
}

func (k *taker) note(kind Kind, name string, what What, how ...Detail) {
	k.changes = append(k.changes, Change{kind, name, what, how})
}

func (k *taker) account() {
	r := k.reading
	if !slices.ContainsFunc(k.e.Accounts, func(a estate.Account) bool { return a.Name == r.Account }) {
		k.e.Accounts = append(slices.Clip(k.e.Accounts), estate.Account{Name: r.Account, Provider: r.Provider})
	}
}

// networks takes in the networks that were read, and lets go of those that are
// gone.
func (k *taker) networks() {
	r := k.reading
	at := indexOf(k.e.Networks, func(n *estate.Network) string { return n.Name })
	owned := k.owned(NetworkKind)
	k.e.Networks = slices.Clone(k.e.Networks)
	seen, fresh := map[string]bool{}, map[string]bool{}
	for i := range r.Networks {
		n := &r.Networks[i]
		seen[n.ID] = true
		name, known := k.recognise(NetworkKind, n.ID, n.Name, n.Tags, func(name string) fit {
			i, there := at[name]
			switch {
			case owned[name], there && k.e.Networks[i].Account != r.Account && k.e.Networks[i].Account != "":
				return taken
			case !there:
				return free
			}
			return same
		})
		k.networkName[n.ID] = name
		owned[name] = true
		i, there := at[name]
		if !there {
			i = len(k.e.Networks)
			at[name] = i
			k.e.Networks = append(k.e.Networks, estate.Network{Name: name, Kind: n.Kind})
			fresh[name] = true
			k.note(NetworkKind, name, New)
		} else if known.Hand == nil && known.ID == "" {
			known.Hand = k.handOf(n.Tags, k.e.Networks[i].Labels)
		}
		known.ID = n.ID
		k.network(&k.e.Networks[i], n, known, there)
	}
	k.e.Networks = letGo(k, NetworkKind, seen, k.e.Networks, func(n *estate.Network) string { return n.Name })
	// Routes name networks that come later in the reading, and some that are gone.
	at = indexOf(k.e.Networks, func(n *estate.Network) string { return n.Name })
	for i := range r.Networks {
		n := &k.e.Networks[at[k.networkName[r.Networks[i].ID]]]
		if left := led(n.Routes, at); len(left) < len(n.Routes) {
			n.Routes = left
			k.note(NetworkKind, n.Name, Changed, Detail{Code: PeerGone})
		}
		routes, known := k.routes(&r.Networks[i]), k.known[key{r.Account, NetworkKind, r.Networks[i].ID}]
		was, read := known.Routes, known.Tabled
		known.Routes, known.Tabled = routes, true
		switch {
		case slices.Equal(routes, n.Routes):
		case !fresh[n.Name] && (r.Managed || read && !slices.Equal(was, n.Routes)): // somebody said otherwise here: that stays
			if !slices.Equal(routes, was) {
				k.note(NetworkKind, n.Name, Kept, Detail{Code: RoutesWritten})
			}
		default:
			n.Routes = routes
			if !fresh[n.Name] {
				k.note(NetworkKind, n.Name, Changed, Detail{Code: OtherRoutes})
			}
		}
	}
}

// led returns the routes that lead somewhere: not to a peer that is gone.
func led(routes []estate.Route, there map[string]int) []estate.Route {
	return slices.DeleteFunc(slices.Clone(routes), func(r estate.Route) bool {
		peer, ok := r.Via.Peer()
		_, known := there[peer]
		return ok && !known
	})
}

// network brings one network up to date, and notes what of it changed if it was
// there before.
func (k *taker) network(to *estate.Network, n *Network, known *Known, there bool) {
	var how []Detail
	if to.Account != k.reading.Account {
		to.Account = k.reading.Account
	}
	if to.Region != n.Region && n.Region != "" {
		how = append(how, Detail{Code: OtherRegion})
		to.Region = n.Region
	}
	if labels := known.Labelled(k.table.Labels(k.reading.Provider, k.reading.Account, n.Tags).Labels); !maps.Equal(labels, to.Labels) {
		how = append(how, Detail{Code: OtherLabels})
		to.Labels = labels
	}
	if n.Enforcement == estate.EnforceSubnets && to.Enforcement == "" && to.Enforces() == estate.EnforceNative {
		how = append(how, Detail{Code: OnlySubnets})
		to.Enforcement = estate.EnforceSubnets
	}
	subnets, changed := k.subnets(to, n)
	if len(changed) > 0 {
		how = append(how, changed...)
		to.Subnets = subnets
	}
	if there && len(how) > 0 {
		k.note(NetworkKind, to.Name, Changed, how...)
	}
}

// subnets returns the subnets of a network as they are now: those that stay
// keep their names and segments.
func (k *taker) subnets(to *estate.Network, n *Network) (subnets []estate.Subnet, how []Detail) {
	stays := make([]bool, len(to.Subnets))
	names := map[string]bool{}
	var added []estate.Subnet
	for _, s := range n.Subnets {
		i := slices.IndexFunc(to.Subnets, func(had estate.Subnet) bool { return had.Prefix == s.Prefix })
		if i >= 0 {
			stays[i] = true
			names[to.Subnets[i].Name] = true
			continue
		}
		added = append(added, estate.Subnet{Name: s.Name, Prefix: s.Prefix})
	}
	for i, had := range to.Subnets {
		switch {
		case stays[i] || k.reading.Partial:
			subnets = append(subnets, had)
			names[had.Name] = true
		case k.speaksOfSubnet(to.Name, had.Name):
			subnets = append(subnets, had)
			names[had.Name] = true
			k.note(NetworkKind, to.Name, Kept, Detail{SubnetInGroups, had.Name})
		default:
			how = append(how, Detail{SubnetRemoved, had.Name})
		}
	}
	for _, s := range added {
		s.Name = unique(Name(s.Name, "subnet"), func(name string) bool { return names[name] })
		names[s.Name] = true
		subnets = append(subnets, s)
		how = append(how, Detail{SubnetAdded, s.Name})
	}
	return subnets, how
}

func (k *taker) speaksOfSubnet(network, subnet string) bool {
	ref := estate.SubnetRef{Network: network, Subnet: subnet}
	return slices.ContainsFunc(k.e.Groups, func(g estate.Group) bool { return slices.Contains(g.Subnets, ref) })
}

// routes returns the route table of a network in the words of the estate.
func (k *taker) routes(n *Network) []estate.Route {
	var routes []estate.Route
	for _, r := range n.Routes {
		via := r.Via
		if id, peer := strings.CutPrefix(via, "peer:"); peer {
			name, ok := k.networkName[id]
			if !ok {
				continue
			}
			via = "peer:" + name
		}
		if v, err := estate.ParseVia(via); err == nil {
			routes = append(routes, estate.Route{To: r.To, Via: v})
		}
	}
	return routes
}

// workloads takes in the workloads that were read, and lets go of those that are
// gone.
func (k *taker) workloads() {
	r := k.reading
	at := indexOf(k.e.Workloads, func(w *estate.Workload) string { return w.Name })
	accounts := map[string]string{}
	for i := range k.e.Networks {
		accounts[k.e.Networks[i].Name] = k.e.Networks[i].Account
	}
	owned := k.owned(WorkloadKind)
	k.e.Workloads = slices.Clone(k.e.Workloads)
	seen := make(map[string]bool, len(r.Workloads))
	for i := range r.Workloads {
		w := &r.Workloads[i]
		network, ok := k.networkName[w.Network]
		switch {
		case !ok:
			k.note(WorkloadKind, w.Name, LeftOut, Detail{UnknownNetwork, w.Network})
			continue
		case len(w.Addresses) == 0:
			k.note(WorkloadKind, w.Name, LeftOut, Detail{Code: NoAddress})
			continue
		}
		seen[w.ID] = true
		name, known := k.recognise(WorkloadKind, w.ID, w.Name, w.Tags, func(name string) fit {
			i, there := at[name]
			switch {
			case owned[name], there && k.e.Workloads[i].Network != network:
				return taken
			case !there:
				return free
			}
			return same
		})
		owned[name] = true
		i, there := at[name]
		if !there {
			i = len(k.e.Workloads)
			at[name] = i
			k.e.Workloads = append(k.e.Workloads, estate.Workload{Name: name})
			k.note(WorkloadKind, name, New)
		} else if known.Hand == nil && known.ID == "" {
			known.Hand = k.handOf(w.Tags, k.e.Workloads[i].Labels)
		}
		known.ID = w.ID
		is := k.e.Workloads[i]
		is.Network, is.Addresses, is.Account = network, w.Addresses, ""
		if accounts[network] != r.Account {
			is.Account = r.Account
		}
		is.Labels = known.Labelled(k.table.Labels(r.Provider, r.Account, w.Tags).Labels)
		if how := differs(&k.e.Workloads[i], &is); there && len(how) > 0 {
			k.note(WorkloadKind, name, Changed, how...)
		}
		k.e.Workloads[i] = is
	}
	k.e.Workloads = letGo(k, WorkloadKind, seen, k.e.Workloads, func(w *estate.Workload) string { return w.Name })
}

func differs(was, is *estate.Workload) (how []Detail) {
	if was.Network != is.Network {
		how = append(how, Detail{Code: OtherNetwork})
	}
	if !slices.Equal(was.Addresses, is.Addresses) {
		how = append(how, Detail{Code: OtherAddresses})
	}
	if !maps.Equal(was.Labels, is.Labels) {
		how = append(how, Detail{Code: OtherLabels})
	}
	if was.Account != is.Account {
		how = append(how, Detail{Code: OtherAccount})
	}
	return how
}

// handOf returns the labels that a thing had before it was first read and that
// its tags do not give: somebody set them.
func (k *taker) handOf(tags, labels map[string]string) map[string]string {
	mapped := k.table.Labels(k.reading.Provider, k.reading.Account, tags).Labels
	hand := map[string]string{}
	for key, value := range labels {
		if mapped[key] != value {
			hand[key] = value
		}
	}
	return hand
}

// fit is how a name would do for a thing that was read for the first time.
type fit uint8

const (
	free  fit = iota // nothing has the name
	same             // it is the thing's own, from before it was read
	taken            // another thing's
)

// recognise returns the name that a thing has in the estate, and what is known
// of it, with its ID empty if it was never read before.
func (k *taker) recognise(kind Kind, id, called string, tags map[string]string, fits func(string) fit) (string, *Known) {
	at := key{k.reading.Account, kind, id}
	one := k.known[at]
	if one == nil {
		name := unique(Name(called, string(kind)), func(name string) bool { return fits(name) == taken })
		one = &Known{Account: k.reading.Account, Kind: kind, Name: name}
		k.known[at] = one
	}
	one.Tags, one.Gone = tags, false
	return one.Name, one
}

// owned returns the names of all things of a kind that accounts are known to have.
func (k *taker) owned(kind Kind) map[string]bool {
	out := map[string]bool{}
	for _, one := range k.known {
		if one.Kind == kind {
			out[one.Name] = true
		}
	}
	return out
}

// letGo returns a list without what is gone from the account.
func letGo[T any](k *taker, kind Kind, seen map[string]bool, list []T, name func(*T) string) []T {
	if k.reading.Partial {
		return list
	}
	gone := map[string]bool{}
	for at, one := range k.known {
		if at.account != k.reading.Account || at.kind != kind || seen[at.id] {
			continue
		}
		if why, is := k.spoken(kind, one.Name); is {
			one.Gone = true
			k.note(kind, one.Name, Kept, why)
			continue
		}
		gone[one.Name] = true
		k.note(kind, one.Name, Gone)
		delete(k.known, at)
		if kind == NetworkKind {
			delete(k.networkName, at.id)
		}
	}
	if len(gone) == 0 {
		return list
	}
	if kind == NetworkKind { // what lives in them goes with them
		k.e.Workloads = slices.DeleteFunc(slices.Clone(k.e.Workloads), func(w estate.Workload) bool { return gone[w.Network] })
	}
	return slices.DeleteFunc(list, func(t T) bool { return gone[name(&t)] })
}

// spoken returns what of the estate refers to a thing that its account does not have any more, if
// anything does.
func (k *taker) spoken(kind Kind, name string) (why Detail, is bool) {
	if kind != NetworkKind {
		return Detail{}, false
	}
	for _, g := range k.e.Groups {
		if slices.Contains(g.Networks, name) || slices.ContainsFunc(g.Subnets, func(s estate.SubnetRef) bool { return s.Network == name }) {
			return Detail{GoneInGroup, g.Name}, true
		}
	}
	for _, a := range k.e.Attachments {
		if a.Network == name {
			return Detail{GoneAttached, a.Hub}, true
		}
	}
	return Detail{}, false
}

// share gives the estate the lists of the one before wherever they are equal,
// so that a matrix can be revised.
func (k *taker) share(before *estate.Estate) {
	to, from := reflect.ValueOf(k.e).Elem(), reflect.ValueOf(before).Elem()
	for _, name := range []string{"Accounts", "Networks", "Workloads", "Peerings"} {
		if a, b := to.FieldByName(name), from.FieldByName(name); a.Len() == b.Len() && reflect.DeepEqual(a.Interface(), b.Interface()) {
			a.Set(b)
		} else {
			k.altered = true
		}
	}
}

// all returns what is known of all accounts, in order.
func (k *taker) all() []Known {
	out := make([]Known, 0, len(k.known))
	for at, one := range k.known {
		one.ID = at.id
		out = append(out, *one)
	}
	slices.SortFunc(out, func(a, b Known) int {
		for _, d := range [...]int{strings.Compare(a.Account, b.Account), strings.Compare(string(a.Kind), string(b.Kind)), strings.Compare(a.ID, b.ID)} {
			if d != 0 {
				return d
			}
		}
		return 0
	})
	return out
}

func indexOf[T any](list []T, name func(*T) string) map[string]int {
	at := make(map[string]int, len(list))
	for i := range list {
		at[name(&list[i])] = i
	}
	return at
}

// Name returns a provider's name as the estate can hold it; other is what a
// name begins with that has no letter to begin with.
func Name(called, other string) string {
	out := strings.Trim(strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' || r >= '0' && r <= '9' || r == '.' {
			return r
		}
		return '-'
	}, strings.ToLower(called)), "-.")
	if out == "" || out[0] < 'a' || out[0] > 'z' {
		out = strings.TrimSuffix(other+"-"+out, "-")
	}
	out = out[:min(len(out), estate.MaxName)]
	if estate.CheckName(out) != nil { // a reserved word
		out += "-1"
	}
	return out
}

// unique returns a name, with a number behind it if it is taken.
func unique(name string, taken func(string) bool) string {
	free := name
	for i := 2; taken(free); i++ {
		number := fmt.Sprintf("-%d", i)
		free = strings.TrimRight(name[:min(len(name), estate.MaxName-len(number))], "-") + number
	}
	return free
}
