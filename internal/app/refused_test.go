package app_test

import (
	"regexp"
	"slices"
	"testing"

	"bivium/internal/app"
	"bivium/internal/wording"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"bivium/core/estate"
	"bivium/core/findings"
	"bivium/core/testing/draw"
	"bivium/core/testing/meet"
	"bivium/core/verdict"
	"bivium/core/wiring"
	"bivium/internal/app/view"
)

// TestTrialsAreRefusedForEveryFaultThatTheyBring holds drawn edits of places, which look
// for faults where they touch something alone, to a check of everything: of estates that
// may have faults already.
func TestTrialsAreRefusedForEveryFaultThatTheyBring(t *testing.T) {
	t.Parallel()
	t0 := t
	wants := meet.Wants{"an edit of live": 20, "an edit of show": 5, "F2": 20, "F3": 3, "F14": 3, "several at once": 5, "fine": 50, "beside a fault that was there": 5}
	meet.Check(t, wants, func(t *rapid.T, met meet.Met) {
		e := rapid.Custom(draw.Estate).Draw(t, "estate")
		s := view.NewSnapshot(e, 1)
		had := map[string]bool{}
		for _, f := range s.Faults {
			for _, x := range whatever(f) {
				had[x] = true
			}
		}
		for range 6 {
			edits := []wiring.Edit{drawPlacement(t, e)}
			if rapid.IntRange(0, 4).Draw(t, "more") == 0 {
				edits = append(edits, drawPlacement(t, e))
			}
			next, err := wiring.Apply(e, edits)
			if err != nil {
				continue
			}
			var want []string
			for _, f := range append(estate.Check(next), findings.ShareFaults(verdict.New(next))...) {
				if slices.ContainsFunc(whatever(f), func(x string) bool { return !had[x] }) {
					want = append(want, wording.Fault(&f).Message)
					met[string(f.Code)]++
				}
			}
			out, err := try(t0, &app.App{}, s, edits...)
			require.NoError(t, err)
			var got []string
			for _, r := range out.Refused {
				got = append(got, r.Message)
			}
			slices.Sort(want)
			slices.Sort(got)
			require.Equal(t, want, got, "%+v", edits)
			met["an edit of "+string(edits[0].Op)]++
			met.If(len(want) == 0, "fine")
			met.If(len(want) > 1, "several at once")
			met.If(len(want) > 0 && len(had) > 0, "beside a fault that was there")
		}
	})
}

// addresses are those in what a fault says.
var addresses = regexp.MustCompile(`( as )?\b(\d+\.){3}\d+\b|( as )?\b[0-9a-f]*:[0-9a-f:]+`)

// whatever returns what a fault says, of a share at whatever address, of an overlap by
// each two.
func whatever(f estate.Fault) (out []string) {
	switch {
	case f.Code == estate.ForbiddenShare:
		return []string{addresses.ReplaceAllString(wording.Fault(&f).Message, "")}
	case f.Clash == nil:
		return []string{wording.Fault(&f).Message}
	}
	for _, with := range f.Clash.With {
		out = append(out, string(f.Code)+min(f.Clash.Of, with)+max(f.Clash.Of, with))
	}
	return out
}

// drawPlacement draws an edit of where a network is, or of what it is home to.
func drawPlacement(t *rapid.T, e *estate.Estate) wiring.Edit {
	n, other := rapid.SampledFrom(e.Networks).Draw(t, "network"), rapid.SampledFrom(e.Networks).Draw(t, "other")
	x := wiring.Edit{Network: n.Name, Hub: rapid.SampledFrom(e.Hubs).Draw(t, "hub").Name, Segment: rapid.SampledFrom(e.Segments).Draw(t, "segment").Name}
	of := rapid.SampledFrom(other.Subnets).Draw(t, "subnet").Prefix // claimed by another, mostly
	x.Op = rapid.SampledFrom([]wiring.Op{wiring.Live, wiring.Live, wiring.Attach, wiring.Detach, wiring.Bring, wiring.Translate, wiring.Filter, wiring.SetRoute}).Draw(t, "op")
	if len(e.Shares) > 0 && rapid.IntRange(0, 5).Draw(t, "show") == 0 {
		share := rapid.SampledFrom(e.Shares).Draw(t, "share")
		side := rapid.SampledFrom([]string{share.Owner.Segment, share.Guest.Segment}).Draw(t, "side")
		return wiring.Edit{Op: wiring.Show, Name: share.Name, Segment: side, Prefix: rapid.SampledFrom(n.Subnets).Draw(t, "which").Prefix, Outside: of}
	}
	switch x.Op {
	case wiring.Live:
		if rapid.Bool().Draw(t, "one subnet") {
			x.Subnet = rapid.SampledFrom(n.Subnets).Draw(t, "which").Name
		}
	case wiring.Attach:
		x.Cost = 10
	case wiring.Bring:
		x.Prefix = of
	case wiring.Translate:
		x.Prefix, x.Outside = rapid.SampledFrom(n.Subnets).Draw(t, "which").Prefix, of
	case wiring.Filter:
		x.Accepts = append(x.Accepts, of)
	case wiring.SetRoute:
		x.Prefix, x.Via = of, "none"
	}
	return x
}
