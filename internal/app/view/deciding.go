package view

import (
	"cmp"
	"fmt"
	"maps"
	"math/big"
	"slices"
	"strings"

	"bivium/core/estate"
	"bivium/core/matrix"
	"bivium/core/query"
	"bivium/core/space"
	"bivium/core/trace"
	"bivium/core/verdict"
	"bivium/internal/wording"
)

// Deciding is what decides some flows.
type Deciding struct {
	Question Question  `json:"question"` // an end or service that is "" stands for every one
	Revision int64     `json:"revision"`
	Deciders []Decider `json:"deciders"` // what lets flows pass first, and of that what lets the most pass
	Hidden   int       `json:"hidden"`   // how many there are beside those
}

// Decider is a rule object, or the default of a segment, with the flows that have one outcome because
// of it.
type Decider struct {
	Thing    Thing           `json:"thing"` // of kind "" where nothing that is written decides
	Reason   verdict.Reason  `json:"reason"`
	Outcome  verdict.Outcome `json:"outcome"`
	Services ServiceWords    `json:"services"`
	Between  []string        `json:"between"` // the segments from and to which the flows go, the first few
	More     int             `json:"more"`    // how many there are beside those
	Sentence []wording.Token `json:"sentence"`
	Witness  Witness         `json:"witness"` // one of the flows
	pairs    *big.Int        // of addresses
}

// mostDeciders and mostBetween are how many are told one by one.
const (
	mostDeciders = 200
	mostBetween  = 6
)

// Deciding returns what decides the flows from some endpoints to others on some services, exactly: a
// policy, guardrail, share or rulebook that decides any of them is listed. An end that is left open
// stands for everything, and so does a service; outcome "" stands for all. Cost: a cell of the matrix
// for each segment that an open end stands for.
func (s *Snapshot) Deciding(q Question, outcome verdict.Outcome) (*Deciding, error) {
	if outcome != "" && !slices.Contains(verdict.Outcomes, outcome) {
		return nil, &Problem{At: "outcome", Message: fmt.Sprintf("%q is not an outcome", outcome), Fix: "choose allowed, inspected, blocked, denied or unrouted"}
	}
	froms, err := s.endsFor("from", q.From)
	if err != nil {
		return nil, err
	}
	tos, err := s.endsFor("to", q.To)
	if err != nil {
		return nil, err
	}
	on := q.On
	if strings.TrimSpace(on) == "" {
		on = "any"
	}
	terms, err := s.FindTerms(on)
	if err != nil {
		return nil, err
	}
	sv := s.Matrix.Refine(terms)
	atoms, _ := sv.AtomsOf(terms)
	g := deciders{snapshot: s, at: map[decidedBy]*decided{}}
	for _, from := range froms {
		for _, to := range tos {
			if from.internet && to.internet {
				if len(froms)*len(tos) == 1 {
					_, err := s.narrow(from, to)
					return nil, err
				}
				continue
			}
			set, err := s.narrow(from, to)
			if err != nil {
				return nil, err
			}
			for _, l := range query.Detail(sv, from.set, set, atoms, 0) {
				g.add(&l, outcome)
			}
		}
	}
	out := &Deciding{Question: q, Revision: s.Revision, Deciders: g.told()}
	if n := len(out.Deciders) - mostDeciders; n > 0 {
		out.Deciders, out.Hidden = out.Deciders[:mostDeciders], n
	}
	return out, nil
}

// endsFor returns the end that a text names, or for none each segment and the internet.
func (s *Snapshot) endsFor(field, text string) ([]*end, error) {
	if strings.TrimSpace(text) != "" {
		e, err := s.findEnd(field, text)
		return []*end{e}, err
	}
	out := []*end{{text: verdict.Internet, internet: true, set: s.Matrix.SetOf(matrix.Node{Kind: matrix.NodeInternet})}}
	for i, name := range s.Judge.Net.Segments {
		if set := s.Matrix.SetOf(matrix.Node{Kind: matrix.NodeSegment, Segment: name}); len(set) > 0 {
			out = append(out, &end{text: name, segment: i, set: set})
		}
	}
	return out, nil
}

