package document_test

import (
	"fmt"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"bivium/core/document"
	"bivium/core/estate"
	"bivium/core/testing/draw"
)

// TestThePastIsRestored goes through drawn revisions, some of which rename, and back over all
// of them at once: everything is as it was, wherever the past is taken up in between.
func TestThePastIsRestored(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		at := []*estate.Estate{draw.Faultless(t, faults)}
		var made [][]document.Change
		for i := range rapid.IntRange(1, 8).Draw(t, "revisions") {
			before := at[i]
			next, former := before, map[estate.Ref]string{}
			if n := len(before.Workloads); n > 0 && rapid.Bool().Draw(t, "rename") {
				same := *before
				same.Workloads = append([]estate.Workload(nil), before.Workloads...)
				w := &same.Workloads[rapid.IntRange(0, n-1).Draw(t, "which")]
				name := fmt.Sprintf("moved-%d", rapid.IntRange(0, 3).Draw(t, "name"))
				if !slices.ContainsFunc(same.Workloads, func(w estate.Workload) bool { return w.Name == name }) {
					former[estate.Ref{Kind: estate.KindWorkload, Name: name}], w.Name = w.Name, name
					next = &same
				}
			} else if next, _ = draw.Edit(t, before); !readable(t, next) {
				next = before
			}
			at, made = append(at, next), append(made, document.Changes(before, next, former))
		}
		var past document.Past
		e := at[len(made)]
		for i := len(made) - 1; i >= 0; i-- {
			past.Add(made[i])
			restored, err := past.Restore(e)
			require.NoError(t, err)
			for _, c := range document.Changes(at[i], restored, nil) {
				require.True(t, c.Moved(), "%s %s\nwas  %s\nback %s", c.List, c.Key, c.Before, c.After)
			}
			if rapid.Bool().Draw(t, "take up") {
				e, past = restored, document.Past{}
			}
		}
	})
}
