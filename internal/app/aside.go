package app

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"bivium/core/document"
	"bivium/core/estate"
	"bivium/internal/store"
)

// AsideView is a stored thing that could not be read when the database was opened.
type AsideView struct {
	ID   int64  `json:"id"`
	Body string `json:"body"` // as it was stored
}

// unreadable is the code of the fault that a thing which was set aside is. It stands before
// those of the model.
const unreadable estate.Code = "F0"

// asideFaults returns the faults that things are which were set aside.
func asideFaults(list []store.Aside) []estate.Fault {
	var out []estate.Fault
	for i := range list {
		o := &list[i]
		out = append(out, estate.Fault{
			Code: unreadable, Path: o.List, Refs: []estate.Ref{{Kind: estate.Kind(strings.TrimSuffix(o.List, "s")), Name: o.Key}},
			Message: fmt.Sprintf("%s %s cannot be read and is left out of the estate: %s", o.List, o.Key, firstLine(o.Why)),
			Fix:     "correct the stored object, or remove it",
		})
	}
	return out
}

func firstLine(text string) string {
	line, _, _ := strings.Cut(text, "\n")
	return line
}

// Repair puts a thing that was set aside back into the estate as body has it, if the estate
// is still at revision based.
func (a *App) Repair(ctx context.Context, id int64, body []byte, based int64, actor string) (*Effect, error) {
	s := &step{what: store.Edit, actor: actor, based: based, repaired: id}
	s.change = func(now *Snapshot) (*estate.Estate, error) {
		at := slices.IndexFunc(now.Aside, func(o store.Aside) bool { return o.ID == id })
		if at < 0 {
			return nil, fmt.Errorf("thing %d that was set aside: %w", id, store.ErrNotFound)
		}
		next, err := document.With(now.Estate, now.Aside[at].List, body)
		var wrong document.Errors
		if errors.As(err, &wrong) {
			var problems Problems
			for _, e := range wrong {
				problems = append(problems, Problem{e.Path, e.Message, e.Fix})
			}
			return nil, problems
		}
		return next, err
	}
	return a.edited(ctx, s)
}

// RemoveAside removes a thing that was set aside for good.
func (a *App) RemoveAside(ctx context.Context, id int64) error {
	a.edit.Lock()
	defer a.edit.Unlock()
	if err := a.Store.DropAside(ctx, id); err != nil {
		return err
	}
	a.show(a.Now().without(id))
	return nil
}

// without returns the snapshot without a thing that was set aside.
func (s *Snapshot) without(id int64) *Snapshot {
	at := slices.IndexFunc(s.Aside, func(o store.Aside) bool { return o.ID == id })
	if at < 0 {
		return s
	}
	next := *s
	next.Faults = slices.Concat(s.Faults[:at], s.Faults[at+1:])
	next.Aside = slices.Concat(s.Aside[:at], s.Aside[at+1:])
	next.later = &later{}
	return &next
}
