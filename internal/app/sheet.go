package app

import (
	"context"
	"fmt"

	"bivium/internal/app/view"
	"bivium/internal/store"
)

// Sheet returns everything about one thing, by its kind and name, with its history.
func (a *App) Sheet(ctx context.Context, s *view.Snapshot, kind, name string) (*view.Sheet, error) {
	out, list, key, ok := s.Sheet(kind, name)
	if !ok {
		return nil, fmt.Errorf("%s %q: %w", kind, name, store.ErrNotFound)
	}
	if out.Counting {
		a.want(s)
	}
	history, err := a.Store.History(ctx, list, key, view.MaxHistory)
	if err != nil {
		return nil, err
	}
	out.History = append(out.History, history...)
	return out, nil
}
