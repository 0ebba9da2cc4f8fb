package targets

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"bivium/core/native/config"
	"bivium/core/native/plan"
	"bivium/core/native/proof"
	"bivium/core/space"
	"bivium/internal/app/view"
	"bivium/internal/drivers"
)

// Reading is what one connected account holds, or the hubs and firewalls do, as it was read.
type Reading struct {
	Account   string
	Provider  string
	At        time.Time
	Native    *drivers.Native
	Networks  map[string]string // the estate's names, by the provider's IDs
	Workloads map[string]string
	Named     map[string]string       // Networks, and those of other accounts
	Hubs      map[plan.Key]*plan.Body // in the reading of hubs and firewalls, in place of Native
	Problem   string                  // why it could not be read; "" if it was
}

// Drift is how what accounts hold differs from what they should.
type Drift struct {
	Revision    int64          `json:"revision"`
	Accounts    []AccountDrift `json:"accounts"`
	Differences []Difference   `json:"differences"` // flows with another outcome than intended
	Stricter    int            `json:"stricter"`    // sets of flows that lists cannot tell apart
	Incomplete  bool           `json:"incomplete"`
}

// AccountDrift is what one account holds that it should not, and the other way round.
type AccountDrift struct {
	Account  string      `json:"account"`
	Provider string      `json:"provider"`
	At       time.Time   `json:"at"`
	Problem  string      `json:"problem"`
	Lists    int         `json:"lists"`
	Changed  []ListDrift `json:"changed"`
}

// ListDrift is the rules of one list that only the account has, and those that it lacks.
type ListDrift struct {
	Network string   `json:"network"`
	On      string   `json:"on"`
	Added   []string `json:"added"`
	By      []string `json:"by"` // who wrote what was added, where the provider knows
	Missing []string `json:"missing"`
}

// Compare compares what accounts hold with what they have to hold at a revision: rule by rule,
// and by what becomes of all flows. What was not read is taken to be as it should; accounts that
// are observed only owe nothing.
func (b *Book) Compare(readings []Reading) *Drift {
	meant := b.translated().Config
	found := *meant
	found.Networks, found.Accounts = slices.Clone(meant.Networks), slices.Clone(meant.Accounts)
	out := &Drift{Revision: b.now.Revision, Accounts: []AccountDrift{}, Differences: []Difference{}}
	for i := range readings {
		r := &readings[i]
		if b.now.Estate.Observes(r.Account) {
			continue
		}
		d := AccountDrift{Account: r.Account, Provider: r.Provider, At: r.At, Problem: r.Problem, Changed: []ListDrift{}}
		if r.Native != nil {
			d.Lists = len(r.Native.Lists) + len(r.Native.Entries)
			d.Changed = append(append(put(&found, meant, r), putEntries(&found, meant, r)...), putTables(&found, meant, r)...) // never nil
		}
		if r.Hubs != nil {
			d.Lists, d.Changed = len(r.Hubs), b.putHubs(&found, r)
		}
		out.Accounts = append(out.Accounts, d)
	}
	slices.SortFunc(out.Accounts, func(a, b AccountDrift) int { return strings.Compare(a.Account, b.Account) })
	p := proofOf(b.now, proof.Prove(b.now.Matrix, &found))
	out.Differences, out.Stricter, out.Incomplete = p.Differences, len(p.Stricter)+len(p.Unheld), p.Incomplete
	return out
}

// put puts the lists that were read on networks in the place of those that are meant, and tells
// in what they differ.
func put(found, meant *config.Config, r *Reading) []ListDrift {
	out := []ListDrift{}
	read := map[string][]*drivers.NetworkList{}
	for i := range r.Native.Lists {
		l := &r.Native.Lists[i]
		if name := r.Networks[l.Network]; name != "" {
			read[name] = append(read[name], l)
		}
	}
	for i := range found.Networks {
		n := &found.Networks[i]
		if n.Account != r.Account || r.Provider == config.Cirra {
			continue
		}
		n.Lists = nil
		for _, l := range read[n.Name] {
			n.Lists = append(n.Lists, l.List)
		}
		wanted := map[string]config.List{}
		for _, l := range meant.Networks[i].Lists {
			wanted[l.On] = l
		}
		for _, l := range read[n.Name] {
			out = appendDrift(out, n.Provider, n.Name, l.On, wanted[l.On].Rules, l.Rules, l.By)
			delete(wanted, l.On)
		}
		for _, l := range meant.Networks[i].Lists {
			if _, missing := wanted[l.On]; missing {
				out = appendDrift(out, n.Provider, n.Name, l.On, l.Rules, nil, nil)
			}
		}
	}
	return out
}

func appendDrift(out []ListDrift, provider, network, on string, meant, found []config.Rule, by []string) []ListDrift {
	atoms := func(r *config.Rule) []string { return atoms(r, provider == config.Premises) }
	d := ListDrift{Network: network, On: on, Added: []string{}, By: []string{}, Missing: []string{}}
	wanted, has := map[string]bool{}, map[string]bool{}
	for i := range meant {
		for _, k := range atoms(&meant[i]) {
			wanted[k] = true
		}
	}
	for i := range found {
		keys := atoms(&found[i])
		for _, k := range keys {
			has[k] = true
		}
		if slices.ContainsFunc(keys, func(k string) bool { return !wanted[k] }) {
			d.Added = append(d.Added, text(&found[i]))
			d.By = append(d.By, nameAt(by, i))
		}
	}
	for i := range meant {
		if slices.ContainsFunc(atoms(&meant[i]), func(k string) bool { return !has[k] }) {
			d.Missing = append(d.Missing, text(&meant[i]))
		}
	}
	if len(d.Added)+len(d.Missing) == 0 {
		return out
	}
	return append(out, d)
}

