package app

import (
	"log/slog"
	"testing"

	"github.com/stretchr/testify/require"

	"bivium/core/document"
	"bivium/demo"
	"bivium/internal/app/view"
)

// TestWhatCannotBeWorkedOutFails breaks what takes longer than an edit: whoever asks is told,
// and does not wait for it, and another snapshot is worked out all the same.
func TestWhatCannotBeWorkedOutFails(t *testing.T) {
	e, err := document.Read(demo.Grayshoal)
	require.NoError(t, err)
	a := &App{Config: Config{Log: slog.New(slog.DiscardHandler)}, backlog: backlog{changed: make(chan struct{})}}
	broken := view.NewSnapshot(e, 1)
	broken.Analysis = nil
	var panicked *Panicked
	for range 2 {
		_, err = a.Lanes(broken)
		require.ErrorAs(t, err, &panicked)
		_, err = a.IssuePage(broken, &view.IssueFilter{})
		require.ErrorAs(t, err, &panicked)
	}
	page, err := a.IssuePage(view.NewSnapshot(e, 2), &view.IssueFilter{})
	require.NoError(t, err)
	require.NotZero(t, page.Findings)
}
