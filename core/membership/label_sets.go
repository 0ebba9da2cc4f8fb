package membership

import (
	"hash/maphash"
	"maps"
	"math/bits"
	"reflect"
	"slices"

	"bivium/core/estate"
	"bivium/core/lists"
	"bivium/core/paths"
)

// compileLabelSets finds the groups of workloads, once for each set of labels: what it
// costs follows the number of those, not of workloads.
func (m *Membership) compileLabelSets(workloads []estate.Workload, was *Membership) {
	selectors := m.workloadSelectors()
	m.LabelSetOf = make([]int32, len(workloads))
	known := labelSets{seed: maphash.MakeSeed(), at: map[uint64][]int32{}}
	if was == nil || len(was.labelSets) > 2*len(workloads)+1000 { // most of them are nobody's any more
		was = &Membership{}
	}
	for _, labels := range was.labelSets {
		known.number(labels)
	}
	shared := map[uintptr]int32{} // by map: many workloads have the same one
	for i := range workloads {
		labels := workloads[i].Labels
		if i < len(was.workloads) && SameMap(was.workloads[i].Labels, labels) {
			m.LabelSetOf[i] = was.LabelSetOf[i]
			continue
		}
		at := reflect.ValueOf(labels).Pointer()
		labelSet, ok := shared[at]
		if !ok {
			labelSet = known.number(labels)
			shared[at] = labelSet
		}
		m.LabelSetOf[i] = labelSet
	}
	m.labelSets, m.ByLabelSet = known.labels, make([][]int, len(known.labels))
	for labelSet, labels := range known.labels {
		m.ByLabelSet[labelSet] = selectors.of(labels)
	}
}

// SameMap reports whether two maps are one and the same: a quick yes, where asking
// what is in them would be slow.
func SameMap(a, b map[string]string) bool {
	return len(a) == len(b) && reflect.ValueOf(a).Pointer() == reflect.ValueOf(b).Pointer()
}

// labelSets numbers sets of labels.
type labelSets struct {
	seed   maphash.Seed
	at     map[uint64][]int32
	labels []map[string]string // by number
}

// number returns the number of a set of labels. Sets are found by a sum over their
// labels, so that the order of these does not matter, and then compared.
func (k *labelSets) number(labels map[string]string) int32 {
	sum := uint64(len(labels))
	for key, value := range labels {
		h := bits.RotateLeft64(maphash.String(k.seed, key), 23) ^ maphash.String(k.seed, value)
		sum += h * 0x9e3779b97f4a7c15
	}
	for _, labelSet := range k.at[sum] {
		if maps.Equal(k.labels[labelSet], labels) {
			return labelSet
		}
	}
	labelSet := int32(len(k.labels))
	k.at[sum] = append(k.at[sum], labelSet)
	k.labels = append(k.labels, labels)
	return labelSet
}

// selectorIndex are the label selectors of groups over workloads, each among those of
// the groups within one parent: most groups within one that does not hold a
// workload need not be asked about it.
type selectorIndex struct {
	within map[int]*siblingIndex // by parent; paths.None for roots
	placed []int                 // parents that may hold a workload whatever its labels
}

// siblingIndex are the selectors of groups within one parent. Those that need a value
// of some key are found by it.
type siblingIndex struct {
	needing map[[2]string][]selected
	others  []selected
}

type selected struct {
	group    int
	selector estate.Selector
}

func (m *Membership) workloadSelectors() *selectorIndex {
	s := &selectorIndex{within: map[int]*siblingIndex{}}
	for i := range m.Groups {
		selector, ok := parseSelector(m.Groups[i].Match)
		if !ok || m.broken[i] {
			continue
		}
		in := s.within[m.parent[i]]
		if in == nil {
			in = &siblingIndex{needing: map[[2]string][]selected{}}
			s.within[m.parent[i]] = in
		}
		key, values, needs := selector.Needs()
		if !needs {
			in.others = append(in.others, selected{i, selector})
			continue
		}
		values = slices.Clone(values)
		slices.Sort(values)
		for _, v := range slices.Compact(values) {
			in.needing[[2]string{key, v}] = append(in.needing[[2]string{key, v}], selected{i, selector})
		}
	}
	for i := range m.Groups {
		if s.within[i] != nil && m.Groups[i].Places() {
			s.placed = append(s.placed, i)
		}
	}
	return s
}

// of returns the groups whose selectors match some labels, but for those that some
// ancestor rules out: one that neither selects the labels, nor any place.
func (s *selectorIndex) of(labels map[string]string) []int {
	groups := s.within[paths.None].of(labels, nil)
	for i := 0; i < len(groups); i++ {
		groups = s.within[groups[i]].of(labels, groups)
	}
	for _, p := range s.placed {
		if slices.Contains(groups, p) {
			continue
		}
		first := len(groups)
		groups = s.within[p].of(labels, groups)
		for i := first; i < len(groups); i++ {
			groups = s.within[groups[i]].of(labels, groups)
		}
	}
	return slices.Clip(lists.Sorted(groups))
}

// of appends those of the siblings whose selectors match some labels.
func (s *siblingIndex) of(labels map[string]string, groups []int) []int {
	if s == nil {
		return groups
	}
	try := func(list []selected) {
		for i := range list {
			if list[i].selector.Matches(labels) {
				groups = append(groups, list[i].group)
			}
		}
	}
	try(s.others)
	for key, value := range labels {
		try(s.needing[[2]string{key, value}])
	}
	return groups
}
