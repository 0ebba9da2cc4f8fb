package verdict

import (
	"cmp"
	"slices"
	"strings"

	"bivium/core/estate"
	"bivium/core/paths"
)

// Trace is the whole road of one flow: every step of its decision, with the
// roads not taken. Its parts are names, ready to be shown or written as JSON.
type Trace struct {
	Flow        FlowView    `json:"flow"`
	Verdict     Verdict     `json:"verdict"`
	Source      EndView     `json:"source"`
	Destination EndView     `json:"destination"`
	Lookup      string      `json:"lookup"`   // own, shared, internet, published or unknown (M6.4)
	SharedBy    []string    `json:"sharedBy"` // the shares that make the destination reachable
	Path        PathView    `json:"path"`
	Decides     string      `json:"decides"` // policies or shares; "" where M8.2 gives no verdict
	Voices      []VoiceView `json:"voices"`  // policies or shares, those that win first
	Default     DefaultView `json:"default"`
	Guardrails  []VoiceView `json:"guardrails"`
	Enforced    bool        `json:"enforced"` // whether anything on the path enforces the verdict (M8.3)
	Pools       []PoolView  `json:"pools"`
	Back        *PathView   `json:"back"` // nil where the flow never got so far, or the internet answers
	Publication string      `json:"publication"`
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
	Group  string `json:"group"`
	Within string `json:"within"`
	Ground Ground `json:"ground"`
}

// PathView is a way through the estate, hop by hop.
type PathView struct {
	Kind    string      `json:"kind"`    // none, local, peered, bypass or hub
	Absence string      `json:"absence"` // why there is none, as a code
	Why     string      `json:"why"`     // and in words
	Network string      `json:"network"` // whose route table was asked
	Entry   *EntryView  `json:"entry"`
	Peer    string      `json:"peer"`
	Enter   *AttachView `json:"enter"`
	Hops    []HopView   `json:"hops"`
	Leave   *AttachView `json:"leave"`
	Exit    string      `json:"exit"`
	Cost    int         `json:"cost"`
	Lost    []LostView  `json:"lost"` // the ways that it could have gone, and why it did not
}

