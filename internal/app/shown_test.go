package app_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bivium/core/document"
	"bivium/internal/app/lanes"
	"bivium/internal/app/view"
)

// hands is an estate whose clock is shown to another segment under an address of
// 100.72.1.0/24, and sees that segment under others.
const hands = `
bivium: 1
estate: hands
hubs: [{name: top}]
segments: [{name: base}, {name: left}]
networks:
  - {name: tower, kind: cloud, segment: base, subnets: [{name: clocks, prefix: 10.9.1.0/24}]}
  - {name: mill, kind: cloud, segment: left, subnets: [{name: lan, prefix: 10.9.0.0/16}]}
attachments: [{network: tower, hub: top}, {network: mill, hub: top}]
workloads:
  - {name: clock-1, network: tower, addresses: [10.9.1.123], labels: {app: clock}}
groups: [{name: clocks, match: app=clock}]
shares:
  - name: clock
    owner: {segment: base, groups: [clocks]}
    guest: {segment: left, groups: any}
    rules: [{services: [udp/123], action: allow}]
    show:
      - {inside: 10.9.1.0/24, outside: 100.72.1.0/24, segment: base}
      - {inside: 10.9.0.0/16, outside: 100.65.0.0/16, segment: left}
`

// TestAClockIsAskedForByEveryName asks for one that a share shows under another
// address: by its name, by either address, and by what has the address at home.
func TestAClockIsAskedForByEveryName(t *testing.T) {
	e, err := document.Read([]byte(hands))
	require.NoError(t, err)
	s := view.NewSnapshot(e, 1)
	require.Empty(t, s.Faults)
	for _, c := range []struct{ from, to, says, network string }{
		{"left", "clock-1", "allowed", "tower"},
		{"left", "clocks", "allowed", "tower"},
		{"left:10.9.4.4", "100.72.1.123", "allowed", "tower"},
		{"left:10.9.4.4", "base:10.9.1.123", "allowed", "tower"},
		{"left:10.9.4.4", "10.9.1.123", "denied", "mill"}, // it has the address itself
		{"left:10.9.4.4", "100.72.1.124", "unrouted", ""}, // nobody shows it
		{"clock-1", "100.65.4.4", "denied", "mill"},       // the share lets it answer, and not ask
		{"clock-1", "10.9.4.4", "unrouted", ""},
	} {
		a, err := s.Ask(view.Question{From: c.from, To: c.to, On: "udp/123"})
		require.NoError(t, err, "%v", c)
		assert.Equal(t, c.says, string(a.Trace.Verdict.Outcome), "%v", c)
		assert.Equal(t, c.network, a.Trace.Destination.Network, "%v", c)
	}
	road, err := s.Road("left:10.9.4.4", "clock-1", "udp/123", 0, "")
	require.NoError(t, err)
	assert.Equal(t, "100.72.1.123", road.Trace.Flow.Destination, "the flow names what its segment sees")
	routes, err := lanes.HubRoutes(s, "left", "top", "100.72.1.123")
	require.NoError(t, err)
	require.Len(t, routes.Rows, 1)
	assert.Equal(t, "100.72.1.123/32", routes.Rows[0].Prefix)
	assert.Equal(t, "shared", routes.Rows[0].Origin)
	assert.Equal(t, "ok", routes.Rows[0].State)
}
