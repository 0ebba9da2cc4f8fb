package app

import (
	"bytes"
	"errors"
	"log/slog"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bivium/core/document"
	"bivium/core/estate"
	"bivium/core/parallel"
	"bivium/demo"
	"bivium/internal/app/view"
	"bivium/internal/store"
)

// TestAPanicFailsOneStepAlone lets steps panic, in the goroutine that takes them and in a
// worker: each fails by itself, is logged with what led to it, and leaves memory and database
// as they were.
func TestAPanicFailsOneStepAlone(t *testing.T) {
	s, err := store.Open(t.Context(), filepath.Join(t.TempDir(), "a.db"))
	require.NoError(t, err)
	defer s.Close() //nolint:errcheck // the test ends
	var log bytes.Buffer
	a, err := Open(t.Context(), Config{
		Store: s, Clock: time.Now, Log: slog.New(slog.NewTextHandler(&log, nil)),
		First: func() (*estate.Estate, error) { return document.Read(demo.Grayshoal) },
	})
	require.NoError(t, err)
	before := a.Now()
	renamed := func(now *view.Snapshot) (*estate.Estate, error) {
		next := *now.Estate
		next.Description = "another"
		return &next, nil
	}
	broken := func() { parallel.Run([]func(){func() {}, func() { panic("a worker broke") }}) }
	for what, x := range map[string]*step{
		"while it is made": {plan: leadsTo(func(*view.Snapshot) (*estate.Estate, error) { panic("it broke") })},
		"in a worker":      {plan: leadsTo(func(*view.Snapshot) (*estate.Estate, error) { broken(); return nil, nil })},
		"while it is told": {plan: leadsTo(renamed), then: func(*view.Snapshot, *view.Snapshot, *view.Plan) error { broken(); return nil }},
	} {
		log.Reset()
		x.what, x.actor, x.based = store.Edit, "somebody", before.Revision
		err := a.advance(t.Context(), x)
		var panicked *Panicked
		require.True(t, errors.As(err, &panicked), what)
		assert.Contains(t, log.String(), "edit by somebody", what)
		assert.Contains(t, log.String(), "advance_test.go", "the place is logged")
		assert.Same(t, before, a.Now(), what)
		revision, err := s.Revision(t.Context())
		require.NoError(t, err)
		assert.Equal(t, before.Revision, revision, what)
	}
	require.NoError(t, a.advance(t.Context(), &step{what: store.Edit, actor: "somebody", based: before.Revision, plan: leadsTo(renamed)}))
	assert.Equal(t, "another", a.Now().Estate.Description)
}
