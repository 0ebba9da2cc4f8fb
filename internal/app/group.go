package app

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"bivium/core/estate"
	"bivium/internal/store"
)

// Members returns the workloads that a selector of labels would take, of all
// there are: the first of them, and how many there are.
func (s *Snapshot) Members(selector string) (some []string, count int, err error) {
	parsed, err := estate.ParseSelector(selector)
	if err != nil {
		wrong, _, _ := strings.Cut(err.Error(), "; ")
		return nil, 0, &Problem{"match", wrong, "write key=value, key in (a, b), key or !key, several with commas between"}
	}
	some = []string{}
	for i := range s.Estate.Workloads {
		if w := &s.Estate.Workloads[i]; parsed.Matches(w.Labels) {
			if count++; len(some) < 4*maxNamed {
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
		return nil, &Problem{"name", err.Error(), "write a short name in small letters"}
	}
	if g.Match == "" {
		return nil, &Problem{"match", "the group would hold nobody", "write what labels its members have, such as app=portal"}
	}
	if _, _, err := a.Now().Members(g.Match); err != nil {
		return nil, err
	}
	_, _, effect, err := a.amend(ctx, based, actor, func(e *estate.Estate) error {
		if slices.ContainsFunc(e.Groups, func(o estate.Group) bool { return o.Name == g.Name }) {
			return &Problem{"name", fmt.Sprintf("there is a group %s already", g.Name), "choose another name"}
		}
		e.Groups = append(slices.Clip(e.Groups), g)
		return nil
	})
	return effect, err
}

// amend stores an edit of the estate that f makes, and returns the snapshots before
// and after it, and what it changed.
func (a *App) amend(ctx context.Context, based int64, actor string, f func(*estate.Estate) error) (before, after *Snapshot, effect *Effect, err error) {
	a.edit.Lock()
	defer a.edit.Unlock()
	now := a.Now()
	if now.Revision != based {
		return nil, nil, nil, &store.StaleError{Based: based, Current: now.Revision}
	}
	next := *now.Estate
	if err := f(&next); err != nil {
		return nil, nil, nil, err
	}
	after, d := now.following(&next, now.Revision+1, now.Known, now.Mapping)
	if _, err := a.Store.Change(ctx, &store.Revision{Before: now.Estate, After: &next, Based: based, Actor: actor, At: a.Clock()}); err != nil {
		return nil, nil, nil, err
	}
	a.show(after)
	e := now.effect(after, &d, maxFlows)
	e.Revision = after.Revision
	return now, after, e, nil
}
