package native

import (
	"crypto/sha256"
	"encoding/binary"
	"fmt"
	"slices"
	"strings"

	"bivium/core/estate"
	"bivium/core/lists"
	"bivium/core/native/config"
)

// accounts puts the entries of all networks of each account of Cirra into lists. Workloads
// with the same entries bear the same lists; a machine that nobody bound anything to bears a
// list that passes nothing, unless nothing is enforced in any network of the account.
func (t *translator) accounts(networks []*cirraNetwork) []config.Account {
	var out []config.Account
	for i := range t.e.Accounts {
		if t.e.Accounts[i].Provider != config.Cirra {
			continue
		}
		a := config.Account{Name: t.e.Accounts[i].Name}
		some, open := false, true
		known := map[entriesKey][]string{}
		for _, n := range networks {
			if n != nil && n.account == a.Name {
				some, open = true, open && n.open
				t.bind(&a, n, known)
			}
		}
		if !some {
			continue
		}
		a.Lists = append(a.Lists, config.EntryList{Name: "default"})
		if open {
			a.Lists[len(a.Lists)-1].Entries = openEntries()
		}
		a.Default = []string{"default"}
		slices.SortFunc(a.Lists, func(x, y config.EntryList) int { return strings.Compare(x.Name, y.Name) })
		slices.SortFunc(a.Bindings, func(x, y config.Binding) int { return strings.Compare(x.Workload, y.Workload) })
		out = append(out, a)
	}
	slices.SortFunc(out, func(a, b config.Account) int { return strings.Compare(a.Name, b.Name) })
	return out
}

// bind puts the entries of one network into lists of the account, named after the first
// workload that bears them.
func (t *translator) bind(a *config.Account, n *cirraNetwork, known map[entriesKey][]string) {
	for _, b := range n.bears {
		if len(b.entries) == 0 {
			a.Bindings = append(a.Bindings, config.Binding{Workload: b.workload, Lists: []string{"default"}})
			continue
		}
		names, ok := known[b.key]
		if !ok {
			for k, part := range slices.Collect(slices.Chunk(b.entries, config.CirraEntries)) {
				name := "for-" + b.workload
				if k > 0 {
					name = fmt.Sprintf("%s-%d", name, k+1)
				}
				a.Lists = append(a.Lists, config.EntryList{Name: name, Entries: part})
				names = append(names, name)
			}
			known[b.key] = names
		}
		a.Bindings = append(a.Bindings, config.Binding{Workload: b.workload, Lists: names, Bound: b.bound})
	}
}

// entriesKey is equal for equal entries.
type entriesKey [sha256.Size]byte

func keyOf(entries []config.Entry) entriesKey {
	key := make([]byte, 0, 32*len(entries))
	for i := range entries {
		e := &entries[i]
		key = append(key, byte(lists.OneIf(e.Out)), e.Service.FirstProtocol, e.Service.LastProtocol)
		for _, r := range [2]estate.Range{e.Service.SourcePorts, e.Service.Ports} {
			key = binary.LittleEndian.AppendUint16(binary.LittleEndian.AppendUint16(key, r.Lo), r.Hi)
		}
		from := len(key)
		key, _ = e.Peer.AppendBinary(append(key, 0)) //nolint:errcheck // a prefix that is valid
		key[from] = byte(len(key) - from)
	}
	return sha256.Sum256(key)
}
