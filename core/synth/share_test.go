package synth_test

import (
	"fmt"
	"runtime"
	"testing"

	"github.com/stretchr/testify/require"

	"bivium/core/analysis"
	"bivium/core/difference"
	"bivium/core/synth"
	"bivium/core/verdict"
)

// TestAnswersDoNotDependOnHowManyWork surveys and edits an estate that is large enough
// to be shared out, alone and by seven: witnesses and their order are the same.
func TestAnswersDoNotDependOnHowManyWork(t *testing.T) {
	e := synth.New("m", synth.Sizes["M"], 3)
	answers := func(processors int) []string {
		defer runtime.GOMAXPROCS(runtime.GOMAXPROCS(processors))
		s := analysis.New(verdict.New(e))
		var out []string
		for _, h := range s.Expectations.All() {
			out = append(out, fmt.Sprint(h.Expectation.Name, h.Holds, h.ByRouting, h.Failures()))
		}
		for _, edit := range editsOf(e) {
			next, d := s.Revise(edit.next)
			for i := range d.Changes {
				c := &d.Changes[i]
				out = append(out, fmt.Sprint(edit.name, c.From, c.To, c.Services.Words(), c.Before, c.After, c.Pairs, c.Witness(), blockWords(d.Blocks(c))))
			}
			for _, h := range next.Expectations.All() {
				out = append(out, fmt.Sprint(edit.name, h.Expectation.Name, h.Holds))
			}
		}
		return out
	}
	alone := answers(1)
	require.Greater(t, len(alone), 1000, "the edits change much")
	require.Equal(t, alone, answers(7))
}

// blockWords writes blocks as they are printed.
func blockWords(blocks []difference.Block) (out [][2][]string) {
	for _, b := range blocks {
		out = append(out, [2][]string{b.From.Words(), b.To.Words()})
	}
	return out
}
