package survey

import (
	"fmt"
	"maps"
	"runtime"
	"slices"
	"strings"
	"sync"

	"bivium/core/estate"
	"bivium/core/parallel"
	"bivium/core/paths"
	"bivium/core/verdict"
)

// circumstance is flows that a finding may be about: of one combination, through one
// publication or none, and, where the networks themselves enforce or let out,
// from one network.
type circumstance struct {
	combination
	publication, network int
}

// flows looks at each circumstance once, with a pair of classes that has it: two
// workloads, if any pair is.
func (f *finder) flows() {
	examples := map[circumstance]example{}
	told := map[circumstance]int{}
	var order []circumstance
	take := func(k circumstance, x example) {
		t := 1 + f.telling(Member{Class: x.from}, Member{Class: x.to})
		if told[k] == 0 {
			order = append(order, k)
		}
		if t > told[k] {
			told[k], examples[k] = t, x
		}
	}
	f.eachSighted(take)
	f.eachDoorCombination(take)
	f.circumstances(order, examples)
}

// seenIn is a circumstance with an example of it.
type seenIn struct {
	circumstance
	example
}

// sighted is the combinations of a block, each with an example, and again with better
// ones. They are found when they are first asked for, and serve every survey that has the
// block: which there are, no verdict tells.
type sighted struct {
	once  parallel.Once
	hubs  []seenIn // of flows that are not local
	local []seenIn // of local ones, by network, and without
}

// eachSighted finds the combinations of flows that no publication lets in, of all blocks
// side by side. Of local flows, it takes those by network of which something is to be said.
func (f *finder) eachSighted(take func(circumstance, example)) {
	var all []*sighted
	var jobs []func()
	for p, b := range f.blocks.all() {
		if p.from == len(f.inside) {
			continue
		}
		x := f.book.sighted.at(p.from, p.to)
		all = append(all, x)
		jobs = append(jobs, func() {
			f.pace()
			x.once.Do(func() { f.sight(x, b) })
		})
	}
	parallel.Run(jobs)
	for _, b := range all {
		for _, x := range b.hubs {
			take(x.circumstance, x.example)
		}
	}
	type concern struct {
		network, effect int
		reasons         uint8
	}
	known := map[concern]bool{}
	for _, b := range all {
		for _, x := range b.local {
			if x.network == paths.None {
				take(x.circumstance, x.example)
				continue
			}
			reasons := f.reasons[f.verdicts[x.effect][x.stance]]
			if c := (concern{x.network, int(x.effect), reasons}); reasons != 0 && !known[c] {
				known[c] = true
				take(x.circumstance, x.example)
			}
		}
	}
}

// sight finds the combinations of a block.
func (f *finder) sight(x *sighted, b *block) {
	x.hubs = f.combinationsIn(b)
	if b.from == b.to {
		x.local = f.localIn(b)
	}
}

// combinationsIn finds the combinations of flows of a block that are not local, each
// with an example, and again with better ones.
func (f *finder) combinationsIn(b *block) []seenIn {
	g := &gatherer{Survey: f.Survey, fromSet: whole(f.of(b.from)), toSet: whole(f.of(b.to))}
	src, dst := f.sidesOf(g.fromSet), f.sidesOf(g.toSet)
	sources, targets := f.sources(b, g.fromSet, src[0].members), f.targets(b, g.toSet, dst[0].members)
	told := map[circumstance]int{}
	var out []seenIn
	for i := range sources {
		l := &sources[i]
		srcTells := g.tellingOf(g.fromSet, l.which)
		f.eachBatch(b, l, targets, &g.buckets, func(x combination, dsts []int32) {
			k := circumstance{x, paths.None, paths.None}
			if effect := f.ledger.effectAt(x.effect); effect.Kind == paths.Peered || effect.Kind == paths.Bypass {
				k.network = l.sole
			}
			if was, seen := told[k]; seen && was >= 2+srcTells {
				return
			}
			c := column{}
			g.exemplify(&c, x, l.which, targets, dsts, b.from == b.to)
			if c.told > 0 {
				told[k] = max(told[k], c.told)
				out = append(out, seenIn{k, example{c.src.Class, c.dst.Class, paths.None}})
			}
		})
	}
	return out
}

