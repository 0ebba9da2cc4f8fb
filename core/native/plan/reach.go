package plan

import (
	"net/netip"
	"slices"

	"github.com/gaissmai/bart"

	"bivium/core/estate"
	"bivium/core/native/config"
)

// touch is the flows that a write may change: between any of one side and any of the other, in
// both directions. A nil touch is none.
type touch []pair

// pair is two sides; nil is every address.
type pair [2][]netip.Prefix

// meets reports whether two writes share a possible flow. Cost: the product of their pairs.
func (t touch) meets(o touch) bool {
	for _, a := range t {
		for _, b := range o {
			if overlap(a[0], b[0]) && overlap(a[1], b[1]) || overlap(a[0], b[1]) && overlap(a[1], b[0]) {
				return true
			}
		}
	}
	return false
}

// overlap reports whether two lists of prefixes, each sorted and disjoint, share an address; nil is
// everything. Cost: the length of both.
func overlap(a, b []netip.Prefix) bool {
	if a == nil || b == nil {
		return true
	}
	for i, k := 0, 0; i < len(a) && k < len(b); {
		switch {
		case a[i].Overlaps(b[k]):
			return true
		case a[i].Addr().Less(b[k].Addr()):
			i++
		default:
			k++
		}
	}
	return false
}

// distinct leaves out pairs that are there twice.
func (t touch) distinct(d *digests) touch {
	known := map[string]bool{}
	var out touch
	for _, x := range t {
		key := string(text(text(nil, d.side(x[0])), d.side(x[1])))
		if !known[key] {
			known[key] = true
			out = append(out, x)
		}
	}
	return out
}

// reach knows where things live, to say which flows a document is about.
type reach struct {
	networks  map[string][]netip.Prefix // by network: its subnets, and what is routed to it
	workloads map[string][]netip.Prefix
	known     [2]map[string]config.EntryList // by state, account and list
	defaults  [2]map[string][]string         // by state and account: what a workload bears that nobody bound anything to
	bearers   map[string][]netip.Prefix      // by account and list, in either state
	digests   *digests
	plain     map[setsKey][]netip.Prefix // what sides of rules stand for
	also      bart.Table[[]netip.Prefix] // other addresses of the same endpoints: translated, or seen by other segments
}

// newReach returns the reach of some documents, in two states.
func newReach(d *digests, keys []Key, states ...State) *reach {
	r := &reach{digests: d, plain: map[setsKey][]netip.Prefix{}, networks: map[string][]netip.Prefix{}, workloads: map[string][]netip.Prefix{}, bearers: map[string][]netip.Prefix{}}
	for _, s := range states {
		for k := range s.Estate.Networks {
			n := &s.Estate.Networks[k]
			for _, x := range n.Subnets {
				r.networks[n.Name] = append(r.networks[n.Name], x.Prefix)
			}
		}
		for _, h := range s.Config.Hubs {
			for _, a := range h.Attachments {
				for _, x := range a.Routes {
					r.networks[a.Network] = append(r.networks[a.Network], x.Prefix)
				}
				for _, t := range a.Translate {
					r.same(t.Inside, t.Outside)
				}
			}
		}
		for _, x := range s.Config.Segments {
			for _, m := range x.Imports {
				r.same(m.Seen, m.Own)
			}
		}
	}
	if slices.ContainsFunc(keys, func(k Key) bool { return k.Kind == KindEntries || k.Kind == KindBinding }) {
		r.readAccounts(states)
	}
	return r
}

// readAccounts notes where the lists are that workloads bear.
func (r *reach) readAccounts(states []State) {
	for _, s := range states {
		for k := range s.Estate.Workloads {
			w := &s.Estate.Workloads[k]
			for _, a := range w.Addresses {
				r.workloads[w.Name] = append(r.workloads[w.Name], netip.PrefixFrom(a, a.BitLen()))
			}
		}
	}
	for i, s := range states {
		r.known[i], r.defaults[i] = map[string]config.EntryList{}, map[string][]string{}
		for _, a := range s.Config.Accounts {
			r.defaults[i][a.Name] = a.Default
			for _, l := range a.Default { // a machine at any address of the account may bear it
				for k := range s.Estate.Networks {
					if n := &s.Estate.Networks[k]; n.Account == a.Name {
						r.bearers[a.Name+"/"+l] = append(r.bearers[a.Name+"/"+l], r.networks[n.Name]...)
					}
				}
			}
			for _, l := range a.Lists {
				r.known[i][a.Name+"/"+l.Name] = l
			}
			for _, b := range a.Bindings {
				for _, l := range b.Lists {
					r.bearers[a.Name+"/"+l] = append(r.bearers[a.Name+"/"+l], r.workloads[b.Workload]...)
				}
			}
		}
	}
}

