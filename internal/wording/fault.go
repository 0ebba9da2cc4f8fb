package wording

import (
	"fmt"
	"strings"

	"bivium/core/estate"
)

// DescribedFault is a fault with its English: what is wrong, and how to fix it. Both are
// clauses without a full stop.
type DescribedFault struct {
	estate.Fault
	Message string `json:"message"`
	Fix     string `json:"fix"`
}

// Faults puts faults into words, in their order. The list is never nil.
func Faults(list []estate.Fault) []DescribedFault {
	out := make([]DescribedFault, len(list))
	for i := range list {
		out[i] = Fault(&list[i])
	}
	return out
}

// Fault puts a fault into words.
func Fault(f *estate.Fault) DescribedFault {
	out := DescribedFault{Fault: *f}
	switch f.Form {
	case estate.Overlapping:
		out.Message, out.Fix = overlapping(f)
	case estate.SamePrefix, estate.OtherLength, estate.Conflict, estate.Advertised, estate.PartOfSubnet:
		out.Message, out.Fix = mapping(f)
	case estate.Plain, estate.OfNetwork:
		out.Message, out.Fix = plain(f)
	case estate.InUse, estate.AlreadyShared:
		out.Message, out.Fix = reachableTwice(f)
	default:
		out.Message, out.Fix = inForm(f)
	}
	return out
}

// plain is Fault for the codes that have one form, and for names that nothing bears.
func plain(f *estate.Fault) (message, fix string) {
	a, of := f.Args, f.Refs[0]
	switch f.Code {
	case estate.UnknownName:
		return unknownName(f)
	case estate.OwnAncestor:
		var names []string
		for _, g := range f.Refs {
			names = append(names, g.Name)
		}
		return "the groups are nested in a circle: " + strings.Join(append(names, of.Name), " within "), "remove the within of one of them"
	case estate.StrayAddress:
		return fmt.Sprintf("%s has address %s, which is in no subnet of %s", of, a[0], f.Refs[1]), "correct the address, or add the subnet to the network"
	case estate.SameAddress:
		return fmt.Sprintf("workloads %s and %s of network %s both have address %s", f.Refs[1].Name, of.Name, a[0], a[1]), "correct one of the two addresses"
	case estate.GuardrailAllows:
		return fmt.Sprintf("rule %s of %s allows, but a guardrail can only deny or inspect", a[0], of), "change the action to deny or inspect, or make it a standard policy"
	case estate.NoPool:
		return fmt.Sprintf("rule %s of %s inspects, but names no pool", a[0], of), "name the pool that inspects"
	case estate.UnservedPublication:
		return fmt.Sprintf("%s publishes into segment %s, which %s does not serve", of, a[0], f.Refs[1]), fmt.Sprintf("add segment %s to %s, or publish at an exit that serves it", a[0], f.Refs[1])
	case estate.SameRoute:
		return fmt.Sprintf("%s has two routes to %s", of, a[0]), "keep one of them"
	case estate.EmptyGroup:
		return fmt.Sprintf("%s selects nothing", of), "add at least one of match, networks, networkMatch, subnets, prefixes, exits"
	case estate.PoolNotForSegment:
		pool, segment := f.Refs[1], f.Refs[2]
		return fmt.Sprintf("%s inspects flows of %s with %s, which does not serve that segment", of, segment, pool), fmt.Sprintf("add %s to %s, or use another pool", segment, pool)
	}
	return string(f.Code), ""
}

// unknownName is Fault for names that nothing bears.
func unknownName(f *estate.Fault) (message, fix string) {
	of, missing := f.Refs[0], f.Refs[1]
	message = fmt.Sprintf("%s refers to unknown %s %q", of, missing.Kind, missing.Name)
	switch {
	case f.Form == estate.OfNetwork:
		return fmt.Sprintf("%s of network %s", message, f.Args[0]), "use a subnet of the network"
	case f.Args[0] != "":
		return message, fmt.Sprintf("did you mean %s? Otherwise define %s", f.Args[0], missing)
	}
	return message, fmt.Sprintf("define %s, or use one that exists", missing)
}