// localIn finds the combinations of local flows of a segment's block, each with an
// example, and again with better ones; and, once, those of each network.
func (f *finder) localIn(b *block) []seenIn {
	var out []seenIn
	told := map[combination]int{}
	known := map[circumstance]bool{}
	classes := f.inside[b.from]
	set := whole(classes)
	all := f.sidesOf(set)[0].members
	f.eachNear(set, all, set, all, func(i, k int32) {
		if !f.selfless(set[i], set[k]) {
			return
		}
		src, dst := f.classes[classes[i]], f.classes[classes[k]]
		near, _ := f.nearCombination(b, src, dst)
		x := example{classes[i], classes[k], paths.None}
		if t := 1 + f.telling(set[i], set[k]); t > told[near] {
			told[near] = t
			out = append(out, seenIn{circumstance{near, paths.None, paths.None}, x})
		}
		if c := (circumstance{near, paths.None, src.End.Home.Network}); !known[c] {
			known[c] = true
			out = append(out, seenIn{c, x})
		}
	})
	return out
}

// eachDoorCombination finds the combinations of flows that publications let in.
func (f *finder) eachDoorCombination(take func(circumstance, example)) {
	for segment, gates := range f.gates {
		for i := range gates {
			for at, open := range gates[i].open {
				if !open {
					continue
				}
				for _, a := range f.outside {
					x := example{a, f.inside[segment][at], gates[i].publication}
					f.eachStrand(x.from, x.to, func(t strand) {
						if t.publication == x.publication {
							take(circumstance{t.combination, x.publication, paths.None}, x)
						}
					})
				}
			}
		}
	}
}

// reasonsOf returns, by vector, a mask of those of its reasons that say
// something about the network on whose way the flows are.
func (s *Survey) reasonsOf() []uint8 {
	out := make([]uint8, len(s.vectors))
	for i, v := range s.vectors {
		for _, r := range v {
			switch s.results[r].Reason {
			case verdict.ReasonUnenforced:
				out[i] |= 1
			case verdict.ReasonUninspectable:
				out[i] |= 2
			}
		}
	}
	return out
}

// prober weighs circumstances, and keeps the probes that many of them come to.
type prober struct {
	*Survey
	weigher *verdict.Weigher
	probes  map[[2]int32]*probed // by opinion and effect
}

// probed is a probe that is kept.
type probed struct {
	verdict.Probe
	plain bool // there is nothing to say of it but who spoke
}

// probe returns what became of an opinion on ways of an effect.
func (f *prober) probe(opinion, effect int32) *probed {
	key := [2]int32{opinion, effect}
	p := f.probes[key]
	if p == nil {
		p = &probed{Probe: f.weigher.Probe(opinion, f.ledger.effectAt(effect))}
		p.plain = !p.Verdict.Contested && f.ledger.effectAt(effect).Kind != paths.Bypass && !remarkable(&p.Verdict)
		f.probes[key] = p
	}
	return p
}

// remark is a probe of an atom about which there is something to say.
type remark struct {
	atom  int
	probe *probed
}

// notes keeps what there is to say of combinations. It serves the surveys that come of one
// by edits, but for the stances whose voices say something else.
type notes struct {
	mu    sync.Mutex
	known map[noteKey]*note
}

// noteKey is a combination, through one publication or none.
type noteKey struct {
	combination
	publication int
}

// note is what there is to say of a combination, and all probes that were made of it.
type note struct {
	remarks []remark
	probes  []*probed
}

// after returns the notes without some.
func (n *notes) after(gone func(noteKey) bool) *notes {
	n.mu.Lock()
	defer n.mu.Unlock()
	out := &notes{known: maps.Clone(n.known)}
	maps.DeleteFunc(out.known, func(k noteKey, _ *note) bool { return gone(k) })
	return out
}

