// Package wording puts what the core returns, codes and parameters, into English: for screen,
// command line and interface alike.
package wording

import (
	"fmt"
	"strings"

	"bivium/core/estate"
	"bivium/core/paths"
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

// Say builds a sentence: %s in format stands for the next thing.
func Say(format string, things ...estate.Ref) []Token {
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

func Ref(kind estate.Kind, name string) estate.Ref { return estate.Ref{Kind: kind, Name: name} }

// Sentence says in one sentence what happens to a flow, and why.
func Sentence(t *trace.Trace) []Token {
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
		return Say("Unrouted: packets reach %s, but there is no return path.", endRef(&t.Destination))
	case verdict.ReasonAsymmetric:
		return Say("Unrouted: a firewall inspects the request, but the reply bypasses it through the peering with %s.", Ref(estate.KindNetwork, t.Back.Peer))
	case verdict.ReasonUnenforced:
		return append(Say("Allowed, although "), append(meant(t), Say(": nothing on the %s enforces it.", Ref("", pathWords(&t.Path)))...)...)
	case verdict.ReasonUninspectable:
		return append(Say("Denied, because "), append(meant(t), Say(", but no firewall is on the %s.", Ref("", pathWords(&t.Path)))...)...)
	case verdict.ReasonNoFirewall:
		return noFirewall(t)
	case verdict.ReasonFailedOpen:
		return Say("Allowed uninspected: pool %s has no reachable healthy firewall and fails open.", Ref(estate.KindPool, t.Pools[0].Pool))
	case verdict.ReasonRulebook:
		return blocked(t)
	}
	out, rule := Say(OutcomeWord(t.Verdict.Outcome)), deciding(t)
	switch {
	case t.Verdict.Outcome == verdict.Inspected:
		out = append(append(out, Say(" by ")...), passed(t)...)
		out = append(append(out, Say(" (")...), append(rule, Say(")")...)...)
	case rule != nil:
		out = append(append(out, Say(" by ")...), rule...)
	default:
		out = append(append(out, Say(": ")...), byDefault(t)...)
	}
	return append(out, Say(".")...)
}

func OutcomeWord(o verdict.Outcome) string {
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
			out = append(out, Say(" and ")...)
		}
		out = append(out, Say("%s at %s", Ref(estate.KindPool, p.Pool), Ref(estate.KindHub, p.Hub))...)
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
		return Say("no policy matches, and segment %s is "+map[estate.Action]string{estate.Allow: "open", estate.Deny: "closed"}[t.Default.Action]+" by default", Ref(estate.KindSegment, t.Source.Segment))
	case "no-share":
		return Say("no share between %s and %s permits it", Ref(estate.KindSegment, t.Source.Segment), Ref(estate.KindSegment, t.Destination.Segment))
	}
	return Say("no policy permits it, and the internet is closed by default")
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
		out = Say(v.Kind+" %s"+fmt.Sprintf(", rule %d", v.Rule), Ref(kind, v.Name))
	}
	if more > 0 {
		out = append(out, Say(fmt.Sprintf(" and %d more", more))...)
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
		return append(out, Say(verb)...)
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
		return Ref(estate.KindWorkload, e.Workload)
	}
	return Ref("", e.Address)
}

func unknown(t *trace.Trace) []Token {
	switch {
	case t.Flow.Source == t.Flow.Destination:
		return Say("There is no such flow: source and destination are both %s.", Ref("", t.Flow.Source))
	case !t.Source.Internal && t.Flow.Segment != verdict.Internet:
		return Say("Unrouted: %s is not in segment %s.", Ref("", t.Flow.Source), Ref(estate.KindSegment, t.Flow.Segment))
	case t.Flow.Segment == verdict.Internet:
		return Say("Unrouted: %s is unknown inside, or the source is a private address.", Ref("", t.Flow.Destination))
	}
	return Say("Unrouted: destination unknown in segment %s: %s is in none of its networks, and no share makes it reachable.", Ref(estate.KindSegment, t.Source.Segment), Ref("", t.Flow.Destination))
}

func noPath(t *trace.Trace) []Token {
	network := t.Path.Network
	if t.Path.Absence == "not-accepted" || t.Path.Absence == "far-not-attached" {
		network = t.Destination.Network
	}
	clause := NoPathBecause(t.Path.Absence, Missing{
		Network: Ref(estate.KindNetwork, network), Peer: Ref(estate.KindNetwork, t.Path.Peer),
		Source: endRef(&t.Source), Destination: endRef(&t.Destination), Segment: Ref(estate.KindSegment, t.Source.Segment),
	})
	return append(append(Say("Unrouted: "), clause...), Say(".")...)
}

// Missing is what a missing path is about; what is not known is empty.
type Missing struct {
	Network             estate.Ref // that has no path
	Peer                estate.Ref // that its route points to
	Source, Destination estate.Ref // addresses or workloads
	Segment             estate.Ref
}

// Explain puts into words why the paths of a trace are missing, where they are, and why the
// other candidates lost.
func Explain(t *trace.Trace) {
	explainPath(&t.Path)
	if t.Back != nil {
		explainPath(t.Back)
	}
}

func explainPath(p *trace.PathView) {
	if p.Absence != "" {
		p.Why = NoPath(p.Absence)
	}
	explainLost(p.Lost)
}

