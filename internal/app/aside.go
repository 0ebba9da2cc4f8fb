package app

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"bivium/core/document"
	"bivium/core/estate"
	"bivium/internal/app/consequence"
	"bivium/internal/app/view"
	"bivium/internal/store"
)

// Repair puts a thing that was set aside back into the estate as body has it, if the estate
// is still at revision based.
func (a *App) Repair(ctx context.Context, id int64, body []byte, based int64, actor string) (*consequence.Effect, error) {
	s := &step{what: store.Edit, actor: actor, based: based, repaired: id}
	s.plan = leadsTo(func(now *view.Snapshot) (*estate.Estate, error) {
		at := slices.IndexFunc(now.Aside, func(o store.Aside) bool { return o.ID == id })
		if at < 0 {
			return nil, fmt.Errorf("thing %d that was set aside: %w", id, store.ErrNotFound)
		}
		next, err := document.With(now.Estate, now.Aside[at].List, body)
		var wrong document.Errors
		if errors.As(err, &wrong) {
			var problems view.Problems
			for _, e := range wrong {
				problems = append(problems, view.Problem{At: e.Path, Message: e.Message, Fix: e.Fix})
			}
			return nil, problems
		}
		return next, err
	})
	return a.edited(ctx, s)
}

// RemoveAside removes a thing that was set aside for good.
func (a *App) RemoveAside(ctx context.Context, id int64) error {
	a.edit.Lock()
	defer a.edit.Unlock()
	if err := a.Store.DropAside(ctx, id); err != nil {
		return err
	}
	a.show(without(a.Now(), id))
	return nil
}

// without returns the snapshot without a thing that was set aside.
func without(s *view.Snapshot, id int64) *view.Snapshot {
	at := slices.IndexFunc(s.Aside, func(o store.Aside) bool { return o.ID == id })
	if at < 0 {
		return s
	}
	next := *s
	next.Faults = slices.Concat(s.Faults[:at], s.Faults[at+1:])
	next.Aside = slices.Concat(s.Aside[:at], s.Aside[at+1:])
	next.Later = &view.Later{}
	return &next
}
