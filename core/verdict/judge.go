// Package verdict decides what happens to one flow, and why: who is in which
// group (M3), which rule speaks (M4–M6), and what becomes of the intended
// verdict on the way (M8). A Judge is compiled once from an estate, never
// changes, and is safe for concurrent use.
package verdict

import (
	"encoding/binary"
	"net/netip"
	"slices"

	"bivium/core/estate"
	"bivium/core/paths"
)

// Flow is one flow, as its initiator sends the first packet.
type Flow struct {
	Segment     string // of the source; Internet for an external source
	Source      netip.Addr
	Destination netip.Addr
	Service
	Publication string // the one that a flow from the internet names, or ""
}

// Service is the protocol of a flow, with its ports.
type Service struct {
	Protocol   uint8
	SourcePort uint16
	Port       uint16 // the type, for ICMP
}

// Internet is the segment of external sources in a Flow.
const Internet = "internet"

// Outcome is what happens to a flow (M8.1).
type Outcome string

// The outcomes.
const (
	Allowed   Outcome = "allowed"
	Inspected Outcome = "inspected"
	Blocked   Outcome = "blocked"
	Denied    Outcome = "denied"
	Unrouted  Outcome = "unrouted"
)

// Reason is what settled an outcome.
type Reason string

// The reasons.
const (
	ReasonPolicy        Reason = "policy"
	ReasonShare         Reason = "share"
	ReasonGuardrail     Reason = "guardrail"
	ReasonDefault       Reason = "default"
	ReasonNoShare       Reason = "no-share"
	ReasonRulebook      Reason = "rulebook"
	ReasonUnenforced    Reason = "unenforced"
	ReasonUninspectable Reason = "uninspectable"
	ReasonNoFirewall    Reason = "no-firewall"
	ReasonFailedOpen    Reason = "failed-open"
	ReasonNoPath        Reason = "no-path"
	ReasonNoWayBack     Reason = "no-way-back"
	ReasonAsymmetric    Reason = "asymmetric"
	ReasonUnknown       Reason = "unknown"
)

// Verdict is the verdict on one flow, as `bivium verdicts` writes it.
type Verdict struct {
	Outcome   Outcome       `json:"outcome"`
	Intended  estate.Action `json:"intended"` // "" where M8.2 gives none
	Pools     []string      `json:"pools"`
	Reason    Reason        `json:"reason"`
	By        []string      `json:"by"`
	Contested bool          `json:"contested"`
}

// Endpoint is one end of a flow, found.
type Endpoint struct {
	Addr     netip.Addr
	Segment  int // paths.None for an external endpoint
	Home     paths.Home
	Workload int // an index of the estate's workloads, or paths.None
	Exit     int // that an external endpoint is reached through, or paths.None
	groups   []int
}

// Internal reports whether the endpoint has a home.
func (p *Endpoint) Internal() bool { return p.Segment != paths.None }

// Judge decides flows.
type Judge struct {
	estate   *estate.Estate
	net      *paths.Net
	members  *membership
	defaults []estate.Action // by segment

	sets         [][]estate.Term // every list of services that a rule may have, by number
	setOf        map[string]int
	policies     []policy
	policiesOf   [][]int // by segment: those that are enabled and serve it
	bySides      map[pair][]int
	pairs        []pair // the keys of bySides, sorted
	rails        []rail
	shares       []share
	sharesOf     [][]int // by segment
	publications []publication
	pools        []pool
	reach        *reachBook        // of these pools and paths
	shown        map[[2]int]*shown // by the segment that is seen, and the one that sees; nil for nothing
	books        []book

	policyIndex map[string]int // name to index in the estate
	numbers     *numbers       // shared by all that come of this judge by edits
}

// New returns a judge for e. An estate with faults is judged too: what speaks
// of nothing is left out, so that a faulty estate can be shown.
func New(e *estate.Estate) *Judge {
	return compile(e, newNumbers(), nil)
}

// compile returns a judge for e, under the numbers of a family. What it can, it
// shares with another judge of it.
func compile(e *estate.Estate, family *numbers, was *Judge) *Judge {
	j := &Judge{estate: e, reach: &reachBook{}, numbers: family}
	if was != nil && sameNet(was.estate, e) {
		j.net = was.net
	} else {
		j.net = paths.New(e)
	}
	if was != nil && same(was.estate.Groups, e.Groups) && same(was.estate.Workloads, e.Workloads) && samePlaces(was.estate, e) {
		j.members = was.members
	} else {
		var before *membership
		if was != nil {
			before = was.members
		}
		j.members = newMembership(e, j.net, family, before)
	}
	if was != nil && j.members == was.members && sameRuling(was.estate, e) {
		shared := *was
		shared.estate, shared.net, shared.reach = e, j.net, j.reach
		return &shared
	}
	j.defaults = make([]estate.Action, len(j.net.Segments))
	for _, s := range e.Segments {
		j.defaults[j.net.Segment(s.Name)] = s.Default
	}
	j.compileRules(e)
	j.compileShown(e)
	j.indexEstate()
	return j
}

func (j *Judge) indexEstate() {
	j.policyIndex = make(map[string]int, len(j.estate.Policies))
	for i := range j.estate.Policies {
		j.policyIndex[j.estate.Policies[i].Name] = i
	}
}

// Estate returns the estate that the judge was made from. It must not be changed.
func (j *Judge) Estate() *estate.Estate { return j.estate }

// Net returns the network side of the estate.
func (j *Judge) Net() *paths.Net { return j.net }

// Judge returns the verdict on a flow.
func (j *Judge) Judge(f Flow) Verdict {
	d := j.decide(f)
	if !d.known {
		return unknownVerdict()
	}
	return j.verdictOf(&d.settled)
}

