package app

import (
	"fmt"
	"strings"

	"bivium/core/estate"
	"bivium/core/trace"
	"bivium/core/verdict"
)

// Token is a piece of a sentence: plain text, or the name of a thing.
type Token struct {
	Text string      `json:"text"`
	Kind estate.Kind `json:"kind,omitempty"` // of the thing; "" for plain text
}

// Plain returns a sentence without its marks.
func Plain(tokens []Token) string {
	var b strings.Builder
	for _, t := range tokens {
		b.WriteString(t.Text)
	}
	return b.String()
}

// say builds a sentence: %s in format stands for the next thing.
func say(format string, things ...estate.Ref) []Token {
	var out []Token
	for i, text := range strings.Split(format, "%s") {
		if i > 0 {
			out = append(out, Token{things[i-1].Name, things[i-1].Kind})
		}
		if text != "" {
			out = append(out, Token{Text: text})
		}
	}
	return out
}

func ref(kind estate.Kind, name string) estate.Ref { return estate.Ref{Kind: kind, Name: name} }

// sentence says in one sentence what happens to a flow, and why.
func sentence(t *trace.Trace) []Token {
	out := because(t)
	if t.Verdict.Contested {
		out = append(out, Token{Text: " Policies conflict."})
	}
	return out
}

func because(t *trace.Trace) []Token {
	switch t.Verdict.Reason {
	case verdict.ReasonUnknown:
		return unknown(t)
	case verdict.ReasonNoPath:
		return noPath(t)
	case verdict.ReasonNoWayBack:
		return say("Unrouted: packets reach %s, but there is no return path.", endRef(&t.Destination))
	case verdict.ReasonAsymmetric:
		return say("Unrouted: a firewall inspects the request, but the reply bypasses it through the peering with %s.", ref(estate.KindNetwork, t.Back.Peer))
	case verdict.ReasonUnenforced:
		return append(say("Allowed, although "), append(meant(t), say(": nothing on the %s enforces it.", ref("", pathWords(&t.Path)))...)...)
	case verdict.ReasonUninspectable:
		return append(say("Denied, because "), append(meant(t), say(", but no firewall is on the %s.", ref("", pathWords(&t.Path)))...)...)
	case verdict.ReasonNoFirewall:
		return noFirewall(t)
	case verdict.ReasonFailedOpen:
		return say("Allowed uninspected: pool %s has no reachable healthy firewall and fails open.", ref(estate.KindPool, t.Pools[0].Pool))
	case verdict.ReasonRulebook:
		return blocked(t)
	}
	out, rule := say(outcomeWord(t.Verdict.Outcome)), deciding(t)
	switch {
	case t.Verdict.Outcome == verdict.Inspected:
		out = append(append(out, say(" by ")...), passed(t)...)
		out = append(append(out, say(" (")...), append(rule, say(")")...)...)
	case rule != nil:
		out = append(append(out, say(" by ")...), rule...)
	default:
		out = append(append(out, say(": ")...), byDefault(t)...)
	}
	return append(out, say(".")...)
}

func outcomeWord(o verdict.Outcome) string {
	return strings.ToUpper(string(o[:1])) + string(o[1:])
}

// passed names the pools that let the flow pass, and where.
func passed(t *trace.Trace) []Token {
	var out []Token
	for _, p := range t.Pools {
		if p.State != "passed" {
			continue
		}
		if out != nil {
			out = append(out, say(" and ")...)
		}
		out = append(out, say("%s at %s", ref(estate.KindPool, p.Pool), ref(estate.KindHub, p.Hub))...)
	}
	return out
}

// deciding names the rule that decides the intended verdict, nil if it is a default.
func deciding(t *trace.Trace) []Token {
	switch t.Verdict.Reason {
	case verdict.ReasonPolicy, verdict.ReasonUnenforced, verdict.ReasonUninspectable, verdict.ReasonShare, verdict.ReasonGuardrail:
		return winners(t)
	}
	return nil
}

// byDefault says which default applies where no rule matches.
func byDefault(t *trace.Trace) []Token {
	switch t.Default.Why {
	case "segment":
		return say("no policy matches, and segment %s is "+map[estate.Action]string{estate.Allow: "open", estate.Deny: "closed"}[t.Default.Action]+" by default", ref(estate.KindSegment, t.Source.Segment))
	case "no-share":
		return say("no share between %s and %s permits it", ref(estate.KindSegment, t.Source.Segment), ref(estate.KindSegment, t.Destination.Segment))
	}
	return say("no policy permits it, and the internet is closed by default")
}

// winners names the policies, shares or guardrails that win.
func winners(t *trace.Trace) []Token {
	terms := t.Rules
	if t.Verdict.Reason == verdict.ReasonGuardrail || !wins(terms) {
		terms = t.Guardrails
	}
	var out []Token
	more := 0
	for _, v := range terms {
		if v.Standing != "wins" {
			continue
		}
		if out != nil {
			more++
			continue
		}
		kind := estate.KindPolicy
		if v.Kind == "share" {
			kind = estate.KindShare
		}
		out = say(v.Kind+" %s"+fmt.Sprintf(", rule %d", v.Rule), ref(kind, v.Name))
	}
	if more > 0 {
		out = append(out, say(fmt.Sprintf(" and %d more", more))...)
	}
	return out
}

