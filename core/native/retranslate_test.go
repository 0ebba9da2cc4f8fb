package native_test

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"bivium/core/analysis"
	"bivium/core/estate"
	"bivium/core/findings"
	"bivium/core/matrix"
	"bivium/core/native"
	"bivium/core/native/config"
	"bivium/core/testing/draw"
	"bivium/core/testing/meet"
	"bivium/core/verdict"
)

func faultsOf(e *estate.Estate) []estate.Fault {
	return append(estate.Check(e), findings.ShareFaults(verdict.New(e))...)
}

// TestWhatAnEditDoesNotTouchIsKept holds translations of a row of edits, each made from the one
// before, to translations from the ground: not even the order of rules tells how an estate came
// about, so that nothing is written anew for it.
func TestWhatAnEditDoesNotTouchIsKept(t *testing.T) {
	wants := meet.Wants{"kept and other networks": 3, "kept networks": 20, "kept match lists": 10, "something else": 20}
	meet.Check(t, wants, func(t *rapid.T, met meet.Met) {
		e := draw.Faultless(t, faultsOf)
		a := analysis.New(verdict.New(e))
		before := native.Translate(a.Matrix)
		for range 4 {
			next, _ := draw.Edit(t, e)
			if len(faultsOf(next)) > 0 {
				continue
			}
			e = next
			a, _ = a.Revise(e)
			got, want := native.Retranslate(before, a.Matrix), native.Translate(matrix.New(verdict.New(e)))
			require.Equal(t, want.Config, got.Config)
			require.Equal(t, want.Refused, got.Refused)
			kept, others := keptOf(before.Config, got.Config)
			met.If(kept > 0, "kept networks")
			met.If(kept > 0 && others > 0, "kept and other networks")
			met.If(sameRules(before.Config, got.Config), "kept match lists")
			met.If(!sameLists(before.Config, want.Config), "something else")
			before = got
		}
	})
}

// keptOf returns how many networks have the very lists that they had, and how many others.
func keptOf(was, is *config.Config) (kept, others int) {
	if len(was.Networks) != len(is.Networks) {
		return 0, 0
	}
	for i := range is.Networks {
		a, b := was.Networks[i].Lists, is.Networks[i].Lists
		switch {
		case len(a) == 0 || len(b) == 0:
		case &a[0] == &b[0]:
			kept++
		default:
			others++
		}
	}
	return kept, others
}

func sameRules(was, is *config.Config) bool {
	if len(was.Segments) != len(is.Segments) {
		return false
	}
	for i := range is.Segments {
		if a, b := was.Segments[i].Rules, is.Segments[i].Rules; len(a) > 0 && len(b) > 0 && &a[0] == &b[0] {
			return true
		}
	}
	return false
}

func sameLists(was, is *config.Config) bool {
	a, b := was.Targets(nil), is.Targets(nil)
	return slices.EqualFunc(a, b, func(x, y config.Target) bool { return x.Text() == y.Text() })
}