// Internal returns the internal endpoint of a segment that has the address, and
// whether there is one (M2.1).
func (j *Judge) Internal(segment int, a netip.Addr) (Endpoint, bool) {
	home, ok := j.net.Home(segment, a)
	if !ok {
		return Endpoint{}, false
	}
	p := Endpoint{Addr: a, Segment: segment, Home: home, Workload: paths.None, Exit: paths.None}
	if home.Subnet != paths.None {
		p.Workload = j.members.holder(home.Network, j.net.Inside(home, a))
	}
	p.groups = j.members.of(&p)
	return p, true
}

// External returns the external endpoint with that address, reached through an
// exit or, if that is paths.None, through none (M3.1).
func (j *Judge) External(a netip.Addr, exit int) Endpoint {
	p := Endpoint{Addr: a, Segment: paths.None, Workload: paths.None, Exit: exit}
	p.groups = j.members.of(&p)
	return p
}

// Lookup says how a destination was found (M6.4).
type Lookup uint8

// The ways in which a destination is found.
const (
	LookupUnknown Lookup = iota // nothing has the address
	LookupOwn                   // a home in the segment itself
	LookupShared                // another segment's, by a share
	LookupInternet
	LookupPublished // from the internet
)

// String returns the word for it.
func (l Lookup) String() string {
	return [...]string{"unknown", "own", "shared", "internet", "published"}[l]
}

// Find looks an address up in a segment (M6.4): first its own homes, then what
// shares make reachable, then the internet. An external endpoint comes without
// its groups: they depend on the exit, which the path tells.
func (j *Judge) Find(segment int, a netip.Addr) (Endpoint, Lookup) {
	if p, ok := j.Internal(segment, a); ok {
		return p, LookupOwn
	}
	if p, ok := j.findShared(segment, a); ok {
		return p, LookupShared
	}
	nowhere := Endpoint{Addr: a, Segment: paths.None, Workload: paths.None, Exit: paths.None}
	if paths.Private(a) {
		return nowhere, LookupUnknown
	}
	return nowhere, LookupInternet
}

// findShared returns the endpoint of another segment that a share makes
// reachable under the address, if there is exactly one. Two would be F3, and
// the forbidden part of a share has no effect.
func (j *Judge) findShared(segment int, a netip.Addr) (Endpoint, bool) {
	var found Endpoint
	ok := false
	var memory [8]Endpoint // at most segments that have the address: few
	known := memory[:0]
	var looked [8]int // the segments in which it was looked for
	seen := looked[:0]
	for _, i := range j.sharesOf[segment] {
		s := &j.shares[i]
		far := &s.owner
		if far.segment == segment {
			far = &s.guest
		}
		if !slices.Contains(seen, far.segment) {
			seen = append(seen, far.segment)
			own, count := j.ownOf(far.segment, segment, a)
			for _, x := range own[:count] {
				if p, has := j.Internal(far.segment, x); has {
					known = append(known, p)
				}
			}
		}
		for k := range known {
			p := &known[k]
			if p.Segment != far.segment || ok && p.Segment == found.Segment && p.Addr == found.Addr || !far.holds(p) {
				continue
			}
			if ok {
				return Endpoint{}, false
			}
			found, ok = *p, true
		}
	}
	return found, ok
}

// GroupsOf returns the groups that each workload is in by one of its addresses,
// sorted, whether a segment holds it or not. Workloads share lists that are
// equal. Cost: a look-up of its prefixes for each address; groups are found once
// for each set of labels and each place that groups tell from others.
func (j *Judge) GroupsOf() [][]int {
	type base struct {
		groups string
		kin    int
	}
	known := map[base][]int{}
	out := make([][]int, len(j.estate.Workloads))
	for i := range j.estate.Workloads {
		w := &j.estate.Workloads[i]
		network := j.net.Network(w.Network)
		if network == paths.None {
			continue
		}
		for k, a := range w.Addresses {
			home := j.homeIn(network, a)
			p := j.PlaceOf(0, home, j.net.Outside(home, a))
			key := base{string(appendNumbers(nil, p.base)), j.Kin(i)}
			groups, ok := known[key]
			if !ok {
				groups = j.In(&p, i)
				known[key] = groups
			}
			if k == 0 {
				out[i] = groups
			} else if !slices.Equal(groups, out[i]) {
				out[i] = sorted(append(slices.Clone(out[i]), groups...))
			}
		}
	}
	return out
}

// EndsOf returns the endpoints that a workload is, by its addresses as segments
// see them.
func (j *Judge) EndsOf(workload int) []Endpoint {
	w := &j.estate.Workloads[workload]
	network := j.net.Network(w.Network)
	if network == paths.None {
		return nil
	}
	var out []Endpoint
	for _, a := range w.Addresses {
		home := j.homeIn(network, a)
		if home.Subnet == paths.None || j.net.Subnets[home.Subnet].Segment == paths.None {
			continue
		}
		if p, ok := j.Internal(j.net.Subnets[home.Subnet].Segment, j.net.Outside(home, a)); ok && p.Workload == workload {
			out = append(out, p)
		}
	}
	return out
}

// homeIn returns the home that an inside address has in a network, by its longest
// subnet.
func (j *Judge) homeIn(network int, a netip.Addr) paths.Home {
	home := paths.Home{Network: network, Subnet: paths.None}
	for _, s := range j.net.Networks[network].Subnets {
		if x := &j.net.Subnets[s]; x.Inside.Contains(a) && (home.Subnet == paths.None || x.Inside.Bits() > home.Prefix.Bits()) {
			home.Subnet, home.Prefix = s, x.Prefix
		}
	}
	return home
}

func appendNumbers(key []byte, numbers []int) []byte {
	for _, n := range numbers {
		key = binary.AppendUvarint(key, uint64(n))
	}
	return key
}
