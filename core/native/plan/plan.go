// Package plan says in which order what targets hold is replaced, so that nothing passes on the
// way that passes neither before nor after. It works on configuration alone: what each target has
// now, drift included, and what it should have. Nothing here writes.
//
// Everything a target holds is documents, each replaced whole. A document that both opens and
// closes is written twice: first as what it passes before and after, then as it should be. The
// steps, and what each waits for, are in docs/decisions/12-applying.md.
package plan

import (
	"cmp"
	"net/netip"
	"slices"
	"strings"

	"bivium/core/estate"
	"bivium/core/native/config"
)

// State is what targets hold, and what is there beside it: networks with their subnets and
// workloads, firewalls, and what is up or down.
type State struct {
	Config *config.Config
	Estate *estate.Estate
	// Unplaced says that hubs were never told which subnet lies in which segment.
	Unplaced bool
}

// Kind is what a document is.
type Kind string

// The kinds of documents.
const (
	KindSegment   Kind = "segment"   // match list and imports of a segment, the same at every hub
	KindHub       Kind = "hub"       // wiring of a hub
	KindPool      Kind = "pool"      // firewalls of a pool, and their rulebook
	KindPlacement Kind = "placement" // which subnet lies in which segment
	KindList      Kind = "list"      // on a network or a subnet
	KindRoutes    Kind = "routes"    // of a network, with its peerings
	KindEntries   Kind = "entries"   // a list that workloads bear
	KindBinding   Kind = "binding"   // the lists that a workload bears; On "" for all others
)

// Key names a document. Account is "" for what hubs and firewalls hold.
type Key struct {
	Kind    Kind   `json:"kind"`
	Account string `json:"account,omitempty"`
	Name    string `json:"name,omitempty"` // of the segment, hub, pool or network
	On      string `json:"on,omitempty"`   // the subnet, the list or the workload
}

// String returns the key as words that are the same for the same document.
func (k Key) String() string {
	return strings.Join([]string{string(k.Kind), k.Account, k.Name, k.On}, "/")
}

// KeyOf returns the key of which Key.String made a document's name.
func KeyOf(document string) Key {
	parts := append(strings.SplitN(document, "/", 4), "", "", "")
	return Key{Kind(parts[0]), parts[1], parts[2], parts[3]}
}

// AccountOf returns the account of a document by what Key.String made of it; "" of hubs'.
func AccountOf(document string) string { return KeyOf(document).Account }

// Target returns which target holds the document: the account, or the hubs; "" for a network that
// no account has.
func (k Key) Target() string {
	switch k.Kind {
	case KindSegment, KindHub, KindPool, KindPlacement:
		return Hubs
	}
	return k.Account
}

// Hubs is the target that hubs and firewalls are.
const Hubs = "hubs"

// Body is what a document holds: of its kind, one field.
type Body struct {
	Segment    *config.Segment   `json:"segment,omitempty"`
	Hub        *config.Hub       `json:"hub,omitempty"`
	Links      []estate.Link     `json:"links,omitempty"` // of a hub: with their states
	Pool       *config.Pool      `json:"pool,omitempty"`
	Firewalls  []estate.Firewall `json:"firewalls,omitempty"`
	Placements []Placement       `json:"placements,omitempty"`
	List       *config.List      `json:"list,omitempty"`
	Routes     []estate.Route    `json:"routes,omitempty"`
	Peers      []config.Peer     `json:"peers,omitempty"`
	Entries    *config.EntryList `json:"entries,omitempty"`
	Bears      []string          `json:"bears,omitempty"`
}

// Placement says which segment a subnet lies in.
type Placement struct {
	Network string       `json:"network"`
	Subnet  string       `json:"subnet"`
	Prefix  netip.Prefix `json:"prefix"`
	Segment string       `json:"segment"`
}

// Step is what a write is for. A write waits for those of earlier steps that share a flow with it.
type Step string

