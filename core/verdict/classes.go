package verdict

import (
	"encoding/binary"
	"net/netip"
	"slices"

	"bivium/core/estate"
	"bivium/core/paths"
)

// Groups returns the numbers of the groups that the endpoint is in, sorted.
// They must not be changed.
func (p *Endpoint) Groups() []int { return p.groups }

// GroupKey returns a string that is equal for endpoints in the same groups.
func (p *Endpoint) GroupKey() string {
	b := make([]byte, 0, 2*len(p.groups))
	for _, g := range p.groups {
		b = binary.AppendUvarint(b, uint64(g))
	}
	return string(b)
}

// PrefixKey returns a string that is equal for addresses that the prefixes of
// the same groups hold, whether those groups' ancestors hold them or not. An
// external endpoint can be in a group through one exit and not through another,
// because its parent names exits; so this, and not GroupKey, tells external
// addresses apart.
func (j *Judge) PrefixKey(a netip.Addr) string {
	var raw []int
	for _, groups := range j.members.byPrefix.Supernets(netip.PrefixFrom(a, a.BitLen())) {
		raw = append(raw, groups...)
	}
	b := make([]byte, 0, 2*len(raw))
	for _, g := range sorted(raw) {
		b = binary.AppendUvarint(b, uint64(g))
	}
	return string(b)
}

// Spoken reports, by number, which groups some side names: of a rule, a share,
// a rulebook or a publication. Two endpoints of one segment that are in the same
// spoken groups have the same stances.
func (j *Judge) Spoken() []bool {
	spoken := make([]bool, len(j.members.names))
	mark := func(sides ...side) {
		for _, s := range sides {
			for _, g := range s {
				if g != anyone {
					spoken[g] = true
				}
			}
		}
	}
	for i := range j.policies {
		mark(j.policies[i].from, j.policies[i].to)
	}
	for i := range j.rails {
		mark(j.rails[i].from, j.rails[i].to)
	}
	for i := range j.shares {
		mark(j.shares[i].owner.side, j.shares[i].guest.side)
	}
	for i := range j.publications {
		mark(j.publications[i].to)
	}
	for i := range j.books {
		for k := range j.books[i].rules {
			mark(j.books[i].rules[k].from, j.books[i].rules[k].to)
		}
	}
	return spoken
}

// Group returns the number of a group, or paths.None.
func (j *Judge) Group(name string) int {
	if g, ok := j.members.ids[name]; ok {
		return g
	}
	return paths.None
}

// GroupNames returns the names of all groups, by number.
func (j *Judge) GroupNames() []string { return slices.Clone(j.members.names) }

// WorkloadOf returns the name of the workload that an endpoint is, or "".
func (j *Judge) WorkloadOf(p *Endpoint) string {
	if p.Workload == paths.None {
		return ""
	}
	return j.estate.Workloads[p.Workload].Name
}

// Publications returns the names of the publications that can let flows in:
// those that are enabled, and whose exit is up and serves their segment. They
// are known by their place in the list.
func (j *Judge) Publications() []string {
	names := make([]string, len(j.publications))
	for i := range j.publications {
		names[i] = j.publications[i].name
	}
	return names
}

// PublicationExit returns the exit of a publication.
func (j *Judge) PublicationExit(i int) int { return j.publications[i].exit }

// PublicationTerms returns what services a publication lets in.
func (j *Judge) PublicationTerms(i int) []estate.Term { return j.publications[i].services.terms }

// Publishes reports whether a publication leads to the endpoint (M7.6).
func (j *Judge) Publishes(i int, p *Endpoint) bool {
	return p.Segment == j.publications[i].segment && j.publications[i].to.contains(p.groups, true)
}

// Unpublished returns the stance and the way of flows from the internet to an
// endpoint that nothing publishes.
func (j *Judge) Unpublished(p *Endpoint) (Stance, Way) {
	return Stance{silence: estate.Deny, unreleased: true}, unpublished(p.Segment)
}