func nameAt(by []string, i int) string {
	if i < len(by) {
		return by[i]
	}
	return ""
}

// text returns a rule in one line.
func text(r *config.Rule) string {
	verb, way := "deny", "in"
	if r.Allow {
		verb = "allow"
	}
	from, to := r.Peer, r.Own
	if r.Out {
		way, from, to = "out", r.Own, r.Peer
	}
	return fmt.Sprintf("%d %s %s %s from %s to %s", r.Order, way, verb, strings.Join(config.ServiceWords(r.Services), ", "), shortly(from), shortly(to))
}

// shown is how many prefixes of a side stand in a line.
const shown = 4

func shortly(sets []*config.Set) string {
	if sets == nil {
		return "any"
	}
	words := view.Prefixes(drivers.Prefixes(sets))
	if len(words) > shown {
		words = append(words[:shown:shown], fmt.Sprintf("%d more", len(words)-shown))
	}
	return strings.Join(words, ", ")
}

// atoms returns a rule as what it says of single prefixes and services, in words that do not
// depend on how a provider writes them: singly, as entries have them.
func atoms(r *config.Rule, single bool) []string {
	var out []string
	services := r.Services
	if single {
		services = config.Entries(services)
	} else if services == nil {
		services = []space.Box{config.Anything}
	}
	for _, own := range families(r.Own) {
		for _, peer := range families(r.Peer) {
			if own.Addr().Is4() != peer.Addr().Is4() {
				continue
			}
			for _, s := range services {
				out = append(out, fmt.Sprint(r.Out, r.Allow, r.Target, own, peer, config.Bounded(s)))
			}
		}
	}
	return out
}

func families(sets []*config.Set) []netip.Prefix {
	if sets == nil {
		return []netip.Prefix{netip.PrefixFrom(netip.IPv4Unspecified(), 0), netip.PrefixFrom(netip.IPv6Unspecified(), 0)}
	}
	return drivers.Prefixes(sets)
}

// putEntries does the same for the lists that workloads of Cirra bear.
func putEntries(found, meant *config.Config, r *Reading) []ListDrift {
	if r.Provider != config.Cirra {
		return nil
	}
	i := slices.IndexFunc(found.Accounts, func(a config.Account) bool { return a.Name == r.Account })
	if i < 0 {
		return nil
	}
	out := []ListDrift{}
	a := config.Account{Name: r.Account}
	wanted := map[string]config.EntryList{}
	for _, l := range meant.Accounts[i].Lists {
		wanted[l.Name] = l
	}
	for k := range r.Native.Entries {
		l := &r.Native.Entries[k]
		a.Lists = append(a.Lists, l.EntryList)
		out = appendDrift(out, r.Provider, r.Account, l.Name, asRules(wanted[l.Name].Entries), asRules(l.Entries), l.By)
		delete(wanted, l.Name)
	}
	for _, l := range meant.Accounts[i].Lists {
		if _, missing := wanted[l.Name]; missing {
			out = appendDrift(out, r.Provider, r.Account, l.Name, asRules(l.Entries), nil, nil)
		}
	}
	bears := map[string][]string{}
	for _, b := range r.Native.Bindings {
		if b.Workload == "" {
			a.Default = b.Lists
			continue
		}
		if name := r.Workloads[b.Workload]; name != "" {
			bears[name] = b.Lists
			a.Bindings = append(a.Bindings, config.Binding{Workload: name, Lists: b.Lists})
		}
	}
	for _, b := range meant.Accounts[i].Bindings {
		if has := bears[b.Workload]; !sameNames(has, b.Lists) {
			out = append(out, ListDrift{Network: r.Account, On: "lists of " + b.Workload, Added: without(has, b.Lists), By: []string{}, Missing: without(b.Lists, has)})
		}
	}
	found.Accounts[i] = a
	return out
}

func sameNames(a, b []string) bool { return len(without(a, b))+len(without(b, a)) == 0 }

// without returns the names of a list that another has not.
func without(list, other []string) []string {
	out := []string{}
	for _, x := range list {
		if !slices.Contains(other, x) {
			out = append(out, x)
		}
	}
	return out
}

// asRules returns entries as rules that allow.
func asRules(entries []config.Entry) []config.Rule {
	out := make([]config.Rule, len(entries))
	for i, e := range entries {
		out[i] = config.Rule{Order: i + 1, Out: e.Out, Allow: true, Target: e.Peers, Peer: []*config.Set{{Prefixes: []netip.Prefix{e.Peer}}}, Services: []space.Box{e.Service}}
		if e.Peers != "" {
			out[i].Peer = nil
		}
	}
	return out
}

// Lists returns how many lists of one account differ from what they should be. It is cheap.
func (b *Book) Lists(r *Reading) int {
	if r.Hubs != nil {
		found := *b.translated().Config
		return len(b.putHubs(&found, r))
	}
	if r.Native == nil {
		return 0
	}
	meant := b.translated().Config
	found := *meant
	found.Networks, found.Accounts = slices.Clone(meant.Networks), slices.Clone(meant.Accounts)
	return len(put(&found, meant, r)) + len(putEntries(&found, meant, r)) + len(putTables(&found, meant, r))
}
