// Package native translates an estate into what each target has to hold: match lists and
// routes of hubs, rulebooks of pools, and the lists of clouds and premises in the form of
// their provider (docs/decisions/11-targets.md). Hubs hold what is intended on paths through
// them. Native lists hold what is intended on paths that pass no hub, and are a second line on
// the others: they pass what is allowed or inspected, whatever is up or down.
//
// Whether the configuration means what the estate says is proven by core/native/reader,
// which shares nothing with this package but the form of the configuration.
package native

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"sync"

	"github.com/bits-and-blooms/bitset"

	"bivium/core/classes"
	"bivium/core/estate"
	"bivium/core/intervals"
	"bivium/core/lists"
	"bivium/core/matrix"
	"bivium/core/native/config"
	"bivium/core/parallel"
	"bivium/core/paths"
	"bivium/core/space"
	"bivium/core/touched"
	"bivium/core/verdict"
)

// Translation is the configuration of all targets, and what does not fit.
type Translation struct {
	Config  *config.Config
	Refused []Refusal

	of      *matrix.Matrix
	touches *touched.Touched
	units   []*cirraNetwork // by network, as those of the configuration
	refused [][]Refusal
}

// Refusal is something that a target cannot hold. It must be put right before anything is
// applied.
type Refusal struct {
	Code    Code
	Network string
	On      string // the subnet or workload whose list it is; "" for the network's
	Limit   int
	Count   int
	Split   []string // what to split: the groups that make the list long, the largest first
}

// Code says what does not fit.
type Code string

// What does not fit.
const (
	TooManyEntries Code = "too-many-entries" // on one workload of Cirra
	TooManyRules   Code = "too-many-rules"   // in one list
	SourcePorts    Code = "source-ports"     // that a Cirra list would have to tell apart
	InsideSubnets  Code = "inside-subnets"   // enforcement that the provider has not
	NoProvider     Code = "no-provider"      // enforcement in a network that no provider enforces
)

// Translate translates the estate of a matrix. Cost: that of its blocks, and for each network
// its classes times the lines that they may have flows with.
func Translate(s *matrix.Matrix) *Translation { return translate(s, false, nil) }

// TranslateSingly is Translate for lists whose rules have one protocol each: what allows all
// services but a few stands behind a rule that denies those.
func TranslateSingly(s *matrix.Matrix) *Translation { return translate(s, true, nil) }

// Retranslate is Translate for a matrix that was revised from that of another translation, of
// which it keeps what the edit cannot have touched, as it stands there. Cost: that of the networks
// and segments that are touched, and of finding them.
func Retranslate(before *Translation, s *matrix.Matrix) *Translation {
	return translate(s, false, before)
}

func translate(s *matrix.Matrix, singly bool, before *Translation) *Translation {
	t := &translator{singly: singly, s: s, j: s.Judge, net: s.Net, e: s.Judge.Estate, profiles: newProfiles(s), lines: map[lineKey]*once[[]*config.Set]{}, boxes: map[int32][]space.Box{}}
	t.index()
	if before == nil {
		before = &Translation{}
	}
	touches := touched.Compare(before.of, s)
	n := len(t.byName)
	out := &Translation{
		Config: &config.Config{Networks: make([]config.Network, n), Segments: make([]config.Segment, len(t.net.Segments))},
		of:     s, touches: touches, units: make([]*cirraNetwork, n), refused: make([][]Refusal, n),
	}
	jobs := []func(){
		func() { out.Config.Hubs = t.hubs() },
		func() { out.Config.Pools = t.pools() },
	}
	for i := range t.net.Segments {
		jobs = append(jobs, func() {
			out.Config.Segments[i] = config.Segment{Name: t.net.Segments[i], Imports: t.imports(i)}
			if touches.Segment(i) {
				t.matchList(&out.Config.Segments[i], i)
			}
			before.keepSegment(&out.Config.Segments[i], i, touches.Segment(i))
		})
	}
	for i, n := range t.byName {
		if touches.Network(t.number[n.Name]) {
			jobs = append(jobs, func() {
				out.Config.Networks[i], out.units[i], out.refused[i] = t.network(n)
				before.keepNetwork(&out.Config.Networks[i], out.units[i])
			})
			continue
		}
		out.Config.Networks[i], out.units[i], out.refused[i] = before.Config.Networks[i], before.units[i], before.refused[i]
	}
	parallel.Run(jobs)
	out.Config.Accounts = t.accounts(out.units)
	out.Refused = slices.Concat(out.refused...)
	return out
}

