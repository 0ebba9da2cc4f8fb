package app_test

import (
	"runtime/debug"
	"testing"

	"bivium/internal/app"

	"github.com/stretchr/testify/require"

	"bivium/core/estate"
	"bivium/core/synth"
	"bivium/core/wiring"
	"bivium/internal/app/view"
)

// BenchmarkPlacing tries placements of L, each of another network: with its checks, the
// routes and flows that it changes, and the expectations. segment-00 is the largest.
func BenchmarkPlacing(b *testing.B) {
	was := debug.SetGCPercent(200) // as the server
	b.Cleanup(func() { debug.SetGCPercent(was) })
	e := synth.New("l", synth.Sizes["L"], 1)
	s := view.NewSnapshot(e, 1)
	hubs := map[string]string{}
	for _, a := range e.Attachments {
		hubs[a.Network] = a.Hub
	}
	for _, p := range e.Peerings {
		delete(hubs, p.Between[0]) // those would change with it
		delete(hubs, p.Between[1])
	}
	of := func(segment string, edit func(*estate.Network) wiring.Edit) [][]wiring.Edit {
		var out [][]wiring.Edit
		for i := range e.Networks {
			if n := &e.Networks[i]; n.Kind == "cloud" && n.Segment == segment && hubs[n.Name] != "" {
				x := edit(n)
				x.Network = n.Name
				out = append(out, []wiring.Edit{x})
			}
		}
		return out
	}
	detach := func(n *estate.Network) wiring.Edit { return wiring.Edit{Op: wiring.Detach, Hub: hubs[n.Name]} }
	into := func(segment string) func(*estate.Network) wiring.Edit {
		return func(*estate.Network) wiring.Edit { return wiring.Edit{Op: wiring.Live, Segment: segment} }
	}
	again := func(n *estate.Network) wiring.Edit {
		hub := "hub-00"
		if hubs[n.Name] == hub {
			hub = "hub-01"
		}
		return wiring.Edit{Op: wiring.Attach, Hub: hub, Cost: 50}
	}
	for _, x := range []struct {
		name  string
		edits [][]wiring.Edit
	}{
		{"detached from the largest segment", of("segment-00", detach)}, {"moved out of it", of("segment-00", into("segment-16"))},
		{"moved into it", of("segment-01", into("segment-00"))}, {"attached again in it", of("segment-00", again)},
		{"detached from the next", of("segment-01", detach)}, {"moved between small ones", of("segment-16", into("segment-17"))},
	} {
		b.Run(x.name, func(b *testing.B) {
			for i := 0; b.Loop(); i++ {
				_, err := try(b, &app.App{}, s, x.edits[i%len(x.edits)]...)
				require.NoError(b, err)
			}
		})
	}
}
