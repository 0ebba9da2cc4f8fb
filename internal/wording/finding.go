package wording

import (
	"fmt"
	"strings"

	"bivium/core/estate"
	"bivium/core/findings"
)

// listed is how many things a sentence names before it counts the rest.
const listed = 4

// Finding returns what a finding says, in a sentence without its full stop.
func Finding(f *findings.Finding) string {
	a := f.Args
	switch f.Code {
	case findings.Contested:
		return fmt.Sprintf("policies %s conflict for flows from %s", strings.Join(a[4:], " and "), fromTo(a))
	case findings.RailNotEnforced:
		return fmt.Sprintf("guardrail %s is not enforced for flows from %s", a[0], fromTo(a[1:]))
	case findings.Bypass:
		return fmt.Sprintf("network %s reaches the internet through its own gateway and bypasses every hub and firewall", a[0])
	case findings.Unenforced:
		return fmt.Sprintf("intended verdicts are not enforced on %s paths in %s", a[0], some(f.Refs))
	case findings.Uninspectable:
		return fmt.Sprintf("flows to be inspected are denied, because no firewall is on %s paths in %s", a[0], some(f.Refs))
	case findings.FailedOpen:
		return fmt.Sprintf("flows pass uninspected: pool %s has no healthy firewall and fails open", a[0])
	case findings.NoFirewall:
		return fmt.Sprintf("flows are denied: pool %s has no reachable healthy firewall", a[0])
	case findings.Asymmetric:
		return fmt.Sprintf("replies bypass the firewall that inspected the request, for flows from %s", fromTo(a))
	case findings.OneWay:
		return fmt.Sprintf("no return path from %s: packets arrive, replies do not", placeName(a))
	case findings.MeantUnrouted:
		return fmt.Sprintf("flows %s %s are permitted but unrouted: %s", a[1], placeName(a[2:]), NoPath(a[0]))
	}
	return aboutThings(f)
}

// aboutThings is Finding for those that are not about flows.
func aboutThings(f *findings.Finding) string {
	a := f.Args
	switch f.Code {
	case findings.UnreachedRule:
		return fmt.Sprintf("rule %s of %s %s matches no flow", a[0], a[1], a[2])
	case findings.EmptySide:
		return fmt.Sprintf("policy %s: %s matches no endpoints", a[0], a[1])
	case findings.SameMembers:
		return fmt.Sprintf("policies %s and %s conflict: groups %s and %s have the same members, and neither is nested in the other", a[0], a[1], a[2], a[3])
	case findings.JoiningPeering:
		return fmt.Sprintf("peering of %s (%s) and %s (%s) connects different segments", a[0], a[1], a[2], a[3])
	case findings.LearnedWaits:
		if f.Form == "many" {
			return fmt.Sprintf("%s prefixes of segment %s, learned from %s, need approval: %s to %s", a[0], a[1], a[2], a[3], a[4])
		}
		out := fmt.Sprintf("prefix %s of segment %s, learned from %s, needs approval", a[0], a[1], a[2])
		if len(a) > 3 {
			out += fmt.Sprintf(", and overlaps subnet %s/%s (%s)", a[3], a[4], a[5])
		}
		return out
	case findings.LearnedGone:
		out := fmt.Sprintf("%s no longer announces prefix %s of segment %s", a[0], a[1], a[2])
		if len(a) > 3 {
			out += "; still used by " + few(a[3:], listed-1, ", ")
		}
		return out
	case findings.Down:
		return down(f.Form, a)
	case findings.OpenByDefault:
		return fmt.Sprintf("segment %s allows flows that no policy matches", a[0])
	case findings.RanOut:
		return fmt.Sprintf("%s ran out on %s, and matches no flow since", dated(a), a[3])
	case findings.RunsOut:
		return fmt.Sprintf("%s runs out after %s", dated(a), a[3])
	case findings.ReviewDue:
		return fmt.Sprintf("%s was due for review on %s", dated(a), a[3])
	}
	panic("wording: unknown finding " + string(f.Code))
}

// dated names a policy or share, or a rule of it, that has a day.
func dated(a []string) string {
	if a[2] == "" {
		return a[0] + " " + a[1]
	}
	return fmt.Sprintf("rule %s of %s %s", a[2], a[0], a[1])
}

func down(form string, a []string) string {
	switch form {
	case "link":
		return fmt.Sprintf("link %s–%s is down", a[0], a[1])
	case "attachment":
		return fmt.Sprintf("attachment of %s at %s is down", a[0], a[1])
	}
	if a[3] == "failed" {
		return fmt.Sprintf("firewall %s of pool %s at %s has failed", a[0], a[1], a[2])
	}
	return fmt.Sprintf("firewall %s of pool %s at %s is %s", a[0], a[1], a[2], a[3])
}

// placeName returns what a place is called: its network and segment.
func placeName(a []string) string {
	if a[0] == "" {
		return "the internet"
	}
	return fmt.Sprintf("network %s (%s)", a[0], a[1])
}

// fromTo names two places.
func fromTo(a []string) string { return placeName(a) + " to " + placeName(a[2:]) }

// some names the first of some things, and counts the rest.
func some(refs []estate.Ref) string {
	names := make([]string, len(refs))
	for i, r := range refs {
		names[i] = r.String()
	}
	return few(names, listed, " and ")
}

// few names the first of some, and counts the rest after a word between.
func few(names []string, most int, between string) string {
	if len(names) <= most {
		return strings.Join(names, ", ")
	}
	return fmt.Sprintf("%s%s%d more", strings.Join(names[:most], ", "), between, len(names)-most)
}
