package app

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"bivium/core/difference"
	"bivium/core/document"
	"bivium/core/estate"
	"bivium/core/expectation"
	"bivium/core/matrix"
	"bivium/core/parallel"
	"bivium/core/trace"
	"bivium/core/verdict"
	"bivium/internal/store"
)

// ErrNoSuchPolicy is returned for a policy that the estate does not have.
var ErrNoSuchPolicy = errors.New("unknown policy")

// PolicyView is a policy as it stands, with how it fares.
type PolicyView struct {
	Revision int64         `json:"revision"`
	Policy   estate.Policy `json:"policy"`
}

// Policy returns a policy by name.
func (s *Snapshot) Policy(name string) (*PolicyView, error) {
	for i := range s.Estate.Policies {
		if s.Estate.Policies[i].Name == name {
			return &PolicyView{s.Revision, s.Estate.Policies[i]}, nil
		}
	}
	return nil, fmt.Errorf("policy %q: %w", name, ErrNoSuchPolicy)
}

// Effect is what an edit would change.
type Effect struct {
	Revision     int64         `json:"revision"`
	Cells        []CellEffect  `json:"cells"`
	Flows        []FlowEffect  `json:"flows"`
	More         int           `json:"more"`         // flows that are not shown
	Expectations []Expectation `json:"expectations"` // those that fare otherwise
}

// Fare is how an expectation fares.
type Fare string

// How expectations fare: some hold by routing alone, or for want of any flow.
const (
	Holds          Fare = "holds"
	HoldsByRouting Fare = "holds-by-routing"
	HoldsVacuously Fare = "holds-vacuously"
	Breaks         Fare = "breaks"
)

func fareOf(h *expectation.Result) Fare {
	switch {
	case !h.Holds:
		return Breaks
	case h.Vacuous:
		return HoldsVacuously
	case h.ByRouting:
		return HoldsByRouting
	}
	return Holds
}

// Expectation is an expectation that fares otherwise than before.
type Expectation struct {
	Name    string   `json:"name"`
	Before  Fare     `json:"before"`
	After   Fare     `json:"after"`
	Witness *Witness `json:"witness"` // a flow that breaks it, or null
}

// CellEffect is a cell of the board in which flows fare differently.
type CellEffect struct {
	Row     string        `json:"row"`
	Col     string        `json:"col"`
	Before  []matrix.Mark `json:"before"`
	After   []matrix.Mark `json:"after"`
	Outcome bool          `json:"outcome"` // an outcome changes, and not only who settles it
}

// FlowEffect is flows between two segments that go from one verdict to another.
type FlowEffect struct {
	From     string       `json:"from"`
	To       string       `json:"to"`
	Services ServiceWords `json:"services"`
	Before   *matrix.Mark `json:"before"` // null where there was no such flow
	After    *matrix.Mark `json:"after"`
	Pairs    string       `json:"pairs"`
	Outcome  bool         `json:"outcome"`
	Witness  Witness      `json:"witness"`
	Was      []Token      `json:"was"` // the sentence on the witness before
	Will     []Token      `json:"will"`
}

// Try returns what would change if the policy of that name were the one that
// body holds, or Problems if it cannot be.
func (s *Snapshot) Try(name string, body []byte) (*Effect, error) {
	p, err := s.tried(keyOfPlan("policy "+name, body), func() (*estate.Estate, error) { return s.withPolicy(name, body) })
	if err != nil {
		return nil, err
	}
	return s.effect(s.after(p, s.Revision, s.Known, s.Mapping), &p.changed, len(p.changed.Changes)), nil
}

// effect puts what fares differently into words; of flows, those of most at most,
// those that change outcome first.
func (s *Snapshot) effect(after *Snapshot, d *difference.Difference, most int) *Effect {
	e := s.effectOnFlows(after, d, most)
	for _, c := range d.Cells(shownNodes(d)) {
		e.Cells = append(e.Cells, CellEffect{
			NodeID(c.Row), NodeID(c.Col), append([]matrix.Mark{}, c.Before...), append([]matrix.Mark{}, c.After...), c.Outcome, // nobody may have been there
		})
	}
	return e
}

// effectOnFlows is effect without the cells of the board.
func (s *Snapshot) effectOnFlows(after *Snapshot, d *difference.Difference, most int) *Effect {
	e := &Effect{Revision: s.Revision, Cells: []CellEffect{}}
	var told parallel.Group
	told.Go(func() { e.Flows, e.More = s.flowEffects(after, d, most) })
	e.Expectations = s.faringOtherwise(after)
	told.Wait()
	return e
}

// faringOtherwise returns the expectations of both snapshots that fare otherwise in the
// later one, those that break first.
func (s *Snapshot) faringOtherwise(after *Snapshot) []Expectation {
	out := []Expectation{}
	was := map[string]Fare{}
	for _, h := range s.Analysis.Expectations.All() {
		was[h.Expectation.Name] = fareOf(&h)
	}
	for _, h := range after.Analysis.Expectations.All() {
		before, known := was[h.Expectation.Name]
		x := Expectation{Name: h.Expectation.Name, Before: before, After: fareOf(&h)}
		if !known || x.Before == x.After {
			continue
		}
		if failures := h.Failures(); len(failures) > 0 {
			w := after.witnessOf(failures[0].Witness)
			x.Witness = &w
		}
		out = append(out, x)
	}
	slices.SortStableFunc(out, func(a, b Expectation) int {
		switch {
		case a.After == Breaks && b.After != Breaks:
			return -1
		case a.After != Breaks && b.After == Breaks:
			return 1
		}
		return 0
	})
	return out
}

