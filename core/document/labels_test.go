package document_test

import (
	"fmt"
	"reflect"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bivium/core/document"
)

// TestLabelsThatAreWrittenAlikeAreShared reads many workloads with the same labels: they
// have one map, but what is wrong with labels is told wherever it stands.
func TestLabelsThatAreWrittenAlikeAreShared(t *testing.T) {
	text := func(labels ...string) []byte {
		out := "bivium: 1\nestate: e\nnetworks:\n  - {name: n, kind: cloud, subnets: [{name: s, prefix: 10.0.0.0/24}]}\nworkloads:\n"
		for i, l := range labels {
			out += fmt.Sprintf("  - {name: w%d, network: n, addresses: [10.0.0.%d], labels: {%s}}\n", i, i+1, l)
		}
		return []byte(out)
	}
	e, err := document.Read(text("app: a, env: b", "app: a, env: b", "app: ab, env: ''", "env: b, app: a"))
	require.NoError(t, err)
	same := func(i, k int) bool {
		return reflect.ValueOf(e.Workloads[i].Labels).Pointer() == reflect.ValueOf(e.Workloads[k].Labels).Pointer()
	}
	assert.True(t, same(0, 1))
	assert.False(t, same(0, 2))
	assert.Equal(t, e.Workloads[0].Labels, e.Workloads[3].Labels)

	_, err = document.Read(text("a: b, c: ''", `a: "b\0c\0"`))
	require.Error(t, err, "these are not the same, though they are the same bytes with ends between")

	_, err = document.Read(text("Ä pp: a", "app: a", "Ä pp: a"))
	var wrong document.Errors
	require.ErrorAs(t, err, &wrong)
	assert.Len(t, wrong, 2)
}
