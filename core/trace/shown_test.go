package trace

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bivium/core/document"
	"bivium/core/estate"
	"bivium/core/findings"
	"bivium/core/verdict"
)

// clock is a service of one segment that two others use, which have the same
// addresses, one of them those of the clock itself.
const clock = `
bivium: 1
estate: hands
hubs: [{name: top}]
segments: [{name: base}, {name: left}, {name: right}]
networks:
  - {name: tower, kind: cloud, segment: base, subnets: [{name: clocks, prefix: 10.9.1.0/24}]}
  - {name: mill, kind: cloud, segment: left, subnets: [{name: lan, prefix: 10.9.0.0/16}]}
  - {name: forge, kind: cloud, segment: right, subnets: [{name: lan, prefix: 10.9.0.0/16}], routes: [{to: 100.72.9.0/24, via: none}]}
attachments: [{network: tower, hub: top}, {network: mill, hub: top}, {network: forge, hub: top}]
workloads:
  - {name: clock-1, network: tower, addresses: [10.9.1.123], labels: {app: clock}}
  - {name: loom, network: mill, addresses: [10.9.1.123], labels: {app: loom}}
groups: [{name: clocks, match: app=clock}]
shares:
  - name: clock-left
    owner: {segment: base, groups: [clocks]}
    guest: {segment: left, groups: any}
    rules: [{services: [udp/123], action: allow}]
    show: [SHOWN-LEFT{inside: 10.9.0.0/16, outside: 100.65.0.0/16, segment: left}]
  - name: clock-right
    owner: {segment: base, groups: [clocks]}
    guest: {segment: right, groups: any}
    direction: both
    rules: [{services: [udp/123], action: allow}]
    show:
      - {inside: 10.9.1.0/24, outside: SHOWN-RIGHT, segment: base}
      - {inside: 10.9.0.0/16, outside: 100.66.0.0/16, segment: right}
`

func clocks(t *testing.T, left, right string) *estate.Estate {
	t.Helper()
	text := strings.NewReplacer("SHOWN-LEFT", left, "SHOWN-RIGHT", right).Replace(clock)
	e, err := document.Read([]byte(text))
	require.NoError(t, err)
	require.Empty(t, estate.Check(e))
	return e
}

// TestAClockForSegmentsThatReuseAddresses offers one service to two segments that
// have the same addresses: each sees it, and is seen, under others.
func TestAClockForSegmentsThatReuseAddresses(t *testing.T) {
	shown := "{inside: 10.9.1.0/24, outside: 100.72.1.0/24, segment: base}, "
	j := verdict.New(clocks(t, shown, "100.72.1.0/24"))
	require.Empty(t, findings.ShareFaults(j))
	ntp := func(segment, src, dst string) verdict.Flow {
		f := flow(segment, src, dst, 123)
		f.Protocol = 17
		return f
	}
	for _, c := range []struct{ segment, src, dst, says, workload string }{
		{"left", "10.9.4.4", "100.72.1.123", "allowed share", "clock-1"},
		{"left", "10.9.4.4", "10.9.1.123", "denied default", "loom"}, // its own, whatever the share brings
		{"right", "10.9.4.4", "100.72.1.123", "allowed share", "clock-1"},
		{"right", "10.9.4.4", "100.72.1.124", "unrouted unknown", ""}, // no clock has it
		{"base", "10.9.1.123", "100.66.4.4", "allowed share", ""},     // both may
		{"base", "10.9.1.123", "100.65.1.123", "denied no-share", "loom"},
		{"base", "10.9.1.123", "10.9.4.4", "unrouted unknown", ""}, // seen by its outside address alone
	} {
		trace := Of(j, ntp(c.segment, c.src, c.dst))
		assert.Equal(t, c.says, string(trace.Verdict.Outcome)+" "+string(trace.Verdict.Reason), "%s to %s", c.src, c.dst)
		assert.Equal(t, c.workload, trace.Destination.Workload)
	}
	trace := Of(j, ntp("left", "10.9.4.4", "100.72.1.123"))
	assert.Equal(t, [2]string{"10.9.1.123", "100.72.1.123"}, [2]string{trace.Destination.Address, trace.Destination.SeenAs}, "both addresses are told")
	assert.Equal(t, "100.65.4.4", trace.Source.SeenAs, "and how the clock sees who asks")

	// The route table of the source is asked for the address that its segment sees.
	barred := verdict.New(clocks(t, shown, "100.72.9.0/24"))
	assert.Equal(t, "unrouted no-path", say(barred.Judge(ntp("right", "10.9.4.4", "100.72.9.123"))))

	// What is not shown collides, and what is shown onto others does too.
	for _, left := range []string{"", strings.Replace(shown, "100.72.1.0", "10.9.7.0", 1)} {
		faults := findings.ShareFaults(verdict.New(clocks(t, left, "100.72.1.0/24")))
		require.NotEmpty(t, faults)
		assert.Equal(t, estate.ForbiddenShare, faults[0].Code)
		assert.Equal(t, estate.InUse, faults[0].Form)
		assert.Equal(t, "left", faults[0].Args[3])
	}
}

