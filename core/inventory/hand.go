package inventory

import (
	"maps"
	"slices"

	"bivium/core/estate"
)

// ByHand returns what is known of a thing of an account of a provider, once an edit has given
// it some labels: those that its tags do not give were set by hand, and those that its tags
// give and it has not were taken off by hand. What people said before and still holds, stays
// said, even where a tag says the same by now.
func (t *Table) ByHand(provider string, k Known, labels map[string]string) Known {
	mapped := t.Labels(provider, k.Account, k.Tags).Labels
	before := k.Hand
	k.Hand, k.Off = map[string]string{}, nil
	for key, value := range labels {
		if said, isSaid := before[key]; mapped[key] != value || isSaid && said == value {
			k.Hand[key] = value
		}
	}
	for _, key := range slices.Sorted(maps.Keys(mapped)) {
		if _, has := labels[key]; !has {
			k.Off = append(k.Off, key)
		}
	}
	return k
}

// HandIn returns the labels of a thing that people set, as it is in an estate. Cost: the things
// of its kind.
func (t *Table) HandIn(k Known, e *estate.Estate) map[string]string {
	var labels map[string]string
	switch k.Kind {
	case NetworkKind:
		if i := slices.IndexFunc(e.Networks, func(n estate.Network) bool { return n.Name == k.Name }); i >= 0 {
			labels = e.Networks[i].Labels
		}
	case WorkloadKind:
		if i := slices.IndexFunc(e.Workloads, func(w estate.Workload) bool { return w.Name == k.Name }); i >= 0 {
			labels = e.Workloads[i].Labels
		}
	}
	return t.ByHand(providerOf(e, k.Account), k, labels).Hand
}

// Thing is a network or a workload, by its name in the estate.
type Thing struct {
	Kind Kind
	Name string
}

// HandsOf returns what is known of the things of all accounts, once an edit that led to an estate
// has given some of them other labels; nil where none of them is known.
func (t *Table) HandsOf(known []Known, next *estate.Estate, labels map[Thing]map[string]string) []Known {
	var out []Known
	for i := range known {
		given, is := labels[Thing{known[i].Kind, known[i].Name}]
		if !is {
			continue
		}
		if out == nil {
			out = slices.Clone(known)
		}
		out[i] = t.ByHand(providerOf(next, known[i].Account), known[i], given)
	}
	return out
}

func providerOf(e *estate.Estate, account string) string {
	for i := range e.Accounts {
		if e.Accounts[i].Name == account {
			return e.Accounts[i].Provider
		}
	}
	return ""
}

// Labelled returns mapped labels as people have them: those set by hand win, those taken off
// by hand are left out; nil for none.
func (k *Known) Labelled(mapped map[string]string) map[string]string {
	out := maps.Clone(mapped)
	if out == nil {
		out = map[string]string{}
	}
	for _, key := range k.Off {
		delete(out, key)
	}
	maps.Copy(out, k.Hand)
	if len(out) == 0 {
		return nil
	}
	return out
}
