package rules

import (
	"bivium/core/estate"
	"bivium/core/findings"
	"bivium/core/verdict"
	"bivium/internal/app/view"
	"bivium/internal/wording"

	"bivium/core/trace"
)

// Decided is what each rule of a policy, share or rulebook decides.
type Decided struct {
	Revision int64         `json:"revision"`
	Rules    []RuleDecides `json:"rules"` // in their order
}

// RuleDecides is what one rule decides.
type RuleDecides struct {
	Rule       int         `json:"rule"`       // its place, from 1
	ShadowedBy []int       `json:"shadowedBy"` // the earlier rules that contain all of its flows
	Flows      []FlowsOfIt `json:"flows"`      // none where no flow reaches it
}

// FlowsOfIt is the flows of a rule that have one outcome in the end.
type FlowsOfIt struct {
	Outcome  verdict.Outcome   `json:"outcome"`
	Counts   bool              `json:"counts"` // the rule made it so; otherwise something overrides it, or asks for more
	Services view.ServiceWords `json:"services"`
	Witness  view.Witness      `json:"witness"`
	Sentence []wording.Token   `json:"sentence"` // on the witness
}

// DecidedBy returns what each rule of an object decides; nil where there is no such list of rules.
// Cost: see findings.Book.Decided.
func DecidedBy(s *view.Snapshot, ref estate.Ref) *Decided {
	n := rulesIn(s.Estate, ref)
	if n < 0 {
		return nil
	}
	out := &Decided{Revision: s.Revision, Rules: make([]RuleDecides, n)}
	shadowed := findings.Shadowed(s.Judge, ref)
	for i := range out.Rules {
		out.Rules[i] = RuleDecides{Rule: i + 1, ShadowedBy: []int{}, Flows: []FlowsOfIt{}}
		for _, by := range shadowed[i] {
			out.Rules[i].ShadowedBy = append(out.Rules[i].ShadowedBy, by+1)
		}
	}
	for _, d := range s.Analysis.Findings.Decided(ref) {
		t := trace.Of(s.Judge, d.Witness)
		r := &out.Rules[d.Rule]
		r.Flows = append(r.Flows, FlowsOfIt{d.Outcome, d.Counts, s.Words(d.Services), s.WitnessOf(d.Witness), wording.Sentence(&t)})
	}
	return out
}

// rulesIn returns how many rules an object has, -1 where it is none that has any.
func rulesIn(e *estate.Estate, ref estate.Ref) int {
	switch ref.Kind {
	case estate.KindPolicy:
		if p := find(e.Policies, ref.Name, func(p *estate.Policy) string { return p.Name }); p != nil {
			return len(p.Rules)
		}
	case estate.KindShare:
		if h := find(e.Shares, ref.Name, func(h *estate.Share) string { return h.Name }); h != nil {
			return len(h.Rules)
		}
	case estate.KindRulebook:
		if b := find(e.Rulebooks, ref.Name, func(b *estate.Rulebook) string { return b.Name }); b != nil {
			return len(b.Rules)
		}
	}
	return -1
}