// annex is two services that a share offers, one of which is shown under other addresses;
// the other one's own address is among those (M14.2).
const annex = `
bivium: 1
estate: annex
hubs: [{name: top}]
segments: [{name: base}, {name: left}]
networks:
  - {name: tower, kind: cloud, segment: base, subnets: [{name: clocks, prefix: 10.9.1.0/24}]}
  - {name: annex, kind: cloud, segment: base, subnets: [{name: lan, prefix: 198.51.100.0/24}]}
  - {name: mill, kind: cloud, segment: left, subnets: [{name: lan, prefix: 10.1.0.0/16}]}
attachments: [{network: tower, hub: top}, {network: annex, hub: top}, {network: mill, hub: top}]
exits: [{name: out, hub: top, segments: [left]}]
workloads:
  - {name: clock-1, network: tower, addresses: [10.9.1.123], labels: {app: clock}}
  - {name: clock-2, network: annex, addresses: [198.51.100.CLOCK2], labels: {app: clock}}
groups: [{name: clocks, match: app=clock}, {name: outside, exits: [out]}]
policies: [{name: out, segments: [left], from: any, to: [outside], rules: [{services: [any], action: allow}]}]
shares:
  - name: clocks
    owner: {segment: base, groups: [clocks]}
    guest: {segment: left, groups: any}
    rules: [{services: [udp/123], action: deny}]
    show: [{inside: 10.9.1.0/24, outside: 198.51.100.0/24, segment: base}]
`

func TestAnOwnAddressAmongThoseThatOthersAreShownUnder(t *testing.T) {
	read := func(clock2 string) *verdict.Judge {
		e, err := document.Read([]byte(strings.ReplaceAll(annex, "CLOCK2", clock2)))
		require.NoError(t, err)
		require.Empty(t, estate.Check(e))
		return verdict.New(e)
	}
	ask := func(j *verdict.Judge, to string) string {
		f := flow("left", "10.1.0.7", to, 123)
		f.Protocol = 17
		return say(j.Judge(f))
	}
	j := read("200")
	assert.Empty(t, findings.ShareFaults(j))
	assert.Equal(t, "denied share by clocks", ask(j, "198.51.100.123"), "clock-1, shown under it")
	assert.Equal(t, "denied share by clocks", ask(j, "198.51.100.200"), "clock-2 keeps its own address, and is not taken for the internet's")
	assert.Equal(t, "allowed policy by out", ask(j, "198.51.100.7"), "nobody is reachable by it: it is the internet's")

	both := read("123")
	faults := findings.ShareFaults(both)
	require.Len(t, faults, 1)
	assert.Equal(t, estate.AlreadyShared, faults[0].Form)
	assert.Equal(t, []string{"10.9.1.123", "base", "198.51.100.123", "left", "198.51.100.123", "base"}, faults[0].Args)
	assert.NotContains(t, ask(both, "198.51.100.123"), "share")
	for _, f := range []string{"tower", "annex"} {
		assert.NotContains(t, Of(both, flow("left", "10.1.0.7", "198.51.100.123", 123)).Destination.Network, f, "neither is delivered to")
	}
}