// keepSegment puts what a segment had in the place of what is the same, so that whoever compares
// the two sees it at once: its rules too, where nothing touched them.
func (t *Translation) keepSegment(is *config.Segment, i int, touched bool) {
	if t.Config == nil || i >= len(t.Config.Segments) || t.Config.Segments[i].Name != is.Name {
		return
	}
	was := &t.Config.Segments[i]
	if slices.Equal(was.Imports, is.Imports) {
		is.Imports = was.Imports
	}
	if !touched || config.EqualRules(was.Rules, is.Rules) {
		is.Rules = was.Rules
	}
	if !touched {
		is.Bound = was.Bound
	}
}

// keepNetwork puts what a network had in the place of what is the same.
func (t *Translation) keepNetwork(is *config.Network, unit *cirraNetwork) {
	if t.Config == nil {
		return
	}
	i, known := slices.BinarySearchFunc(t.Config.Networks, is.Name, func(n config.Network, name string) int { return strings.Compare(n.Name, name) })
	if !known {
		return
	}
	if was := &t.Config.Networks[i]; config.EqualLists(was.Lists, is.Lists) {
		is.Lists = was.Lists
	}
	if unit != nil && t.units[i] != nil {
		unit.keep(t.units[i])
	}
}

// Touches returns what was touched since the translation that it was made from.
func (t *Translation) Touches() *touched.Touched { return t.touches }

// translator translates one estate.
type translator struct {
	s        *matrix.Matrix
	j        *verdict.Judge
	net      *paths.Net
	e        *estate.Estate
	byName   []*estate.Network
	number   map[string]int // of a network of the net, by name
	in       [][]int        // by network: its classes
	provider map[string]string
	singly   bool   // every provider's rules have one protocol each
	enforces []bool // by network of the net: whether its lists hold what is intended
	// By network of the net: whether its lists hang on workloads, and a machine without any passes
	// nothing.
	onWorkloads []bool
	*profiles

	known sync.Mutex
	idle  []*grounds
	lines map[lineKey]*once[[]*config.Set]
	boxes map[int32][]space.Box
	cuts  sync.Map // by the key of a set of atoms: its services
}

// once is something that is worked out once.
type once[T any] struct {
	do sync.Once
	is T
}

func (t *translator) index() {
	t.provider, t.number = map[string]string{}, map[string]int{}
	for i := range t.e.Accounts {
		t.provider[t.e.Accounts[i].Name] = t.e.Accounts[i].Provider
	}
	for i := range t.e.Networks {
		t.byName = append(t.byName, &t.e.Networks[i])
	}
	slices.SortFunc(t.byName, func(a, b *estate.Network) int { return strings.Compare(a.Name, b.Name) })
	t.in = make([][]int, len(t.net.Networks))
	t.enforces, t.onWorkloads = make([]bool, len(t.net.Networks)), make([]bool, len(t.net.Networks))
	for i := range t.net.Networks {
		t.number[t.net.Networks[i].Name] = i
	}
	for _, n := range t.byName {
		switch t.provider[n.Account] {
		case config.Cirra, config.Velum, config.Stratok, config.Premises:
			t.enforces[t.number[n.Name]] = n.Enforces() != estate.EnforceNone
		}
		t.onWorkloads[t.number[n.Name]] = t.provider[n.Account] == config.Cirra && t.enforces[t.number[n.Name]]
	}
	for _, inside := range t.s.Inside {
		for _, c := range inside {
			n := t.s.Classes[c].Network
			t.in[n] = append(t.in[n], c)
		}
	}
	for _, in := range t.in { // classes are numbered as edits came about
		slices.SortStableFunc(in, func(a, b int) int {
			x, y := t.s.Classes[a], t.s.Classes[b]
			return cmp.Or(x.End.Segment-y.End.Segment, x.Ranges[0].From.Compare(y.Ranges[0].From))
		})
	}
}

// services returns the services of some atoms; nil for all of them.
func (t *translator) services(atoms *bitset.BitSet) []space.Box {
	if atoms.All() {
		return nil
	}
	key := lists.BitsKey(atoms)
	if known, ok := t.cuts.Load(key); ok {
		return known.([]space.Box)
	}
	out := wide(t.s.Atoms.Union(atoms).Boxes())
	t.cuts.Store(key, out)
	return out
}