// LostView is a candidate that lost: a route, an attachment, an exit or a
// publication.
type LostView struct {
	What string `json:"what"`
	Name string `json:"name"`
	Why  string `json:"why"`
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

// VoiceView is a policy, share or guardrail that had something to say.
type VoiceView struct {
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

// Trace returns the whole road of a flow. Cost: that of Judge, and a little for
// each thing that is named.
func (j *Judge) Trace(f Flow) Trace {
	d := j.decide(f)
	t := Trace{
		Flow:    FlowView{f.Segment, f.Source.String(), f.Destination.String(), estate.ProtocolName(f.Protocol), int(f.SourcePort), int(f.Port)},
		Verdict: unknownVerdict(), Lookup: d.lookup.String(),
		SharedBy: []string{}, Voices: []VoiceView{}, Guardrails: []VoiceView{}, Pools: []PoolView{},
		Source:      EndView{Address: f.Source.String(), Segment: f.Segment, Groups: []MemberView{}},
		Destination: EndView{Address: f.Destination.String(), Groups: []MemberView{}},
	}
	if f.Segment == Internet {
		t.Source.Segment = ""
	}
	if d.src.Addr.IsValid() {
		t.Source = j.endView(&d.src)
	}
	if !d.known {
		t.Path = PathView{Kind: "none", Hops: []HopView{}, Lost: []LostView{}}
		return t
	}
	t.Verdict = j.verdictOf(&d.settled)
	t.Destination = j.endView(&d.dst)
	t.Path = j.pathView(&d.way.Path)
	t.Path.Lost = append(j.lostView(&d.way.Path, &d.dst, &d.src), j.lostPublications(&d)...)
	if d.src.Internal() && d.dst.Internal() {
		t.Source.SeenAs, t.Destination.SeenAs = j.seenView(&d.src, &d.dst), j.seenView(&d.dst, &d.src)
	}
	t.Enforced = d.way.Path.Kind == paths.HubPath || d.way.Path.Kind != paths.NoPath && enforces(j.net, &d.way.Path)
	if d.publication != paths.None {
		t.Publication = j.publications[d.publication].name
	}
	if d.lookup == LookupShared {
		t.SharedBy = j.sharersOf(&d)
	}
	j.addVoices(&t, &d)
	for _, step := range d.steps {
		t.Pools = append(t.Pools, j.poolView(&step))
	}
	if d.way.Sought {
		back := j.pathView(&d.way.Back)
		if d.src.Internal() {
			back.Lost = j.lostView(&d.way.Back, &d.src, &d.dst)
		}
		t.Back = &back
	}
	return t
}

func (j *Judge) endView(p *Endpoint) EndView {
	v := EndView{Address: p.Addr.String(), Internal: p.Internal(), Groups: []MemberView{}}
	if p.Internal() {
		v.Segment, v.Network, v.Prefix = j.net.Segments[p.Segment], j.net.Networks[p.Home.Network].Name, p.Home.Prefix.String()
		if p.Home.Subnet != paths.None {
			v.Subnet = j.net.Subnets[p.Home.Subnet].Name
		}
		if inside := j.net.Inside(p.Home, p.Addr); inside != p.Addr {
			v.Inside = inside.String()
		}
		if p.Workload != paths.None {
			w := &j.estate.Workloads[p.Workload]
			v.Workload, v.Labels = w.Name, w.Labels
		}
	}
	if p.Exit != paths.None {
		v.Exit = j.net.Exits[p.Exit].Name
	}
	for _, g := range p.groups {
		v.Groups = append(v.Groups, MemberView{j.members.names[g], j.members.groups[g].Within, j.members.why(g, p, j.net)})
	}
	return v
}

func (j *Judge) pathView(p *paths.Path) PathView {
	v := PathView{Kind: p.Kind.String(), Absence: p.Absence.String(), Why: p.Absence.Words(), Hops: []HopView{}, Lost: []LostView{}, Cost: p.Cost}
	name := func(network int) string {
		if network == paths.None {
			return ""
		}
		return j.net.Networks[network].Name
	}
	v.Network, v.Peer = name(p.Network), name(p.Peer)
	if p.Entry.Prefix.IsValid() {
		v.Entry = &EntryView{p.Entry.Prefix.String(), string(p.Entry.Via), p.Entry.Explicit}
	}
	attach := func(i int) *AttachView {
		if i == paths.None {
			return nil
		}
		a := &j.net.Attachments[i]
		return &AttachView{name(a.Network), j.net.Hubs[a.Hub], a.Cost}
	}
	v.Enter, v.Leave = attach(p.Enter), attach(p.Leave)
	for i, hub := range p.Hubs {
		hop := HopView{Hub: j.net.Hubs[hub]}
		if i > 0 {
			hop.Cost = j.net.Links[p.Links[i-1]].Cost
		}
		v.Hops = append(v.Hops, hop)
	}
	if p.Exit != paths.None {
		v.Exit = j.net.Exits[p.Exit].Name
	}
	return v
}

// seenView returns the address by which the segment of another endpoint sees one,
// where that is not its own.
func (j *Judge) seenView(p, from *Endpoint) string {
	if a := j.SeenAs(p, from.Segment); a != p.Addr {
		return a.String()
	}
	return ""
}

// lostView returns the candidates that lost against a path to an endpoint from
// another.
func (j *Judge) lostView(p *paths.Path, to, from *Endpoint) []LostView {
	out := []LostView{}
	for _, l := range j.net.Lost(p, j.Target(to, from.Segment)) {
		out = append(out, LostView{l.What, l.Name, l.Why})
	}
	return out
}

// lostPublications returns the publications to the destination of a flow from
// the internet that did not let it in (M7.6).
func (j *Judge) lostPublications(d *decision) []LostView {
	var out []LostView
	if d.flow.Segment != Internet {
		return nil
	}
	for i := range j.publications {
		p := &j.publications[i]
		if i == d.publication || p.segment != d.dst.Segment || !p.to.contains(d.dst.groups, true) {
			continue
		}
		why := "later in alphabetical order"
		switch {
		case !p.services.contains(d.flow.Service):
			why = "its services do not include the flow"
		case d.flow.Publication != "":
			why = "the flow uses another publication"
		}
		out = append(out, LostView{"publication", p.name, why})
	}
	return out
}

// sharersOf returns the shares that make the destination reachable.
func (j *Judge) sharersOf(d *decision) []string {
	var names []string
	for _, i := range j.sharesOf[d.src.Segment] {
		s := &j.shares[i]
		if s.owner.holds(&d.dst) || s.guest.holds(&d.dst) {
			names = append(names, s.name)
		}
	}
	return names
}

func (j *Judge) sideName(s int) string {
	if s == anyone {
		return "any"
	}
	return j.members.names[s]
}

// addVoices adds everyone who spoke, and those who could have and did not.
func (j *Judge) addVoices(t *Trace, d *decision) {
	cross := d.src.Internal() && d.dst.Internal() && d.src.Segment != d.dst.Segment
	t.Decides = "policies"
	t.Default = DefaultView{Action: estate.Deny, Why: "internet", Holds: d.intent.reason == ReasonDefault || d.intent.reason == ReasonNoShare}
	switch {
	case cross:
		t.Decides, t.Default.Why = "shares", "no-share"
		j.addShares(t, d)
	case d.src.Internal() && d.dst.Internal():
		t.Default.Why, t.Default.Action = "segment", j.defaults[d.src.Segment]
		j.addPolicies(t, d)
	default:
		j.addPolicies(t, d)
	}
	for _, v := range d.intent.rails {
		r := &j.rails[v.which]
		view := j.voiceView("guardrail", r.name, &r.rules[v.rule], v.rule)
		view.From, view.To = j.sidesName(r.from), j.sidesName(r.to)
		view.Standing = standing(&d.intent, r.rules[v.rule].action, ReasonGuardrail)
		t.Guardrails = append(t.Guardrails, view)
	}
}

// standing tells how a voice that nothing overrides fared.
func standing(in *intent, action estate.Action, as Reason) string {
	switch {
	case action != in.action:
		return "milder"
	case in.reason == as:
		return "wins"
	}
	return "agrees"
}

func (j *Judge) sidesName(s side) string {
	name := ""
	for i, g := range s {
		if i > 0 {
			name += ", "
		}
		name += j.sideName(g)
	}
	return name
}

func (j *Judge) voiceView(kind, name string, r *rule, number int) VoiceView {
	v := VoiceView{Kind: kind, Name: name, Rule: number + 1, Services: []string{}, Action: r.action}
	v.Services = append(v.Services, j.servicesOf(kind, name, number)...)
	if r.pool != paths.None {
		v.Pool = j.pools[r.pool].name
	}
	return v
}

// servicesOf returns the services of a rule as the document writes them.
func (j *Judge) servicesOf(kind, name string, number int) []string {
	var rules []estate.Rule
	if kind == "share" {
		for i := range j.estate.Shares {
			if j.estate.Shares[i].Name == name {
				rules = j.estate.Shares[i].Rules
			}
		}
	} else if i, ok := j.policyIndex[name]; ok {
		rules = j.estate.Policies[i].Rules
	}
	var out []string
	for _, ref := range rules[number].Services {
		out = append(out, ref.String())
	}
	return out
}

func (j *Judge) addPolicies(t *Trace, d *decision) {
	order := map[string]int{"wins": 0, "agrees": 1, "milder": 2, "overridden": 3, "silent": 4}
	for i := range d.intent.speakers {
		s := &d.intent.speakers[i]
		p := &j.policies[s.policy]
		v := j.voiceView("policy", p.name, &p.rules[s.rule], s.rule)
		v.From, v.To = j.sideName(s.sides.from), j.sideName(s.sides.to)
		v.Standing = standing(&d.intent, v.Action, ReasonPolicy)
		if s.by != paths.None {
			v.Standing, v.Over = "overridden", j.policies[d.intent.speakers[s.by].policy].name
		}
		t.Voices = append(t.Voices, v)
	}
	for _, c := range d.stance.policies {
		if p := &j.policies[c.policy]; (&query{service: d.flow.Service}).first(p.rules) == paths.None {
			t.Voices = append(t.Voices, VoiceView{Kind: "policy", Name: p.name, From: j.sideName(c.sides.from), To: j.sideName(c.sides.to), Services: []string{}, Standing: "silent"})
		}
	}
	slices.SortStableFunc(t.Voices, func(a, b VoiceView) int {
		return cmp.Or(order[a.Standing]-order[b.Standing], strings.Compare(a.Name, b.Name))
	})
}

func (j *Judge) addShares(t *Trace, d *decision) {
	for _, i := range d.stance.shares {
		s := &j.shares[i]
		side := func(p *sharedPart) string { return j.net.Segments[p.segment] + ": " + j.sidesName(p.side) }
		from, to := side(&s.guest), side(&s.owner)
		if s.owner.segment == d.src.Segment {
			from, to = to, from
		}
		k := (&query{service: d.flow.Service}).first(s.rules)
		v := VoiceView{Kind: "share", Name: s.name, Services: []string{}, Standing: "silent"}
		if k != paths.None {
			v = j.voiceView("share", s.name, &s.rules[k], k)
			v.Standing = standing(&d.intent, v.Action, ReasonShare)
		}
		v.From, v.To = from, to
		t.Voices = append(t.Voices, v)
	}
}

func (j *Judge) poolView(step *poolStep) PoolView {
	p := &j.pools[step.pool]
	v := PoolView{Pool: p.name, OnWay: step.onWay, Firewalls: []string{}, State: "passed"}
	switch {
	case step.blocked:
		v.State = "blocked"
	case step.hub == paths.None && p.open:
		v.State = "failed-open"
	case step.hub == paths.None:
		v.State = "no-firewall"
	}
	if step.hub == paths.None {
		return v
	}
	v.Hub = j.net.Hubs[step.hub]
	for i := range j.estate.Pools {
		if j.estate.Pools[i].Name != p.name {
			continue
		}
		for _, f := range j.estate.Pools[i].Firewalls {
			if f.Hub == v.Hub && f.State == "healthy" {
				v.Firewalls = append(v.Firewalls, f.Name)
			}
		}
	}
	if p.rulebook != paths.None {
		b := &j.books[p.rulebook]
		v.Rulebook = b.name
		v.Rule = step.bookRule + 1
		v.Action = "drop"
		if step.bookRule != paths.None {
			v.Action = b.rules[step.bookRule].verb
		}
	}
	return v
}
