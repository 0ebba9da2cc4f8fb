package plan

import (
	"fmt"
	"strings"

	"bivium/core/estate"
	"bivium/core/native/config"
)

// changed compares the lines of a document before and after a write.
func (d *digests) changed(key Key, provider string, was, is *Body) (added, removed []string, kept, holds int) {
	was, is, same := d.differing(was, is)
	had, has := lines(key, provider, was), lines(key, provider, is)
	left := map[string]int{}
	bare := func(l string) string { // without what it is for
		text, _, _ := strings.Cut(l, "  # ")
		return text
	}
	for _, l := range had {
		left[bare(l)]++
	}
	added, removed = []string{}, []string{}
	for _, l := range has {
		if left[bare(l)] > 0 {
			left[bare(l)]--
			kept++
			continue
		}
		added = append(added, l)
	}
	for _, l := range had {
		if left[bare(l)] > 0 {
			left[bare(l)]--
			removed = append(removed, l)
		}
	}
	return added, removed, kept + same, len(has) + same
}

// Differ returns the lines of a document of hubs or firewalls that only the second of two bodies has,
// and those that only the first has.
func Differ(key Key, was, is *Body) (added, removed []string) {
	added, removed, _, _ = newDigests().changed(key, "", was, is)
	return added, removed
}

// differing returns two bodies of one document without the rules that both have, and how many those
// are: there is no need to read them.
func (d *digests) differing(was, is *Body) (a, b *Body, same int) {
	switch {
	case was == nil || is == nil:
		return was, is, 0
	case is.List != nil:
		x, y := *was.List, *is.List
		x.Rules, y.Rules, same = apart(d, x.Rules, y.Rules, d.rule, (*config.Rule).Does)
		return &Body{List: &x}, &Body{List: &y}, same
	case is.Entries != nil:
		x, y := *was.Entries, *is.Entries
		x.Entries, y.Entries, same = apart(d, x.Entries, y.Entries, entryKey, differs)
		return &Body{Entries: &x}, &Body{Entries: &y}, same
	case is.Segment != nil:
		x, y := *was.Segment, *is.Segment
		x.Rules, y.Rules, same = apart(d, x.Rules, y.Rules, d.hubRule, (*config.HubRule).Does)
		return &Body{Segment: &x}, &Body{Segment: &y}, same
	}
	return was, is, 0
}

// apart returns what each of two lists has more of than the other, in order, and how many both have.
func apart[T any](d *digests, a, b []T, key func(*T) string, does func(a, b *T) bool) (onlyA, onlyB []T, same int) {
	all := len(a)
	a, b, _ = middle(a, b, does)
	same = all - len(a)
	left, had, has := map[string]int{}, keysOf(d, a, key), keysOf(d, b, key)
	for _, k := range had {
		left[k]++
	}
	for i, k := range has {
		if left[k] > 0 {
			left[k]--
			same++
			continue
		}
		onlyB = append(onlyB, b[i])
	}
	for i, k := range had {
		if left[k] > 0 {
			left[k]--
			onlyA = append(onlyA, a[i])
		}
	}
	return onlyA, onlyB, same
}

// lines returns a document as lines to be read, without the places of its rules.
func lines(key Key, provider string, b *Body) []string {
	switch {
	case b == nil:
		return nil
	case b.Placements != nil:
		var out []string
		for _, p := range b.Placements {
			out = append(out, fmt.Sprintf("subnet %s/%s %s in segment %s", p.Network, p.Subnet, p.Prefix, p.Segment))
		}
		return out
	case b.Bears != nil:
		var out []string
		for _, l := range b.Bears {
			out = append(out, "list "+l+" applies")
		}
		return out
	}
	var out []string
	c := &config.Config{}
	var workloads []estate.Workload
	switch {
	case b.Segment != nil:
		c.Segments = []config.Segment{*b.Segment}
	case b.Hub != nil:
		c.Hubs = []config.Hub{*b.Hub}
	case b.Pool != nil:
		c.Pools = []config.Pool{*b.Pool}
	case b.Entries != nil:
		c.Networks = []config.Network{{Name: "n", Account: key.Account, Provider: config.Cirra}}
		c.Accounts = []config.Account{{Name: key.Account, Lists: []config.EntryList{*b.Entries}, Default: []string{b.Entries.Name}}}
	case b.List != nil:
		c.Networks = []config.Network{{Name: key.Name, Account: key.Account, Provider: provider, Lists: []config.List{*b.List}}}
	default:
		c.Networks = []config.Network{{Name: key.Name, Account: key.Account, Provider: provider, Routes: b.Routes}}
		for _, p := range b.Peers {
			line := "peering with " + p.Name
			if p.OffersHub {
				line += ", whose hub it uses"
			}
			out = append(out, line)
		}
	}
	for _, t := range c.Targets(workloads) {
		for _, l := range t.Listings {
			for i := range l.Len() {
				line := l.Line(i)
				text := strings.TrimSpace(line.Text()[5:]) // without its place
				if l.On != "" && b.List == nil && b.Entries == nil && b.Pool == nil {
					text = l.On + ": " + text
				}
				out = append(out, text)
			}
		}
	}
	for _, f := range b.Firewalls {
		out = append(out, fmt.Sprintf("firewall %s at %s", f.Name, f.Hub))
	}
	return out
}
