package plan

import (
	"cmp"
	"net/netip"
	"slices"
	"sync"

	"github.com/bits-and-blooms/bitset"

	"bivium/core/estate"
	"bivium/core/matrix"
	"bivium/core/native/config"
	"bivium/core/native/reader"
	"bivium/core/parallel"
	"bivium/core/verdict"
)

// Checked is what flows do while a plan is carried out, as far as that differs from both before
// and after.
type Checked struct {
	Packets int     // that were looked at: one of each class of flows of both estates, in each state
	Open    []Found // delivered on the way, and neither before nor after, or past a pool of both
	Cut     []Found // delivered before and after, and not on the way
	Ends    []Found // delivered before, and not after: their sessions end
	Counted bool    // Ends is complete
	Skipped bool    // there are more classes than can be looked at
}

// Found is flows between two classes of endpoints that do something else on the way.
type Found struct {
	After    int // the number of writes that were done by then
	Flow     verdict.Flow
	Services int // how many of the services that rules tell apart do so
	Before   reader.Fate
	Between  reader.Fate
	Then     reader.Fate
}

// most is how many packets are looked at.
const most = 20_000_000

// Check carries a packet of each class of flows of two estates through the states that targets
// are in while the plan is carried out: once all lists are tightened, and after each move. Within
// the other steps every list passes less than before, or less than after, and the pools of a flow
// hang on one list: what passes part of the way through such a step passes at its beginning or
// at its end. Cost: the product of the classes, their services, and the states.
func (p *Plan) Check(before, after State, a, b *matrix.Matrix) *Checked {
	on := ground(before, after)
	states, written := p.states(on)
	out := &Checked{}
	if len(p.Writes) == 0 {
		out.Counted = true
		return out
	}
	c := &checker{known: map[end]bool{}, services: servicesOf(a, b), out: out, written: written}
	c.between = make([]view, len(states))
	views := []func(){
		func() { c.first = newView(on) },
		func() { c.last = newView(after) },
		func() { c.end = newView(p.end(on)) },
	}
	for i, s := range states {
		views = append(views, func() { c.between[i] = newView(s) })
	}
	parallel.Run(views)
	c.endpoints(a, c.first)
	c.endpoints(b, c.last)
	c.sides(p.touches)
	pairs := 0
	for i := range c.ends {
		pairs += int(c.touched(i).Count())
	}
	packets := pairs * len(c.services) * (len(states) + 2)
	if packets > most {
		return &Checked{Skipped: len(states) > 0}
	}
	if out.Counted = true; len(states) > 0 {
		out.Packets = packets
	}
	var jobs []func()
	for i := range c.ends {
		jobs = append(jobs, func() { c.from(i) })
	}
	parallel.Run(jobs)
	for _, list := range []*[]Found{&out.Open, &out.Cut, &out.Ends} {
		slices.SortFunc(*list, func(x, y Found) int {
			return cmp.Or(cmp.Compare(x.After, y.After), cmp.Compare(x.Flow.Segment, y.Flow.Segment), x.Flow.Source.Compare(y.Flow.Source), x.Flow.Destination.Compare(y.Flow.Destination))
		})
	}
	return out
}

// states returns what targets hold once all lists are tightened, and after each move, from what they
// hold before.
func (p *Plan) states(s State) (states []State, written []int) {
	for i := range p.Writes {
		w := &p.Writes[i]
		if w.Step == Open || w.Step == CleanUp {
			break
		}
		s = s.With(w.Key, w.Body)
		next := Step("")
		if i+1 < len(p.Writes) {
			next = p.Writes[i+1].Step
		}
		if w.Step == Move || w.Step == Tighten && next != Tighten && next != CleanUp && next != "" {
			states, written = append(states, s), append(written, i+1)
		}
	}
	return states, written
}

type view struct {
	*reader.Reader
	places *places
}

