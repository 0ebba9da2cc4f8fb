package app

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"bivium/core/difference"
	"bivium/core/estate"
	"bivium/internal/app/view"
	"bivium/internal/store"
)

// Members returns the workloads that a selector of labels would take, of all
// there are: the first of them, and how many there are.
func Members(s *view.Snapshot, selector string) (some []string, count int, err error) {
	parsed, err := estate.ParseSelector(selector)
	if err != nil {
		wrong, _, _ := strings.Cut(err.Error(), "; ")
		return nil, 0, &view.Problem{At: "match", Message: wrong, Fix: "write key=value, key in (a, b), key or !key, separated by commas"}
	}
	some = []string{}
	for i := range s.Estate.Workloads {
		if w := &s.Estate.Workloads[i]; parsed.Matches(w.Labels) {
			if count++; len(some) < 4*view.MaxNamed {
				some = append(some, w.Name)
			}
		}
	}
	return some, count, nil
}

// PutGroup adds a group of workloads by a selector of their labels, if the estate
// is still at revision based.
func (a *App) PutGroup(ctx context.Context, g estate.Group, based int64, actor string) (*Effect, error) {
	if err := estate.CheckName(g.Name); err != nil {
		return nil, &view.Problem{At: "name", Message: err.Error(), Fix: "use a short name in lower case"}
	}
	if g.Match == "" {
		return nil, &view.Problem{At: "match", Message: "the group would have no members", Fix: "enter the labels of its members, such as app=portal"}
	}
	if _, _, err := Members(a.Now(), g.Match); err != nil {
		return nil, err
	}
	return a.edited(ctx, &step{what: store.Edit, actor: actor, based: based, change: func(now *view.Snapshot) (*estate.Estate, error) {
		if slices.ContainsFunc(now.Estate.Groups, func(o estate.Group) bool { return o.Name == g.Name }) {
			return nil, &view.Problem{At: "name", Message: fmt.Sprintf("group %s already exists", g.Name), Fix: "choose another name"}
		}
		next := *now.Estate
		next.Groups = append(slices.Clip(next.Groups), g)
		return &next, nil
	}})
}

// edited takes a step, and returns what it changed.
func (a *App) edited(ctx context.Context, s *step) (*Effect, error) {
	var out *Effect
	s.then = func(before, after *view.Snapshot, d *difference.Difference) error {
		out = effect(before, after, d, maxFlows)
		out.Revision = after.Revision
		return nil
	}
	if err := a.advance(ctx, s); err != nil {
		return nil, err
	}
	if out == nil { // there was nothing to do
		out = &Effect{Revision: a.Now().Revision, Cells: []CellEffect{}, Flows: []FlowEffect{}, Expectations: []Expectation{}}
	}
	return out, nil
}
