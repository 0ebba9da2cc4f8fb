package survey

import (
	"fmt"
	"strings"
	"sync"

	"bivium/core/estate"
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
	f.eachHubCombination(take)
	f.eachLocalCombination(take)
	f.eachDoorCombination(take)
	for _, k := range order {
		f.circumstance(k, examples[k])
	}
}

// seenIn is a circumstance with an example of it.
type seenIn struct {
	circumstance
	example
}

// eachHubCombination finds the combinations of flows that are not local, of all blocks
// side by side.
func (f *finder) eachHubCombination(take func(circumstance, example)) {
	var jobs []func()
	var found [][]seenIn
	for from := range f.inside {
		for _, b := range f.blocks[from] {
			if b == nil {
				continue
			}
			at := len(found)
			found = append(found, nil)
			jobs = append(jobs, func() { found[at] = f.combinationsIn(b) })
		}
	}
	inParallel(jobs)
	for _, list := range found {
		for _, x := range list {
			take(x.circumstance, x.example)
		}
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

// eachLocalCombination finds the combinations of local flows, and for each
// network those of which something is to be said about it.
func (f *finder) eachLocalCombination(take func(circumstance, example)) {
	type concern struct {
		network, effect int
		reasons         uint8
	}
	known := map[concern]bool{}
	told := map[combination]int{}
	for segment, classes := range f.inside {
		b := f.blocks[segment][segment]
		if b == nil {
			continue
		}
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
				take(circumstance{near, paths.None, paths.None}, x)
			}
			reasons := f.reasons[f.verdicts[near.effect][near.stance]]
			if c := (concern{src.End.Home.Network, int(near.effect), reasons}); reasons != 0 && !known[c] {
				known[c] = true
				take(circumstance{near, paths.None, c.network}, x)
			}
		})
	}
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

// probed is a probe that is kept, for the many circumstances that come to it.
type probed struct {
	verdict.Probe
	counted bool // who spoke has been noted
	plain   bool // there is nothing else to say of it
}

// probe returns what became of an opinion on ways of an effect.
func (f *finder) probe(opinion, effect int32) *probed {
	key := [2]int32{opinion, effect}
	p := f.probes[key]
	if p == nil {
		p = &probed{Probe: f.weigher.Probe(opinion, f.ledger.effectAt(effect))}
		p.plain = !p.Verdict.Contested && f.ledger.effectAt(effect).Kind != paths.Bypass && !remarkable(&p.Verdict)
		f.probes[key] = p
	}
	return p
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

func (f *finder) circumstance(k circumstance, x example) {
	where := sync.OnceValue(func() string {
		return f.name(&f.classes[x.from].End) + " to " + f.name(&f.classes[x.to].End)
	})
	context, voices := f.ledger.stanceAt(k.stance, nil)
	for atom, o := range f.weigher.Weigh(context, voices) {
		if k.publication != paths.None && !f.admits[k.publication].Test(uint(atom)) {
			continue
		}
		p := f.probe(o, k.effect)
		if !p.counted {
			p.counted = true
			for _, r := range p.Spoke {
				f.spoke[r] = true
			}
		}
		if !p.plain {
			f.judged(&p.Probe, f.ledger.effectAt(k.effect), atom, x, where)
		}
	}
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
			return fmt.Sprintf("policies %s contest, from %s", strings.Join(p.Contest, " and "), where())
		})
	}
	network := func() estate.Ref {
		return estate.Ref{Kind: estate.KindNetwork, Name: f.judge.Net().Networks[src.Home.Network].Name}
	}
	if way.Kind == paths.Bypass && (p.Verdict.Outcome == verdict.Allowed || p.Verdict.Outcome == verdict.Inspected) {
		f.add(Bypass, network().Name, x, atom, []estate.Ref{network()}, say("%s reaches the internet by a gateway of its own, past every hub and firewall", network()))
	}
	switch p.Verdict.Reason {
	case verdict.ReasonUnenforced:
		f.addAt(Unenforced, way.Kind.String(), x, atom, network(), say("nothing on %s ways enforces what is meant, in ", way.Kind))
		for _, rail := range p.Rails {
			f.add(RailNotEnforced, rail, x, atom, policyRefs([]string{rail}), func() string { return fmt.Sprintf("guardrail %s is not enforced from %s", rail, where()) })
		}
	case verdict.ReasonUninspectable:
		f.addAt(Uninspectable, way.Kind.String(), x, atom, network(), say("no firewall sees %s ways, so what is to be inspected is denied, in ", way.Kind))
	case verdict.ReasonFailedOpen:
		f.add(FailedOpen, p.Pool, x, atom, []estate.Ref{{Kind: estate.KindPool, Name: p.Pool}}, say("flows go uninspected past pool %s, which fails open", p.Pool))
	case verdict.ReasonNoFirewall:
		f.add(NoFirewall, p.Pool, x, atom, []estate.Ref{{Kind: estate.KindPool, Name: p.Pool}}, say("flows are denied because pool %q has no healthy firewall in reach", p.Pool))
	case verdict.ReasonAsymmetric:
		f.add(Asymmetric, where(), x, atom, nil, say("the reply goes past the firewall that saw the flow, from %s", where()))
	case verdict.ReasonNoWayBack:
		f.add(OneWay, f.name(dst), x, atom, nil, say("packets reach %s, and no reply finds a way back", f.name(dst)))
	case verdict.ReasonNoPath:
		if remarkable(&p.Verdict) {
			f.add(MeantUnrouted, way.Absence.String()+f.name(dst), x, atom, nil, func() string {
				return fmt.Sprintf("%s is meant to pass, and there is no path (%s)", where(), way.Absence)
			})
		}
	}
}

// name returns what an endpoint is called in a finding: its network and segment.
func (f *finder) name(p *verdict.Endpoint) string {
	if !p.Internal() {
		return "the internet"
	}
	net := f.judge.Net()
	return fmt.Sprintf("network %s (%s)", net.Networks[p.Home.Network].Name, net.Segments[p.Segment])
}

func policyRefs(names []string) []estate.Ref {
	refs := make([]estate.Ref, len(names))
	for i, n := range names {
		refs[i] = estate.Ref{Kind: estate.KindPolicy, Name: n}
	}
	return refs
}
