package app_test

import (
	"reflect"
	"runtime/debug"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"bivium/core/document"
	"bivium/core/edit"
	"bivium/core/estate"
	"bivium/core/synth"
	"bivium/internal/app"
	"bivium/internal/app/view"
)

// BenchmarkTrying tries edits of rules of L, each of another object, with all that is told of
// their consequence.
func BenchmarkTrying(b *testing.B) {
	was := debug.SetGCPercent(200) // as the server
	b.Cleanup(func() { debug.SetGCPercent(was) })
	e := synth.New("l", synth.Sizes["L"], 1)
	s := view.NewSnapshot(e, 1)
	s.Matrix.Complete()
	turn := func(r []estate.Rule) []estate.Rule {
		next := append([]estate.Rule(nil), r...)
		next[0].Pool = ""
		if next[0].Action == estate.Allow {
			next[0].Action = estate.Deny
		} else {
			next[0].Action = estate.Allow
		}
		return next
	}
	for _, x := range []struct {
		name string
		of   int
		put  func(i int) any
	}{
		{"policy", len(e.Policies), func(i int) any {
			for e.Policies[i].Guardrail() { // of which a few bear on every flow
				i = (i + 1) % len(e.Policies)
			}
			p := e.Policies[i]
			p.Rules = turn(p.Rules)
			return p
		}},
		{"share", len(e.Shares), func(i int) any { h := e.Shares[i]; h.Rules = turn(h.Rules); return h }},
		{"group", len(e.Groups), func(i int) any {
			g := e.Groups[i]
			if g.Match != "" {
				g.Match += ",!retired"
			}
			g.Description = "changed"
			return g
		}},
		{"group-members", len(e.Groups), func(i int) any { // some of up to 1,000 go
			for n := len(s.MembersOf()[e.Groups[i].Name]); e.Groups[i].Match == "" || n == 0 || n > 1000; n = len(s.MembersOf()[e.Groups[i].Name]) {
				i = (i + 1) % len(e.Groups)
			}
			g := e.Groups[i]
			g.Match += ",env!=test"
			return g
		}},
	} {
		b.Run(x.name, func(b *testing.B) {
			var spent []time.Duration
			for i := 0; b.Loop(); i++ {
				thing := reflect.ValueOf(x.put((i * 37) % x.of))
				ref := estate.Ref{Kind: document.KindOfThing(thing), Name: document.NameOf(thing)}
				edited := &app.Edit{Edit: edit.Edit{Operations: []edit.Operation{edit.PutOf(e, ref, document.Body(thing))}}, Seen: 1}
				at := time.Now()
				_, err := (&app.App{}).Try(b.Context(), s, edited)
				require.NoError(b, err)
				spent = append(spent, time.Since(at))
			}
			slices.Sort(spent)
			b.ReportMetric(float64(spent[len(spent)/2].Milliseconds()), "ms-median")
		})
	}
}
