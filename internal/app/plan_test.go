package app

import (
	"encoding/json"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"bivium/core/document"
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
	_, err = Try(before, policy.Name, body)
	require.NoError(t, err)
	tried := before.Plans.Find(view.KeyOfPlan("policy "+policy.Name, body))
	require.NotNil(t, tried)
	saved, err := a.Save(t.Context(), policy.Name, body, before.Revision, "someone")
	require.NoError(t, err)
	require.Same(t, tried.Analysis, saved.Analysis)
	require.Nil(t, saved.Plans.Find(view.KeyOfPlan("policy "+policy.Name, body)), "a plan is of one snapshot")

	edits := []wiring.Edit{{Op: wiring.Detach, Network: "trading", Hub: "delta"}}
	_, err = TryWiring(saved, edits)
	require.NoError(t, err)
	tried = saved.Plans.Find(keyOfWiring(edits))
	require.NotNil(t, tried)
	_, err = a.Rewire(t.Context(), edits, saved.Revision, "someone")
	require.NoError(t, err)
	require.Same(t, tried.Analysis, a.Now().Analysis)
	require.Equal(t, view.NewSnapshot(a.Now().Estate, 1).Faults, a.Now().Faults)
}
