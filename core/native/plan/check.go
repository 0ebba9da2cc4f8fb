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
	states, written := p.states(before, after)
	out := &Checked{}
	if len(p.Writes) == 0 {
		out.Counted = true
		return out
	}
	c := &checker{services: servicesOf(a, b), out: out, written: written}
	c.first, c.last, c.end = newView(ground(before, after)), newView(after), newView(p.end(before, after))
	for _, s := range states {
		c.between = append(c.between, newView(s))
	}
	c.endpoints(a, c.first)
	c.endpoints(b, c.last)
	c.sides(p.touches)
	pairs := 0
	for i := range c.ends {
		for k := range c.ends {
			if c.touched(i, k) {
				pairs++
			}
		}
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

// states returns what targets hold once all lists are tightened, and after each move.
func (p *Plan) states(before, after State) (states []State, written []int) {
	s := ground(before, after)
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
	for i := range c.Networks {
		if n := &c.Networks[i]; n.Provider == config.Premises { // fewer rules are sooner read
			n.Lists = slices.Clone(n.Lists)
			for k := range n.Lists {
				n.Lists[k].Rules = joined(n.Lists[k].Rules)
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
	for i := range c.Accounts { // machines that are gone send nothing, whatever they bore
		c.Accounts[i].Bindings = slices.DeleteFunc(slices.Clone(c.Accounts[i].Bindings), func(b config.Binding) bool {
			return !isThere(Key{Kind: KindBinding, On: b.Workload}, after.Estate)
		})
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
	on               [][2]*bitset.BitSet // by endpoint: the pairs of flows that may change of which it is on either side
	services         []verdict.Service
	mu               sync.Mutex
	out              *Checked
}

// sides finds, for each endpoint, on which sides of the flows that may change it is.
func (c *checker) sides(t touch) {
	c.on = make([][2]*bitset.BitSet, len(c.ends))
	for i := range c.ends {
		e := &c.ends[i]
		for side := range 2 {
			in := bitset.New(uint(len(t)))
			for k := range t {
				if t[k][side] == nil || holds(t[k][side], e.inside) || e.own != e.inside && holds(t[k][side], e.own) {
					in.Set(uint(k))
				}
			}
			c.on[i][side] = in
		}
	}
}

// touched reports whether flows between two endpoints may change.
func (c *checker) touched(a, b int) bool {
	return c.on[a][0].IntersectionCardinality(c.on[b][1]) > 0 || c.on[a][1].IntersectionCardinality(c.on[b][0]) > 0
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
		if !slices.Contains(c.ends, e) {
			c.ends = append(c.ends, e)
		}
	}
}

// from sends packets from one endpoint to all others, in each state.
func (c *checker) from(from int) {
	src := &c.ends[from]
	for i := range c.ends {
		dst := &c.ends[i]
		if dst == src || !c.touched(from, i) || src.network == "" && dst.network == "" || src.inside.Is4() != dst.inside.Is4() {
			continue
		}
		var open, cut, ends *Found
		for _, s := range c.services {
			c.look(src, dst, s, &open, &cut, &ends)
		}
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

func (c *checker) look(src, dst *end, s verdict.Service, open, cut, ends **Found) {
	before, f := c.first.carry(src, dst, s)
	after, g := c.then(src, dst, s)
	if f.Segment == "" {
		f = g
	}
	if before.Delivered && !after.Delivered {
		if *ends == nil {
			*ends = &Found{Flow: f, Before: before, Between: after, Then: after}
		}
		(*ends).Services++
	}
	for i := range c.between {
		got, _ := c.between[i].carry(src, dst, s)
		note := func(to **Found) {
			if *to == nil {
				*to = &Found{After: c.written[i], Flow: f, Before: before, Between: got, Then: after}
			}
			(*to).Services++
		}
		switch {
		case got.Delivered && !allowed(&got, &before) && !allowed(&got, &after):
			note(open)
			return
		case !got.Delivered && before.Delivered && after.Delivered:
			note(cut)
			return
		}
	}
}

// then returns what comes of a packet once all is written. Of endpoints that the estate does not
// have any more, it is what targets do with them: they may still be there.
func (c *checker) then(src, dst *end, s verdict.Service) (reader.Fate, verdict.Flow) {
	fate, f := c.last.carry(src, dst, s)
	if f.Segment == "" {
		fate, _ = c.end.carry(src, dst, s)
	}
	return fate, f
}

// end returns what targets hold once all is written, beside all that there was.
func (p *Plan) end(before, after State) State {
	s := ground(before, after)
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

// carry sends a packet between two endpoints, as they are called in a state.
func (v *view) carry(src, dst *end, s verdict.Service) (reader.Fate, verdict.Flow) {
	f := verdict.Flow{Segment: verdict.Internet, Source: src.inside, Destination: dst.inside, Service: s}
	to := ""
	if dst.network != "" {
		to, f.Destination = v.places.called(dst)
	}
	if src.network != "" {
		f.Segment, f.Source = v.places.called(src)
		if f.Segment == "" || dst.network != "" && to == "" {
			return reader.Fate{}, verdict.Flow{}
		}
		f.Destination = v.Seen(to, f.Destination, f.Segment)
	}
	return v.Carry(&f), f
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
