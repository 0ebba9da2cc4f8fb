package draw

import (
	"fmt"
	"maps"
	"net/netip"
	"slices"

	"pgregory.net/rapid"

	"bivium/core/estate"
)

// edits are the edits that Edit draws, by name.
var edits = map[string]func(*drawer){
	"a group comes":            (*drawer).groupComes,
	"a group goes":             (*drawer).groupGoes,
	"a group selects":          (*drawer).groupSelects,
	"a group moves":            (*drawer).groupMoves,
	"a workload comes":         (*drawer).workloadComes,
	"a workload goes":          (*drawer).workloadGoes,
	"a workload is relabelled": (*drawer).workloadIsRelabelled,
	"a workload moves":         (*drawer).workloadMoves,
	"a share comes":            (*drawer).shareComes,
	"a share goes":             (*drawer).shareGoes,
	"a share's side":           (*drawer).shareSide,
	"a share's switch":         (*drawer).shareSwitch,
	"a share shows":            (*drawer).shareShows,
	"an exit":                  (*drawer).exit,
	"a publication":            (*drawer).publication,
	"a firewall":               (*drawer).firewall,
	"a pool":                   (*drawer).pool,
	"a rulebook":               (*drawer).rulebook,
	"a service":                (*drawer).service,
	"a default":                (*drawer).default1,
	"enforcement":              (*drawer).enforcement,
	"observed account":         (*drawer).observes,
	"a route":                  (*drawer).route,
	"labels of a network":      (*drawer).networkLabels,
	"a subnet comes":           (*drawer).subnetComes,
	"a subnet goes":            (*drawer).subnetGoes,
	"a peering":                (*drawer).peering,
	"a translation":            (*drawer).translation,
	"a day passes":             (*drawer).dayPasses,
}

// Edits returns the names of the edits that Edit may draw, sorted.
func Edits() []string { return slices.Sorted(maps.Keys(edits)) }

// Edit draws an estate that is another one with something changed, and says what. It
// shares every list that it leaves alone, and changes nothing of the other. It may
// have faults, or be just like the other where there is nothing to change.
func Edit(t *rapid.T, e *estate.Estate) (*estate.Estate, string) {
	what := rapid.SampledFrom(Edits()).Draw(t, "edit")
	return EditOf(t, e, what), what
}

// EditOf is Edit for one of the edits.
func EditOf(t *rapid.T, e *estate.Estate, what string) *estate.Estate {
	next := *e
	d := &drawer{t: t, e: &next, next: rapid.IntRange(100, 200).Draw(t, "fresh")}
	for _, h := range e.Hubs {
		d.hubs = append(d.hubs, h.Name)
	}
	for _, s := range e.Segments {
		d.segments = append(d.segments, s.Name)
	}
	for _, n := range e.Networks {
		d.networks = append(d.networks, n.Name)
		for _, s := range n.Subnets {
			d.prefixes = append(d.prefixes, s.Prefix)
		}
	}
	edits[what](d)
	estate.NameConnections(&next)
	return &next
}

// one returns a thing of a list that may be changed: the list becomes the estate's own.
func one[T any](d *drawer, list *[]T) *T {
	if len(*list) == 0 {
		return nil
	}
	*list = slices.Clone(*list)
	return &(*list)[d.number(0, len(*list)-1)]
}

// without takes a thing out of a list.
func without[T any](d *drawer, list *[]T) {
	if len(*list) > 0 {
		at := d.number(0, len(*list)-1)
		*list = slices.Concat((*list)[:at], (*list)[at+1:])
	}
}

// with puts a thing somewhere into a list.
func with[T any](d *drawer, list *[]T, thing T) {
	at := d.number(0, len(*list))
	*list = slices.Concat((*list)[:at], []T{thing}, (*list)[at:])
}

// free returns a name of which no thing of a list has the like.
func free[T any](d *drawer, list []T, letter string, name func(*T) string) string {
	for {
		text := fmt.Sprintf("%s%d", letter, d.number(0, 99))
		if !slices.ContainsFunc(list, func(x T) bool { return name(&x) == text }) {
			return text
		}
	}
}