func newView(s State) view {
	c := *s.Config
	c.Networks = slices.Clone(c.Networks)
	d := newDigests()
	for i := range c.Networks {
		if n := &c.Networks[i]; n.Provider == config.Premises { // fewer rules are sooner read
			n.Lists = slices.Clone(n.Lists)
			for k := range n.Lists {
				n.Lists[k].Rules = d.joined(n.Lists[k].Rules)
			}
		}
	}
	r := reader.New(s.Estate, &c)
	return view{r, newPlaces(r.Estate)}
}

// ground returns a state with what there is in either of two: what is there already when the
// second is written, and what the first still speaks of.
func ground(before, after State) State {
	e := united(before.Estate, after.Estate)
	e.Networks = placed(e.Networks, &Body{Placements: placements(before.Estate)})
	e.Pools = union(after.Estate.Pools, before.Estate.Pools, func(x *estate.Pool) string { return x.Name })
	c := *before.Config
	c.Networks, c.Accounts = slices.Clone(c.Networks), slices.Clone(c.Accounts)
	for _, n := range after.Config.Networks {
		if !slices.ContainsFunc(c.Networks, func(o config.Network) bool { return o.Name == n.Name }) {
			c.Networks = append(c.Networks, config.Network{Name: n.Name, Account: n.Account, Provider: n.Provider})
		}
	}
	there := thereIn(after.Estate)
	for i := range c.Accounts { // machines that are gone send nothing, whatever they bore
		gone := func(b config.Binding) bool { return !there.workload(b.Workload) }
		if slices.ContainsFunc(c.Accounts[i].Bindings, gone) {
			c.Accounts[i].Bindings = slices.DeleteFunc(slices.Clone(c.Accounts[i].Bindings), gone)
		}
	}
	for _, a := range after.Config.Accounts {
		if !slices.ContainsFunc(c.Accounts, func(o config.Account) bool { return o.Name == a.Name }) {
			c.Accounts = append(c.Accounts, config.Account{Name: a.Name})
		}
	}
	return State{&c, e, before.Unplaced}
}

type checker struct {
	first, last, end view
	between          []view
	written          []int
	ends             []end
	known            map[end]bool
	on               [2][]*bitset.BitSet // the endpoints on either side of each pair of flows that may change
	pairs            [2][][]int          // by endpoint: the pairs of which it is on either side
	services         []verdict.Service
	mu               sync.Mutex
	out              *Checked
}

// sides finds which endpoints are on which sides of the flows that may change.
func (c *checker) sides(t touch) {
	type called struct {
		addr netip.Addr
		end  uint
	}
	var all []called // each address by which an endpoint goes, in order
	everything := bitset.New(uint(len(c.ends)))
	for i := range c.ends {
		all = append(all, called{c.ends[i].inside, uint(i)}, called{c.ends[i].own, uint(i)})
		everything.Set(uint(i))
	}
	slices.SortFunc(all, func(a, b called) int { return a.addr.Compare(b.addr) })
	known := map[prefixesKey]*bitset.BitSet{}
	in := func(p []netip.Prefix) *bitset.BitSet {
		if p == nil {
			return everything
		}
		if len(p) == 0 {
			return &bitset.BitSet{}
		}
		k := prefixesKey{&p[0], len(p)}
		found := known[k]
		if found != nil {
			return found
		}
		found = bitset.New(uint(len(c.ends)))
		for _, x := range p {
			at, _ := slices.BinarySearchFunc(all, x.Masked().Addr(), func(c called, a netip.Addr) int { return c.addr.Compare(a) })
			for ; at < len(all) && x.Contains(all[at].addr); at++ {
				found.Set(all[at].end)
			}
		}
		known[k] = found
		return found
	}
	for side := range 2 {
		c.pairs[side], c.on[side] = make([][]int, len(c.ends)), make([]*bitset.BitSet, len(t))
		for k := range t {
			c.on[side][k] = in(t[k][side])
			for i := range c.on[side][k].EachSet() {
				c.pairs[side][i] = append(c.pairs[side][i], k)
			}
		}
	}
}

