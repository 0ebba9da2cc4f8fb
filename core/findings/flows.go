package findings

import (
	"maps"
	"runtime"
	"slices"
	"strings"
	"sync"

	"bivium/core/estate"
	"bivium/core/matrix"
	"bivium/core/membership"
	"bivium/core/parallel"
	"bivium/core/paths"
	"bivium/core/verdict"
)

// flows looks at each circumstance once, with a pair of classes that has it.
func (f *finder) flows() {
	e := gatherExamples(f, func(c findingCase) findingCase { return c })
	f.report(e.order, e.best)
}

// reasonsOf returns, by vector, a mask of those of its reasons that say
// something about the network on whose way the flows are.
func reasonsOf(s *matrix.Matrix) []uint8 {
	out := make([]uint8, len(s.Vectors))
	for i, v := range s.Vectors {
		for _, r := range v {
			switch s.Results[r].Reason {
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
	*matrix.Matrix
	weigher *verdict.Memo
	probes  map[[2]int32]*probed // by intent and effect
}

// probed is a probe that is kept.
type probed struct {
	verdict.Explanation
	plain bool // there is nothing to say of it but who spoke
}

func (f *finder) newProber() *prober {
	return &prober{Matrix: f.Matrix, weigher: f.Judge.NewMemo(f.RuleIndex), probes: map[[2]int32]*probed{}}
}

// probe returns what became of an intent on paths of an effect.
func (f *prober) probe(intent, effect int32) *probed {
	key := [2]int32{intent, effect}
	p := f.probes[key]
	if p == nil {
		p = &probed{Explanation: f.weigher.Explain(intent, f.Interner.EffectAt(effect))}
		p.plain = !p.Verdict.Contested && f.Interner.EffectAt(effect).Kind != paths.Bypass && !remarkable(&p.Verdict)
		f.probes[key] = p
	}
	return p
}

// remark is a probe of an atom about which there is something to say.
type remark struct {
	atom  int
	probe *probed
}

// noteStore keeps what there is to say of combinations. It serves the matrices that come of one
// by edits, but for the rule sets whose terms say something else.
type noteStore struct {
	mu    sync.Mutex
	known map[noteKey]*note
}

// noteKey is a combination, through one publication or none.
type noteKey struct {
	matrix.Combination
	publication int
}

// note is what there is to say of a combination, and all probes that were made of it.
type note struct {
	remarks []remark
	probes  []*probed
}

// after returns the notes without some.
func (n *noteStore) after(gone func(noteKey) bool) *noteStore {
	n.mu.Lock()
	defer n.mu.Unlock()
	out := &noteStore{known: maps.Clone(n.known)}
	maps.DeleteFunc(out.known, func(k noteKey, _ *note) bool { return gone(k) })
	return out
}

// merge adds notes.
func (n *noteStore) merge(fresh map[noteKey]*note) {
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.known == nil {
		n.known = map[noteKey]*note{}
	}
	maps.Copy(n.known, fresh)
}

// all returns the notes of now.
func (n *noteStore) all() map[noteKey]*note {
	n.mu.Lock()
	defer n.mu.Unlock()
	return maps.Clone(n.known)
}

// note weighs a combination.
func (f *prober) note(k noteKey) *note {
	out := &note{}
	context, terms := f.Interner.RuleSetAt(k.RuleSet, nil)
	var p *probed
	last := int32(-1) // intent: that of most atoms is that of the one before
	for atom, o := range f.weigher.Intents(context, terms) {
		if k.publication != paths.None && !f.Admits[k.publication].Test(uint(atom)) {
			continue
		}
		if o != last {
			if p, last = f.probe(o, k.Effect), o; !slices.Contains(out.probes, p) {
				out.probes = append(out.probes, p)
			}
		}
		if !p.plain {
			out.remarks = append(out.remarks, remark{atom, p})
		}
	}
	return out
}

// report weighs circumstances side by side, those of which there is no note yet, and
// says what is remarkable of them in their order.
func (f *finder) report(order []findingCase, examples map[findingCase]example) {
	known := f.book.notes.all()
	missing := map[noteKey]bool{}
	var wanted []noteKey
	for _, c := range order {
		if k := c.noteKey(); known[k] == nil && !missing[k] {
			missing[k] = true
			wanted = append(wanted, k)
		}
	}
	fresh := f.weigh(wanted)
	f.book.notes.merge(fresh)
	for _, c := range order {
		n := known[c.noteKey()]
		if n == nil {
			n = fresh[c.noteKey()]
		}
		x := examples[c]
		where := sync.OnceValue(func() []string {
			return append(f.placeOf(&f.Classes[x.from].End), f.placeOf(&f.Classes[x.to].End)...)
		})
		for _, p := range n.probes {
			for _, r := range p.Spoke {
				f.spoke[r] = true
			}
		}
		for _, r := range n.remarks {
			f.reportOne(&r.probe.Explanation, f.Interner.EffectAt(c.Effect), r.atom, x, where)
		}
	}
}

// noteKey returns what the note on a circumstance goes by.
func (c *findingCase) noteKey() noteKey { return noteKey{c.Combination, c.publication} }

// manyNotes is how many notes are made before others are let by.
const manyNotes = 64

// weigh makes notes, side by side.
func (f *finder) weigh(wanted []noteKey) map[noteKey]*note {
	found := make([]*note, len(wanted))
	parallel.Shares(len(wanted), min(runtime.GOMAXPROCS(0), max(1, len(wanted)/256)), func(_, first, last int) {
		p := f.newProber()
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

// reportOne reports what is remarkable about the flows of an atom.
func (f *finder) reportOne(p *verdict.Explanation, way *verdict.Effect, atom int, x example, where func() []string) {
	src, dst := &f.Classes[x.from].End, &f.Classes[x.to].End
	args := func(list ...string) func() []string { return func() []string { return list } }
	if p.Verdict.Contested {
		key := strings.Join(p.Contest, " ")
		if _, known := f.at[string(Contested)+" "+key]; !known {
			f.contests = append(f.contests, p.Contest)
		}
		f.add(Contested, key, x, atom, policyRefs(p.Contest), func() []string { return slices.Concat(where(), p.Contest) })
	}
	network := func() estate.Ref {
		return estate.Ref{Kind: estate.KindNetwork, Name: f.Judge.Net.Networks[src.Home.Network].Name}
	}
	if way.Kind == paths.Bypass && (p.Verdict.Outcome == verdict.Allowed || p.Verdict.Outcome == verdict.Inspected) {
		f.add(Bypass, network().Name, x, atom, []estate.Ref{network()}, args(network().Name))
	}
	switch p.Verdict.Reason {
	case verdict.ReasonUnenforced:
		f.addAt(Unenforced, way.Kind.String(), x, atom, network(), args(way.Kind.String()))
		for _, guardrail := range p.Rails {
			f.add(RailNotEnforced, guardrail, x, atom, policyRefs([]string{guardrail}), func() []string { return append([]string{guardrail}, where()...) })
		}
	case verdict.ReasonUninspectable:
		f.addAt(Uninspectable, way.Kind.String(), x, atom, network(), args(way.Kind.String()))
	case verdict.ReasonFailedOpen:
		f.add(FailedOpen, p.Pool, x, atom, []estate.Ref{{Kind: estate.KindPool, Name: p.Pool}}, args(p.Pool))
	case verdict.ReasonNoFirewall:
		f.add(NoFirewall, p.Pool, x, atom, []estate.Ref{{Kind: estate.KindPool, Name: p.Pool}}, args(p.Pool))
	case verdict.ReasonAsymmetric:
		f.addBetween(Asymmetric, strings.Join(where(), " "), x, atom, where, src, dst)
	case verdict.ReasonNoWayBack:
		f.addBetween(OneWay, strings.Join(f.placeOf(dst), " "), x, atom, args(f.placeOf(dst)...), dst)
	case verdict.ReasonNoPath:
		if remarkable(&p.Verdict) {
			end, word := src, "from"
			if farEnd(way.Absence) {
				end, word = dst, "to"
			}
			about := append([]string{way.Absence.String(), word}, f.placeOf(end)...)
			f.addBetween(MeantUnrouted, strings.Join(about, " "), x, atom, args(about...), end)
		}
	}
}

// networks returns the networks of endpoints inside.
func (f *finder) networks(ends ...*membership.Endpoint) []estate.Ref {
	var refs []estate.Ref
	for _, p := range ends {
		if !p.Internal() {
			continue
		}
		if ref := (estate.Ref{Kind: estate.KindNetwork, Name: f.Judge.Net.Networks[p.Home.Network].Name}); !slices.Contains(refs, ref) {
			refs = append(refs, ref)
		}
	}
	return refs
}

// placeOf returns the network and the segment of an endpoint: two empty names for the
// internet.
func (f *finder) placeOf(p *membership.Endpoint) []string {
	if !p.Internal() {
		return []string{"", ""}
	}
	net := f.Judge.Net
	return []string{net.Networks[p.Home.Network].Name, net.Segments[p.Segment]}
}

func policyRefs(names []string) []estate.Ref {
	refs := make([]estate.Ref, len(names))
	for i, n := range names {
		refs[i] = estate.Ref{Kind: estate.KindPolicy, Name: n}
	}
	return refs
}