// same notes that two prefixes are addresses of the same endpoints.
func (r *reach) same(a, b netip.Prefix) {
	if a == b {
		return
	}
	for _, p := range [][2]netip.Prefix{{a, b}, {b, a}} {
		others, _ := r.also.Get(p[0])
		r.also.Insert(p[0], append(slices.Clone(others), p[1]))
	}
}

// wide returns prefixes with the other addresses that their endpoints have.
func (r *reach) wide(p []netip.Prefix) []netip.Prefix {
	if p == nil || r.also.Size() == 0 {
		return p
	}
	out := slices.Clone(p)
	for _, x := range p {
		for _, others := range r.also.Subnets(x) {
			out = append(out, others...)
		}
		for _, others := range r.also.Supernets(x) {
			out = append(out, others...)
		}
	}
	return out
}

// side returns the addresses of a side of a rule, with the other addresses that they have.
func (r *reach) side(sets []*config.Set) []netip.Prefix {
	if sets == nil {
		return nil
	}
	k := keyOfSets(sets)
	p, known := r.plain[k]
	if !known {
		p = plain(r.wide(prefixesOf(sets)))
		r.plain[k] = p
	}
	return p
}

func (r *reach) pair(a, b []netip.Prefix) pair { return pair{plain(r.wide(a)), plain(r.wide(b))} }

// plain returns prefixes sorted and disjoint.
func plain(p []netip.Prefix) []netip.Prefix {
	if p == nil {
		return nil
	}
	return config.Disjoint(p)
}

// of returns the flows that a document may change between two bodies.
func (r *reach) of(key Key, was, is *Body) touch {
	switch key.Kind {
	case KindList:
		return r.ofRules(key, rulesIn(was), rulesIn(is))
	case KindSegment:
		return r.ofSegment(was, is)
	case KindEntries:
		return r.ofEntries(r.bearers[key.Account+"/"+key.On], entriesIn(was), entriesIn(is))
	case KindBinding:
		return r.ofBinding(key, r.bearing(key, 0, was), r.bearing(key, 1, is))
	case KindRoutes:
		return r.ofRoutes(key, was, is)
	case KindPlacement:
		return r.ofPlacements(was, is)
	case KindHub:
		return r.ofHub(was, is)
	}
	return touch{{nil, nil}} // firewalls, whatever is steered to them
}

// onlyIn returns what each of two lists has that the other has not, whatever the order.
func onlyIn[T any](d *digests, a, b []T, key func(*T) string, same func(a, b *T) bool) []T {
	x, y, _ := middle(a, b, same)
	count, had, has := map[string]int{}, keysOf(d, x, key), keysOf(d, y, key)
	for _, k := range had {
		count[k]++
	}
	for _, k := range has {
		count[k]--
	}
	var out []T
	for i, k := range had {
		if count[k] != 0 {
			out = append(out, x[i])
		}
	}
	for i, k := range has {
		if count[k] != 0 {
			out = append(out, y[i])
		}
	}
	if len(out) == 0 { // another order
		return append(slices.Clone(a), b...)
	}
	return out
}

func (r *reach) ofRules(key Key, was, is []config.Rule) touch {
	var out touch
	network := plain(r.wide(r.networks[key.Name]))
	for _, x := range onlyIn(r.digests, was, is, r.digests.rule, (*config.Rule).Does) {
		own := network
		if x.Own != nil {
			own = r.side(x.Own)
		}
		out = append(out, pair{own, r.side(x.Peer)})
	}
	return out
}

