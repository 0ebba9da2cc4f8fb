package main

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bivium/core/classes"
	"bivium/core/document"
	"bivium/core/matrix"
	"bivium/core/native"
	"bivium/core/native/proof"
	"bivium/core/native/reader"
	"bivium/core/verdict"
	"bivium/demo"
	"bivium/internal/standin"
	"bivium/internal/standin/dataplane"
)

// TestTheDemoWorldDoesWhatItsEstateSays writes all that the demo's targets have to hold, over
// their own interfaces, and sends a packet for each pair of classes of endpoints: it does what
// the estate says. Then a rule that somebody wrote by hand lets a packet through that should not
// pass.
func TestTheDemoWorldDoesWhatItsEstateSays(t *testing.T) {
	world, err := standin.Read(demo.World)
	require.NoError(t, err)
	running, err := world.Serve(t.Context(), 0)
	require.NoError(t, err)
	defer running.Close() //nolint:errcheck // the test ends
	planted := standin.Packet{Segment: "market", From: netip.MustParseAddr("10.70.0.11"), To: netip.MustParseAddr("10.70.2.11"), Protocol: 6, SourcePort: 50000, Port: 22}
	e, err := document.Read(demo.Grayshoal)
	require.NoError(t, err)
	require.NoError(t, holdAll(t.Context(), world, running, e))
	assert.True(t, world.Send(planted).Delivered, "somebody opened it by hand")

	j := verdict.New(e)
	s := matrix.New(j)
	r := reader.New(e, native.Translate(s).Config)
	plane := world.Plane()
	sent, met := map[[5]int]bool{}, map[string]int{}
	for a, src := range s.Classes {
		for b, dst := range s.Classes {
			s.EachResult(a, b, func(x matrix.ClassResult) {
				key := [5]int{int(x.Combination.RuleSet), int(x.Combination.Effect), x.Publication, int(src.Network), int(dst.Network)}
				if sent[key] || src.End.Addr == dst.End.Addr {
					return
				}
				sent[key] = true
				for atom := range s.Atoms.Len() {
					protocol, sport, dport, _ := s.Atoms.Set(atom).Witness()
					f := verdict.Flow{Segment: verdict.Internet, Source: src.End.Addr, Destination: dst.End.Addr, Service: verdict.Service{Protocol: protocol, SourcePort: sport, Port: dport}}
					if src.Internal() {
						f.Segment, f.Destination = j.Net.Segments[src.End.Segment], classes.AsSeen(j, dst, dst.End.Addr, src.End.Segment)
					}
					want, got := proof.Expected(j, &f), plane.Send(dataplane.Packet{Segment: f.Segment, From: f.Source, To: f.Destination, Protocol: int(protocol), SourcePort: int(sport), Port: int(dport)})
					if fate := (&reader.Fate{Delivered: got.Delivered, Pools: got.Pools, Blocked: got.Blocked}); !want.Same(fate) {
						byHand := got.Delivered && f.Segment == "market" && protocol == 6 && (dport == 22 || dport == 5432)
						require.True(t, byHand || !got.Delivered && r.BlurOf(&f) != reader.Sharp, "%+v is meant to be %+v, and is %+v", f, want, got)
					}
					met[map[bool]string{true: "delivered", false: "stopped"}[got.Delivered]]++
					if len(got.Pools) > 0 {
						met["inspected"]++
					}
				}
			})
		}
	}
	assert.Greater(t, met["delivered"], 500)
	assert.Greater(t, met["stopped"], 500)
	assert.Positive(t, met["inspected"])
}