// take adds notes.
func (n *notes) take(fresh map[noteKey]*note) {
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.known == nil {
		n.known = map[noteKey]*note{}
	}
	maps.Copy(n.known, fresh)
}

// all returns the notes of now.
func (n *notes) all() map[noteKey]*note {
	n.mu.Lock()
	defer n.mu.Unlock()
	return maps.Clone(n.known)
}

// note weighs a combination.
func (f *prober) note(k noteKey) *note {
	out := &note{}
	context, voices := f.ledger.stanceAt(k.stance, nil)
	var p *probed
	last := int32(-1) // opinion: that of most atoms is that of the one before
	for atom, o := range f.weigher.Weigh(context, voices) {
		if k.publication != paths.None && !f.admits[k.publication].Test(uint(atom)) {
			continue
		}
		if o != last {
			if p, last = f.probe(o, k.effect), o; !slices.Contains(out.probes, p) {
				out.probes = append(out.probes, p)
			}
		}
		if !p.plain {
			out.remarks = append(out.remarks, remark{atom, p})
		}
	}
	return out
}

// circumstances weighs circumstances side by side, those of which there is no note yet, and
// says what is remarkable of them in their order.
func (f *finder) circumstances(order []circumstance, examples map[circumstance]example) {
	known := f.book.notes.all()
	missing := map[noteKey]bool{}
	var wanted []noteKey
	for _, c := range order {
		if k := c.key(); known[k] == nil && !missing[k] {
			missing[k] = true
			wanted = append(wanted, k)
		}
	}
	fresh := f.weigh(wanted)
	f.book.notes.take(fresh)
	for _, c := range order {
		n := known[c.key()]
		if n == nil {
			n = fresh[c.key()]
		}
		x := examples[c]
		where := sync.OnceValue(func() string {
			return f.name(&f.classes[x.from].End) + " to " + f.name(&f.classes[x.to].End)
		})
		for _, p := range n.probes {
			for _, r := range p.Spoke {
				f.spoke[r] = true
			}
		}
		for _, r := range n.remarks {
			f.judged(&r.probe.Probe, f.ledger.effectAt(c.effect), r.atom, x, where)
		}
	}
}

// key returns what the note on a circumstance goes by.
func (c *circumstance) key() noteKey { return noteKey{c.combination, c.publication} }

// manyNotes is how many notes are made before others are let by.
const manyNotes = 64

// weigh makes notes, side by side.
func (f *finder) weigh(wanted []noteKey) map[noteKey]*note {
	found := make([]*note, len(wanted))
	parallel.Shares(len(wanted), min(runtime.GOMAXPROCS(0), max(1, len(wanted)/256)), func(_, first, last int) {
		p := &prober{Survey: f.Survey, weigher: f.judge.NewWeigher(f.ruleIndex), probes: map[[2]int32]*probed{}}
		for k := first; k < last; k++ {
			if k%manyNotes == 0 {
				f.pace()
			}
			found[k] = p.note(wanted[k])
		}
	})
	out := make(map[noteKey]*note, len(wanted))
	for i, k := range wanted {
		out[k] = found[i]
	}
	return out
}

// remarkable reports whether the reason of a verdict is a finding.
func remarkable(v *verdict.Verdict) bool {
	switch v.Reason {
	case verdict.ReasonUnenforced, verdict.ReasonUninspectable, verdict.ReasonFailedOpen, verdict.ReasonNoFirewall, verdict.ReasonAsymmetric, verdict.ReasonNoWayBack:
		return true
	case verdict.ReasonNoPath:
		return v.Intended != estate.Deny
	}
	return false
}

