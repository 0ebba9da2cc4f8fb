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
	"bivium/core/lists"
	"bivium/core/membership"
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

// Outcomes are all of them: those that let flows pass come first.
var Outcomes = []Outcome{Allowed, Inspected, Blocked, Denied, Unrouted}

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

// Judge decides flows.
type Judge struct {
	Estate   *estate.Estate
	Net      *paths.Net
	Members  *membership.Membership
	Defaults []estate.Action // by segment

	Sets         [][]estate.Term // every list of services that a rule may have, by number
	setOf        map[string]int
	Policies     []Policy
	policiesOf   [][]int // by segment: those that are enabled and serve it
	bySides      map[pair][]int
	pairs        []pair // the keys of bySides, sorted
	Guardrails   []Guardrail
	Shares       []Share
	SharesOf     [][]int // by segment
	Publications []Publication
	Pools        []Pool
	reach        *reachBook        // of these pools and paths
	shown        map[[2]int]*shown // by the segment that is seen, and the one that sees; nil for nothing
	Books        []Book

	PolicyIndex map[string]int   // name to index in the estate
	Numbers     *lists.Numbering // shared by all that come of this judge by edits
}

// New returns a judge for e. An estate with faults is judged too: what speaks
// of nothing is left out, so that a faulty estate can be shown.
func New(e *estate.Estate) *Judge {
	return Compile(e, lists.NewNumbering(), nil)
}

// Compile returns a judge for e, under the numbers of a family. What it can, it
// shares with another judge of it.
func Compile(e *estate.Estate, family *lists.Numbering, was *Judge) *Judge {
	j := &Judge{Estate: e, reach: &reachBook{}, Numbers: family}
	if was != nil && sameNet(was.Estate, e) {
		j.Net = was.Net
	} else {
		j.Net = paths.New(e)
	}
	if was != nil && lists.Same(was.Estate.Groups, e.Groups) && lists.Same(was.Estate.Workloads, e.Workloads) && samePlaces(was.Estate, e) {
		j.Members = was.Members
	} else {
		var before *membership.Membership
		if was != nil {
			before = was.Members
		}
		j.Members = membership.New(e, j.Net, family, before)
	}
	if was != nil && j.Members == was.Members && sameRuling(was.Estate, e) {
		shared := *was
		shared.Estate, shared.Net, shared.reach = e, j.Net, j.reach
		return &shared
	}
	j.Defaults = make([]estate.Action, len(j.Net.Segments))
	for _, s := range e.Segments {
		j.Defaults[j.Net.Segment(s.Name)] = s.Default
	}
	j.compileRules(e)
	j.compileShown(e)
	j.IndexEstate()
	return j
}

func (j *Judge) IndexEstate() {
	j.PolicyIndex = make(map[string]int, len(j.Estate.Policies))
	for i := range j.Estate.Policies {
		j.PolicyIndex[j.Estate.Policies[i].Name] = i
	}
}

// Judge returns the verdict on a flow.
func (j *Judge) Judge(f Flow) Verdict {
	d := j.Decide(f)
	if !d.Known {
		return UnknownVerdict()
	}
	return j.VerdictOf(&d.Settlement)
}

// Internal returns the internal endpoint of a segment that has the address, and
// whether there is one (M2.1).
func (j *Judge) Internal(segment int, a netip.Addr) (membership.Endpoint, bool) {
	home, ok := j.Net.Home(segment, a)
	if !ok {
		return membership.Endpoint{}, false
	}
	p := membership.Endpoint{Addr: a, Segment: segment, Home: home, Workload: paths.None, Exit: paths.None}
	if home.Subnet != paths.None {
		p.Workload = j.Members.Holder(home.Network, j.Net.Inside(home, a))
	}
	p.Groups = j.Members.GroupsOf(&p)
	return p, true
}

// External returns the external endpoint with that address, reached through an
// exit or, if that is paths.None, through none (M3.1).
func (j *Judge) External(a netip.Addr, exit int) membership.Endpoint {
	p := membership.Endpoint{Addr: a, Segment: paths.None, Workload: paths.None, Exit: exit}
	p.Groups = j.Members.GroupsOf(&p)
	return p
}

// Lookup says how a destination was found (M6.4).
type Lookup uint8

