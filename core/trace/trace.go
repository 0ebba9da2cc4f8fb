// Package trace gives the full account of one flow, for a person to read: how each end was
// found and which groups it is in, the paths both ways and the routes rejected, every rule
// that matches and what became of it, every pool and what its rulebook said.
package trace

import (
	"cmp"
	"slices"
	"strings"

	"bivium/core/estate"
	"bivium/core/membership"
	"bivium/core/paths"
	"bivium/core/verdict"
)

// Trace is the whole road of one flow: every step of its decision, with the
// roads not taken. Its parts are names, ready to be shown or written as JSON.
type Trace struct {
	Flow        FlowView        `json:"flow"`
	Verdict     verdict.Verdict `json:"verdict"`
	Source      EndView         `json:"source"`
	Destination EndView         `json:"destination"`
	Lookup      string          `json:"lookup"`   // own, shared, internet, published or unknown (M6.4)
	SharedBy    []string        `json:"sharedBy"` // the shares that make the destination reachable
	Path        PathView        `json:"path"`
	Decides     string          `json:"decides"` // policies or shares; "" where M8.2 gives no verdict
	Rules       []RuleView      `json:"rules"`   // policies or shares, those that win first
	Default     DefaultView     `json:"default"`
	Guardrails  []RuleView      `json:"guardrails"`
	Enforced    bool            `json:"enforced"` // whether anything on the path enforces the verdict (M8.3)
	Pools       []PoolView      `json:"pools"`
	Back        *PathView       `json:"back"` // nil where the flow never got so far, or the internet answers
	Publication string          `json:"publication"`
}

// FlowView is a flow in words.
type FlowView struct {
	Segment     string `json:"segment"`
	Source      string `json:"source"`
	Destination string `json:"destination"`
	Protocol    string `json:"protocol"`
	SourcePort  int    `json:"sport"`
	Port        int    `json:"dport"`
}

// EndView is one end of the flow. What does not apply is empty.
type EndView struct {
	Address  string            `json:"address"`
	Inside   string            `json:"inside"` // the address that it has in its own network, where that is another
	SeenAs   string            `json:"seenAs"` // the address by which the other end's segment sees it, where that is another
	Internal bool              `json:"internal"`
	Segment  string            `json:"segment"`
	Network  string            `json:"network"`
	Subnet   string            `json:"subnet"`
	Prefix   string            `json:"prefix"` // by which the network is its home
	Workload string            `json:"workload"`
	Labels   map[string]string `json:"labels"`
	Exit     string            `json:"exit"`
	Groups   []MemberView      `json:"groups"`
}

// MemberView is a group that an end is in, and why.
type MemberView struct {
	Group  string            `json:"group"`
	Within string            `json:"within"`
	Ground membership.Ground `json:"ground"`
}

// PathView is a way through the estate, hop by hop.
type PathView struct {
	Kind    string         `json:"kind"`    // none, local, peered, bypass or hub
	Absence string         `json:"absence"` // why there is none, as a code
	Why     string         `json:"why"`     // that in words, which whoever shows it puts in
	Network string         `json:"network"` // whose route table was asked
	Entry   *EntryView     `json:"entry"`
	Peer    string         `json:"peer"`
	Enter   *AttachView    `json:"enter"`
	Hops    []HopView      `json:"hops"`
	Leave   *AttachView    `json:"leave"`
	Exit    string         `json:"exit"`
	Cost    int            `json:"cost"`
	Lost    []RejectedView `json:"lost"` // the paths that it could have gone, and why it did not
}

// RejectedView is a candidate that lost: a route, an attachment, an exit or a
// publication.
type RejectedView struct {
	What string `json:"what"`
	Name string `json:"name"`
	Why  string `json:"why"` // in words, which whoever shows it puts in

	Loss paths.Loss `json:"-"`
	Args []string   `json:"-"` // of the loss
}

// EntryView is an entry of a route table.
type EntryView struct {
	Prefix   string `json:"prefix"`
	Via      string `json:"via"`
	Explicit bool   `json:"explicit"`
}

// AttachView is an attachment on the way.
type AttachView struct {
	Network string `json:"network"`
	Hub     string `json:"hub"`
	Cost    int    `json:"cost"`
}

// HopView is a hub on the way, with the cost of the link that led to it.
type HopView struct {
	Hub  string `json:"hub"`
	Cost int    `json:"cost"`
}

// RuleView is a policy, share or guardrail that had something to say.
type RuleView struct {
	Kind     string        `json:"kind"`
	Name     string        `json:"name"`
	From     string        `json:"from"`
	To       string        `json:"to"`
	Rule     int           `json:"rule"` // from 1; 0 if no rule contains the flow
	Services []string      `json:"services"`
	Action   estate.Action `json:"action"`
	Pool     string        `json:"pool"`
	Standing string        `json:"standing"` // wins, agrees, milder, overridden or silent
	Over     string        `json:"over"`     // the name of the one that overrides it
}