// inForm is Fault for the forms that stand for one thing in each code.
func inForm(f *estate.Fault) (message, fix string) {
	a, of := f.Args, f.Refs[0]
	switch string(f.Code) + " " + string(f.Form) {
	case "F3 with-itself":
		return fmt.Sprintf("%s shares segment %s with itself", of, a[0]), "choose two different segments; within one segment, use a policy"
	case "F12 with-itself":
		return fmt.Sprintf("network %s is peered with itself", a[0]), "choose two different networks, or remove the peering"
	case "F12 twice":
		return fmt.Sprintf("networks %s and %s are peered twice", a[0], a[1]), "keep one of them"
	case "F12 elsewhere":
		return fmt.Sprintf("%s offers the hub of %s, which is not part of the peering", of, a[0]), fmt.Sprintf("write %s or %s, or leave it out", a[1], a[2])
	case "F12 not-peered":
		return fmt.Sprintf("the route of %s to %s points to %s, but the two networks are not peered", of, a[0], a[2]), fmt.Sprintf("peer %s with %s, or change the route", a[1], a[2])
	case "F15 no-listening":
		return fmt.Sprintf("%s cannot listen on %q", of, a[0]), "use an address of this machine, or leave it out"
	case "F15 no-speaker":
		return fmt.Sprintf("router %s has a session with %s, which does not speak BGP", a[0], f.Refs[1]), "add as and speaker to the hub"
	case "F15 twice":
		return fmt.Sprintf("router %s already has a session at hub %s, on %s", a[0], a[1], a[2]), "keep one session for each router and hub"
	case "F16 elsewhere":
		return fmt.Sprintf("%s shows addresses of segment %s, which is not part of the share", of, a[0]), fmt.Sprintf("name %s or %s", a[1], a[2])
	case "F0 unreadable":
		return fmt.Sprintf("%s %s cannot be read and is left out of the estate: %s", a[0], a[1], a[2]), "correct the stored object, or remove it"
	}
	return string(f.Code), ""
}

// overlapping is Fault for what claims the same addresses as others.
func overlapping(f *estate.Fault) (message, fix string) {
	segment, claim, with := f.Args[0], f.Args[1], f.Args[2:]
	others := strings.Join(with, ", ")
	if f.Clash.More {
		others += " and others"
	}
	switch f.Code {
	case estate.OverlapInside:
		return fmt.Sprintf("%s overlaps %s of the same network", claim, others), "give one of them another prefix"
	case estate.BadTranslation:
		return fmt.Sprintf("in segment %s, the translated addresses of %s are addresses of %s of the same network", segment, claim, others),
			"translate to addresses that the network does not have there"
	}
	fix = "move one to another segment, give it another prefix, translate it, or withdraw the route"
	if len(with) > 1 {
		return fmt.Sprintf("in segment %s, %s claims the same addresses as %s", segment, claim, others), fix
	}
	return fmt.Sprintf("in segment %s, %s and %s both claim the same addresses", segment, others, claim), fix
}

// mapping is Fault for what shares show and attachments translate.
func mapping(f *estate.Fault) (message, fix string) {
	a, of := f.Args, f.Refs[0]
	shows := f.Code == estate.BadShow
	switch f.Form {
	case estate.SamePrefix:
		return mapped(shows, of, a) + ", which is the same prefix", "use another outside prefix of that length, or remove the entry"
	case estate.OtherLength:
		return mapped(shows, of, a) + ", which has another length", "use prefixes of the same length and address family"
	case estate.Advertised:
		return fmt.Sprintf("%s advertises %s in segment %s, where %s is translated", of, a[0], a[1], a[2]), "remove the route, or translate other addresses"
	case estate.PartOfSubnet:
		return fmt.Sprintf("%s translates %s, which is only part of %s (%s)", of, a[0], f.Refs[1], a[1]), "translate the whole subnet"
	}
	fix = "use the same translation in both, or prefixes that do not overlap"
	if shows {
		return fmt.Sprintf("%s shows %s to %s as %s, and %s shows %s as %s, which conflict", of, a[1], a[0], a[2], f.Refs[1], a[3], a[4]), fix
	}
	return fmt.Sprintf("in segment %s, %s and %s of network %s are translated to %s and %s, which conflict", a[0], a[2], a[4], a[1], a[3], a[5]), fix
}

func mapped(shows bool, of estate.Ref, a []string) string {
	if shows {
		return fmt.Sprintf("%s shows %s as %s", of, a[0], a[1])
	}
	return fmt.Sprintf("%s translates %s to %s", of, a[0], a[1])
}

// reachableTwice is Fault for shares that bring an address to where it is in use.
func reachableTwice(f *estate.Fault) (message, fix string) {
	a, as := f.Args, ""
	if a[0] != a[2] {
		as = " as " + a[2]
	}
	why := "where the same address is already in use"
	if f.Form == estate.AlreadyShared {
		why = fmt.Sprintf("where %s already makes %s of segment %s reachable under the same address", f.Refs[1], a[4], a[5])
	}
	return fmt.Sprintf("%s makes %s of segment %s reachable%s in segment %s, %s", f.Refs[0], a[0], a[1], as, a[3], why),
		"restrict that side of the share to groups with unique addresses, translate the addresses, or renumber one of the two"
}
