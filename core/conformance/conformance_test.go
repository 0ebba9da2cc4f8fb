// Package conformance runs the core on estates whose verdicts are given.
package conformance

import (
	"bytes"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bivium/core/document"
	"bivium/core/estate"
	"bivium/core/flowfile"
	"bivium/core/verdict"
)

// folder lies beside the checkout, where every session and CI has it.
const folder = "../../../shared/conformance"

func TestVerdictsMatchToTheByte(t *testing.T) {
	estates, err := filepath.Glob(filepath.Join(folder, "*", "estate.json"))
	require.NoError(t, err)
	if len(estates) == 0 {
		t.Skipf("no estates in %s", folder)
	}
	for _, file := range estates {
		dir := filepath.Dir(file)
		t.Run(filepath.Base(dir), func(t *testing.T) {
			text, err := os.ReadFile(file)
			require.NoError(t, err)
			e, err := document.Read(text)
			require.NoError(t, err)
			require.Empty(t, estate.Check(e))
			flows, err := os.ReadFile(filepath.Join(dir, "flows.csv"))
			require.NoError(t, err)
			want, err := os.ReadFile(filepath.Join(dir, "verdicts.csv"))
			require.NoError(t, err)

			judge := verdict.New(e)
			table, err := flowfile.Read(bytes.NewReader(flows), judge.Net().Segments)
			require.NoError(t, err)
			verdicts := make([]verdict.Verdict, len(table.Flows))
			for i, f := range table.Flows {
				verdicts[i] = judge.Judge(f)
			}
			var got bytes.Buffer
			require.NoError(t, table.Write(&got, verdicts))
			wantLines, gotLines := bytes.Split(want, []byte("\n")), bytes.Split(got.Bytes(), []byte("\n"))
			require.Len(t, gotLines, len(wantLines))
			for i := range wantLines {
				assert.Equal(t, string(wantLines[i]), string(gotLines[i]), "line %d", i+1)
			}
		})
	}
}