// Settings returns the set of services of every rule that can speak, and of
// every publication: what tells services apart.
func (j *Judge) Settings() [][]estate.Term {
	var out [][]estate.Term
	add := func(rules []rule) {
		for i := range rules {
			out = append(out, rules[i].terms)
		}
	}
	for i := range j.policies {
		add(j.policies[i].rules)
	}
	for i := range j.rails {
		add(j.rails[i].rules)
	}
	for i := range j.shares {
		add(j.shares[i].rules)
	}
	for i := range j.publications {
		out = append(out, j.publications[i].services.terms)
	}
	for i := range j.books {
		for k := range j.books[i].rules {
			out = append(out, j.books[i].rules[k].terms)
		}
	}
	return out
}

// EachCut calls f for each prefix at whose bounds the groups or the ways of
// addresses may change, and the private ones (M2.3). Between two bounds only
// the workload can differ.
func (j *Judge) EachCut(f func(netip.Prefix)) {
	for s := range j.net.Segments {
		j.net.EachHomePrefix(s, f)
	}
	for i := range j.net.Networks {
		for _, r := range j.net.Networks[i].Routes {
			f(r.To)
		}
	}
	for p := range j.members.byPrefix.All() {
		f(p)
	}
	for _, p := range paths.PrivatePrefixes() {
		f(p)
	}
}

// EachWorkloadAddress calls f for each address of each workload, with its
// network.
func (j *Judge) EachWorkloadAddress(f func(network int, a netip.Addr)) {
	for i := range j.estate.Workloads {
		w := &j.estate.Workloads[i]
		if n := j.net.Network(w.Network); n != paths.None {
			for _, a := range w.Addresses {
				f(n, a)
			}
		}
	}
}

// Reach is one way in which a share makes an endpoint reachable (M6.4).
type Reach struct {
	Share   string
	Segment int // in which the endpoint becomes reachable
}

// EachReach calls f for each share that makes an internal endpoint reachable in
// another segment, whether M6.4 forbids it or not.
func (j *Judge) EachReach(p *Endpoint, f func(Reach)) {
	for _, i := range j.sharesOf[p.Segment] {
		s := &j.shares[i]
		if s.owner.holds(p) {
			f(Reach{s.name, s.guest.segment})
		}
		if s.guest.holds(p) {
			f(Reach{s.name, s.owner.segment})
		}
	}
}

// Rulepoint points to one rule, from 0, of a policy, guardrail, share or
// rulebook.
type Rulepoint struct {
	Kind estate.Kind
	Name string
	Rule int
}

// Probe is what became of a service, with everyone who had a say.
type Probe struct {
	Verdict Verdict
	Spoke   []Rulepoint // every rule that was the first of its list to contain the service
	Rails   []string    // the guardrails that took part
	Contest []string    // the policies that contest, if they do
	Pool    string      // the last pool that the flow came to
}

// Probe returns the verdict on a service, as Settle does, and who had a say.
func (j *Judge) Probe(s *Stance, w *Way, service Service) Probe {
	d := j.settle(s, w, service)
	p := Probe{Verdict: j.verdictOf(&d)}
	for _, v := range d.intent.speakers {
		p.Spoke = append(p.Spoke, Rulepoint{estate.KindPolicy, j.policies[v.policy].name, v.rule})
		if d.intent.contested && v.by == paths.None {
			p.Contest = append(p.Contest, j.policies[v.policy].name)
		}
	}
	for _, v := range d.intent.rails {
		p.Spoke = append(p.Spoke, Rulepoint{estate.KindPolicy, j.rails[v.which].name, v.rule})
		p.Rails = append(p.Rails, j.rails[v.which].name)
	}
	for _, v := range d.intent.shares {
		p.Spoke = append(p.Spoke, Rulepoint{estate.KindShare, j.shares[v.which].name, v.rule})
	}
	for _, step := range d.steps {
		p.Pool = j.pools[step.pool].name
		if step.bookRule != paths.None {
			p.Spoke = append(p.Spoke, Rulepoint{estate.KindRulebook, j.books[j.pools[step.pool].rulebook].name, step.bookRule})
		}
	}
	slices.Sort(p.Contest)
	p.Contest = slices.Compact(p.Contest)
	return p
}

// HoldsSide reports whether a side of a rule holds the endpoint; "any" holds
// every one.
func (j *Judge) HoldsSide(s estate.Side, p *Endpoint) bool {
	if s.Any {
		return true
	}
	for _, name := range s.Groups {
		if g, ok := j.members.ids[name]; ok {
			if _, in := slices.BinarySearch(p.groups, g); in {
				return true
			}
		}
	}
	return false
}