func (d *drawer) groupComes() {
	g := estate.Group{Name: free(d, d.e.Groups, pick(d, "a", "g", "z"), func(g *estate.Group) string { return g.Name })}
	if d.chance(45) {
		g.Within = pick(d, d.e.Groups...).Name
	}
	for range d.number(1, 2) {
		d.select1(&g)
	}
	with(d, &d.e.Groups, g)
	if d.chance(50) { // and somebody speaks of it at once
		if p := one(d, &d.e.Policies); p != nil {
			p.From = estate.Side{Groups: []string{g.Name}}
		}
	}
}

func (d *drawer) groupGoes() {
	if len(d.e.Groups) > 2 {
		without(d, &d.e.Groups)
	}
}

func (d *drawer) groupSelects() {
	if g := one(d, &d.e.Groups); g != nil {
		*g = estate.Group{Name: g.Name, Within: g.Within}
		d.select1(g)
	}
}

func (d *drawer) groupMoves() {
	if g := one(d, &d.e.Groups); g != nil {
		g.Within = pick(d, "", pick(d, d.e.Groups...).Name)
	}
}

func (d *drawer) workloadComes() {
	before := d.e.Workloads
	name := free(d, before, pick(d, "a", "w"), func(w *estate.Workload) string { return w.Name })
	d.e.Workloads = slices.Clip(before)
	if d.workload(0); len(d.e.Workloads) > len(before) {
		w := d.e.Workloads[len(before)]
		w.Name, d.e.Workloads = name, before
		with(d, &d.e.Workloads, w)
	}
}

func (d *drawer) workloadGoes() { without(d, &d.e.Workloads) }

func (d *drawer) workloadIsRelabelled() {
	if w := one(d, &d.e.Workloads); w != nil {
		w.Labels = map[string]string{"env": pick(d, "prod", "dev"), "app": pick(d, "web", "db")}
	}
}

func (d *drawer) workloadMoves() {
	if w := one(d, &d.e.Workloads); w != nil {
		w.Addresses = []netip.Addr{pick(d, w.Addresses[0].Next(), w.Addresses[0].Next().Next())}
	}
}

func (d *drawer) shareComes() {
	if len(d.segments) > 1 {
		with(d, &d.e.Shares, d.share(free(d, d.e.Shares, pick(d, "a", "sh"), func(s *estate.Share) string { return s.Name })))
	}
}

func (d *drawer) shareGoes() { without(d, &d.e.Shares) }

func (d *drawer) shareSide() {
	if s := one(d, &d.e.Shares); s != nil {
		if d.chance(50) {
			s.Owner.Groups = d.side(30)
		} else {
			s.Guest.Groups = d.side(30)
		}
	}
}

func (d *drawer) shareSwitch() {
	if s := one(d, &d.e.Shares); s != nil {
		s.Enabled = !s.Enabled
	}
}

// dayPasses lets something run out on a day, and makes the estate one of that day or the next.
func (d *drawer) dayPasses() {
	const last, next = "2026-06-30", "2026-07-01"
	switch d.number(0, 3) {
	case 0:
		if p := one(d, &d.e.Policies); p != nil {
			p.Until = last
		}
	case 1:
		if p := one(d, &d.e.Policies); p != nil {
			one(d, &p.Rules).Until = last
		}
	case 2:
		if s := one(d, &d.e.Shares); s != nil {
			s.Until = last
		}
	case 3:
		if s := one(d, &d.e.Shares); s != nil {
			one(d, &s.Rules).Until = last
		}
	}
	*d.e = *estate.AsOf(d.e, pick(d, last, next))
}

func (d *drawer) shareShows() {
	if s := one(d, &d.e.Shares); s != nil {
		if s.Show = nil; d.chance(70) {
			d.show(s)
		}
	}
}

func (d *drawer) exit() {
	if x := one(d, &d.e.Exits); x != nil {
		switch d.number(0, 2) {
		case 0:
			x.State = map[string]string{"up": "down", "down": "up"}[x.State]
		case 1:
			x.Hub = pick(d, d.hubs...)
		default:
			x.Segments = unique(some(d, 3, d.segments...))
		}
	}
}

func (d *drawer) publication() {
	p := one(d, &d.e.Publications)
	switch k := d.number(0, 3); {
	case p == nil:
	case k == 0:
		p.Enabled = !p.Enabled
	case k == 1:
		p.Services = d.services()
	case k == 2:
		p.To.Groups = d.side(30)
	default:
		without(d, &d.e.Publications)
	}
}