func wins(terms []trace.RuleView) bool {
	for _, v := range terms {
		if v.Standing == "wins" {
			return true
		}
	}
	return false
}

// meant says what was intended, in the middle of a sentence.
func meant(t *trace.Trace) []Token {
	verb := map[estate.Action]string{estate.Allow: " allows it", estate.Deny: " denies it", estate.Inspect: " inspects it"}[t.Verdict.Intended]
	if out := winners(t); out != nil {
		return append(out, say(verb)...)
	}
	return byDefault(t)
}

func pathWords(p *trace.PathView) string {
	switch p.Kind {
	case "local":
		return "path inside network " + p.Network
	case "peered":
		return "peering of " + p.Network + " with " + p.Peer
	case "bypass":
		return "internet gateway of network " + p.Network
	}
	return "path"
}

func endRef(e *trace.EndView) estate.Ref {
	if e.Workload != "" {
		return ref(estate.KindWorkload, e.Workload)
	}
	return ref("", e.Address)
}

func unknown(t *trace.Trace) []Token {
	switch {
	case t.Flow.Source == t.Flow.Destination:
		return say("There is no such flow: source and destination are both %s.", ref("", t.Flow.Source))
	case !t.Source.Internal && t.Flow.Segment != verdict.Internet:
		return say("Unrouted: %s is not in segment %s.", ref("", t.Flow.Source), ref(estate.KindSegment, t.Flow.Segment))
	case t.Flow.Segment == verdict.Internet:
		return say("Unrouted: %s is unknown inside, or the source is a private address.", ref("", t.Flow.Destination))
	}
	return say("Unrouted: destination unknown in segment %s: %s is in none of its networks, and no share makes it reachable.", ref(estate.KindSegment, t.Source.Segment), ref("", t.Flow.Destination))
}

func noPath(t *trace.Trace) []Token {
	network := t.Path.Network
	if t.Path.Absence == "not-accepted" || t.Path.Absence == "far-not-attached" {
		network = t.Destination.Network
	}
	clause := noPathBecause(t.Path.Absence, missing{
		network: ref(estate.KindNetwork, network), peer: ref(estate.KindNetwork, t.Path.Peer),
		source: endRef(&t.Source), destination: endRef(&t.Destination), segment: ref(estate.KindSegment, t.Source.Segment),
	})
	return append(append(say("Unrouted: "), clause...), say(".")...)
}

// missing is what a missing path is about; what is not known is empty.
type missing struct {
	network             estate.Ref // that has no path
	peer                estate.Ref // that its route points to
	source, destination estate.Ref // addresses or workloads
	segment             estate.Ref
}

// noPathBecause says in a clause why there is no path, by the code of paths.Absence. It is
// the one place where that is put into words with names; paths.Absence.Words has none.
func noPathBecause(absence string, m missing) []Token {
	switch absence {
	case "no-entry":
		return say("%s has no route to the destination: it has no attachment that is up, and no peer offers its hub", m.network)
	case "route-none":
		return say("the route of %s has next hop none", m.network)
	case "internet-for-inside":
		return say("the route of %s points to the internet, but the destination is inside", m.network)
	case "not-attached":
		return say("%s has no attachment that is up", m.network)
	case "peer-ends":
		return say("the route of %s points to a peer that neither has the destination nor offers its hub", m.network)
	case "shadowed":
		return say("network %s has address %s itself, and delivers it locally", m.network, m.destination)
	case "not-translated":
		return say("no attachment on the path translates %s of %s", m.source, m.network)
	case "peering-translates":
		return say("the route of %s uses its peering with %s, and peerings do not translate addresses", m.network, m.peer)
	case "not-announced":
		return say("no hub announces the destination to %s", m.network)
	case "not-accepted":
		return say("no hub accepts %s from network %s", m.destination, m.network)
	case "far-not-attached":
		return say("%s cannot be reached: network %s has no attachment that is up, and no peer advertises its prefix", m.destination, m.network)
	case "no-links":
		return say("no links that carry the segment connect the hubs of source and destination")
	case "no-exit":
		if m.segment.Name == "" {
			return say("no exit that is up serves the segment")
		}
		return say("no exit that is up serves segment %s", m.segment)
	case "no-publication":
		return say("no publication makes %s reachable from the internet", m.destination)
	}
	return say("there is no path")
}

func noFirewall(t *trace.Trace) []Token {
	if len(t.Pools) == 0 {
		return append(say("Denied, because "), append(meant(t), say(", but it names no pool.")...)...)
	}
	pool := t.Pools[len(t.Pools)-1].Pool
	return say("Denied: pool %s has no reachable healthy firewall and fails closed.", ref(estate.KindPool, pool))
}

func blocked(t *trace.Trace) []Token {
	p := t.Pools[len(t.Pools)-1]
	out := say("Blocked by %s at %s: ", ref(estate.KindPool, p.Pool), ref(estate.KindHub, p.Hub))
	if p.Rule == 0 {
		return append(out, say("no rule of rulebook %s permits it.", ref(estate.KindRulebook, p.Rulebook))...)
	}
	return append(out, say("rulebook %s rule "+fmt.Sprint(p.Rule)+map[string]string{"drop": " drops it.", "reject": " rejects it."}[p.Action], ref(estate.KindRulebook, p.Rulebook))...)
}
