package space

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"bivium/core/estate"
)

// point is one service; the universe is small enough to look at all of it.
type point struct {
	protocol     uint8
	sport, dport uint16
}

// universe has the bounds of every range that drawTerm can draw, and what lies
// just beside them.
func universe() []point {
	var out []point
	ports := []uint16{0, 1, 2, 3, 4, 5, 65534, 65535}
	for _, p := range []uint8{estate.TCP, estate.UDP} {
		for _, s := range ports {
			for _, d := range ports {
				out = append(out, point{p, s, d})
			}
		}
	}
	for _, t := range []uint16{0, 1, 2, 3, 4, 5, 254, 255} {
		out = append(out, point{estate.ICMP, 0, t}, point{estate.ICMPv6, 0, t})
	}
	for _, p := range []uint8{0, 2, 5, 7, 16, 18, 47, 57, 59, 255} {
		out = append(out, point{p, 0, 0})
	}
	return out
}

func drawRange(t *rapid.T, hi uint16) estate.Range {
	at := rapid.SampledFrom([]uint16{0, 1, 2, 3, 4, hi - 1, hi})
	a, b := at.Draw(t, "a"), at.Draw(t, "b")
	return estate.Range{Lo: min(a, b), Hi: max(a, b)}
}

func drawTerm(t *rapid.T) estate.Term {
	switch rapid.IntRange(0, 9).Draw(t, "kind") {
	case 0:
		return estate.Term{AnyProtocol: true}
	case 1:
		return estate.Term{Protocol: rapid.SampledFrom([]uint8{0, 2, 47, 255}).Draw(t, "protocol")}
	case 2:
		return estate.Term{Protocol: estate.ICMP, Ports: drawRange(t, 255)}
	default:
		p := rapid.SampledFrom([]uint8{estate.TCP, estate.UDP}).Draw(t, "protocol")
		return estate.Term{Protocol: p, Ports: drawRange(t, 65535), SourcePorts: drawRange(t, 65535)}
	}
}

func drawTerms(t *rapid.T) []estate.Term {
	return rapid.SliceOfN(rapid.Custom(drawTerm), 0, 4).Draw(t, "terms")
}

func contains(terms []estate.Term, p point) bool {
	for _, t := range terms {
		if t.Contains(p.protocol, p.sport, p.dport) {
			return true
		}
	}
	return false
}

// checkNormal fails unless the boxes are disjoint, sorted and as few as the
// normal form demands: writing them anew changes nothing.
func checkNormal(t require.TestingT, s Services) {
	require.Equal(t, s.boxes, Of(s.boxes).boxes, "not in normal form")
}

func TestServicesAreTheUnionOfTheirTerms(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		terms := drawTerms(t)
		s := OfTerms(terms)
		checkNormal(t, s)
		rest := s.Complement()
		checkNormal(t, rest)
		for _, p := range universe() {
			want := contains(terms, p)
			require.Equal(t, want, s.Contains(p.protocol, p.sport, p.dport), "%v in %v", p, s.Words())
			require.Equal(t, !want, rest.Contains(p.protocol, p.sport, p.dport), "%v in the rest", p)
		}
		require.Equal(t, Everything().Count(), s.Count()+rest.Count())
		require.True(t, rest.Complement().Equal(s), "the complement of the complement")
		require.True(t, Of(append(s.Boxes(), rest.Boxes()...)).Equal(Everything()))
		require.True(t, intersect(s, rest).Empty())
	})
}

func TestOrderDoesNotMatter(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		terms := drawTerms(t)
		shuffled := rapid.Permutation(terms).Draw(t, "shuffled")
		require.True(t, OfTerms(terms).Equal(OfTerms(shuffled)))
	})
}

func TestAtomsDivideEverything(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		sets := rapid.SliceOfN(rapid.Custom(drawTerms), 0, 5).Draw(t, "sets")
		atoms := Cut(sets)
		var all []Box
		var count uint64
		signatures := map[string]bool{}
		for i := range atoms.Len() {
			checkNormal(t, atoms.Set(i))
			all = append(all, atoms.Set(i).boxes...)
			count += atoms.Set(i).Count()
			protocol, sport, dport, ok := atoms.Set(i).Witness()
			require.True(t, ok, "an atom is empty")
			require.Equal(t, i, atoms.At(protocol, sport, dport))
			signature := ""
			for _, terms := range sets {
				signature += fmt.Sprint(contains(terms, point{protocol, sport, dport}))
			}
			require.False(t, signatures[signature], "two atoms lie in the same sets")
			signatures[signature] = true
		}
		require.True(t, Of(all).Equal(Everything()))
		require.Equal(t, Everything().Count(), count, "atoms overlap")
		for _, terms := range sets {
			in, exact := atoms.Covered(terms)
			require.True(t, exact)
			require.True(t, atoms.Union(in).Equal(OfTerms(terms)))
			for _, p := range universe() {
				require.Equal(t, contains(terms, p), in.Test(uint(atoms.At(p.protocol, p.sport, p.dport))))
			}
		}
	})
}

func TestCoveredTellsWholeAtomsFromParts(t *testing.T) {
	atoms := Cut([][]estate.Term{{{Protocol: estate.TCP, Ports: estate.Range{Lo: 80, Hi: 90}, SourcePorts: estate.AllPorts}}})
	part, exact := atoms.Covered([]estate.Term{{Protocol: estate.TCP, Ports: estate.Range{Lo: 85, Hi: 85}, SourcePorts: estate.AllPorts}})
	assert.False(t, exact)
	assert.Equal(t, uint(1), part.Count())
}

func ExampleServices_Words() {
	web := OfTerms([]estate.Term{
		{Protocol: estate.TCP, Ports: estate.Range{Lo: 80, Hi: 80}, SourcePorts: estate.AllPorts},
		{Protocol: estate.TCP, Ports: estate.Range{Lo: 443, Hi: 443}, SourcePorts: estate.AllPorts},
	})
	fmt.Println(web.Words())
	fmt.Println(Everything().Words())
	// Output:
	// [tcp/80 tcp/443]
	// [any]
}

func BenchmarkCut(b *testing.B) {
	var sets [][]estate.Term
	for i := range uint16(200) {
		sets = append(sets, []estate.Term{{Protocol: estate.TCP, Ports: estate.Range{Lo: 8000 + 3*i, Hi: 8010 + 5*i}, SourcePorts: estate.AllPorts}})
	}
	var atoms *Atoms
	for b.Loop() {
		atoms = Cut(sets)
	}
	b.ReportMetric(float64(atoms.Len()), "atoms")
}
