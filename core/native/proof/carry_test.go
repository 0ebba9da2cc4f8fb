package proof_test

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"bivium/core/document"
	"bivium/core/estate"
	"bivium/core/findings"
	"bivium/core/matrix"
	"bivium/core/native"
	"bivium/core/native/proof"
	"bivium/core/native/reader"
	"bivium/core/paths"
	"bivium/core/testing/draw"
	"bivium/core/testing/meet"
	"bivium/core/verdict"
	"bivium/demo"
)

func TestMain(m *testing.M) {
	meet.Draws("150")
	m.Run()
}

func faultsOf(e *estate.Estate) []estate.Fault {
	return append(estate.Check(e), findings.ShareFaults(verdict.New(e))...)
}

func grayshoal(t *testing.T) *estate.Estate {
	e, problems := document.Read(demo.Grayshoal)
	require.Empty(t, problems)
	return e
}

// TestCarriesWhatIsMeant sends single packets through what drawn estates are translated into.
func TestCarriesWhatIsMeant(t *testing.T) {
	meet.Check(t, meet.Wants{"delivered": 100, "stopped": 100, "inspected": 10, "published": 5, "local": 10}, func(t *rapid.T, met meet.Met) {
		e := draw.Faultless(t, faultsOf)
		j := verdict.New(e)
		tr := native.Translate(matrix.New(j))
		if len(tr.Refused) > 0 {
			met["refused"]++
			return
		}
		r := reader.New(e, tr.Config)
		ends := append(draw.Ends(e), netip.MustParseAddr("198.51.100.7"))
		for range 80 {
			f := verdict.Flow{Segment: verdict.Internet}
			if k := rapid.IntRange(0, len(e.Segments)).Draw(t, "segment"); k < len(e.Segments) {
				f.Segment = e.Segments[k].Name
			}
			f.Source, f.Destination = rapid.SampledFrom(ends).Draw(t, "source"), rapid.SampledFrom(ends).Draw(t, "destination")
			p := rapid.SampledFrom(draw.Ports()).Draw(t, "service")
			f.Protocol, f.SourcePort, f.Port = p.Protocol, p.Source, p.Dest
			want, got := proof.Expected(j, &f), r.Carry(&f)
			met.If(want.Delivered, "delivered")
			met.If(want.Delivered && len(want.Pools) > 0, "inspected")
			met.If(want.Delivered && f.Segment == verdict.Internet, "published")
			met.If(!want.Delivered, "stopped")
			d := j.Decide(f)
			met.If(d.Way.Path.Kind == paths.Local, "local")
			if want.Same(&got) {
				continue
			}
			if !got.Delivered && got.Blocked == "" && r.BlurOf(&f) != reader.Sharp {
				met["stricter"]++
				continue
			}
			require.Failf(t, "another fate", "%+v: %v path, %v\nwant %+v\n got %+v", f, d.Way.Path.Kind, d.Way.Path.Absence, want, got)
		}
	})
}

func TestTheDemoIsProven(t *testing.T) {
	e := grayshoal(t)
	s := matrix.New(verdict.New(e))
	tr := native.Translate(s)
	require.Empty(t, tr.Refused)
	got := proof.Prove(s, tr.Config)
	require.Empty(t, got.Differences)
	require.NotEmpty(t, got.Unheld)
}