// DefaultView is what would have held if nothing had spoken.
type DefaultView struct {
	Action estate.Action `json:"action"`
	Why    string        `json:"why"` // segment, internet or no-share
	Holds  bool          `json:"holds"`
}

// PoolView is a firewall pool on the way.
type PoolView struct {
	Pool      string   `json:"pool"`
	Hub       string   `json:"hub"`
	OnWay     bool     `json:"onWay"` // the hub is on the path; else it is the nearest
	Firewalls []string `json:"firewalls"`
	State     string   `json:"state"` // passed, blocked, failed-open or no-firewall
	Rulebook  string   `json:"rulebook"`
	Rule      int      `json:"rule"` // from 1; 0 if none contains the flow
	Action    string   `json:"action"`
}

// Of returns the whole road of a flow. Cost: that of Judge, and a little for
// each thing that is named.
func Of(j *verdict.Judge, f verdict.Flow) Trace {
	d := j.Decide(f)
	t := Trace{
		Flow:    FlowView{f.Segment, f.Source.String(), f.Destination.String(), estate.ProtocolName(f.Protocol), int(f.SourcePort), int(f.Port)},
		Verdict: verdict.UnknownVerdict(), Lookup: d.Lookup.String(),
		SharedBy: []string{}, Rules: []RuleView{}, Guardrails: []RuleView{}, Pools: []PoolView{},
		Source:      EndView{Address: f.Source.String(), Segment: f.Segment, Groups: []MemberView{}},
		Destination: EndView{Address: f.Destination.String(), Groups: []MemberView{}},
	}
	if f.Segment == verdict.Internet {
		t.Source.Segment = ""
	}
	if d.Src.Addr.IsValid() {
		t.Source = EndOf(j, &d.Src)
	}
	if !d.Known {
		t.Path = PathView{Kind: "none", Hops: []HopView{}, Lost: []RejectedView{}}
		return t
	}
	t.Verdict = j.VerdictOf(&d.Settlement)
	t.Destination = EndOf(j, &d.Dst)
	t.Path = pathView(j, &d.Way.Path)
	t.Path.Lost = append(rejectedView(j, &d.Way.Path, &d.Dst, &d.Src), rejectedPublications(j, &d)...)
	if d.Src.Internal() && d.Dst.Internal() {
		t.Source.SeenAs, t.Destination.SeenAs = seenView(j, &d.Src, &d.Dst), seenView(j, &d.Dst, &d.Src)
	}
	t.Enforced = d.Way.Path.Kind == paths.HubPath || d.Way.Path.Kind != paths.NoPath && verdict.Enforces(j.Net, &d.Way.Path)
	if d.Publication != paths.None {
		t.Publication = j.Publications[d.Publication].Name
	}
	if d.Lookup == verdict.LookupShared {
		t.SharedBy = sharersOf(j, &d)
	}
	addRules(j, &t, &d)
	for _, step := range d.Steps {
		t.Pools = append(t.Pools, poolView(j, &step))
	}
	if d.Way.Sought {
		back := pathView(j, &d.Way.Back)
		if d.Src.Internal() {
			back.Lost = rejectedView(j, &d.Way.Back, &d.Src, &d.Dst)
		}
		t.Back = &back
	}
	return t
}

// EndOf returns an endpoint in words, with the groups that it is in and why.
func EndOf(j *verdict.Judge, p *membership.Endpoint) EndView {
	v := EndView{Address: p.Addr.String(), Internal: p.Internal(), Groups: []MemberView{}}
	if p.Internal() {
		v.Segment, v.Network, v.Prefix = j.Net.Segments[p.Segment], j.Net.Networks[p.Home.Network].Name, p.Home.Prefix.String()
		if p.Home.Subnet != paths.None {
			v.Subnet = j.Net.Subnets[p.Home.Subnet].Name
		}
		if inside := j.Net.Inside(p.Home, p.Addr); inside != p.Addr {
			v.Inside = inside.String()
		}
		if p.Workload != paths.None {
			w := &j.Estate.Workloads[p.Workload]
			v.Workload, v.Labels = w.Name, w.Labels
		}
	}
	if p.Exit != paths.None {
		v.Exit = j.Net.Exits[p.Exit].Name
	}
	for _, g := range p.Groups {
		v.Groups = append(v.Groups, MemberView{j.Members.Names[g], j.Members.Groups[g].Within, j.Members.Why(g, p, j.Net)})
	}
	return v
}