// The paths in which a destination is found.
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
func (j *Judge) Find(segment int, a netip.Addr) (membership.Endpoint, Lookup) {
	if p, ok := j.Internal(segment, a); ok {
		return p, LookupOwn
	}
	if p, ok := j.findShared(segment, a); ok {
		return p, LookupShared
	}
	nowhere := membership.Endpoint{Addr: a, Segment: paths.None, Workload: paths.None, Exit: paths.None}
	if paths.Private(a) {
		return nowhere, LookupUnknown
	}
	return nowhere, LookupInternet
}

// findShared returns the endpoint of another segment that a share makes
// reachable under the address, if there is exactly one. Two would be F3, and
// the forbidden part of a share has no effect.
func (j *Judge) findShared(segment int, a netip.Addr) (membership.Endpoint, bool) {
	var found membership.Endpoint
	ok := false
	var memory [8]membership.Endpoint // at most segments that have the address: few
	known := memory[:0]
	var looked [8]int // the segments in which it was looked for
	seen := looked[:0]
	for _, i := range j.SharesOf[segment] {
		s := &j.Shares[i]
		far := &s.Owner
		if far.Segment == segment {
			far = &s.Guest
		}
		if !slices.Contains(seen, far.Segment) {
			seen = append(seen, far.Segment)
			own, count := j.ownOf(far.Segment, segment, a)
			for _, x := range own[:count] {
				if p, has := j.Internal(far.Segment, x); has {
					known = append(known, p)
				}
			}
		}
		for k := range known {
			p := &known[k]
			if p.Segment != far.Segment || ok && p.Segment == found.Segment && p.Addr == found.Addr || !far.Holds(p) {
				continue
			}
			if ok {
				return membership.Endpoint{}, false
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
	out := make([][]int, len(j.Estate.Workloads))
	for i := range j.Estate.Workloads {
		w := &j.Estate.Workloads[i]
		network := j.Net.Network(w.Network)
		if network == paths.None {
			continue
		}
		for k, a := range w.Addresses {
			home := j.homeIn(network, a)
			p := j.PlaceOf(0, home, j.Net.Outside(home, a))
			key := base{string(appendNumbers(nil, p.base)), j.LabelSet(i)}
			groups, ok := known[key]
			if !ok {
				groups = j.In(&p, i)
				known[key] = groups
			}
			if k == 0 {
				out[i] = groups
			} else if !slices.Equal(groups, out[i]) {
				out[i] = lists.Sorted(append(slices.Clone(out[i]), groups...))
			}
		}
	}
	return out
}

// EndsOf returns the endpoints that a workload is, by its addresses as segments
// see them.
func (j *Judge) EndsOf(workload int) []membership.Endpoint {
	w := &j.Estate.Workloads[workload]
	network := j.Net.Network(w.Network)
	if network == paths.None {
		return nil
	}
	var out []membership.Endpoint
	for _, a := range w.Addresses {
		home := j.homeIn(network, a)
		if home.Subnet == paths.None || j.Net.Subnets[home.Subnet].Segment == paths.None {
			continue
		}
		if p, ok := j.Internal(j.Net.Subnets[home.Subnet].Segment, j.Net.Outside(home, a)); ok && p.Workload == workload {
			out = append(out, p)
		}
	}
	return out
}

// homeIn returns the home that an inside address has in a network, by its longest
// subnet.
func (j *Judge) homeIn(network int, a netip.Addr) paths.Home {
	home := paths.Home{Network: network, Subnet: paths.None}
	for _, s := range j.Net.Networks[network].Subnets {
		if x := &j.Net.Subnets[s]; x.Inside.Contains(a) && (home.Subnet == paths.None || x.Inside.Bits() > home.Prefix.Bits()) {
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

// WithNet returns the judge of an estate that differs from j's in what is up or
// down alone: links, attachments, exits and firewalls. What it does not differ
// in is shared.
func (j *Judge) WithNet(net *paths.Net, down Down) *Judge {
	next := *j
	next.Net, next.reach = net, &reachBook{}
	if down.Firewall != "" || down.Hub != "" {
		next.Pools = slices.Clone(j.Pools)
		for i := range next.Pools {
			next.Pools[i].hubs = j.healthyHubs(i, down)
		}
	}
	return &next
}

// SamePools reports whether every pool has healthy firewalls at the same hubs in
// both judges.
func (j *Judge) SamePools(other *Judge) bool {
	return slices.EqualFunc(j.Pools, other.Pools, func(a, b Pool) bool { return slices.Equal(a.hubs, b.hubs) })
}
