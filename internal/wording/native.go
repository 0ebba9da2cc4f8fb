package wording

import (
	"fmt"
	"strings"

	"bivium/core/estate"
	"bivium/core/native"
	"bivium/core/native/proof"
	"bivium/core/native/reader"
)

// Refusal says what a target cannot hold, and what to do.
func Refusal(r *native.Refusal) string {
	where := "network " + r.Network
	if r.On != "" {
		where = r.On + " of network " + r.Network
	}
	switch r.Code {
	case native.TooManyEntries:
		return fmt.Sprintf("%s needs %d entries, and its lists may have %d: split the groups that it speaks with by network, or let the policies allow fewer different services", where, r.Count, r.Limit)
	case native.TooManyRules:
		return fmt.Sprintf("the list of %s needs %d rules, and may have %d: split the network, or its groups, so that fewer rules tell its workloads apart", where, r.Count, r.Limit)
	case native.SourcePorts:
		return fmt.Sprintf("rules for flows inside %s ask for source ports, which its provider's lists do not have: leave the source ports out of the service", where)
	case native.InsideSubnets:
		return fmt.Sprintf("%s says that it enforces inside subnets too, which its provider does not: set its enforcement to subnets", where)
	case native.NoProvider:
		return fmt.Sprintf("%s says that it enforces, and no provider that does is known for its account: set its enforcement to none", where)
	}
	return string(r.Code) + ": " + where
}

// Blur says why a list stops more than is meant.
func Blur(b reader.Blur) string {
	switch b {
	case reader.NoWorkload:
		return "no workload holds the address, and the lists hang on workloads"
	case reader.TwoOfOne:
		return "the workload has several addresses and one set of lists"
	case reader.OneOfTwo:
		return "the network has the address in two segments"
	case reader.SeenAlike:
		return "somebody else is seen under the same address"
	}
	return string(b)
}

// NativeDifference says which flows fare otherwise than is meant, and how.
func NativeDifference(d *proof.Difference) string {
	return fmt.Sprintf("%s %s to %s %s on %s: intended is %s, found is %s; for example %s to %s on %s",
		d.From, firstOf(d.Sources), d.To, firstOf(d.Destinations), firstOf(d.Services.Words()), Fate(&d.Meant), Fate(&d.Found),
		d.Witness.Source, d.Witness.Destination, serviceOf(d))
}

func serviceOf(d *proof.Difference) string {
	f := &d.Witness
	word := estate.ProtocolName(f.Protocol)
	if ports, _ := estate.PortsOf(f.Protocol); ports.Hi > 0 {
		word = fmt.Sprintf("%s/%d", word, f.Port)
	}
	return word
}

// firstOf names the first of a list, and how many more there are.
func firstOf(list []string) string {
	const shown = 4
	if len(list) > shown {
		return strings.Join(list[:shown], ", ") + fmt.Sprintf(" and %d more", len(list)-shown)
	}
	return strings.Join(list, ", ")
}

// Fate says what becomes of a packet.
func Fate(f *reader.Fate) string {
	switch {
	case f.Delivered && len(f.Pools) > 0:
		return "delivered through " + strings.Join(f.Pools, ", ")
	case f.Delivered:
		return "delivered"
	case f.Blocked != "":
		return "blocked by " + f.Blocked
	}
	return "stopped" + place(&f.At)
}

// place says what stopped a packet.
func place(p *reader.Place) string {
	rule := ", where no rule matches"
	if p.Rule > 0 {
		rule = fmt.Sprintf(", by rule %d", p.Rule)
	}
	on := p.Name
	if p.On != "" {
		on += "/" + p.On
	}
	if p.Name == "" {
		return ""
	}
	switch p.Kind {
	case reader.StopOutward:
		return " by the outbound list of " + on + rule
	case reader.StopInward:
		return " by the inbound list of " + on + rule
	case reader.StopHub:
		return " by the match list of segment " + on + rule
	case reader.StopFirewall:
		return ": no firewall of " + on + " works"
	case reader.StopNoPath:
		return ": " + NoPath(p.Name)
	}
	return ""
}
