package server

import (
	"sync"
	"sync/atomic"
	"testing"

	"bivium/internal/app/view"

	"github.com/stretchr/testify/assert"
)

// TestEqualQuestionsAreWorkedOutOnce lets many ask the same of one snapshot and of the next,
// and counts how often that is worked out.
func TestEqualQuestionsAreWorkedOutOnce(t *testing.T) {
	a := newAnswers()
	for shown := range int64(3) {
		var worked atomic.Int64
		var wait sync.WaitGroup
		asked := make(chan struct{})
		for range 50 {
			wait.Go(func() {
				x, err := a.find(&view.Snapshot{Shown: shown}, "/api/board", func() (any, error) {
					<-asked
					return worked.Add(1), nil
				})
				if assert.NoError(t, err) {
					assert.Equal(t, "1\n", string(x.plain))
				}
			})
		}
		close(asked)
		wait.Wait()
		assert.Equal(t, int64(1), worked.Load())
		old, err := a.find(&view.Snapshot{Shown: -1 - shown}, "/api/board", func() (any, error) { return "old", nil })
		assert.NoError(t, err)
		assert.Equal(t, "\"old\"\n", string(old.plain), "an answer of another snapshot is not taken for this one's")
	}
}
