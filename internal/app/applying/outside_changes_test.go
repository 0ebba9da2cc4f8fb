package applying_test

import (
	"net/netip"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bivium/core/document"
	"bivium/core/edit"
	"bivium/core/estate"
	"bivium/internal/app"
	"bivium/internal/app/applying"
	"bivium/internal/app/targets"
	"bivium/internal/people"
	"bivium/internal/standin"
)

// TestWhatDoesNotFitIsLeft asks the lists of workloads of one network for source ports, which they
// do not have: their lists and which of them they bear stay as they are, and all else is in force.
func TestWhatDoesNotFitIsLeft(t *testing.T) {
	o := startOutside(t)
	o.putsRight()
	lists := func() (versions map[string]string, bears map[string][]string) {
		_, readings, _ := o.drift()
		i := slices.IndexFunc(readings, func(r targets.Reading) bool { return r.Account == "cirra-north" })
		versions, bears = map[string]string{}, map[string][]string{}
		for _, l := range readings[i].Native.Entries {
			versions[l.Name] = l.Version
		}
		for _, b := range readings[i].Native.Bindings {
			bears[readings[i].Workloads[b.Workload]] = b.Lists
		}
		return versions, bears
	}
	before, bore := lists()
	o.makes(edit.Put, estate.KindService, "", `{"name": "odd", "terms": [{"protocol": "tcp", "ports": 9123, "sourcePorts": "1024-2000"}]}`)
	o.makes(edit.Put, estate.KindPolicy, "", `{"name": "odd", "segments": ["turbine"], "from": ["collectors"], "to": ["historian"], "rules": [{"services": ["odd"], "action": "allow"}]}`)
	require.Eventually(t, func() bool {
		s := o.state()
		return s.State == applying.StatePartly && s.Plan == 0 && s.Revision == o.app.Now().Revision
	}, 30*time.Second, 20*time.Millisecond, "all else is in force, and it is said that this is not")
	assert.Equal(t, []string{"rules of network telemetry"}, o.state().Behind[0].Documents)
	book, err := (&targets.Books{}).Of(o.app.Now())
	require.NoError(t, err)
	_, refused := book.Config()
	require.NotEmpty(t, refused)
	after, bears := lists()
	unfit := func(workload string) bool {
		e := o.app.Now().Estate
		i := slices.IndexFunc(e.Workloads, func(w estate.Workload) bool { return w.Name == workload })
		return i >= 0 && e.Workloads[i].Network == refused[0].Network
	}
	for workload, names := range bore {
		if unfit(workload) {
			assert.Equal(t, names, bears[workload], workload)
			for _, l := range names {
				assert.Equal(t, before[l], after[l], "%s of %s", l, workload)
			}
		}
	}
	require.True(t, unfit("collector-1"))
}

// TestSomebodyWritesInBetween writes a list at the provider's console after a plan was made of it: the
// plan does not write over it and says so, until it is told to try again, and planned again from what
// there is.
func TestSomebodyWritesInBetween(t *testing.T) {
	o := startOutside(t)
	o.putsRight()
	becomes := func(state, why string) {
		t.Helper()
		require.Eventually(t, func() bool {
			s := o.state()
			if s.State != state || len(s.Behind) == 0 {
				return false
			}
			return slices.ContainsFunc(s.Behind, func(b applying.Behind) bool { return strings.Contains(b.Why, why) })
		}, 30*time.Second, 20*time.Millisecond, "%+v", o.state())
	}
	require.NoError(t, o.world.Fail("velum-central", standin.Fault{Kind: "refused"}))
	o.edits("more", "market", "traders", "price-databases", true)
	becomes(applying.StatePartly, "the list is refused")
	require.NoError(t, o.world.Hand("velum-central", standin.Rule{Network: "net-trading", On: "prices", Priority: 4001, Action: "allow", Protocol: "tcp", Ports: "2222", From: netip.MustParsePrefix("10.70.0.0/24"), By: "j.sunde"}))
	require.NoError(t, o.world.Fail("velum-central", standin.Fault{Kind: "none"}))
	retry := func() {
		require.NoError(t, o.writer.Steer(t.Context(), people.System("tester"), o.state().Plan, applying.Retry))
	}
	retry()
	becomes(applying.StatePartly, "changed by someone else")
	_, _, drift := o.drift()
	require.NotEmpty(t, drift, "what somebody wrote is there")
	retry()
	o.settles()
	o.holdsWhatItShould()
}

// TestAMachineThatWentIsNoticed lets a machine go between a sync and the writing of its lists: its account
// is synced again, and what the estate asks by then is in force.
func TestAMachineThatWentIsNoticed(t *testing.T) {
	o := startOutside(t)
	o.putsRight()
	require.NoError(t, o.world.Fail("cirra-north", standin.Fault{Kind: "refused"}))
	require.NoError(t, o.world.Start("cirra-north", &standin.Machine{ID: "m-guest", Name: "guest", Network: "net-common", Addresses: []netip.Addr{netip.MustParseAddr("10.61.1.91")}, Tags: map[string]string{"app": "maps"}}))
	o.syncs("cirra-north")
	there := func() bool {
		return slices.ContainsFunc(o.app.Now().Estate.Workloads, func(w estate.Workload) bool { return w.Name == "guest" })
	}
	require.True(t, there())
	require.NoError(t, o.world.Stop("cirra-north", "m-guest"))
	require.NoError(t, o.world.Fail("cirra-north", standin.Fault{Kind: "none"}))
	o.settles()
	assert.False(t, there())
	o.holdsWhatItShould()
}

// TestANewNetworkIsPlaced syncs a network that is in no segment yet: nothing is to be written of it, and
// all is in force. Placed in a segment, it lies there at the hubs, whatever it is called there and here.
func TestANewNetworkIsPlaced(t *testing.T) {
	o := startOutside(t)
	o.putsRight()
	o.syncs("cirra-north")
	o.settles()
	e := o.app.Now().Estate
	i := slices.IndexFunc(e.Networks, func(n estate.Network) bool { return n.Name == "salvage-sandbox" })
	require.GreaterOrEqual(t, i, 0)
	n := e.Networks[i]
	require.Empty(t, n.Segment)
	n.Segment = "office"
	o.makes(edit.Put, estate.KindNetwork, n.Name, string(document.Body(reflect.ValueOf(&n).Elem())))
	o.settles()
	assert.Equal(t, "office", o.world.Plane().Networks["Salvage Sandbox"].Subnets[0].Segment)
	o.holdsWhatItShould()

	for was, name := range map[string]string{"salvage-sandbox": "salvage", "common": "shared", "telemetry": "readings"} {
		rename := edit.Operation{Op: edit.Rename, Kind: estate.KindNetwork, Name: was, To: name, Base: edit.BaseOf(o.app.Now().Estate, estate.Ref{Kind: estate.KindNetwork, Name: was})}
		_, err := o.app.Make(t.Context(), &app.Edit{Edit: edit.Edit{Operations: []edit.Operation{rename}}, Seen: o.app.Now().Revision}, "tester")
		require.NoError(t, err)
	}
	o.settles()
	o.holdsWhatItShould()
}
