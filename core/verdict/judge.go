// Package verdict decides what happens to one flow, and why: who is in which
// group (M3), which rule speaks (M4–M6), and what becomes of the intended
// verdict on the way (M8). A Judge is compiled once from an estate, never
// changes, and is safe for concurrent use.
package verdict

import (
	"net/netip"

	"bivium/core/estate"
	"bivium/core/paths"
)

// Flow is one flow, as its initiator sends the first packet.
type Flow struct {
	Segment     string // of the source; Internet for an external source
	Source      netip.Addr
	Destination netip.Addr
	Protocol    uint8
	SourcePort  uint16
	Port        uint16 // the type, for ICMP
	Publication string // the one that a flow from the internet names, or ""
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

	policies     []policy
	bySides      map[pair][]int
	rails        []rail
	shares       []share
	sharesOf     [][]int // by segment
	publications []publication
	pools        []pool
	books        []book
}

// New returns a judge for e. An estate with faults is judged too: what speaks
// of nothing is left out, so that a faulty estate can be shown.
func New(e *estate.Estate) *Judge {
	j := &Judge{estate: e, net: paths.New(e)}
	j.members = newMembership(e, j.net)
	j.defaults = make([]estate.Action, len(j.net.Segments))
	for _, s := range e.Segments {
		j.defaults[j.net.Segment(s.Name)] = s.Default
	}
	j.compileRules(e)
	return j
}

// Estate returns the estate that the judge was made from. It must not be changed.
func (j *Judge) Estate() *estate.Estate { return j.estate }

// Net returns the network side of the estate.
func (j *Judge) Net() *paths.Net { return j.net }

// Judge returns the verdict on a flow.
func (j *Judge) Judge(f Flow) Verdict {
	d := j.decide(f)
	return j.verdictOf(&d)
}

// internal returns the endpoint with that home.
func (j *Judge) internal(segment int, a netip.Addr, home paths.Home) Endpoint {
	p := Endpoint{Addr: a, Segment: segment, Home: home, Workload: paths.None, Exit: paths.None}
	if home.Subnet != paths.None {
		p.Workload = j.members.holder(home.Network, a)
	}
	p.groups = j.members.of(&p)
	return p
}

func (j *Judge) external(a netip.Addr, exit int) Endpoint {
	p := Endpoint{Addr: a, Segment: paths.None, Workload: paths.None, Exit: exit}
	p.groups = j.members.of(&p)
	return p
}

// lookup says how a destination was found (M6.4).
type lookup uint8

const (
	lookupUnknown lookup = iota
	lookupOwn
	lookupShared
	lookupInternet
	lookupPublished
)

// String returns the word for it.
func (l lookup) String() string {
	return [...]string{"unknown", "own", "shared", "internet", "published"}[l]
}

// find looks an address up in a segment (M6.4): first its own homes, then what
// shares make reachable, then the internet.
func (j *Judge) find(segment int, a netip.Addr) (Endpoint, lookup) {
	if home, ok := j.net.Home(segment, a); ok {
		return j.internal(segment, a, home), lookupOwn
	}
	if p, ok := j.findShared(segment, a); ok {
		return p, lookupShared
	}
	if paths.Private(a) {
		return Endpoint{Addr: a, Segment: paths.None, Workload: paths.None, Exit: paths.None}, lookupUnknown
	}
	return Endpoint{Addr: a, Segment: paths.None, Workload: paths.None, Exit: paths.None}, lookupInternet
}

// findShared returns the endpoint of another segment that a share makes
// reachable under the address, if there is exactly one. Two would be F3, and
// the forbidden part of a share has no effect.
func (j *Judge) findShared(segment int, a netip.Addr) (Endpoint, bool) {
	var found Endpoint
	ok := false
	for _, i := range j.sharesOf[segment] {
		s := &j.shares[i]
		far := &s.owner
		if far.segment == segment {
			far = &s.guest
		}
		if ok && far.segment == found.Segment {
			continue
		}
		home, has := j.net.Home(far.segment, a)
		if !has {
			continue
		}
		p := j.internal(far.segment, a, home)
		if !far.holds(&p) {
			continue
		}
		if ok {
			return Endpoint{}, false
		}
		found, ok = p, true
	}
	return found, ok
}