// touched returns the endpoints to and from which flows of an endpoint may change.
func (c *checker) touched(i int) *bitset.BitSet {
	if len(c.pairs[0][i])+len(c.pairs[1][i]) == 0 {
		return &bitset.BitSet{}
	}
	out := bitset.New(uint(len(c.ends)))
	for side := range 2 {
		for _, k := range c.pairs[side][i] {
			out.InPlaceUnion(c.on[1-side][k])
		}
	}
	return out
}

// end is an endpoint, by where it is. Network is "" for one in the internet.
type end struct {
	network string
	inside  netip.Addr
	borne   string // the segment of an address that lies in no subnet
	own     netip.Addr
}

func servicesOf(all ...*matrix.Matrix) []verdict.Service {
	var out []verdict.Service
	for _, m := range all {
		for atom := range m.Atoms.Len() {
			protocol, sport, dport, ok := m.Atoms.Set(atom).Witness()
			if s := (verdict.Service{Protocol: protocol, SourcePort: sport, Port: dport}); ok && !slices.Contains(out, s) {
				out = append(out, s)
			}
		}
	}
	return out
}

// endpoints adds one of each class of endpoints.
func (c *checker) endpoints(m *matrix.Matrix, v view) {
	for _, x := range m.Classes {
		e := end{inside: x.End.Addr, own: x.End.Addr}
		if x.Internal() {
			e.network = m.Judge.Net.Networks[x.End.Home.Network].Name
			e.inside, e.borne = v.places.inside(e.network, m.Judge.Net.Segments[x.End.Segment], x.End.Addr)
		}
		if !c.known[e] {
			c.known[e] = true
			c.ends = append(c.ends, e)
		}
	}
}

// from sends packets from one endpoint to all others, in each state.
func (c *checker) from(from int) {
	src := &c.ends[from]
	for i := range c.touched(from).EachSet() {
		dst := &c.ends[i]
		if dst == src || src.network == "" && dst.network == "" || src.inside.Is4() != dst.inside.Is4() {
			continue
		}
		open, cut, ends := c.look(src, dst)
		c.mu.Lock()
		if open != nil {
			c.out.Open = append(c.out.Open, *open)
		}
		if cut != nil {
			c.out.Cut = append(c.out.Cut, *cut)
		}
		if ends != nil {
			c.out.Ends = append(c.out.Ends, *ends)
		}
		c.mu.Unlock()
	}
}

// look sends a packet of each service between two endpoints in each state, and returns what opens and
// what is cut off in between, and what ends.
func (c *checker) look(src, dst *end) (open, cut, ends *Found) {
	before, f := c.first.carry(src, dst, c.services)
	after, g := c.then(src, dst)
	if f.Segment == "" {
		f = g
	}
	between := make([][]reader.Fate, len(c.between))
	for i := range c.between {
		between[i], _ = c.between[i].carry(src, dst, c.services)
	}
	for n, s := range c.services {
		f.Service = s
		was, is := &before[n], &after[n]
		note := func(to **Found, at int, got *reader.Fate) {
			if *to == nil {
				*to = &Found{After: at, Flow: f, Before: *was, Between: *got, Then: *is}
			}
			(*to).Services++
		}
		if was.Delivered && !is.Delivered {
			note(&ends, 0, is)
		}
		for i := range between {
			got := &between[i][n]
			if got.Delivered && !allowed(got, was) && !allowed(got, is) {
				note(&open, c.written[i], got)
				break
			}
			if !got.Delivered && was.Delivered && is.Delivered {
				note(&cut, c.written[i], got)
				break
			}
		}
	}
	return open, cut, ends
}

// then returns what comes of packets once all is written. Of endpoints that the estate does not
// have any more, it is what targets do with them: they may still be there.
func (c *checker) then(src, dst *end) ([]reader.Fate, verdict.Flow) {
	fates, f := c.last.carry(src, dst, c.services)
	if f.Segment == "" {
		fates, _ = c.end.carry(src, dst, c.services)
	}
	return fates, f
}