// decidedBy tells deciders from each other.
type decidedBy struct {
	thing   Thing
	reason  verdict.Reason
	outcome verdict.Outcome
}

// decided is the flows of one decider.
type decided struct {
	boxes   []space.Box
	pairs   big.Int // of one service each
	between map[string]bool
	most    *big.Int // of the part that the witness is of
	witness verdict.Flow
}

type deciders struct {
	snapshot *Snapshot
	at       map[decidedBy]*decided
}

func (g *deciders) add(l *query.Line, outcome verdict.Outcome) {
	for i := range l.Parts {
		p := &l.Parts[i]
		if v := &p.Verdict; outcome != "" && v.Outcome != outcome || v.Reason == verdict.ReasonUnknown {
			continue
		}
		for _, thing := range g.things(p) {
			key := decidedBy{thing, p.Verdict.Reason, p.Verdict.Outcome}
			d := g.at[key]
			if d == nil {
				d = &decided{between: map[string]bool{}}
				g.at[key] = d
			}
			d.boxes = append(d.boxes, l.Services.Boxes()...)
			d.pairs.Add(&d.pairs, p.Pairs)
			d.between[g.between(&p.Witness)] = true
			if d.most == nil || p.Pairs.Cmp(d.most) > 0 {
				d.most, d.witness = p.Pairs, p.Witness
			}
		}
	}
}

// things returns what decides a part.
func (g *deciders) things(p *query.Part) []Thing {
	v := &p.Verdict
	kind := map[verdict.Reason]estate.Kind{
		verdict.ReasonPolicy: estate.KindPolicy, verdict.ReasonGuardrail: estate.KindPolicy, verdict.ReasonShare: estate.KindShare, verdict.ReasonRulebook: estate.KindRulebook,
	}[v.Reason]
	if v.Reason == verdict.ReasonDefault && p.Witness.Segment != verdict.Internet {
		return []Thing{{string(estate.KindSegment), p.Witness.Segment}}
	}
	if kind == "" || len(v.By) == 0 {
		return []Thing{{}}
	}
	out := make([]Thing, len(v.By))
	for i, name := range v.By {
		out[i] = Thing{string(kind), name}
	}
	return out
}

// between says from and to which segments a flow goes.
func (g *deciders) between(f *verdict.Flow) string {
	to := verdict.Internet
	if d := g.snapshot.Judge.Decide(*f); d.Dst.Internal() {
		to = g.snapshot.Judge.Net.Segments[d.Dst.Segment]
	}
	return f.Segment + " → " + to
}

func (g *deciders) told() []Decider {
	out := []Decider{}
	for key, d := range g.at {
		t := trace.Of(g.snapshot.Judge, d.witness)
		x := Decider{
			Thing: key.thing, Reason: key.reason, Outcome: key.outcome, Services: g.snapshot.Words(space.Of(d.boxes)),
			Between: slices.Sorted(maps.Keys(d.between)), Sentence: wording.Sentence(&t), Witness: g.snapshot.WitnessOf(d.witness), pairs: &d.pairs,
		}
		if n := len(x.Between) - mostBetween; n > 0 {
			x.Between, x.More = x.Between[:mostBetween], n
		}
		out = append(out, x)
	}
	slices.SortFunc(out, func(a, b Decider) int {
		return cmp.Or(cmp.Compare(slices.Index(verdict.Outcomes, a.Outcome), slices.Index(verdict.Outcomes, b.Outcome)), b.pairs.Cmp(a.pairs), strings.Compare(a.Thing.Name, b.Thing.Name), strings.Compare(string(a.Reason), string(b.Reason)))
	})
	return out
}