// flowEffects returns the flows that fare differently, most at most, those that
// change outcome first; and how many more there are.
func (s *Snapshot) flowEffects(after *Snapshot, d *difference.Difference, most int) (flows []FlowEffect, more int) {
	flows = []FlowEffect{}
	var changes []*difference.Change
	for i := range d.Changes {
		if c := &d.Changes[i]; !nobodys(c.Before, c.After) && !nobodys(c.After, c.Before) {
			changes = append(changes, c)
		}
	}
	slices.SortStableFunc(changes, func(a, b *difference.Change) int {
		switch {
		case a.Outcome() == b.Outcome():
			return 0
		case a.Outcome():
			return -1
		}
		return 1
	})
	for _, c := range changes[:min(most, len(changes))] {
		flows = append(flows, s.flowEffect(c, after))
	}
	return flows, max(0, len(changes)-most)
}

// nobodys reports whether flows that are not there on one side went nowhere on the
// other: addresses that came or went, and that nobody reaches either way.
func nobodys(absent, other *verdict.Verdict) bool {
	return absent == nil && other != nil && other.Outcome == verdict.Unrouted
}

// maxShown is how many rows of a board an effect tells the cells of, one by one.
const maxShown = 250

// shownNodes returns the rows of the board that an effect tells of: down to
// groups if they are few enough to be looked at, else the segments.
func shownNodes(d *difference.Difference) []matrix.Node {
	for _, open := range []bool{true, false} {
		if nodes := d.Nodes(func(string) bool { return open }); !open || len(nodes) <= maxShown {
			return nodes
		}
	}
	return nil
}

func (s *Snapshot) flowEffect(c *difference.Change, after *Snapshot) FlowEffect {
	f := FlowEffect{
		From: NodeID(c.From), To: NodeID(c.To), Services: after.words(c.Services),
		Pairs: grouped(c.Pairs), Outcome: c.Outcome(), Witness: s.witnessOf(c.Witness()),
	}
	if c.Before != nil {
		trace := trace.Of(s.Judge, c.Witness())
		f.Before, f.Was = &matrix.Mark{Outcome: c.Before.Outcome, Contested: c.Before.Contested}, sentence(&trace)
	}
	if c.After != nil {
		trace := trace.Of(after.Judge, c.Witness())
		f.After, f.Will = &matrix.Mark{Outcome: c.After.Outcome, Contested: c.After.Contested}, sentence(&trace)
	}
	return f
}

// withPolicy returns the estate with the policy replaced. An edit that cannot
// be read, renames the policy, or would bring a fault that is not there now,
// gives Problems, each at its field.
func (s *Snapshot) withPolicy(name string, body []byte) (*estate.Estate, error) {
	at := slices.IndexFunc(s.Estate.Policies, func(p estate.Policy) bool { return p.Name == name })
	if at < 0 {
		return nil, fmt.Errorf("policy %q: %w", name, ErrNoSuchPolicy)
	}
	policy, err := document.ReadOne[estate.Policy](body)
	var unreadable document.Errors
	if errors.As(err, &unreadable) {
		var problems Problems
		for _, e := range unreadable {
			problems = append(problems, Problem{e.Path, e.Message, e.Fix})
		}
		return nil, problems
	}
	if err != nil {
		return nil, err
	}
	if policy.Name != name {
		return nil, Problems{{"name", "the name of a policy cannot be changed here", "keep the name " + name}}
	}
	next := *s.Estate
	next.Policies = slices.Clone(s.Estate.Policies)
	next.Policies[at] = policy
	if problems := s.newFaults(&next, fmt.Sprintf("policies[%d]", at)); len(problems) > 0 {
		return nil, problems
	}
	return &next, nil
}

// newFaults returns the faults that an edit brings, at their fields.
func (s *Snapshot) newFaults(next *estate.Estate, prefix string) Problems {
	had := faultKeys(s.Faults)
	var problems Problems
	for _, f := range estate.CheckRules(next) {
		if !had[f.Path+f.Message] {
			problems = append(problems, Problem{strings.TrimPrefix(strings.TrimPrefix(f.Path, prefix), "."), f.Message, f.Fix})
		}
	}
	return problems
}

// Save replaces a policy by the one that body holds, if the estate is still at
// revision based, and returns the new snapshot.
func (a *App) Save(ctx context.Context, name string, body []byte, based int64, actor string) (*Snapshot, error) {
	var saved *Snapshot
	err := a.advance(ctx, &step{
		what: store.Edit, actor: actor, based: based, key: keyOfPlan("policy "+name, body),
		change: func(now *Snapshot) (*estate.Estate, error) { return now.withPolicy(name, body) },
		then: func(_, after *Snapshot, _ *difference.Difference) error {
			saved = after
			return nil
		},
	})
	return saved, err
}
