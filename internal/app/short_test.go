package app_test

import (
	"testing"

	"bivium/core/wiring"
	"bivium/internal/app"
	"bivium/internal/app/consequence"
	"bivium/internal/app/view"
)

// try tries short edits of the wiring.
func try(t testing.TB, a *app.App, s *view.Snapshot, short ...wiring.Edit) (*consequence.Consequence, error) {
	x := &app.Edit{Seen: s.Revision}
	if err := a.Expand(s, x, short); err != nil {
		return nil, err
	}
	if len(x.Operations) == 0 { // they change nothing
		return &consequence.Consequence{Effect: &consequence.Effect{}}, nil
	}
	return a.Try(t.Context(), s, x)
}

// makeOf makes short edits of the wiring.
func makeOf(t testing.TB, a *app.App, short ...wiring.Edit) (*consequence.Consequence, error) {
	x := &app.Edit{Seen: a.Now().Revision}
	if err := a.Expand(a.Now(), x, short); err != nil {
		return nil, err
	}
	if len(x.Operations) == 0 {
		return &consequence.Consequence{Revision: a.Now().Revision, Effect: &consequence.Effect{}}, nil
	}
	return a.Make(t.Context(), x, "test")
}
