package inventory

import (
	"slices"

	"bivium/core/estate"
)

// Relabel returns e with the labels of everything known put to what a table
// gives, with those set by hand laid over. Lists that do not differ are shared.
func Relabel(e *estate.Estate, known []Known, t *Table) *estate.Estate {
	next := *e
	next.Networks, next.Workloads = slices.Clone(e.Networks), slices.Clone(e.Workloads)
	networks := indexOf(e.Networks, func(n *estate.Network) string { return n.Name })
	workloads := indexOf(e.Workloads, func(w *estate.Workload) string { return w.Name })
	providers := map[string]string{}
	for _, a := range e.Accounts {
		providers[a.Name] = a.Provider
	}
	for i := range known {
		one := &known[i]
		labels := one.Labelled(t.Labels(providers[one.Account], one.Account, one.Tags).Labels)
		if n, ok := networks[one.Name]; ok && one.Kind == NetworkKind {
			next.Networks[n].Labels = labels
		}
		if w, ok := workloads[one.Name]; ok && one.Kind == WorkloadKind {
			next.Workloads[w].Labels = labels
		}
	}
	k := taker{e: &next}
	k.share(e)
	return &next
}
