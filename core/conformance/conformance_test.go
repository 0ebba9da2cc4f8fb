// Package conformance runs the core on estates whose verdicts are given, and the slow
// evaluator beside it. The estates lie in testdata: model holds those of clauses M1–M11,
// addresses those of M12–M15.
package conformance

import (
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bivium/core/document"
	"bivium/core/estate"
	"bivium/core/findings"
	"bivium/core/flowfile"
	"bivium/core/testing/oracle"
	"bivium/core/verdict"
)

// given is an estate with flows, and the verdicts on them.
type given struct {
	estate *estate.Estate
	judge  *verdict.Judge
	flows  *flowfile.Table
	want   []byte
}

// eachGiven runs a test on each estate of testdata.
func eachGiven(t *testing.T, test func(t *testing.T, g given)) {
	files, err := filepath.Glob("testdata/*/*/estate.json")
	require.NoError(t, err)
	require.Len(t, files, 78)
	for _, file := range files {
		dir := filepath.Dir(file)
		t.Run(strings.TrimPrefix(dir, "testdata/"), func(t *testing.T) {
			read := func(name string) []byte {
				text, err := os.ReadFile(filepath.Join(dir, name))
				require.NoError(t, err)
				return text
			}
			e, err := document.Read(read("estate.json"))
			require.NoError(t, err)
			judge := verdict.New(e)
			table, err := flowfile.Read(bytes.NewReader(read("flows.csv")), judge.Net.Segments)
			require.NoError(t, err)
			test(t, given{e, judge, table, read("verdicts.csv")})
		})
	}
}

// check compares verdicts with those that are given, line by line.
func (g *given) check(t *testing.T, verdicts []verdict.Verdict) {
	var got bytes.Buffer
	require.NoError(t, g.flows.Write(&got, verdicts))
	wantLines, gotLines := bytes.Split(g.want, []byte("\n")), bytes.Split(got.Bytes(), []byte("\n"))
	require.Len(t, gotLines, len(wantLines))
	for i := range wantLines {
		assert.Equal(t, string(wantLines[i]), string(gotLines[i]), "line %d", i+1)
	}
}

func TestVerdictsMatchToTheByte(t *testing.T) {
	eachGiven(t, func(t *testing.T, g given) {
		verdicts := make([]verdict.Verdict, len(g.flows.Flows))
		for i, f := range g.flows.Flows {
			verdicts[i] = g.judge.Judge(f)
		}
		g.check(t, verdicts)
	})
}

func TestSlowEvaluatorMatchesToTheByte(t *testing.T) {
	split := func(list string) []string {
		if list == "" {
			return nil
		}
		return strings.Split(list, ";")
	}
	eachGiven(t, func(t *testing.T, g given) {
		verdicts := make([]verdict.Verdict, len(g.flows.Flows))
		for i, f := range g.flows.Flows {
			v := oracle.Judge(g.estate, oracle.Flow{
				Segment: f.Segment, Source: f.Source, Destination: f.Destination, Protocol: f.Protocol,
				SourcePort: f.SourcePort, Port: f.Port, Publication: f.Publication,
			})
			verdicts[i] = verdict.Verdict{
				Outcome: verdict.Outcome(v.Outcome), Intended: estate.Action(v.Intended), Reason: verdict.Reason(v.Reason),
				Pools: split(v.Pools), By: split(v.By), Contested: v.Contested,
			}
		}
		g.check(t, verdicts)
	})
}

func TestEstatesHaveNoFaults(t *testing.T) {
	eachGiven(t, func(t *testing.T, g given) {
		assert.Empty(t, estate.Check(g.estate))
		assert.Empty(t, findings.ShareFaults(g.judge))
	})
}
