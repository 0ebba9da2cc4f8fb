package reader_test

import (
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"bivium/core/matrix"
	"bivium/core/native"
	"bivium/core/native/reader"
	"bivium/core/testing/draw"
	"bivium/core/testing/meet"
	"bivium/core/verdict"
)

// TestTranslationIsProven proves what drawn estates are translated into: nothing is more open
// than it is meant, and nothing stricter without a reason.
func TestTranslationIsProven(t *testing.T) {
	meet.Check(t, meet.Wants{"proven": 100, "stricter": 5}, func(t *rapid.T, met meet.Met) {
		e := draw.Faultless(t, faultsOf)
		s := matrix.New(verdict.New(e))
		tr := native.Translate(s)
		if len(tr.Refused) > 0 {
			met["refused"]++
			return
		}
		proof := reader.Prove(s, tr.Config)
		require.Empty(t, proof.Differences)
		require.False(t, proof.Incomplete)
		for _, d := range proof.Stricter {
			require.Contains(t, []reader.Change{reader.Closed, reader.Others}, d.Change)
		}
		met["proven"]++
		met.If(len(proof.Stricter) > 0 || len(proof.Unheld) > 0, "stricter")
	})
}
