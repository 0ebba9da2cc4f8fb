package analysis

import (
	"math"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bivium/core/classes"
	"bivium/core/document"
	"bivium/core/estate"
	"bivium/core/flowfile"
	"bivium/core/intervals"
	"bivium/core/matrix"
	"bivium/core/query"
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

// verdictOf asks the matrix about one flow, as the table has it.
func verdictOf(s *matrix.Matrix, f verdict.Flow) (verdict.Verdict, bool) {
	a, ok := query.OutsideAt(s, f.Source)
	if f.Segment != verdict.Internet {
		a, ok = query.ClassAt(s, s.Judge.Net.Segment(f.Segment), f.Source)
	}
	if !ok || f.Source == f.Destination { // an address opens no flow to itself
		return verdict.Verdict{}, false
	}
	atom := s.Atoms.At(f.Protocol, f.SourcePort, f.Port)
	var found *verdict.Verdict
	door := math.MaxInt // the first publication by name wins, and none comes last
	for b := range s.Classes {
		if !named(s, b, f) {
			continue
		}
		s.EachResult(a, b, func(t matrix.ClassResult) {
			r := query.Spread(s, &query.Column{ClassResult: t})[atom]
			named := f.Publication == "" || t.Publication >= 0 && s.Judge.PublicationNames()[t.Publication] == f.Publication
			rank := t.Publication
			if rank < 0 {
				rank = math.MaxInt - 1
			}
			if t.Vector != 0 && r >= 0 && named && rank < door {
				door, found = rank, &s.Results[r]
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
func named(s *matrix.Matrix, class int, f verdict.Flow) bool {
	c := s.Classes[class]
	if f.Segment == verdict.Internet || !c.Internal() {
		return c.Holds(f.Destination)
	}
	from := s.Judge.Net.Segment(f.Segment)
	own := []netip.Addr{f.Destination}
	for _, w := range intervals.ShownIn(s.Judge) {
		if w.Of == c.End.Segment && w.To == from && w.Outside.Contains(f.Destination) {
			own = append(own, estate.Rebase(f.Destination, w.Inside))
		}
	}
	return slices.ContainsFunc(own, func(a netip.Addr) bool { return c.Holds(a) && classes.AsSeen(s.Judge, c, a, from) == f.Destination })
}

func TestMatrixSaysWhatTheJudgeSays(t *testing.T) {
	files, err := filepath.Glob(filepath.Join(conformance, "*", "estate.json"))
	require.NoError(t, err)
	require.NotEmpty(t, files, "no conformance estates")
	agreed := 0
	for _, file := range files {
		e := readEstate(t, file)
		j := verdict.New(e)
		s := matrix.New(j)
		flows, err := os.Open(filepath.Join(filepath.Dir(file), "flows.csv"))
		require.NoError(t, err)
		table, err := flowfile.Read(flows, j.Net.Segments)
		require.NoError(t, err)
		require.NoError(t, flows.Close())
		for _, f := range table.Flows {
			want := j.Judge(f)
			assert.Equal(t, want, query.Tell(s, &f), "%s: told of %v", file, f)
			got, ok := verdictOf(s, f)
			if want.Reason == verdict.ReasonUnknown || want.Reason == verdict.ReasonNoPath && f.Publication != "" {
				continue // no class has it, or the publication that it names is not its own
			}
			if assert.True(t, ok, "%s: %v is in no class", file, f) && assert.Equal(t, want, got, "%s: %v", file, f) {
				agreed++
			}
		}
	}
	assert.Greater(t, agreed, 4000, "too few flows were compared")
}