func pathView(j *verdict.Judge, p *paths.Path) PathView {
	v := PathView{Kind: p.Kind.String(), Absence: p.Absence.String(), Hops: []HopView{}, Lost: []RejectedView{}, Cost: p.Cost}
	name := func(network int) string {
		if network == paths.None {
			return ""
		}
		return j.Net.Networks[network].Name
	}
	v.Network, v.Peer = name(p.Network), name(p.Peer)
	if p.Entry.Prefix.IsValid() {
		v.Entry = &EntryView{p.Entry.Prefix.String(), string(p.Entry.Via), p.Entry.Explicit}
	}
	attach := func(i int) *AttachView {
		if i == paths.None {
			return nil
		}
		a := &j.Net.Attachments[i]
		return &AttachView{name(a.Network), j.Net.Hubs[a.Hub], a.Cost}
	}
	v.Enter, v.Leave = attach(p.Enter), attach(p.Leave)
	for i, hub := range p.Hubs {
		hop := HopView{Hub: j.Net.Hubs[hub]}
		if i > 0 {
			hop.Cost = j.Net.Links[p.Links[i-1]].Cost
		}
		v.Hops = append(v.Hops, hop)
	}
	if p.Exit != paths.None {
		v.Exit = j.Net.Exits[p.Exit].Name
	}
	return v
}

// seenView returns the address by which the segment of another endpoint sees one,
// where that is not its own.
func seenView(j *verdict.Judge, p, from *membership.Endpoint) string {
	if a := j.SeenAs(p, from.Segment); a != p.Addr {
		return a.String()
	}
	return ""
}

// rejectedView returns the candidates that lost against a path to an endpoint from
// another.
func rejectedView(j *verdict.Judge, p *paths.Path, to, from *membership.Endpoint) []RejectedView {
	out := []RejectedView{}
	for _, l := range j.Net.Lost(p, j.Target(to, from.Segment)) {
		out = append(out, RejectedView{What: l.What, Name: l.Name, Loss: l.Why, Args: l.Args})
	}
	return out
}

// rejectedPublications returns the publications to the destination of a flow from
// the internet that did not let it in (M7.6).
func rejectedPublications(j *verdict.Judge, d *verdict.Decision) []RejectedView {
	var out []RejectedView
	if d.Flow.Segment != verdict.Internet {
		return nil
	}
	for i := range j.Publications {
		p := &j.Publications[i]
		if i == d.Publication || p.Segment != d.Dst.Segment || !p.To.Contains(d.Dst.Groups, true) {
			continue
		}
		why := paths.LaterByName
		switch {
		case !p.Services.Contains(d.Flow.Service):
			why = paths.OtherServices
		case d.Flow.Publication != "":
			why = paths.OtherChosen
		}
		out = append(out, RejectedView{What: "publication", Name: p.Name, Loss: why})
	}
	return out
}

// sharersOf returns the shares that make the destination reachable.
func sharersOf(j *verdict.Judge, d *verdict.Decision) []string {
	var names []string
	for _, i := range j.SharesOf[d.Src.Segment] {
		s := &j.Shares[i]
		if s.Owner.Holds(&d.Dst) || s.Guest.Holds(&d.Dst) {
			names = append(names, s.Name)
		}
	}
	return names
}

func sideName(j *verdict.Judge, s int) string {
	if s == verdict.Anyone {
		return "any"
	}
	return j.Members.Names[s]
}

// addRules adds everyone who spoke, and those who could have and did not.
func addRules(j *verdict.Judge, t *Trace, d *verdict.Decision) {
	cross := d.Src.Internal() && d.Dst.Internal() && d.Src.Segment != d.Dst.Segment
	t.Decides = "policies"
	t.Default = DefaultView{Action: estate.Deny, Why: "internet", Holds: d.Intent.Reason == verdict.ReasonDefault || d.Intent.Reason == verdict.ReasonNoShare}
	switch {
	case cross:
		t.Decides, t.Default.Why = "shares", "no-share"
		addShares(j, t, d)
	case d.Src.Internal() && d.Dst.Internal():
		t.Default.Why, t.Default.Action = "segment", j.Defaults[d.Src.Segment]
		addPolicies(j, t, d)
	default:
		addPolicies(j, t, d)
	}
	for _, v := range d.Intent.Rails {
		r := &j.Guardrails[v.Which]
		view := ruleView(j, "guardrail", r.Name, &r.Rules[v.Rule], v.Rule)
		view.From, view.To = sidesName(j, r.From), sidesName(j, r.To)
		view.Standing = standing(&d.Intent, r.Rules[v.Rule].Action, verdict.ReasonGuardrail)
		t.Guardrails = append(t.Guardrails, view)
	}
}

// standing tells how a term that nothing overrides came out.
func standing(in *verdict.Intent, action estate.Action, as verdict.Reason) string {
	switch {
	case action != in.Action:
		return "milder"
	case in.Reason == as:
		return "wins"
	}
	return "agrees"
}

