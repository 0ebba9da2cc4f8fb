package app

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"bivium/core/document"
	"bivium/core/estate"
	"bivium/core/inventory"
	"bivium/internal/app/consequence"
	"bivium/internal/app/view"
	"bivium/internal/store"
)

// LastStep is how the estate came to be what it is, and whether that can be taken back.
type LastStep struct {
	Revision int64              `json:"revision"`
	Why      string             `json:"why"` // it cannot be taken back; "" if it can
	Actor    string             `json:"actor"`
	At       *time.Time         `json:"at"` // nil where nobody knows
	Changes  []inventory.Change `json:"changes"`
	More     int                `json:"more"` // changes that are not told
}

// maxUndone is how many changes of a step are told.
const maxUndone = 20

// Last returns the step that led to a snapshot. Cost: what it changed.
func (a *App) Last(ctx context.Context, s *view.Snapshot) (*LastStep, error) {
	out := &LastStep{Revision: s.Revision, Changes: []inventory.Change{}}
	step, err := a.Store.MadeBy(ctx, out.Revision)
	if errors.Is(err, store.ErrNotFound) {
		out.Why = "this is the first revision"
		return out, nil
	}
	if err != nil {
		return nil, err
	}
	out.Actor, out.At = step.Actor, &step.At
	account, read := strings.CutPrefix(step.What, "sync of ")
	switch {
	case read:
		out.Why = fmt.Sprintf("this came from the last sync of %s: the next sync would restore it", account)
	case step.What == "routers":
		out.Why = "routers announced this: accept or refuse the prefix instead"
	case step.What != store.Edit:
		out.Why = "the tag mapping made this change: edit the mapping instead"
	}
	var changes []inventory.Change
	differing(step.Before, step.After, func(c inventory.Change) { changes = append(changes, c) })
	slices.SortFunc(changes, func(a, b inventory.Change) int {
		return cmp.Or(cmp.Compare(a.Kind, b.Kind), cmp.Compare(a.Name, b.Name))
	})
	out.More = max(0, len(changes)-maxUndone)
	out.Changes = append(out.Changes, changes[:len(changes)-out.More]...)
	if len(changes) == 0 && out.Why == "" {
		out.Why = "it changed nothing but names"
	}
	return out, nil
}

// Undo takes back the last step, if the estate is still at revision based. What a
// reading brought is not taken back: the next one would bring it again.
func (a *App) Undo(ctx context.Context, based int64, actor string) (*consequence.Consequence, error) {
	return a.told(ctx, &step{what: store.Edit, actor: actor, based: based, plan: func(now *view.Snapshot) (*view.Plan, error) {
		was, former, err := a.Store.Before(ctx, based)
		var unreadable document.Errors
		switch {
		case errors.Is(err, store.ErrNotFound):
			return nil, &view.Problem{At: "revision", Message: "there is no edit to undo", Fix: "syncs, learned prefixes and the first revision cannot be undone"}
		case errors.As(err, &unreadable):
			return nil, &view.Problem{At: "revision", Message: "the earlier state cannot be read: " + unreadable[0].Error(), Fix: "edit the current state instead"}
		case err != nil:
			return nil, err
		}
		return &view.Plan{Next: estate.AsOf(document.Shared(now.Estate, was), now.Estate.Day), Former: former}, nil // what has run out does not come back
	}})
}