// end returns what targets hold once all is written, beside all that there was.
func (p *Plan) end(s State) State {
	for i := range p.Writes {
		s = s.With(p.Writes[i].Key, p.Writes[i].Body)
	}
	return s
}

// allowed reports whether what is delivered is so in another state, through pools of which none
// was left out.
func allowed(got, other *reader.Fate) bool {
	return other.Delivered && !slices.ContainsFunc(other.Pools, func(p string) bool { return !slices.Contains(got.Pools, p) })
}

// carry sends packets between two endpoints, as they are called in a state: one of each service.
func (v *view) carry(src, dst *end, services []verdict.Service) ([]reader.Fate, verdict.Flow) {
	f := verdict.Flow{Segment: verdict.Internet, Source: src.inside, Destination: dst.inside}
	to := ""
	if dst.network != "" {
		to, f.Destination = v.places.called(dst)
	}
	if src.network != "" {
		f.Segment, f.Source = v.places.called(src)
		if f.Segment == "" || dst.network != "" && to == "" {
			return make([]reader.Fate, len(services)), verdict.Flow{}
		}
		f.Destination = v.Seen(to, f.Destination, f.Segment)
	}
	return v.CarryAll(&f, services), f
}

// places knows by which segment and address endpoints are called.
type places struct {
	subnets    map[string][]estate.Subnet // by network, with their segments
	translated map[string][]estate.Translation
}

func newPlaces(e *estate.Estate) *places {
	p := &places{map[string][]estate.Subnet{}, map[string][]estate.Translation{}}
	for i := range e.Networks {
		n := &e.Networks[i]
		for k := range n.Subnets {
			s := n.Subnets[k]
			s.Segment = n.SegmentOf(&n.Subnets[k])
			p.subnets[n.Name] = append(p.subnets[n.Name], s)
		}
	}
	for i := range e.Attachments {
		a := &e.Attachments[i]
		p.translated[a.Network] = append(p.translated[a.Network], a.Translate...)
	}
	return p
}

// inside returns the address that an endpoint of a segment has inside its network; for one that
// lies in no subnet also the segment.
func (p *places) inside(network, segment string, own netip.Addr) (a netip.Addr, borne string) {
	a = own
	for _, t := range p.translated[network] {
		if t.Segment == segment && t.Outside.Contains(own) {
			a = rebase(own, t.Outside, t.Inside)
		}
	}
	if p.subnet(network, a) == nil {
		return own, segment
	}
	return a, ""
}

func (p *places) subnet(network string, inside netip.Addr) *estate.Subnet {
	var best *estate.Subnet
	for i := range p.subnets[network] {
		if s := &p.subnets[network][i]; s.Prefix.Contains(inside) && (best == nil || s.Prefix.Bits() > best.Prefix.Bits()) {
			best = s
		}
	}
	return best
}

// called returns the segment of an endpoint, and its own address there; "" where it has none.
func (p *places) called(e *end) (string, netip.Addr) {
	if e.borne != "" {
		return e.borne, e.inside
	}
	s := p.subnet(e.network, e.inside)
	if s == nil {
		return "", e.inside
	}
	for _, t := range p.translated[e.network] {
		if t.Segment == s.Segment && t.Inside.Contains(e.inside) {
			return s.Segment, rebase(e.inside, t.Inside, t.Outside)
		}
	}
	return s.Segment, e.inside
}

// rebase moves an address from one prefix to the same place in another.
func rebase(a netip.Addr, from, to netip.Prefix) netip.Addr {
	x, y := a.AsSlice(), to.Masked().Addr().AsSlice()
	if len(x) != len(y) {
		return a
	}
	for bit := from.Bits(); bit < 8*len(x); bit++ {
		mask := byte(0x80) >> (bit % 8)
		y[bit/8] = y[bit/8]&^mask | x[bit/8]&mask
	}
	out, _ := netip.AddrFromSlice(y)
	return out
}
