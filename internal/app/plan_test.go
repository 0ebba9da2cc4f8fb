package app

import (
	"encoding/json"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"bivium/core/document"
	"bivium/core/edit"
	"bivium/core/estate"
	"bivium/core/wiring"
	"bivium/demo"
	"bivium/internal/app/view"
	"bivium/internal/store"
)

// TestWhatWasTriedIsNotWorkedOutAgain makes edits after they were tried: what is shown then
// is what was tried, and other than that of another edit.
func TestWhatWasTriedIsNotWorkedOutAgain(t *testing.T) {
	s, err := store.Open(t.Context(), filepath.Join(t.TempDir(), "plan.db"))
	require.NoError(t, err)
	defer s.Close()
	a, err := Open(t.Context(), Config{Store: s, Clock: time.Now, First: func() (*estate.Estate, error) { return document.Read(demo.Grayshoal) }})
	require.NoError(t, err)
	policy := a.Now().Estate.Policies[0]
	policy.Enabled = !policy.Enabled
	body, err := json.Marshal(&policy)
	require.NoError(t, err)

	before := a.Now()
	put := &Edit{Seen: before.Revision}
	put.Operations = []edit.Operation{edit.PutOf(before.Estate, estate.Ref{Kind: estate.KindPolicy, Name: policy.Name}, body)}
	_, err = a.Try(t.Context(), before, put)
	require.NoError(t, err)
	tried := before.Plans.Find(put.key())
	require.NotNil(t, tried)
	_, err = a.Make(t.Context(), put, "someone")
	require.NoError(t, err)
	saved := a.Now()
	require.Same(t, tried.Analysis, saved.Analysis)
	require.Nil(t, saved.Plans.Find(put.key()), "a plan is of one snapshot")

	detach := &Edit{Seen: saved.Revision}
	require.NoError(t, a.Expand(saved, detach, []wiring.Edit{{Op: wiring.Detach, Network: "trading", Hub: "delta"}}))
	_, err = a.Try(t.Context(), saved, detach)
	require.NoError(t, err)
	tried = saved.Plans.Find(detach.key())
	require.NotNil(t, tried)
	_, err = a.Make(t.Context(), detach, "someone")
	require.NoError(t, err)
	require.Same(t, tried.Analysis, a.Now().Analysis)
	require.Equal(t, view.NewSnapshot(a.Now().Estate, 1).Faults, a.Now().Faults)
}
