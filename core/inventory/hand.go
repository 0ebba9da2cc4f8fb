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

// HandIn returns the labels of a thing that people set, as it is in an estate.
func (t *Table) HandIn(k Known, e *estate.Estate) map[string]string {
	return t.ByHand(providerOf(e, k.Account), k, labelsOf(e)[thing{k.Kind, k.Name}]).Hand
}

// HandsOf returns what is known of the things of all accounts, once an edit has led from one
// estate to another; nil where people said nothing else than before. The names in known are
// those of next. Cost: workloads and networks; tags of those whose labels differ.
func (t *Table) HandsOf(known []Known, was, next *estate.Estate) []Known {
	before, after := labelsOf(was), labelsOf(next)
	var out []Known
	for i := range known {
		at := thing{known[i].Kind, known[i].Name}
		labels, is := after[at]
		if old, had := before[at]; !is || !had || maps.Equal(old, labels) {
			continue
		}
		if out == nil {
			out = slices.Clone(known)
		}
		out[i] = t.ByHand(providerOf(next, known[i].Account), known[i], labels)
	}
	return out
}

// thing is a network or a workload, by its name.
type thing struct {
	kind Kind
	name string
}

func labelsOf(e *estate.Estate) map[thing]map[string]string {
	out := make(map[thing]map[string]string, len(e.Networks)+len(e.Workloads))
	for i := range e.Networks {
		out[thing{NetworkKind, e.Networks[i].Name}] = e.Networks[i].Labels
	}
	for i := range e.Workloads {
		out[thing{WorkloadKind, e.Workloads[i].Name}] = e.Workloads[i].Labels
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
