package app

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"

	"bivium/core/document"
	"bivium/core/edit"
	"bivium/core/estate"
	"bivium/core/inventory"
	"bivium/internal/app/view"
)

// Tagged is how the tags of all accounts would be mapped.
type Tagged struct {
	Mappings   []MappingBase        `json:"mappings"` // those that there are, which an edit of the rules has to know
	Rules      []estate.MappingRule `json:"rules"`
	Counts     []int                `json:"counts"`     // by rule: the things that it gives a label
	Tags       []TagUse             `json:"tags"`       // every key and value that teams wrote
	Unlabelled int                  `json:"unlabelled"` // workloads that get no label
	Workloads  int                  `json:"workloads"`  // that were read
	Rows       []TaggedRow          `json:"rows"`
	More       int                  `json:"more"`    // rows that are not shown
	Changed    int                  `json:"changed"` // workloads whose labels are others than now
}

// MappingBase is a mapping of the estate, and the base of an edit of it.
type MappingBase struct {
	Name string `json:"name"`
	Base string `json:"base"`
}

// TagUse is one tag, by how many it is worn, and what becomes of it.
type TagUse struct {
	Key    string `json:"key"`
	Value  string `json:"value"`
	Count  int    `json:"count"`
	Label  string `json:"label"` // key=value; "" where no rule speaks of it
	Rule   int    `json:"rule"`  // -1 for none
	Groups int    `json:"-"`
}

// TaggedRow is one workload and its labels.
type TaggedRow struct {
	Name      string               `json:"name"`
	Account   string               `json:"account"`
	Tags      map[string]string    `json:"tags"`
	Labels    map[string]string    `json:"labels"`
	Was       map[string]string    `json:"was"`  // the labels that it has now
	Hand      map[string]string    `json:"hand"` // those set by hand
	Unmapped  []string             `json:"unmapped"`
	Conflicts []inventory.Conflict `json:"conflicts"`
}

// maxRows is how many workloads a preview shows.
const maxRows = 200

// Map returns how some rules would map the tags of everything that was read;
// those in need of a look come first: conflicts, no label at all, tags that no
// rule speaks of, labels that change.
func Map(s *view.Snapshot, rules []estate.MappingRule) (*Tagged, error) {
	var problems view.Problems
	for i := range rules {
		if field, message, fix := rules[i].Check(); field != "" {
			problems = append(problems, view.Problem{At: fmt.Sprintf("rules[%d].%s", i, field), Message: message, Fix: fix})
		}
	}
	if len(problems) > 0 {
		return nil, problems
	}
	table := inventory.NewTable(rules)
	out := &Tagged{Mappings: []MappingBase{}, Rules: append([]estate.MappingRule{}, rules...), Counts: make([]int, len(rules)), Tags: []TagUse{}, Rows: []TaggedRow{}}
	for i := range s.Estate.Mappings {
		name := s.Estate.Mappings[i].Name
		out.Mappings = append(out.Mappings, MappingBase{name, edit.BaseOf(s.Estate, estate.Ref{Kind: estate.KindMapping, Name: name})})
	}
	providers := map[string]string{}
	for _, a := range s.Estate.Accounts {
		providers[a.Name] = a.Provider
	}
	uses := map[[2]string]*TagUse{}
	type ranked struct {
		TaggedRow
		rank int
	}
	var rows []ranked
	known := handsIn(s)
	for i := range known {
		one := &known[i]
		got := table.Labels(providers[one.Account], one.Account, one.Tags)
		for _, rule := range got.By {
			out.Counts[rule]++
		}
		alone := inventory.Labelled{}
		for key, value := range one.Tags {
			use, ok := uses[[2]string{key, value}]
			if !ok {
				alone = table.Labels(providers[one.Account], one.Account, map[string]string{key: value})
				use = &TagUse{Key: key, Value: value, Rule: -1}
				for _, label := range slices.Sorted(maps.Keys(alone.Labels)) {
					use.Label, use.Rule = label+"="+alone.Labels[label], alone.By[label]
				}
				uses[[2]string{key, value}] = use
			}
			use.Count++
		}
		if one.Kind != inventory.WorkloadKind {
			continue
		}
		out.Workloads++
		labels := view.OrEmpty(one.Labelled(got.Labels))
		if len(labels) == 0 {
			out.Unlabelled++
		}
		was := map[string]string{}
		if w, ok := s.Index.Workload[one.Name]; ok && s.Estate.Workloads[w].Labels != nil {
			was = s.Estate.Workloads[w].Labels
		}
		row := ranked{TaggedRow{one.Name, one.Account, view.OrEmpty(one.Tags), labels, was, view.OrEmpty(one.Hand), view.OrNone(got.Unmapped), view.OrNone(got.Conflicts)}, 4}
		switch {
		case len(got.Conflicts) > 0:
			row.rank = 0
		case len(labels) == 0:
			row.rank = 1
		case len(got.Unmapped) > 0:
			row.rank = 2
		case !maps.Equal(labels, was):
			row.rank = 3
		}
		if !maps.Equal(labels, was) {
			out.Changed++
		}
		rows = append(rows, row)
	}
	slices.SortStableFunc(rows, func(a, b ranked) int { return a.rank - b.rank })
	out.More = max(0, len(rows)-maxRows)
	for i := range rows[:min(len(rows), maxRows)] {
		out.Rows = append(out.Rows, rows[i].TaggedRow)
	}
	for _, use := range uses {
		out.Tags = append(out.Tags, *use)
	}
	slices.SortFunc(out.Tags, func(a, b TagUse) int {
		for _, d := range [...]int{min(a.Rule, 0) - min(b.Rule, 0), strings.Compare(strings.ToLower(a.Key), strings.ToLower(b.Key)), strings.Compare(a.Key, b.Key), strings.Compare(a.Value, b.Value)} {
			if d != 0 {
				return d
			}
		}
		return 0
	})
	return out, nil
}

