package plan

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"bivium/core/estate"
	"bivium/core/native/config"
	"bivium/core/space"
)

// keysOf returns rules as words that are the same for rules that do the same.
func keysOf[T any](rules []T, key func(*T) string) []string {
	out := make([]string, len(rules))
	for i := range rules {
		out[i] = key(&rules[i])
	}
	return out
}

func ruleKey(r *config.Rule) string {
	return fmt.Sprint(r.Out, r.Allow, r.Target, prefixesKey(r.Own), prefixesKey(r.Peer), servicesKey(r.Services))
}

// runsOf returns a list as words that are the same for lists that do the same by the order of
// their rules: the order counts only between rules that allow and rules that deny.
func runsOf(rules []config.Rule) [][]string {
	var out [][]string
	for _, way := range [2]bool{false, true} {
		var run []string
		var allow bool
		end := func() {
			slices.Sort(run)
			if run = slices.Compact(run); len(run) > 0 {
				out = append(out, run)
			}
			run = nil
		}
		for i := range rules {
			r := &rules[i]
			if r.Out != way {
				continue
			}
			if r.Allow != allow {
				end()
			}
			allow = r.Allow
			run = append(run, ruleKey(r))
		}
		end()
	}
	return out
}

func hubRuleKey(r *config.HubRule) string {
	through := ""
	if r.Verb == config.Steer {
		through = fmt.Sprint(r.Through)
	}
	return fmt.Sprint(r.Verb, through, endsKey(r.From), endsKey(r.To), servicesKey(r.Services))
}

func bookRuleKey(r *config.BookRule) string {
	return fmt.Sprint(r.Verb == "pass", r.Any, endsKey(r.From), endsKey(r.To), servicesKey(r.Services))
}

func entryKeys(entries []config.Entry) map[string]int {
	out := map[string]int{}
	for i := range entries {
		out[entryKey(&entries[i])] = i
	}
	return out
}

func entryKey(e *config.Entry) string {
	return fmt.Sprint(e.Out, config.Bounded(e.Service), e.Peer, e.Peers)
}

func prefixesKey(sets []*config.Set) string {
	if sets == nil {
		return "any"
	}
	return digest(prefixesOf(sets))
}

// digest returns what tells prefixes from others: they themselves, where they are few.
func digest(p []netip.Prefix) string {
	const few = 8
	if len(p) <= few {
		return fmt.Sprint(p)
	}
	text := make([]byte, 0, 18*len(p))
	for _, x := range p {
		a := x.Addr().As16()
		text = append(append(text, a[:]...), byte(x.Bits()), byte(x.Addr().BitLen()))
	}
	sum := sha256.Sum256(text)
	return hex.EncodeToString(sum[:16])
}

// prefixesOf returns the prefixes of some sets, sorted; nil for nil.
func prefixesOf(sets []*config.Set) []netip.Prefix {
	if sets == nil {
		return nil
	}
	out := []netip.Prefix{}
	for _, s := range sets {
		out = append(out, s.Prefixes...)
	}
	slices.SortFunc(out, netip.Prefix.Compare)
	return out
}

func endsKey(ends []config.End) string {
	var out []string
	for _, e := range ends {
		prefixes := "any"
		if e.Set != nil {
			prefixes = digest(prefixesOf([]*config.Set{e.Set}))
		}
		out = append(out, e.Segment+"|"+e.Exit+"|"+prefixes)
	}
	slices.Sort(out)
	return strings.Join(out, ";")
}

func servicesKey(boxes []space.Box) string {
	if boxes == nil {
		boxes = []space.Box{anything}
	}
	out := make([]string, len(boxes))
	for i, b := range boxes {
		out[i] = fmt.Sprint(config.Bounded(b))
	}
	slices.Sort(out)
	return strings.Join(out, ";")
}

var anything = space.Box{FirstProtocol: 0, LastProtocol: 255, SourcePorts: estate.AllPorts, Ports: estate.AllPorts}

// changed compares the lines of a document before and after a write.
func changed(key Key, provider string, was, is *Body) (added, removed []string, kept, holds int) {
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
	return added, removed, kept, len(has)
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
			out = append(out, "peering with "+p.Name)
		}
	}
	for _, t := range c.Targets(workloads) {
		for _, l := range t.Listings {
			for i := range l.Lines {
				text := strings.TrimSpace(l.Lines[i].Text()[5:]) // without its place
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