// The steps, in order.
const (
	Prepare Step = "prepare" // what nothing uses yet
	Tighten Step = "tighten" // to what passes before and after
	Move    Step = "move"    // routes, wiring, placements, firewalls
	Open    Step = "open"
	CleanUp Step = "clean up" // what nothing uses any more
)

// Steps returns the steps in order.
func Steps() []Step { return []Step{Prepare, Tighten, Move, Open, CleanUp} }

// Write replaces one document.
type Write struct {
	Number  int      `json:"number"` // its place in the plan, from 0
	Step    Step     `json:"step"`
	Key     Key      `json:"key"`
	Body    *Body    `json:"body"`           // nil: the document is removed
	Gone    bool     `json:"gone,omitempty"` // after it the document is not wanted any more
	Waits   []int    `json:"waits"`
	Added   []string `json:"added"` // lines, against the document before this write
	Removed []string `json:"removed"`
	Kept    int      `json:"kept"`
	Limit   int      `json:"limit"`            // how many lines the target takes; 0 where it says no number
	Holds   int      `json:"holds"`            // lines after this write
	Narrow  bool     `json:"narrow,omitempty"` // it passes less than before and after do, for want of room
}

// Plan is writes in the order in which one writer would do them.
type Plan struct {
	Writes  []Write
	touches touch // the flows that any of them may change
}

// Make returns the plan that leads from what targets have to what they should have. wanted says
// which documents may be written; others stay as they are before. Cost: the documents that
// differ, and for those that both open and close the product of the rules that differ.
func Make(before, after State, wanted func(Key) bool) *Plan {
	d := keeping()
	p := &planner{before: before, after: after, had: documents(before, d), wants: documents(after, d), providers: providersOf(before, after), digests: d, meeting: newMeeting(d)}
	for key, body := range p.wants {
		if wanted(key) && !d.same(p.had[key], body) {
			p.keys = append(p.keys, key)
		}
	}
	there := thereIn(after.Estate)
	for key := range p.had {
		if _, stays := p.wants[key]; !stays && there.has(key) && wanted(key) {
			p.keys = append(p.keys, key)
		}
	}
	slices.SortFunc(p.keys, compareKeys)
	p.reach = newReach(d, p.keys, before, after)
	for _, key := range p.keys {
		p.document(key)
	}
	return p.ordered()
}

// there is what documents hang on: what is gone took its lists along.
type there struct {
	estate    *estate.Estate
	subnets   map[string]map[string]bool // by network
	workloads map[string]bool            // nil until one is asked for
}

func thereIn(e *estate.Estate) *there {
	t := &there{estate: e, subnets: map[string]map[string]bool{}}
	for i := range e.Networks {
		n := &e.Networks[i]
		t.subnets[n.Name] = map[string]bool{"": true, config.Routed: true}
		for k := range n.Subnets {
			t.subnets[n.Name][n.Subnets[k].Name] = true
		}
	}
	return t
}

func (t *there) workload(name string) bool {
	if t.workloads == nil {
		t.workloads = make(map[string]bool, len(t.estate.Workloads))
		for i := range t.estate.Workloads {
			t.workloads[t.estate.Workloads[i].Name] = true
		}
	}
	return t.workloads[name]
}

// has reports whether what a document hangs on is there.
func (t *there) has(key Key) bool {
	switch key.Kind {
	case KindList, KindRoutes:
		return t.subnets[key.Name][key.On]
	case KindBinding:
		return key.On == "" || t.workload(key.On)
	}
	return true
}

func compareKeys(a, b Key) int {
	return cmp.Or(cmp.Compare(slices.Index(kindsInOrder, a.Kind), slices.Index(kindsInOrder, b.Kind)), strings.Compare(a.String(), b.String()))
}

// kindsInOrder is the order in which one step writes: lists before what bears them, and what
// gives a subnet its segment before what leads to it.
var kindsInOrder = []Kind{KindEntries, KindBinding, KindList, KindSegment, KindPool, KindPlacement, KindHub, KindRoutes}

