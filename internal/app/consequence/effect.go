package consequence

import (
	"slices"

	"bivium/core/difference"
	"bivium/core/estate"
	"bivium/core/matrix"
	"bivium/core/parallel"
	"bivium/core/trace"
	"bivium/core/verdict"
	"bivium/internal/app/view"
	"bivium/internal/wording"
)

// MaxFlows is how many flows that change are told.
const MaxFlows = 40

// Effect is what an edit would change.
type Effect struct {
	Revision     int64         `json:"revision"`
	Cells        []CellEffect  `json:"cells"`
	Flows        []FlowEffect  `json:"flows"`
	More         int           `json:"more"`         // flows that are not shown
	Expectations []Expectation `json:"expectations"` // those whose status changes
}

// Expectation is an expectation whose status changes.
type Expectation struct {
	Name    string                 `json:"name"`
	Before  view.ExpectationStatus `json:"before"`
	After   view.ExpectationStatus `json:"after"`
	Witness *view.Witness          `json:"witness"` // a flow that breaks it, or null
}

// CellEffect is a cell of the board in which flows change.
type CellEffect struct {
	Row     string        `json:"row"`
	Col     string        `json:"col"`
	Before  []matrix.Mark `json:"before"`
	After   []matrix.Mark `json:"after"`
	Outcome bool          `json:"outcome"` // an outcome changes, and not only who settles it
}

// FlowEffect is flows between two segments that go from one verdict to another.
type FlowEffect struct {
	From     string            `json:"from"`
	To       string            `json:"to"`
	Services view.ServiceWords `json:"services"`
	Before   *matrix.Mark      `json:"before"` // null where there was no such flow
	After    *matrix.Mark      `json:"after"`
	Pairs    string            `json:"pairs"`
	Outcome  bool              `json:"outcome"`
	Witness  view.Witness      `json:"witness"`
	Was      []wording.Token   `json:"was"` // the sentence on the witness before
	Will     []wording.Token   `json:"will"`
}

// EffectOf puts what changes into words; of flows, those of most at most,
// those that change outcome first.
func EffectOf(s *view.Snapshot, after *view.Snapshot, d *difference.Difference, most int) *Effect {
	e := EffectOnFlows(s, after, d, most)
	for _, c := range d.Cells(shownNodes(s.Estate, after.Estate, d)) {
		e.Cells = append(e.Cells, CellEffect{
			view.NodeID(c.Row), view.NodeID(c.Col), append([]matrix.Mark{}, c.Before...), append([]matrix.Mark{}, c.After...), c.Outcome, // nobody may have been there
		})
	}
	return e
}

// EffectOnFlows is EffectOf without the cells of the board.
func EffectOnFlows(s *view.Snapshot, after *view.Snapshot, d *difference.Difference, most int) *Effect {
	e := &Effect{Revision: s.Revision, Cells: []CellEffect{}}
	var told parallel.Group
	told.Go(func() { e.Flows, e.More = flowEffects(s, after, d, most) })
	e.Expectations = otherExpectations(s, after)
	told.Wait()
	return e
}

// otherExpectations returns the expectations of both snapshots whose status is another in the
// later one, those that break first.
func otherExpectations(s *view.Snapshot, after *view.Snapshot) []Expectation {
	out := []Expectation{}
	was := map[string]view.ExpectationStatus{}
	for _, h := range s.Analysis.Expectations.All() {
		was[h.Expectation.Name] = view.StatusOf(&h)
	}
	for _, h := range after.Analysis.Expectations.All() {
		before, known := was[h.Expectation.Name]
		x := Expectation{Name: h.Expectation.Name, Before: before, After: view.StatusOf(&h)}
		if !known || x.Before == x.After {
			continue
		}
		if failures := h.Failures(); len(failures) > 0 {
			w := after.WitnessOf(failures[0].Witness)
			x.Witness = &w
		}
		out = append(out, x)
	}
	slices.SortStableFunc(out, func(a, b Expectation) int {
		switch {
		case a.After == view.Breaks && b.After != view.Breaks:
			return -1
		case a.After != view.Breaks && b.After == view.Breaks:
			return 1
		}
		return 0
	})
	return out
}

// flowEffects returns the flows that change, most at most, those that
// change outcome first; and how many more there are.
func flowEffects(s *view.Snapshot, after *view.Snapshot, d *difference.Difference, most int) (flows []FlowEffect, more int) {
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
		flows = append(flows, flowEffect(s, c, after))
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
func shownNodes(before, after *estate.Estate, d *difference.Difference) []matrix.Node {
	few := max(len(before.Groups), len(after.Groups)) <= maxShown // else there are more rows, mostly; finding them takes long
	for _, open := range []bool{few, false} {
		if nodes := d.Nodes(func(string) bool { return open }); !open || len(nodes) <= maxShown {
			return nodes
		}
	}
	return nil
}

func flowEffect(s *view.Snapshot, c *difference.Change, after *view.Snapshot) FlowEffect {
	f := FlowEffect{
		From: view.NodeID(c.From), To: view.NodeID(c.To), Services: after.Words(c.Services),
		Pairs: view.Grouped(c.Pairs), Outcome: c.Outcome(), Witness: s.WitnessOf(c.Witness()),
	}
	if c.Before != nil {
		trace := trace.Of(s.Judge, c.Witness())
		f.Before, f.Was = &matrix.Mark{Outcome: c.Before.Outcome, Contested: c.Before.Contested}, wording.Sentence(&trace)
	}
	if c.After != nil {
		trace := trace.Of(after.Judge, c.Witness())
		f.After, f.Will = &matrix.Mark{Outcome: c.After.Outcome, Contested: c.After.Contested}, wording.Sentence(&trace)
	}
	return f
}