// wide returns services in fewer boxes: protocols that are there with all their ports stand in
// one box with their neighbours, whatever ports those have.
func wide(boxes []space.Box) []space.Box {
	out := boxes[:0:0]
	for _, b := range boxes {
		if ports, sources := estate.PortsOf(b.FirstProtocol); b.Ports == ports && b.SourcePorts == sources {
			b.Ports, b.SourcePorts = estate.AllPorts, estate.AllPorts
			if n := len(out); n > 0 && out[n-1].Ports == estate.AllPorts && out[n-1].SourcePorts == estate.AllPorts && out[n-1].LastProtocol+1 == b.FirstProtocol {
				out[n-1].LastProtocol = b.LastProtocol
				continue
			}
		}
		out = append(out, b)
	}
	return out
}

// lineKey is the lines of one side of a block, as a domain sees them.
type lineKey struct {
	from, to, side int
	seenBy         int
	exit           int
}

// setsOf returns, by line of one side of the block of two domains, the addresses of its
// endpoints as a domain sees them: nil where it has none there. Sides outside go by exit.
func (t *translator) setsOf(b *matrix.Block, side, seenBy, exit int) []*config.Set {
	key := lineKey{b.From, b.To, side, seenBy, exit}
	t.known.Lock()
	o, ok := t.lines[key]
	if !ok {
		o = &once[[]*config.Set]{}
		t.lines[key] = o
	}
	t.known.Unlock()
	o.do.Do(func() { o.is = t.findSets(b, key) })
	return o.is
}

func (t *translator) findSets(b *matrix.Block, key lineKey) []*config.Set {
	domain, x := b.From, &b.Src
	if key.side == 1 {
		domain, x = b.To, &b.Dst
	}
	ranges := make([][]intervals.Range, len(b.MatchSets[key.side]))
	put := func(at int32) {
		c := t.s.Classes[t.s.ClassesIn(domain)[at]]
		line := int32(0)
		if domain == len(t.s.Inside) {
			line = x.LineAt(t.net, int(at), key.exit)
		} else {
			line = x.Line(&c.Header)
		}
		ranges[line] = append(ranges[line], t.seen(c, key.seenBy)...)
	}
	if key.side == 1 {
		for _, at := range t.s.SeenBy(b.From, b.To) {
			put(at)
		}
	} else {
		for at := range t.s.ClassesIn(domain) {
			put(int32(at))
		}
	}
	out := make([]*config.Set, len(ranges))
	for line, r := range ranges {
		if len(r) > 0 {
			out[line] = named(t.domain(b.From)+"-to-"+t.domain(b.To), prefixesOf(r))
		}
	}
	return out
}

// named returns a set whose name says what it is of, and its first prefix: of sets with one
// beginning, no two have an address in common.
func named(of string, p []netip.Prefix) *config.Set {
	return &config.Set{Name: of + "-" + p[0].String(), Prefixes: p}
}

func (t *translator) domain(d int) string {
	if d == len(t.s.Inside) {
		return verdict.Internet
	}
	return t.net.Segments[d]
}

// seen returns the addresses of a class as a segment sees them.
func (t *translator) seen(c *classes.Class, by int) []intervals.Range {
	if !c.Internal() || by == c.End.Segment || by >= len(t.s.Inside) || !t.j.Shows() {
		return c.Ranges
	}
	out := make([]intervals.Range, len(c.Ranges))
	for i, r := range c.Ranges {
		out[i] = intervals.Range{From: classes.AsSeen(t.j, c, r.From, by), To: classes.AsSeen(t.j, c, r.To, by)}
	}
	return out
}

// inside returns the addresses of a class as its own network has them (M12.2).
func (t *translator) inside(c *classes.Class) []intervals.Range {
	if !t.net.Translates(int(c.Network)) {
		return c.Ranges
	}
	out := make([]intervals.Range, len(c.Ranges))
	for i, r := range c.Ranges {
		home, _ := t.net.Home(c.End.Segment, r.From)
		out[i] = intervals.Range{From: t.net.Inside(home, r.From), To: t.net.Inside(home, r.To)}
	}
	return out
}

// String says what does not fit, in a clause.
func (r *Refusal) String() string {
	return fmt.Sprintf("%s %s/%s: %d of %d", r.Code, r.Network, r.On, r.Count, r.Limit)
}
