package drivers

import (
	"fmt"
	"net/netip"
	"strings"

	"bivium/core/native/config"
	"bivium/core/space"
)

// Prefixes returns all prefixes of some sets.
func Prefixes(sets []*config.Set) []netip.Prefix {
	var out []netip.Prefix
	for _, s := range sets {
		out = append(out, s.Prefixes...)
	}
	return out
}

// Side returns prefixes as one side of a rule; none stand for every address.
func Side(p []netip.Prefix) []*config.Set {
	if len(p) == 0 {
		return nil
	}
	return []*config.Set{{Prefixes: p}}
}

// Words returns each rule of a list in one line, to be read.
func (l *NetworkList) Words() RuleList {
	out := RuleList{On: l.On}
	for i := range l.Rules {
		r := &l.Rules[i]
		verb, way := "deny", "in"
		if r.Allow {
			verb = "allow"
		}
		if r.Out {
			way = "out"
		}
		text := fmt.Sprintf("%d %s %s %s own %s other %s", r.Order, way, verb, strings.Join(config.ServiceWords(r.Services), ", "), side(r.Own), side(r.Peer))
		if r.Target != "" {
			text += " on " + r.Target
		}
		out.Rules = append(out.Rules, text+written(l.By, i))
	}
	return out
}

// Words returns each entry in one line, to be read.
func (l *EntryList) Words() RuleList {
	out := RuleList{On: l.Name}
	for i := range l.Entries {
		e := &l.Entries[i]
		way := "from"
		if e.Out {
			way = "to"
		}
		peer := e.Peer.String()
		if e.Peers != "" {
			peer = "those with list " + e.Peers
		}
		out.Rules = append(out.Rules, fmt.Sprintf("allow %s %s %s", config.ServiceWords([]space.Box{e.Service})[0], way, peer)+written(l.By, i))
	}
	return out
}

func side(sets []*config.Set) string {
	if sets == nil {
		return "any"
	}
	var out []string
	for _, p := range Prefixes(sets) {
		out = append(out, p.String())
	}
	return strings.Join(out, ", ")
}

func written(by []string, i int) string {
	if i < len(by) && by[i] != "" {
		return " (by " + by[i] + ")"
	}
	return ""
}
