package analysis

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"bivium/core/difference"
	"bivium/core/document"
	"bivium/core/estate"
	"bivium/core/matrix"
	"bivium/core/verdict"
)

// TestAnExitMovesAsANetworkIsDetached holds a case that a draw found: what is published
// can be reached all at once, though nothing of its segment has moved.
func TestAnExitMovesAsANetworkIsDetached(t *testing.T) {
	text := `
bivium: 1
estate: doors
accounts: [{name: own, provider: premises}]
hubs: [{name: east, account: own}, {name: west, account: own}]
segments: [{name: open, default: allow}, {name: other}]
networks:
  - {name: farm, kind: cloud, account: own, segment: open, subnets: [{name: lan, prefix: 10.1.0.0/24}]}
  - {name: shed, kind: cloud, account: own, segment: other, subnets: [{name: lan, prefix: 10.2.0.0/24}]}
attachments:
  - {network: farm, hub: west}
  - {network: shed, hub: east}
exits: [{name: out, hub: east, segments: [open]}]
publications: [{name: site, exit: out, address: 203.0.113.10, services: [tcp/443], to: {segment: open, groups: any}}]
`
	read := func(text string) *estate.Estate {
		e, err := document.Read([]byte(text))
		require.NoError(t, err)
		require.True(t, sound(e))
		return e
	}
	e := read(text)
	next := document.Shared(e, read(strings.NewReplacer("name: out, hub: east", "name: out, hub: west", "  - {network: shed, hub: east}\n", "").Replace(text)))
	s := New(verdict.New(e))
	revised, d := s.Revise(next)
	require.Same(t, s.Interner, revised.Interner, "in place")
	want := difference.Compare(matrix.New(verdict.New(e)), matrix.New(verdict.New(next)))
	require.Equal(t, changesOf(&want), changesOf(&d))
	require.Contains(t, strings.Join(changesOf(&d), "\n"), "internet")
}