// judged reports what is remarkable about the flows of an atom.
func (f *finder) judged(p *verdict.Probe, way *verdict.Effect, atom int, x example, where func() string) {
	src, dst := &f.classes[x.from].End, &f.classes[x.to].End
	say := func(form string, args ...any) func() string {
		return func() string { return fmt.Sprintf(form, args...) }
	}
	if p.Verdict.Contested {
		key := strings.Join(p.Contest, " ")
		if _, known := f.at[string(Contested)+" "+key]; !known {
			f.contests = append(f.contests, p.Contest)
		}
		f.add(Contested, key, x, atom, policyRefs(p.Contest), func() string {
			return fmt.Sprintf("policies %s conflict for flows from %s", strings.Join(p.Contest, " and "), where())
		})
	}
	network := func() estate.Ref {
		return estate.Ref{Kind: estate.KindNetwork, Name: f.judge.Net().Networks[src.Home.Network].Name}
	}
	if way.Kind == paths.Bypass && (p.Verdict.Outcome == verdict.Allowed || p.Verdict.Outcome == verdict.Inspected) {
		f.add(Bypass, network().Name, x, atom, []estate.Ref{network()}, say("%s reaches the internet through its own gateway and bypasses every hub and firewall", network()))
	}
	switch p.Verdict.Reason {
	case verdict.ReasonUnenforced:
		f.addAt(Unenforced, way.Kind.String(), x, atom, network(), say("intended verdicts are not enforced on %s paths in ", way.Kind))
		for _, rail := range p.Rails {
			f.add(RailNotEnforced, rail, x, atom, policyRefs([]string{rail}), func() string { return fmt.Sprintf("guardrail %s is not enforced for flows from %s", rail, where()) })
		}
	case verdict.ReasonUninspectable:
		f.addAt(Uninspectable, way.Kind.String(), x, atom, network(), say("flows to be inspected are denied, because no firewall is on %s paths in ", way.Kind))
	case verdict.ReasonFailedOpen:
		f.add(FailedOpen, p.Pool, x, atom, []estate.Ref{{Kind: estate.KindPool, Name: p.Pool}}, say("flows pass uninspected: pool %s has no healthy firewall and fails open", p.Pool))
	case verdict.ReasonNoFirewall:
		f.add(NoFirewall, p.Pool, x, atom, []estate.Ref{{Kind: estate.KindPool, Name: p.Pool}}, say("flows are denied: pool %s has no reachable healthy firewall", p.Pool))
	case verdict.ReasonAsymmetric:
		f.addBetween(Asymmetric, where(), x, atom, say("replies bypass the firewall that inspected the request, for flows from %s", where()), src, dst)
	case verdict.ReasonNoWayBack:
		f.addBetween(OneWay, f.name(dst), x, atom, say("no return path from %s: packets arrive, replies do not", f.name(dst)), dst)
	case verdict.ReasonNoPath:
		if remarkable(&p.Verdict) {
			f.addBetween(MeantUnrouted, way.Absence.String()+f.name(dst), x, atom, func() string {
				return fmt.Sprintf("flows from %s are permitted but unrouted: %s", where(), way.Absence.Words())
			}, dst, src)
		}
	}
}

// networks returns the networks of endpoints inside.
func (f *finder) networks(ends ...*verdict.Endpoint) []estate.Ref {
	var refs []estate.Ref
	for _, p := range ends {
		if !p.Internal() {
			continue
		}
		if ref := (estate.Ref{Kind: estate.KindNetwork, Name: f.judge.Net().Networks[p.Home.Network].Name}); !slices.Contains(refs, ref) {
			refs = append(refs, ref)
		}
	}
	return refs
}

// name returns what an endpoint is called in a finding: its network and segment.
func (f *finder) name(p *verdict.Endpoint) string {
	if !p.Internal() {
		return "the internet"
	}
	at := [2]int{p.Home.Network, p.Segment}
	name, known := f.names[at]
	if !known {
		net := f.judge.Net()
		name = fmt.Sprintf("network %s (%s)", net.Networks[p.Home.Network].Name, net.Segments[p.Segment])
		f.names[at] = name
	}
	return name
}

func policyRefs(names []string) []estate.Ref {
	refs := make([]estate.Ref, len(names))
	for i, n := range names {
		refs[i] = estate.Ref{Kind: estate.KindPolicy, Name: n}
	}
	return refs
}
