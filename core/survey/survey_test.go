package survey

import (
	"math"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bivium/core/document"
	"bivium/core/estate"
	"bivium/core/flowfile"
	"bivium/core/verdict"
)

const conformance = "../conformance/testdata/model"

func readEstate(t testing.TB, file string) *estate.Estate {
	t.Helper()
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	e, err := document.Read(text)
	require.NoError(t, err)
	return e
}

// verdictOf asks the survey about one flow, as the table has it.
func (s *Survey) verdictOf(f verdict.Flow) (verdict.Verdict, bool) {
	a, ok := s.OutsideAt(f.Source)
	if f.Segment != verdict.Internet {
		a, ok = s.ClassAt(s.judge.Net().Segment(f.Segment), f.Source)
	}
	if !ok || f.Source == f.Destination { // an address opens no flow to itself
		return verdict.Verdict{}, false
	}
	atom := s.atoms.At(f.Protocol, f.SourcePort, f.Port)
	var found *verdict.Verdict
	door := math.MaxInt // the first publication by name wins, and none comes last
	for b := range s.classes {
		if !s.named(b, f) {
			continue
		}
		s.eachStrand(a, b, func(t strand) {
			r := s.spread(&column{strand: t})[atom]
			named := f.Publication == "" || t.publication >= 0 && s.judge.Publications()[t.publication] == f.Publication
			rank := t.publication
			if rank < 0 {
				rank = math.MaxInt - 1
			}
			if t.vector != 0 && r >= 0 && named && rank < door {
				door, found = rank, &s.results[r]
			}
		})
	}
	if found == nil {
		return verdict.Verdict{}, false
	}
	return *found, true
}

// named reports whether a flow's destination is an address of a class, as the flow's
// segment sees it.
func (s *Survey) named(class int, f verdict.Flow) bool {
	c := s.classes[class]
	if f.Segment == verdict.Internet || !c.Internal() {
		return c.holds(f.Destination)
	}
	from := s.judge.Net().Segment(f.Segment)
	own := []netip.Addr{f.Destination}
	for _, w := range sightsOf(s.judge) {
		if w.of == c.End.Segment && w.to == from && w.outside.Contains(f.Destination) {
			own = append(own, estate.Rebase(f.Destination, w.inside))
		}
	}
	return slices.ContainsFunc(own, func(a netip.Addr) bool { return c.holds(a) && asSeen(s.judge, c, a, from) == f.Destination })
}

func TestSurveySaysWhatTheJudgeSays(t *testing.T) {
	files, err := filepath.Glob(filepath.Join(conformance, "*", "estate.json"))
	require.NoError(t, err)
	require.NotEmpty(t, files, "no conformance estates")
	agreed := 0
	for _, file := range files {
		e := readEstate(t, file)
		j := verdict.New(e)
		s := New(j)
		flows, err := os.Open(filepath.Join(filepath.Dir(file), "flows.csv"))
		require.NoError(t, err)
		table, err := flowfile.Read(flows, j.Net().Segments)
		require.NoError(t, err)
		require.NoError(t, flows.Close())
		for _, f := range table.Flows {
			want := j.Judge(f)
			assert.Equal(t, want, s.Tell(&f), "%s: told of %v", file, f)
			got, ok := s.verdictOf(f)
			if want.Reason == verdict.ReasonUnknown || want.Reason == verdict.ReasonNoPath && f.Publication != "" {
				continue // no class has it, or the door that it names is not its own
			}
			if assert.True(t, ok, "%s: %v is in no class", file, f) && assert.Equal(t, want, got, "%s: %v", file, f) {
				agreed++
			}
		}
	}
	assert.Greater(t, agreed, 4000, "too few flows were compared")
}