func (r *reach) ofSegment(was, is *Body) touch {
	had, has := &config.Segment{}, &config.Segment{}
	if was != nil {
		had = was.Segment
	}
	if is != nil {
		has = is.Segment
	}
	var out touch
	for _, x := range onlyIn(r.digests, had.Rules, has.Rules, r.digests.hubRule, (*config.HubRule).Does) {
		out = append(out, pair{r.ends(x.From), r.ends(x.To)})
	}
	if !slices.Equal(had.Imports, has.Imports) {
		for _, x := range append(slices.Clone(had.Imports), has.Imports...) {
			if !slices.Contains(had.Imports, x) || !slices.Contains(has.Imports, x) {
				out = append(out, r.pair([]netip.Prefix{x.Seen, x.Own}, nil))
			}
		}
	}
	return out
}

func (r *reach) ends(ends []config.End) []netip.Prefix {
	if len(ends) == 1 {
		return r.side(setsOf(ends[0].Set))
	}
	out := []netip.Prefix{}
	for _, e := range ends {
		if e.Set == nil {
			return nil
		}
		out = append(out, e.Set.Prefixes...)
	}
	return plain(r.wide(out))
}

func entriesIn(b *Body) []config.Entry {
	if b == nil {
		return nil
	}
	return b.Entries.Entries
}

func (r *reach) ofEntries(own []netip.Prefix, was, is []config.Entry) touch {
	if own == nil {
		own = []netip.Prefix{}
	}
	var out touch
	for _, e := range onlyIn(r.digests, was, is, entryKey, differs) {
		peer := []netip.Prefix{e.Peer}
		if e.Peers != "" {
			peer = nil
		}
		out = append(out, r.pair(own, peer))
	}
	return out
}

// bearing returns the lists that a workload bears in a state.
func (r *reach) bearing(key Key, state int, b *Body) []string {
	if b == nil {
		return r.defaults[state][key.Account]
	}
	return b.Bears
}

func (r *reach) ofBinding(key Key, was, is []string) touch {
	entries := func(state int, lists []string) []config.Entry {
		var out []config.Entry
		for _, l := range lists {
			out = append(out, r.known[state][key.Account+"/"+l].Entries...)
		}
		return out
	}
	own := r.workloads[key.On]
	if key.On == "" {
		return touch{{nil, nil}}
	}
	return r.ofEntries(own, entries(0, was), entries(1, is))
}

func (r *reach) ofRoutes(key Key, was, is *Body) touch {
	var had, has []estate.Route
	var peers, after []config.Peer
	if was != nil {
		had, peers = was.Routes, was.Peers
	}
	if is != nil {
		has, after = is.Routes, is.Peers
	}
	if !slices.Equal(peers, after) {
		return touch{r.pair(r.networks[key.Name], nil)}
	}
	var out touch
	for _, x := range onlyIn(r.digests, had, has, func(r *estate.Route) string { return r.To.String() + " " + string(r.Via) }, differs) {
		out = append(out, r.pair(r.networks[key.Name], []netip.Prefix{x.To}))
	}
	return out
}

func (r *reach) ofPlacements(was, is *Body) touch {
	var had, has []Placement
	if was != nil {
		had = was.Placements
	}
	if is != nil {
		has = is.Placements
	}
	var out touch
	for _, x := range append(slices.Clone(had), has...) {
		if !slices.Contains(had, x) || !slices.Contains(has, x) {
			out = append(out, r.pair([]netip.Prefix{x.Prefix}, nil))
		}
	}
	return out
}

// ofHub returns the flows of the networks whose attachments differ, or all of them where links or
// exits do.
func (r *reach) ofHub(was, is *Body) touch {
	if was == nil || is == nil {
		return touch{{nil, nil}}
	}
	a, b := *was.Hub, *is.Hub
	attachments := onlyIn(r.digests, a.Attachments, b.Attachments, attachmentWords, differs)
	x, y := *was, *is
	a.Attachments, b.Attachments = nil, nil
	x.Hub, y.Hub = &a, &b
	if !Same(&x, &y) {
		return touch{{nil, nil}}
	}
	var out touch
	for _, t := range attachments {
		out = append(out, r.pair(r.networks[t.Network], nil))
	}
	return out
}