// handsIn returns what is known of accounts, with the labels that people set and took off as they stand
// in the estate of a snapshot, which may be that of a draft.
func handsIn(s *view.Snapshot) []inventory.Known {
	labels := make(map[inventory.Thing]map[string]string, len(s.Known))
	for i := range s.Estate.Networks {
		labels[inventory.Thing{Kind: inventory.NetworkKind, Name: s.Estate.Networks[i].Name}] = s.Estate.Networks[i].Labels
	}
	for i := range s.Estate.Workloads {
		labels[inventory.Thing{Kind: inventory.WorkloadKind, Name: s.Estate.Workloads[i].Name}] = s.Estate.Workloads[i].Labels
	}
	if known := inventory.NewTable(s.Estate.MappingRules()).HandsOf(s.Known, s.Estate, labels); known != nil {
		return known
	}
	return s.Known
}

// remapped returns the estate that an edit leads to, with the labels of everything that accounts have
// put to what the edit's mapping of tags gives, where that is another than before. Labels that the edit
// sets or takes off by hand stay.
func remapped(s *view.Snapshot, r *edit.Result) *estate.Estate {
	rules := r.Estate.MappingRules()
	if slices.Equal(rules, s.Estate.MappingRules()) {
		return r.Estate
	}
	p := &view.Plan{Next: r.Estate, Former: r.Former()}
	known := renamedKnown(s, p)
	if said := inventory.NewTable(s.Estate.MappingRules()).HandsOf(known, p.Next, relabelled(p.Changes(s.Estate))); said != nil {
		known = said
	}
	return inventory.Relabel(r.Estate, known, inventory.NewTable(rules))
}

// renamedKnown returns what is known of accounts by the names that things have after a plan.
func renamedKnown(now *view.Snapshot, p *view.Plan) []inventory.Known {
	if renamed := renameKnown(now.Known, p.Former); renamed != nil {
		return renamed
	}
	return now.Known
}

// knownAfter returns what is known of accounts after an edit: the names that things have by
// then, and the labels that the edit set or took off by hand; nil where nothing differs.
func knownAfter(now *view.Snapshot, p *view.Plan) []inventory.Known {
	table := inventory.NewTable(p.Next.MappingRules())
	if said := table.HandsOf(renamedKnown(now, p), p.Next, relabelled(p.Changes(now.Estate))); said != nil {
		return said
	}
	return renameKnown(now.Known, p.Former)
}

// relabelled returns the labels of the networks and workloads that have others than before, by the
// names that they have by now.
func relabelled(changes []document.Change) map[inventory.Thing]map[string]string {
	out := map[inventory.Thing]map[string]string{}
	for i := range changes {
		c := &changes[i]
		kind, is := map[estate.Kind]inventory.Kind{estate.KindNetwork: inventory.NetworkKind, estate.KindWorkload: inventory.WorkloadKind}[document.KindOf(c.List)]
		if !is || c.Before == nil || c.After == nil || c.Moved() {
			continue
		}
		var was, has struct{ Labels map[string]string }
		if json.Unmarshal(c.Before, &was) != nil || json.Unmarshal(c.After, &has) != nil || maps.Equal(was.Labels, has.Labels) {
			continue
		}
		out[inventory.Thing{Kind: kind, Name: c.Key}] = has.Labels
	}
	return out
}