func explainLost(list []trace.RejectedView) {
	for i := range list {
		list[i].Why = Loss(list[i].Loss, list[i].Args)
	}
}

// Loss says in a clause why a candidate was not taken.
func Loss(why paths.Loss, a []string) string {
	switch why {
	case paths.LessSpecific:
		return a[0] + " is more specific"
	case paths.NotAnnouncedTo:
		return "the hub does not announce the destination to it"
	case paths.NotAcceptedAt:
		return "its hub does not accept the destination from it"
	case paths.Untranslated:
		return "does not translate the destination"
	case paths.NotAdvertised:
		return "does not advertise the destination"
	case paths.ShorterPrefix:
		return fmt.Sprintf("less specific prefix: /%s, while the chosen path has /%s", a[0], a[1])
	case paths.NoLinkLeads:
		return "no links from its hub reach the destination"
	case paths.CostsMore:
		return fmt.Sprintf("cost %s, the chosen path costs %s", a[0], a[1])
	case paths.LaterByName:
		if len(a) == 0 {
			return "later in alphabetical order"
		}
		return fmt.Sprintf("same cost %s, but later in alphabetical order", a[0])
	case paths.ServesNot:
		return "does not serve segment " + a[0]
	case paths.OtherServices:
		return "its services do not include the flow"
	case paths.OtherChosen:
		return "the flow uses another publication"
	}
	return string(why) // down
}

// NoPath says in a clause why there is no path, by the code of paths.Absence, without names;
// NoPathBecause has them.
func NoPath(absence string) string {
	switch absence {
	case "no-entry":
		return "no route: the network has no attachment that is up, and no peer offers its hub"
	case "route-none":
		return "the route has next hop none"
	case "internet-for-inside":
		return "the route points to the internet, but the destination is inside"
	case "not-attached":
		return "the network has no attachment that is up"
	case "peer-ends":
		return "the peer neither has the destination nor offers its hub (peerings are not transitive)"
	case "far-not-attached":
		return "the destination's network has no attachment that is up"
	case "no-links":
		return "no links that carry the segment connect the hubs"
	case "no-exit":
		return "no exit that is up serves the segment"
	case "no-publication":
		return "no publication for the destination"
	case "shadowed":
		return "the source's network has the same address itself, and delivers it locally"
	case "not-translated":
		return "no attachment on the path translates the source"
	case "not-announced":
		return "no hub announces the destination to the source's network"
	case "not-accepted":
		return "no hub accepts the destination from its network"
	case "peering-translates":
		return "the route uses a peering, and peerings do not translate addresses"
	}
	return "there is no path"
}

// NoPathBecause says in a clause why there is no path, by the code of paths.Absence, with
// the names of what it is about.
func NoPathBecause(absence string, m Missing) []Token {
	switch absence {
	case "no-entry":
		return Say("%s has no route to the destination: it has no attachment that is up, and no peer offers its hub", m.Network)
	case "route-none":
		return Say("the route of %s has next hop none", m.Network)
	case "internet-for-inside":
		return Say("the route of %s points to the internet, but the destination is inside", m.Network)
	case "not-attached":
		return Say("%s has no attachment that is up", m.Network)
	case "peer-ends":
		return Say("the route of %s points to a peer that neither has the destination nor offers its hub", m.Network)
	case "shadowed":
		return Say("network %s has address %s itself, and delivers it locally", m.Network, m.Destination)
	case "not-translated":
		return Say("no attachment on the path translates %s of %s", m.Source, m.Network)
	case "peering-translates":
		return Say("the route of %s uses its peering with %s, and peerings do not translate addresses", m.Network, m.Peer)
	case "not-announced":
		return Say("no hub announces the destination to %s", m.Network)
	case "not-accepted":
		return Say("no hub accepts %s from network %s", m.Destination, m.Network)
	case "far-not-attached":
		return Say("%s cannot be reached: network %s has no attachment that is up, and no peer advertises its prefix", m.Destination, m.Network)
	case "no-links":
		return Say("no links that carry the segment connect the hubs of source and destination")
	case "no-exit":
		if m.Segment.Name == "" {
			return Say("no exit that is up serves the segment")
		}
		return Say("no exit that is up serves segment %s", m.Segment)
	case "no-publication":
		return Say("no publication makes %s reachable from the internet", m.Destination)
	}
	return Say("there is no path")
}

func noFirewall(t *trace.Trace) []Token {
	if len(t.Pools) == 0 {
		return append(Say("Denied, because "), append(meant(t), Say(", but it names no pool.")...)...)
	}
	pool := t.Pools[len(t.Pools)-1].Pool
	return Say("Denied: pool %s has no reachable healthy firewall and fails closed.", Ref(estate.KindPool, pool))
}

func blocked(t *trace.Trace) []Token {
	p := t.Pools[len(t.Pools)-1]
	out := Say("Blocked by %s at %s: ", Ref(estate.KindPool, p.Pool), Ref(estate.KindHub, p.Hub))
	if p.Rule == 0 {
		return append(out, Say("no rule of rulebook %s permits it.", Ref(estate.KindRulebook, p.Rulebook))...)
	}
	return append(out, Say("rulebook %s rule "+fmt.Sprint(p.Rule)+map[string]string{"drop": " drops it.", "reject": " rejects it."}[p.Action], Ref(estate.KindRulebook, p.Rulebook))...)
}
