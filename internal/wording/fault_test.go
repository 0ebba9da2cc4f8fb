package wording_test

import (
	"flag"
	"fmt"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bivium/core/document"
	"bivium/core/estate"
	"bivium/core/findings"
	"bivium/core/verdict"
	"bivium/internal/wording"
)

var rewrite = flag.Bool("rewrite", false, "write testdata/faults.txt anew")

// TestEveryFaultInWords reads what the faults of an estate that has every one of them say,
// and how each is fixed: testdata/faults.txt is read by a person when it changes.
func TestEveryFaultInWords(t *testing.T) {
	var said strings.Builder
	codes := map[estate.Code]bool{}
	for _, file := range []string{"../../core/estate/testdata/faults.yaml", "testdata/shares.yaml"} {
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		e, err := document.Read(text)
		require.NoError(t, err)
		faults := estate.Check(e)
		if len(faults) == 0 {
			faults = findings.ShareFaults(verdict.New(e))
		}
		for _, f := range wording.Faults(faults) {
			codes[f.Code] = true
			assert.NotEqual(t, string(f.Code), f.Message, "%s has no words in the form %q", f.Code, f.Form)
			assert.NotContains(t, f.Message+f.Fix, "%!", "a verb without its argument")
			fmt.Fprintf(&said, "%s %s\n    %s\n", f.Code, f.Message, f.Fix)
		}
	}
	assert.Len(t, codes, 17)
	if *rewrite {
		require.NoError(t, os.WriteFile("testdata/faults.txt", []byte(said.String()), 0o644))
	}
	want, err := os.ReadFile("testdata/faults.txt")
	require.NoError(t, err)
	assert.Equal(t, string(want), said.String())
}
