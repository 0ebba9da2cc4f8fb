package proof_test

import (
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"bivium/core/matrix"
	"bivium/core/native"
	"bivium/core/native/proof"
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
		got := proof.Prove(s, tr.Config)
		require.Empty(t, got.Differences)
		require.False(t, got.Incomplete)
		for _, d := range got.Stricter {
			require.Contains(t, []proof.Change{proof.Closed, proof.Others}, d.Change)
		}
		met["proven"]++
		met.If(len(got.Stricter) > 0 || len(got.Unheld) > 0, "stricter")
	})
}
