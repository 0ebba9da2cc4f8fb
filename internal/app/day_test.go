package app

import (
	"log/slog"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bivium/core/document"
	"bivium/core/edit"
	"bivium/core/estate"
	"bivium/internal/app/view"
	"bivium/internal/store"
)

const lapsing = `
bivium: 1
estate: small
hubs: [{name: h}]
segments: [{name: s}]
networks: [{name: n, kind: cloud, segment: s, subnets: [{name: a, prefix: 10.1.0.0/24}, {name: b, prefix: 10.2.0.0/24}]}]
attachments: [{network: n, hub: h}]
groups: [{name: a, subnets: [n/a]}, {name: b, subnets: [n/b]}]
policies:
  - {name: works, segments: [s], from: [a], to: [b], until: 2026-03-31, rules: [{services: [tcp/80], action: allow}]}
`

// TestWhatRunsOutDoesNothingFromThenOn lets days pass.
func TestWhatRunsOutDoesNothingFromThenOn(t *testing.T) {
	s, err := store.Open(t.Context(), filepath.Join(t.TempDir(), "days.db"))
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, s.Close()) })
	now := time.Date(2026, 3, 1, 12, 0, 0, 0, time.Local)
	a, err := Open(t.Context(), Config{
		Store: s, Clock: func() time.Time { return now }, Log: slog.New(slog.DiscardHandler),
		First: func() (*estate.Estate, error) { return document.Read([]byte(lapsing)) },
	})
	require.NoError(t, err)
	outcome := func() string {
		answer, err := a.Now().Ask(view.Question{From: "10.1.0.1", To: "10.2.0.1", On: "tcp/80"})
		require.NoError(t, err)
		return string(answer.Trace.Verdict.Outcome)
	}
	found := func() (codes []string) {
		for _, f := range a.Now().Analysis.Findings.All(func() {}) {
			codes = append(codes, string(f.Code))
		}
		return codes
	}
	assert.Equal(t, "allowed", outcome())
	assert.NotContains(t, found(), "runs-out")

	now = time.Date(2026, 3, 31, 23, 0, 0, 0, time.Local)
	require.NoError(t, a.Turn())
	assert.Equal(t, "allowed", outcome(), "the last day counts")
	assert.Contains(t, found(), "runs-out")

	now = now.Add(2 * time.Hour)
	require.NoError(t, a.Turn())
	assert.Equal(t, "denied", outcome())
	assert.Contains(t, found(), "ran-out")
	assert.Equal(t, int64(1), a.Now().Revision, "nothing is written otherwise")

	other, err := document.ValueOf([]byte(`{"name": "c", "subnets": ["n/a", "n/b"]}`))
	require.NoError(t, err)
	_, err = a.Make(t.Context(), &Edit{Edit: edit.Edit{Operations: []edit.Operation{{Op: edit.Put, Kind: estate.KindGroup, Object: other, Base: edit.Absent}}}, Seen: 1}, "test")
	require.NoError(t, err)
	_, err = a.Undo(t.Context(), 2, "test")
	require.NoError(t, err)
	assert.Equal(t, "denied", outcome(), "what has run out does not come back with what is taken back")
	assert.Contains(t, found(), "ran-out")
}
