package approval

import (
	"fmt"
	"net/netip"
	"reflect"
	"slices"

	"go4.org/netipx"

	"bivium/core/document"
	"bivium/core/estate"
)

// imagine returns two estates as they would be with every link, attachment, exit and firewall
// up, and with one workload more in each network of a segment for each combination of labels
// that the selectors which differ, or which rules that differ refer to, tell apart: so that
// neither a tunnel that is down nor a group that is empty today lets a change slip by. It
// returns nil where that would be the estates as they are.
func imagine(before, after *estate.Estate) (*estate.Estate, *estate.Estate) {
	combinations := combinationsOf(selectors(before, after))
	a, raisedA := raised(before)
	b, raisedB := raised(after)
	if len(combinations) == 0 && !raisedA && !raisedB {
		return nil, nil
	}
	used := map[netip.Addr]bool{}
	for _, e := range []*estate.Estate{before, after} {
		for i := range e.Workloads {
			for _, address := range e.Workloads[i].Addresses {
				used[address] = true
			}
		}
	}
	populate(a, combinations, used)
	populate(b, combinations, used)
	return a, b
}

// raised returns an estate in which everything is up, and whether that is another one.
func raised(e *estate.Estate) (*estate.Estate, bool) {
	next := *e
	changed := false
	up := func(state *string, is string) {
		if *state != is {
			*state, changed = is, true
		}
	}
	next.Links, next.Attachments, next.Exits, next.Pools = slices.Clone(e.Links), slices.Clone(e.Attachments), slices.Clone(e.Exits), slices.Clone(e.Pools)
	for i := range next.Links {
		up(&next.Links[i].State, "up")
	}
	for i := range next.Attachments {
		up(&next.Attachments[i].State, "up")
	}
	for i := range next.Exits {
		up(&next.Exits[i].State, "up")
	}
	for i := range next.Pools {
		next.Pools[i].Firewalls = slices.Clone(e.Pools[i].Firewalls)
		for k := range next.Pools[i].Firewalls {
			up(&next.Pools[i].Firewalls[k].State, "healthy")
		}
	}
	return &next, changed
}

// selectors returns the label selectors of groups that differ, and of those that rules which
// differ refer to, with those that they are nested in.
func selectors(before, after *estate.Estate) []estate.Selector {
	touched := map[string]bool{}
	for _, c := range document.Changes(before, after, nil) {
		for _, e := range []*estate.Estate{before, after} {
			list := document.Things(e, document.KindOf(c.List))
			for i := range list.Len() {
				if document.NameOf(list.Index(i)) == c.Key {
					groupsIn(list.Index(i), touched)
				}
			}
		}
	}
	var out []estate.Selector
	seen := map[string]bool{}
	for _, e := range []*estate.Estate{before, after} {
		groups := map[string]*estate.Group{}
		for i := range e.Groups {
			groups[e.Groups[i].Name] = &e.Groups[i]
		}
		for name := range touched {
			for g, depth := groups[name], 0; g != nil && depth <= len(groups); g, depth = groups[g.Within], depth+1 {
				if s, err := estate.ParseSelector(g.Match); err == nil && g.Match != "" && !seen[g.Match] {
					seen[g.Match] = true
					out = append(out, s)
				}
			}
		}
	}
	return out
}

// groupsIn adds the names of the groups that a thing is, or refers to on a side.
func groupsIn(v reflect.Value, out map[string]bool) {
	switch thing := v.Interface().(type) {
	case estate.Group:
		out[thing.Name] = true
		return
	case estate.Side:
		for _, g := range thing.Groups {
			out[g] = true
		}
		return
	}
	switch v.Kind() {
	case reflect.Struct:
		for i := range v.NumField() {
			if v.Type().Field(i).IsExported() {
				groupsIn(v.Field(i), out)
			}
		}
	case reflect.Slice:
		if v.Type().Elem().Kind() == reflect.Struct {
			for i := range v.Len() {
				groupsIn(v.Index(i), out)
			}
		}
	}
}

// mostCombinations is how many combinations of labels are imagined; beyond, each selector is
// looked at for itself.
const mostCombinations = 64

// combinationsOf returns labels of which each choice among what selectors tell apart occurs.
func combinationsOf(selectors []estate.Selector) []map[string]string {
	if len(selectors) == 0 {
		return nil
	}
	keys := map[string][]string{}
	for _, s := range selectors {
		for key, values := range s.Tells() {
			for _, v := range values {
				if !slices.Contains(keys[key], v) {
					keys[key] = append(keys[key], v)
				}
			}
			if keys[key] == nil {
				keys[key] = []string{}
			}
		}
	}
	count := 1
	for _, values := range keys {
		if count *= len(values) + 2; count > mostCombinations {
			break
		}
	}
	if count <= mostCombinations {
		return product(keys)
	}
	var out []map[string]string
	for _, s := range selectors {
		for _, labels := range product(s.Tells()) {
			if len(out) < 4*mostCombinations && !slices.ContainsFunc(out, func(o map[string]string) bool { return reflect.DeepEqual(o, labels) }) {
				out = append(out, labels)
			}
		}
	}
	return out
}

// product returns every choice of a value for each key: one of those given, another, or none.
func product(keys map[string][]string) []map[string]string {
	out := []map[string]string{{}}
	for key, values := range keys {
		var next []map[string]string
		for _, labels := range out {
			next = append(next, labels)
			for _, v := range append(slices.Clone(values), "another value") {
				with := map[string]string{key: v}
				for k, old := range labels {
					with[k] = old
				}
				next = append(next, with)
			}
		}
		out = next
	}
	return out
}

// mostImagined is how many workloads are imagined at most.
const mostImagined = 20_000

// populate adds imagined workloads to an estate. Those of networks that two estates share have
// the same names and addresses in both.
func populate(e *estate.Estate, combinations []map[string]string, used map[netip.Addr]bool) {
	if len(combinations) == 0 {
		return
	}
	e.Workloads = slices.Clip(e.Workloads)
	added := 0
	for i := range e.Networks {
		n := &e.Networks[i]
		for k := range n.Subnets {
			s := &n.Subnets[k]
			if n.SegmentOf(s) == "" || added >= mostImagined {
				continue
			}
			address := netipx.RangeOfPrefix(s.Prefix).To().Prev() // the last one of IPv4 is no endpoint's
			for at, labels := range combinations {
				for used[address] {
					address = address.Prev()
				}
				if !s.Prefix.Contains(address) {
					break
				}
				e.Workloads = append(e.Workloads, estate.Workload{
					Name: fmt.Sprintf("imagined.%s.%s.%d", n.Name, s.Name, at), Network: n.Name, Addresses: []netip.Addr{address}, Labels: labels,
				})
				address = address.Prev()
				added++
			}
		}
	}
}
