package paths_test

import (
	"net/netip"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
	"go4.org/netipx"
	"pgregory.net/rapid"

	"bivium/core/estate"
	"bivium/core/paths"
	"bivium/core/testing/draw"
	"bivium/core/testing/meet"
)

// homed is an address of a segment, with its home.
type homed struct {
	segment int
	addr    netip.Addr
	home    paths.Home
}

// homedOf returns the addresses of an estate, first and last of prefixes and their
// neighbours, that have homes.
func homedOf(e *estate.Estate, n *paths.Net) []homed {
	var out []homed
	for _, a := range draw.Ends(e) {
		for s := range n.Segments {
			if home, ok := n.Home(s, a); ok {
				out = append(out, homed{s, a, home})
			}
		}
	}
	return out
}

// samePathBucket reports whether only marks tell the ways of two addresses apart.
func samePathBucket(n *paths.Net, a, b *homed) bool {
	return a.segment == b.segment && a.home.Network == b.home.Network && (a.home.Subnet == paths.None) == (b.home.Subnet == paths.None) &&
		a.addr.Is4() == b.addr.Is4() && (a.home == b.home || !n.Translates(a.home.Network))
}

// TestAddressesOfOneMarkHaveTheSameWays asks, for two addresses of one network and one
// mark, for the ways from everywhere, and for those to everywhere.
func TestAddressesOfOneMarkHaveTheSameWays(t *testing.T) {
	meet.Check(t, meet.Often(200, "two of one mark", "two of one network with other marks", "ways that differ"), func(t *rapid.T, met meet.Met) {
		e := draw.Estate(t)
		if len(estate.Check(e)) > 0 {
			return
		}
		n := paths.New(e)
		marks := n.Marks()
		all := homedOf(e, n)
		target := func(x homed) paths.Target { return paths.Target{Addr: x.addr, Segment: x.segment, Home: x.home} }
		for i, a := range all {
			for _, b := range all[i+1:] {
				if !samePathBucket(n, &a, &b) {
					continue
				}
				alike := marks.At(a.addr) == marks.At(b.addr)
				met.If(alike, "two of one mark")
				met.If(!alike, "two of one network with other marks")
				for _, c := range all {
					if c.segment != a.segment || c.addr.Is4() != a.addr.Is4() {
						continue
					}
					toA, toB := n.Forward(a.segment, c.home, target(a)), n.Forward(a.segment, c.home, target(b))
					if !alike {
						met.If(toA.Kind != toB.Kind || !slices.Equal(toA.Hubs, toB.Hubs), "ways that differ")
						continue
					}
					require.Equal(t, toA.Kind, toB.Kind, "%s and %s, from %s", a.addr, b.addr, c.addr)
					require.Equal(t, toA.Hubs, toB.Hubs, "%s and %s, from %s", a.addr, b.addr, c.addr)
					require.Equal(t, toA.Absence, toB.Absence, "%s and %s, from %s", a.addr, b.addr, c.addr)
				}
			}
		}
	})
}

// TestMarksAreAligned gives an estate another prefix or two, and holds the new marks
// under the old numbers to what the numbers are for: they tell apart what the new
// marks do, and are the old ones but where it is said.
func TestMarksAreAligned(t *testing.T) {
	meet.Check(t, meet.Often(30, "kept", "moved"), func(t *rapid.T, met meet.Met) {
		e := draw.Estate(t)
		if len(e.Attachments) == 0 {
			return
		}
		next := *e
		next.Attachments = slices.Clone(e.Attachments)
		a := &next.Attachments[rapid.IntRange(0, len(e.Attachments)-1).Draw(t, "attachment")]
		p := netip.MustParsePrefix(rapid.SampledFrom([]string{"10.250.0.0/24", "10.0.0.0/24", "10.0.0.0/9", "0.0.0.0/0", "fd00:77::/64"}).Draw(t, "prefix"))
		if a.Static = append(slices.Clone(a.Static), estate.Static{Prefix: p, Segment: e.Segments[0].Name}); rapid.Bool().Draw(t, "routes") {
			next.Networks = slices.Clone(e.Networks)
			next.Networks[0].Routes = nil
		}
		was, is := paths.New(e).Marks(), paths.New(&next).Marks()
		aligned, moved := was.Aligned(is)
		at := append(draw.Ends(e), p.Addr(), p.Addr().Next(), p.Addr().Prev())
		for _, x := range at {
			if !x.IsValid() {
				continue
			}
			if slices.ContainsFunc(moved, func(r netipx.IPRange) bool { return r.Contains(x) }) {
				met["moved"]++
			} else {
				met["kept"]++
				require.Equal(t, was.At(x), aligned.At(x), "%s", x)
			}
			for _, y := range at {
				if y.IsValid() {
					require.Equal(t, is.At(x) == is.At(y), aligned.At(x) == aligned.At(y), "%s and %s", x, y)
				}
			}
		}
	})
}
