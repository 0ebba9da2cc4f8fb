package touched_test

import (
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"bivium/core/analysis"
	"bivium/core/classes"
	"bivium/core/estate"
	"bivium/core/findings"
	"bivium/core/matrix"
	"bivium/core/testing/draw"
	"bivium/core/testing/meet"
	"bivium/core/touched"
	"bivium/core/verdict"
)

func faultsOf(e *estate.Estate) []estate.Fault {
	return append(estate.Check(e), findings.ShareFaults(verdict.New(e))...)
}

// TestWhatIsNotTouchedIsMeantAsBefore makes drawn edits: of a network that is not touched the
// endpoints are those that they were, and for every flow to and from them the same is intended for
// the same reasons, on paths of the same effect.
func TestWhatIsNotTouchedIsMeantAsBefore(t *testing.T) {
	wants := meet.Wants{"untouched networks": 30, "some touched": 10, "flows": 1000, "nothing in common": 5}
	meet.Check(t, wants, func(t *rapid.T, met meet.Met) {
		e := draw.Faultless(t, faultsOf)
		a := analysis.New(verdict.New(e))
		for range 3 {
			next, _ := draw.Edit(t, e)
			if len(faultsOf(next)) > 0 {
				continue
			}
			b, _ := a.Revise(next)
			x := touched.Compare(a.Matrix, b.Matrix)
			untouched := map[int32]bool{}
			for n := range b.Matrix.Net.Networks {
				if !x.Network(n) {
					untouched[int32(n)] = true
				}
			}
			met.If(len(untouched) == 0, "nothing in common")
			met.If(len(untouched) > 0, "untouched networks")
			met.If(len(untouched) > 0 && len(untouched) < len(b.Matrix.Net.Networks), "some touched")
			met["flows"] += asBefore(t, a.Matrix, b.Matrix, untouched)
			e, a = next, b
		}
	})
}

// asBefore looks at all flows of some networks, and returns how many there are.
func asBefore(t *rapid.T, before, after *matrix.Matrix, networks map[int32]bool) (flows int) {
	was, is := before.Judge.NewMemo(before.RuleIndex), after.Judge.NewMemo(after.RuleIndex)
	there := map[*classes.Class]bool{}
	for _, c := range inside(before) {
		there[c] = true
	}
	all := inside(after)
	for _, src := range all {
		for _, dst := range all {
			if !networks[src.Network] && !networks[dst.Network] || src.Four != dst.Four {
				continue
			}
			c, ok := combination(after, src, dst)
			if !ok {
				continue
			}
			require.True(t, there[src] && there[dst], "endpoints are others")
			had, flowed := combination(before, src, dst)
			require.True(t, flowed, "there was no flow")
			require.Equal(t, before.Interner.EffectAt(had.Effect), after.Interner.EffectAt(c.Effect))
			require.Equal(t, intended(before, was, had.RuleSet), intended(after, is, c.RuleSet))
			flows++
		}
	}
	return flows
}

func inside(s *matrix.Matrix) []*classes.Class {
	var out []*classes.Class
	for _, segment := range s.Inside {
		for _, i := range segment {
			out = append(out, s.Classes[i])
		}
	}
	return out
}

// combination returns that of a flow between two classes inside, and whether there is one.
func combination(s *matrix.Matrix, src, dst *classes.Class) (matrix.Combination, bool) {
	if s.Blocks.At(src.End.Segment, dst.End.Segment) == nil ||
		src.End.Segment != dst.End.Segment && dst.Seen[src.End.Segment] != classes.SeesIt {
		return matrix.Combination{}, false
	}
	return s.CombinationOf(&src.Header, &dst.Header)
}

type meaning struct {
	action  estate.Action
	pools   []int
	grounds []verdict.RuleRef
}

func intended(s *matrix.Matrix, memo *verdict.Memo, ruleSet int32) []meaning {
	context, terms := s.Interner.RuleSetAt(ruleSet, nil)
	var out []meaning
	for _, intent := range memo.Intents(context, terms) {
		action, pools := memo.Intended(intent)
		out = append(out, meaning{action, append([]int{}, pools...), append([]verdict.RuleRef{}, memo.Grounds(intent)...)})
	}
	return out
}