func (d *drawer) firewall() {
	p := one(d, &d.e.Pools)
	if p == nil {
		return
	}
	if w := one(d, &p.Firewalls); w != nil {
		w.State = pick(d, "healthy", "failed")
		w.Hub = pick(d, w.Hub, pick(d, d.hubs...))
	}
}

func (d *drawer) pool() {
	if p := one(d, &d.e.Pools); p != nil {
		p.OnFailure = pick(d, "open", "closed")
		if p.Rulebook = ""; len(d.e.Rulebooks) > 0 && d.chance(60) {
			p.Rulebook = pick(d, d.e.Rulebooks...).Name
		}
	}
}

// rulebook changes one that some policy inspects by, if there is one: few flows see a
// firewall, and fewer each of its rules, so that mostly one rule for all of them is added.
func (d *drawer) rulebook() {
	b := one(d, &d.e.Rulebooks)
	if b == nil {
		return
	}
	if used := d.inspecting(); len(used) > 0 {
		name := pick(d, used...)
		b = &d.e.Rulebooks[slices.IndexFunc(d.e.Rulebooks, func(b estate.Rulebook) bool { return b.Name == name })]
	}
	switch r, what := one(d, &b.Rules), d.number(0, 5); {
	case what == 0 && r != nil:
		r.Action = pick(d, "pass", "drop")
	case what == 1 && r != nil:
		r.Services = d.services()
	case what == 2:
		with(d, &b.Rules, estate.BookRule{From: d.side(60), To: d.side(60), Services: d.services(), Action: "drop"})
	default:
		first := estate.BookRule{From: estate.Side{Any: true}, To: estate.Side{Any: true}, Services: []estate.ServiceRef{{Term: estate.Term{AnyProtocol: true}}}, Action: pick(d, "drop", "drop", "reject", "pass")}
		b.Rules = slices.Concat([]estate.BookRule{first}, b.Rules)
	}
}

// inspecting returns the rulebooks of the pools that policies inspect by, of those that
// have a firewall to do so.
func (d *drawer) inspecting() []string {
	var out []string
	for i := range d.e.Policies {
		for _, r := range d.e.Policies[i].Rules {
			for k := range d.e.Pools {
				if p := &d.e.Pools[k]; d.e.Policies[i].Enabled && p.Name == r.Pool && p.Rulebook != "" && slices.ContainsFunc(p.Firewalls, healthy) {
					out = append(out, p.Rulebook)
				}
			}
		}
	}
	return unique(out)
}

func healthy(f estate.Firewall) bool { return f.State == "healthy" }

func (d *drawer) service() {
	if s := one(d, &d.e.Services); s != nil {
		s.Terms = some(d, 3, terms()...)
	}
}

func (d *drawer) default1() {
	s := one(d, &d.e.Segments)
	s.Default = pick(d, estate.Allow, estate.Deny)
}

func (d *drawer) enforcement() {
	n := one(d, &d.e.Networks)
	n.Enforcement = d.fits(n)
}

func (d *drawer) observes() {
	a := one(d, &d.e.Accounts)
	a.Observed = !a.Observed
}

func (d *drawer) route() {
	n := one(d, &d.e.Networks)
	n.Routes = nil
	d.routes(n)
}

func (d *drawer) networkLabels() {
	one(d, &d.e.Networks).Labels = map[string]string{"tier": pick(d, "core", "edge")}
}

func (d *drawer) subnetComes() {
	n := one(d, &d.e.Networks)
	with(d, &n.Subnets, estate.Subnet{Name: free(d, n.Subnets, pick(d, "a", "u"), func(s *estate.Subnet) string { return s.Name }), Prefix: d.fresh(), Segment: pick(d, d.segments...)})
}

func (d *drawer) subnetGoes() {
	if n := one(d, &d.e.Networks); len(n.Subnets) > 1 {
		without(d, &n.Subnets)
	}
}

func (d *drawer) peering() {
	if p := one(d, &d.e.Peerings); p != nil {
		p.OffersHub = pick(d, "", p.Between[0], p.Between[1])
		if d.chance(40) {
			without(d, &d.e.Peerings)
		}
	}
}

func (d *drawer) translation() {
	if a := one(d, &d.e.Attachments); a != nil {
		a.Translate = nil
		d.translate(a)
	}
}
