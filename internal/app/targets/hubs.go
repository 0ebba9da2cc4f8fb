package targets

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"bivium/core/native/config"
	"bivium/core/native/plan"
)

// HubKeys returns the documents that hubs and firewalls have to hold, in order.
func (b *Book) HubKeys() []plan.Key {
	var out []plan.Key
	for key := range b.hubDocuments() {
		out = append(out, key)
	}
	slices.SortFunc(out, func(a, b plan.Key) int { return strings.Compare(a.String(), b.String()) })
	return out
}

// hubDocuments returns what hubs and firewalls have to hold.
func (b *Book) hubDocuments() map[plan.Key]*plan.Body {
	c := b.translated().Config
	return plan.Documents(plan.State{Config: &config.Config{Hubs: c.Hubs, Segments: c.Segments, Pools: c.Pools}, Estate: b.now.Estate})
}

// putHubs puts what hubs and firewalls hold in the place of what is meant, and tells in what the two
// differ. Documents of what the estate does not have are told, and change no flow: nothing else
// leads to them.
func (b *Book) putHubs(found *config.Config, r *Reading) []ListDrift {
	out := []ListDrift{}
	meant := b.hubDocuments()
	state := plan.State{Config: found, Estate: b.now.Estate}
	for _, key := range b.HubKeys() {
		if plan.Same(r.Hubs[key], meant[key]) {
			continue
		}
		added, missing := plan.Differ(key, meant[key], r.Hubs[key])
		out = append(out, ListDrift{On: Title(key), Added: added, By: make([]string, len(added)), Missing: missing})
		state = state.With(key, r.Hubs[key])
	}
	*found = *state.Config
	for _, key := range slices.SortedFunc(maps.Keys(r.Hubs), func(a, b plan.Key) int { return strings.Compare(a.String(), b.String()) }) {
		if _, is := meant[key]; is {
			continue
		}
		if added, _ := plan.Differ(key, nil, r.Hubs[key]); len(added) > 0 { // else it was emptied, and does nothing
			out = append(out, ListDrift{On: Title(key), Added: added, By: make([]string, len(added)), Missing: []string{}})
		}
	}
	return out
}

// Title says what a document is, to be read.
func Title(key plan.Key) string {
	switch key.Kind {
	case plan.KindSegment:
		return "match list of segment " + key.Name
	case plan.KindHub:
		return "wiring of hub " + key.Name
	case plan.KindPool:
		return "firewalls of pool " + key.Name
	case plan.KindPlacement:
		return "which subnet lies in which segment"
	case plan.KindList:
		if key.On == "" {
			return "list of network " + key.Name
		}
		return fmt.Sprintf("list of subnet %s/%s", key.Name, key.On)
	case plan.KindRoutes:
		return "route table of network " + key.Name
	case plan.KindEntries:
		return "list " + key.On
	}
	if key.On == "" {
		return "default lists of the account"
	}
	return "lists of workload " + key.On
}
