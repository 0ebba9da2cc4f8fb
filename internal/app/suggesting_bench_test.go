package app_test

import (
	"errors"
	"runtime/debug"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"bivium/core/synth"
	"bivium/internal/app"
	"bivium/internal/app/view"
)

var errEnough = errors.New("enough")

// BenchmarkSuggesting asks for edits that allow flows of L that are denied: until the first is told,
// and until all are.
func BenchmarkSuggesting(b *testing.B) {
	was := debug.SetGCPercent(200) // as the server
	b.Cleanup(func() { debug.SetGCPercent(was) })
	e := synth.New("l", synth.Sizes["L"], 1)
	s := view.NewSnapshot(e, 1)
	s.Matrix.Complete()
	ask := func(i int, found func(*app.Suggestion) error) error {
		from, to := &e.Workloads[(i*997)%len(e.Workloads)], &e.Workloads[(i*1013+5000)%len(e.Workloads)]
		return app.Suggest(b.Context(), s, &app.SuggestionQuestion{From: from.Name, To: to.Name, On: "tcp/8443", Want: "allowed"}, found)
	}
	for _, x := range []struct {
		name string
		err  error
	}{{"first", errEnough}, {"all", nil}} {
		b.Run(x.name, func(b *testing.B) {
			var spent []time.Duration // of those of which something is told
			for i := 0; b.Loop(); i++ {
				at, told := time.Now(), 0
				err := ask(i, func(*app.Suggestion) error { told++; return x.err })
				if told > 0 {
					spent = append(spent, time.Since(at))
				}
				if !errors.Is(err, errEnough) {
					require.NoError(b, err)
				}
			}
			require.NotEmpty(b, spent)
			slices.Sort(spent)
			b.ReportMetric(float64(spent[len(spent)/2].Milliseconds()), "ms-median")
		})
	}
}
