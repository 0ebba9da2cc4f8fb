package proof_test

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"bivium/core/analysis"
	"bivium/core/native"
	"bivium/core/native/proof"
	"bivium/core/testing/draw"
	"bivium/core/testing/meet"
	"bivium/core/verdict"
)

// TestWhatAnEditDoesNotTouchStaysProven holds proofs of a row of edits, each made from the one
// before, to proofs from the ground: of what is translated, and of that with one rule of one list
// lost, where the lists are those of the revision before.
func TestWhatAnEditDoesNotTouchStaysProven(t *testing.T) {
	wants := meet.Wants{"the same": 50, "a list with a rule less": 20, "flows differ": 10, "not proven before": 3}
	meet.Check(t, wants, func(t *rapid.T, met meet.Met) {
		e := draw.Faultless(t, faultsOf)
		a := analysis.New(verdict.New(e))
		tr := native.Translate(a.Matrix)
		before := proof.Prove(a.Matrix, tr.Config)
		for range 4 {
			next, _ := draw.Edit(t, e)
			if len(faultsOf(next)) > 0 {
				continue
			}
			e = next
			a, _ = a.Revise(e)
			tr = native.Retranslate(tr, a.Matrix)
			cfg := *tr.Config
			n := rapid.IntRange(0, max(0, len(cfg.Networks)-1)).Draw(t, "network")
			if rapid.Bool().Draw(t, "lose") && n < len(cfg.Networks) && len(cfg.Networks[n].Lists) > 0 && len(cfg.Networks[n].Lists[0].Rules) > 0 {
				cfg.Networks = slices.Clone(cfg.Networks)
				cfg.Networks[n].Lists = slices.Clone(cfg.Networks[n].Lists)
				l := &cfg.Networks[n].Lists[0]
				l.Rules = slices.Delete(slices.Clone(l.Rules), 0, 1)
				met["a list with a rule less"]++
			}
			met.If(len(before.Differences) > 0, "not proven before")
			got, want := proof.Reprove(before, a.Matrix, &cfg, tr.Touches()), proof.Prove(a.Matrix, &cfg)
			require.Equal(t, want.Differences, got.Differences)
			require.Equal(t, want.Stricter, got.Stricter)
			require.Equal(t, want.Unheld, got.Unheld)
			met.If(len(want.Differences) == 0, "the same")
			met.If(len(want.Differences) > 0, "flows differ")
			before = got
		}
	})
}
