package applying_test

import (
	"context"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bivium/core/edit"
	"bivium/core/estate"
	"bivium/internal/app/applying"
	"bivium/internal/app/packets"
	"bivium/internal/app/view"
	"bivium/internal/standin"
	"bivium/internal/store"
)

// TestStagesAreJudgedAfterARestart lets accounts lose what is written while a plan in stages runs, and
// Bivium crash: what goes on is judged by the estate that the plan leads from, at each step.
func TestStagesAreJudgedAfterARestart(t *testing.T) {
	o := startOutside(t)
	o.putsRight()
	from := o.app.Now()
	fail := func(kind string) {
		for name := range o.world.Credentials() {
			require.NoError(t, o.world.Fail(name, standin.Fault{Kind: kind}))
		}
	}
	type stage struct {
		before, after int64
		last          bool
	}
	var mu sync.Mutex
	var stages []stage
	record := func(_ context.Context, before, after *view.Snapshot, _ map[string]bool, last bool, _ int64) ([]packets.Result, int, error) {
		mu.Lock()
		defer mu.Unlock()
		stages = append(stages, stage{before.Revision, after.Revision, last})
		return nil, 1, nil
	}
	o.crashes()
	o.stage = record
	o.opens(false)
	fail("lost")
	o.edits("opens", "market", "traders", "price-databases", true)
	o.makes(edit.Put, estate.KindPolicy, "", `{"name": "closes", "segments": ["market"], "from": ["bid-engines"], "to": ["price-databases"], "rules": [{"services": ["any"], "action": "deny"}]}`)
	p, err := o.writer.Begin(t.Context(), applying.Order{Cause: applying.CauseEdit, Before: from, Staged: true})
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		now, err := o.writer.Plan(t.Context(), p.ID)
		require.NoError(t, err)
		return slices.ContainsFunc(now.Writes, func(w applying.WriteView) bool { return w.Tries > 0 && w.State != store.WriteDone })
	}, 10*time.Second, time.Millisecond, "a write is tried, and lost")
	o.crashes()
	fail("none")
	mu.Lock()
	stages = nil
	mu.Unlock()
	o.opens(false)
	o.settles()
	mu.Lock()
	defer mu.Unlock()
	require.GreaterOrEqual(t, len(stages), 2)
	for i, s := range stages {
		assert.Equal(t, stage{from.Revision, o.app.Now().Revision, i == len(stages)-1}, s)
	}
}