func sidesName(j *verdict.Judge, s verdict.Side) string {
	name := ""
	for i, g := range s {
		if i > 0 {
			name += ", "
		}
		name += sideName(j, g)
	}
	return name
}

func ruleView(j *verdict.Judge, kind, name string, r *verdict.Rule, number int) RuleView {
	v := RuleView{Kind: kind, Name: name, Rule: number + 1, Services: []string{}, Action: r.Action}
	v.Services = append(v.Services, servicesOf(j, kind, name, number)...)
	if r.Pool != paths.None {
		v.Pool = j.Pools[r.Pool].Name
	}
	return v
}

// servicesOf returns the services of a rule as the document writes them.
func servicesOf(j *verdict.Judge, kind, name string, number int) []string {
	var rules []estate.Rule
	if kind == "share" {
		for i := range j.Estate.Shares {
			if j.Estate.Shares[i].Name == name {
				rules = j.Estate.Shares[i].Rules
			}
		}
	} else if i, ok := j.PolicyIndex[name]; ok {
		rules = j.Estate.Policies[i].Rules
	}
	var out []string
	for _, ref := range rules[number].Services {
		out = append(out, ref.String())
	}
	return out
}

func addPolicies(j *verdict.Judge, t *Trace, d *verdict.Decision) {
	order := map[string]int{"wins": 0, "agrees": 1, "milder": 2, "overridden": 3, "silent": 4}
	for i := range d.Intent.Speakers {
		s := &d.Intent.Speakers[i]
		p := &j.Policies[s.Policy]
		v := ruleView(j, "policy", p.Name, &p.Rules[s.Rule], s.Rule)
		v.From, v.To = sideName(j, s.Sides.From), sideName(j, s.Sides.To)
		v.Standing = standing(&d.Intent, v.Action, verdict.ReasonPolicy)
		if s.By != paths.None {
			v.Standing, v.Over = "overridden", j.Policies[d.Intent.Speakers[s.By].Policy].Name
		}
		t.Rules = append(t.Rules, v)
	}
	for _, c := range d.RuleSet.Policies {
		if p := &j.Policies[c.Policy]; (&verdict.Query{Service: d.Flow.Service}).First(p.Rules) == paths.None {
			t.Rules = append(t.Rules, RuleView{Kind: "policy", Name: p.Name, From: sideName(j, c.Sides.From), To: sideName(j, c.Sides.To), Services: []string{}, Standing: "silent"})
		}
	}
	slices.SortStableFunc(t.Rules, func(a, b RuleView) int {
		return cmp.Or(order[a.Standing]-order[b.Standing], strings.Compare(a.Name, b.Name))
	})
}

func addShares(j *verdict.Judge, t *Trace, d *verdict.Decision) {
	for _, i := range d.RuleSet.Shares {
		s := &j.Shares[i]
		side := func(p *verdict.SharedPart) string { return j.Net.Segments[p.Segment] + ": " + sidesName(j, p.Side) }
		from, to := side(&s.Guest), side(&s.Owner)
		if s.Owner.Segment == d.Src.Segment {
			from, to = to, from
		}
		k := (&verdict.Query{Service: d.Flow.Service}).First(s.Rules)
		v := RuleView{Kind: "share", Name: s.Name, Services: []string{}, Standing: "silent"}
		if k != paths.None {
			v = ruleView(j, "share", s.Name, &s.Rules[k], k)
			v.Standing = standing(&d.Intent, v.Action, verdict.ReasonShare)
		}
		v.From, v.To = from, to
		t.Rules = append(t.Rules, v)
	}
}

func poolView(j *verdict.Judge, step *verdict.PoolStep) PoolView {
	p := &j.Pools[step.Pool]
	v := PoolView{Pool: p.Name, OnWay: step.OnWay, Firewalls: []string{}, State: "passed"}
	switch {
	case step.Blocked:
		v.State = "blocked"
	case step.Hub == paths.None && p.Open:
		v.State = "failed-open"
	case step.Hub == paths.None:
		v.State = "no-firewall"
	}
	if step.Hub == paths.None {
		return v
	}
	v.Hub = j.Net.Hubs[step.Hub]
	for i := range j.Estate.Pools {
		if j.Estate.Pools[i].Name != p.Name {
			continue
		}
		for _, f := range j.Estate.Pools[i].Firewalls {
			if f.Hub == v.Hub && f.State == "healthy" {
				v.Firewalls = append(v.Firewalls, f.Name)
			}
		}
	}
	if p.Rulebook != paths.None {
		b := &j.Books[p.Rulebook]
		v.Rulebook = b.Name
		v.Rule = step.BookRule + 1
		v.Action = "drop"
		if step.BookRule != paths.None {
			v.Action = b.Rules[step.BookRule].Verb
		}
	}
	return v
}