type planner struct {
	before, after State
	had, wants    map[Key]*Body
	providers     map[string]string // by network
	keys          []Key
	reach         *reach
	digests       *digests
	meeting       *meeting
	writes        []pending
}

// pending is a write, with the flows that it may change.
type pending struct {
	Write
	was     *Body
	touches touch
}

func (p *planner) add(step Step, key Key, was, is *Body, touches touch) *pending {
	p.writes = append(p.writes, pending{Write: Write{Step: step, Key: key, Body: is}, was: was, touches: touches})
	return &p.writes[len(p.writes)-1]
}

// document adds the writes that lead one document from what it is to what it should be.
func (p *planner) document(key Key) {
	was, is := p.had[key], p.wants[key]
	touches := p.reach.of(key, was, is).distinct(p.digests)
	switch key.Kind {
	case KindList:
		p.list(key, was, is, touches)
	case KindSegment:
		p.segment(key, was, is, touches)
	case KindPool:
		p.pool(key, was, is, touches)
	case KindEntries:
		p.entries(key, was, is, touches)
	case KindBinding:
		p.binding(key, was, is, touches)
	default:
		p.add(Move, key, was, is, touches)
	}
}

// ordered sorts writes by step, numbers them, and says what each waits for. Moves wait for each
// other: of two at once nobody could say what passes in between.
func (p *planner) ordered() *Plan {
	at := func(s Step) int { return slices.Index(Steps(), s) }
	slices.SortStableFunc(p.writes, func(a, b pending) int {
		return cmp.Or(cmp.Compare(at(a.Step), at(b.Step)), compareKeys(a.Key, b.Key))
	})
	out := &Plan{Writes: make([]Write, len(p.writes))}
	for i := range p.writes {
		w := &p.writes[i]
		w.Number, w.Waits = i, []int{}
		for k := range i {
			earlier := &p.writes[k]
			meets := w.Step == Move || earlier.Key == w.Key
			if earlier.Step != w.Step {
				meets = earlier.Key == w.Key || earlier.touches.meets(w.touches)
			}
			if !meets && !bears(earlier, w) {
				continue
			}
			w.Waits = append(w.Waits, k)
		}
		w.Added, w.Removed, w.Kept, w.Holds = p.digests.changed(w.Key, p.providers[w.Key.Name], w.was, w.Body)
		w.Gone = p.wants[w.Key] == nil
		w.Limit = limitOf(w.Key, p.providers[w.Key.Name])
		out.Writes[i] = w.Write
		out.touches = append(out.touches, w.touches...)
	}
	out.touches = out.touches.distinct(p.digests)
	return out
}

// bears reports whether a write cannot come before another: a list is there before it is borne,
// and goes after that.
func bears(earlier, later *pending) bool {
	return earlier.Key.Kind == KindEntries && later.Key.Kind == KindBinding && earlier.Key.Account == later.Key.Account && slices.Contains(later.Body.bearing(), earlier.Key.On) ||
		later.Key.Kind == KindEntries && earlier.Key.Kind == KindBinding && earlier.Key.Account == later.Key.Account && slices.Contains(earlier.was.bearing(), later.Key.On)
}

func (b *Body) bearing() []string {
	if b == nil {
		return nil
	}
	return b.Bears
}

func limitOf(k Key, provider string) int {
	switch {
	case k.Kind == KindEntries:
		return config.CirraEntries
	case k.Kind == KindBinding:
		return config.CirraLists
	case k.Kind == KindList && provider == config.Velum:
		return config.VelumRules
	case k.Kind == KindList && provider == config.Stratok:
		return config.StratokRules
	}
	return 0
}

func providersOf(states ...State) map[string]string {
	out := map[string]string{}
	for _, s := range states {
		for i := range s.Config.Networks {
			out[s.Config.Networks[i].Name] = s.Config.Networks[i].Provider
		}
	}
	return out
}
