package applying_test

import (
	"fmt"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bivium/core/document"
	"bivium/core/edit"
	"bivium/core/estate"
	"bivium/core/inventory"
	"bivium/core/native/config"
	"bivium/core/native/plan"
	"bivium/internal/app"
	"bivium/internal/app/targets"
	"bivium/internal/drivers"
	"bivium/internal/standin/dataplane"
	"bivium/internal/store"
)

// makes makes an edit of one operation.
func (o *outside) makes(op edit.Op, kind estate.Kind, name, object string) {
	o.t.Helper()
	x := edit.Operation{Op: op, Kind: kind, Name: name, Base: edit.Absent}
	if op == edit.Put {
		value, err := document.ValueOf([]byte(object))
		require.NoError(o.t, err)
		x.Object = value
	}
	if name != "" {
		x.Base = edit.BaseOf(o.app.Now().Estate, estate.Ref{Kind: kind, Name: name})
	}
	_, err := o.app.Make(o.t.Context(), &app.Edit{Edit: edit.Edit{Operations: []edit.Operation{x}}, Seen: o.app.Now().Revision}, "tester")
	require.NoError(o.t, err)
}

// syncs syncs an account.
func (o *outside) syncs(account string) {
	o.t.Helper()
	_, err := o.app.Read(o.t.Context(), account, "tester", false)
	require.NoError(o.t, err)
	require.Eventually(o.t, func() bool {
		all, err := o.app.Accounts(o.t.Context())
		require.NoError(o.t, err)
		i := slices.IndexFunc(all, func(a app.AccountView) bool { return a.Name == account })
		return all[i].Reading.State == store.Done
	}, 10*time.Second, 10*time.Millisecond)
}

// drift compares what accounts hold with what they should.
func (o *outside) drift() (*targets.Book, []targets.Reading, []targets.ListDrift) {
	o.t.Helper()
	book, err := (&targets.Books{}).Of(o.app.Now())
	require.NoError(o.t, err)
	readings, err := o.app.ReadAll(o.t.Context(), book)
	require.NoError(o.t, err)
	var changed []targets.ListDrift
	for _, a := range book.Compare(readings).Accounts {
		require.NotNil(o.t, a.Changed, "of %s: it is a list in JSON too", a.Account)
		changed = append(changed, a.Changed...)
	}
	return book, readings, changed
}

// retables changes a network's route table and peerings at its provider's console.
func (o *outside) retables(account, network string, change func(*drivers.Put)) {
	o.t.Helper()
	d, err := o.app.Driver(o.t.Context(), account)
	require.NoError(o.t, err)
	names, err := app.NamesIn(o.t.Context(), d, o.app.Now(), account)
	require.NoError(o.t, err)
	for id, name := range names.Networks {
		if name != network {
			continue
		}
		native, err := d.Native(o.t.Context(), []string{id})
		require.NoError(o.t, err)
		i := slices.IndexFunc(native.Tables, func(x drivers.Table) bool { return x.Network == id })
		put := drivers.Put{Network: id, Version: native.Tables[i].Version, Table: append([]inventory.Route{}, native.Tables[i].Routes...), Peers: native.Tables[i].Peers}
		change(&put)
		_, err = d.Put(o.t.Context(), &put)
		require.NoError(o.t, err)
	}
}

// TestPeeringsAreWritten makes a peering and takes it away again: both networks get their ends, and
// the data plane uses it while both are there.
func TestPeeringsAreWritten(t *testing.T) {
	o := startOutside(t)
	o.putsRight()
	peers := func(network string) []dataplane.Peer { return o.world.Plane().Networks[network].Peers }
	require.Equal(t, []dataplane.Peer{{Network: "archive"}}, peers("portal"))
	require.Empty(t, peers("forecast"))

	all, err := o.sender.Round(t.Context(), o.app.Now(), "", 0, "tester")
	require.NoError(t, err)
	some, err := o.sender.Round(t.Context(), o.app.Now(), "market", 0, "tester")
	require.NoError(t, err)
	assert.Equal(t, "market", some.Segment)
	assert.Greater(t, all.Sent, some.Sent)
	assert.Positive(t, some.Sent)
	_, err = o.sender.Round(t.Context(), o.app.Now(), "markets", 0, "tester")
	require.Error(t, err)

	o.makes(edit.Put, estate.KindPeering, "", `{"between": ["forecast", "forecast-dev"], "offersHub": "forecast"}`)
	o.settles()
	assert.Equal(t, []dataplane.Peer{{Network: "forecast-dev"}}, peers("forecast"))
	assert.Equal(t, []dataplane.Peer{{Network: "forecast", Offers: true}}, peers("forecast-dev"))
	o.holdsWhatItShould()
	_, _, changed := o.drift()
	assert.Empty(t, changed)

	before := o.app.Now().Revision
	o.syncs("velum-central")
	assert.Len(t, o.app.Now().Estate.Peerings, 2)
	o.retables("velum-central", "forecast", func(p *drivers.Put) { p.Peers = nil })
	o.syncs("velum-central")
	assert.Len(t, o.app.Now().Estate.Peerings, 2, "what somebody does at the console is drift")
	assert.Equal(t, before, o.app.Now().Revision)
	assert.Empty(t, peers("forecast-dev"), "one end alone does not work")
	_, _, changed = o.drift()
	require.Len(t, changed, 1)
	assert.Equal(t, "forecast route table", changed[0].Network+" "+changed[0].On)
	assert.Equal(t, []string{"peering with forecast-dev"}, changed[0].Missing)

	o.putsRight()
	o.makes(edit.Delete, estate.KindPeering, o.app.Now().Estate.Peerings[1].Name, "")
	o.settles()
	assert.Empty(t, peers("forecast"))
	assert.Empty(t, peers("forecast-dev"))
	o.holdsWhatItShould()
}

// TestChangedRoutesAreDriftOnceBiviumWrites changes a route table at the console: taken over, the
// estate says the same, and no difference is left.
func TestChangedRoutesAreDriftOnceBiviumWrites(t *testing.T) {
	o := startOutside(t)
	o.syncs("velum-central")
	o.putsRight()
	before := o.app.Now().Revision
	o.retables("velum-central", "forecast-dev", func(p *drivers.Put) { p.Table = p.Table[1:] })
	o.retables("stratok-south", "archive", func(p *drivers.Put) { p.Peers[0].OffersHub = true })
	o.syncs("velum-central")
	require.Equal(t, before, o.app.Now().Revision, "no revision")

	book, readings, changed := o.drift()
	require.Len(t, changed, 2)
	takeOver, err := book.TakeOver(readings)
	require.NoError(t, err)
	require.Empty(t, takeOver.Left)
	var said []string
	for _, x := range takeOver.Edit.Operations {
		said = append(said, fmt.Sprint(x.Op, " ", x.Kind, " ", x.Subject()))
	}
	assert.Equal(t, []string{"put network forecast-dev", "put peering portal-archive"}, said)
	_, err = o.app.Make(t.Context(), &app.Edit{Edit: *takeOver.Edit, Seen: before}, "tester")
	require.NoError(t, err)
	o.settles()
	_, _, changed = o.drift()
	assert.Empty(t, changed)
	assert.Equal(t, "portal", o.app.Now().Estate.Peerings[0].OffersHub)
	o.holdsWhatItShould()
}

// TestWhatNothingAskedForIsRemoved writes a match list, a pool and a hub's wiring at the hubs by hand
// of which the estate knows nothing: they are drift, and putting right takes out what they say.
func TestWhatNothingAskedForIsRemoved(t *testing.T) {
	o := startOutside(t)
	o.putsRight()
	_, _, changed := o.drift()
	require.Empty(t, changed)
	d, err := o.app.Hubs(t.Context())
	require.NoError(t, err)
	for key, body := range map[plan.Key]*plan.Body{
		{Kind: plan.KindSegment, Name: "stray"}: {Segment: &config.Segment{Name: "stray", Rules: []config.HubRule{{From: []config.End{{}}, To: []config.End{{}}, Verb: config.Permit}}}},
		{Kind: plan.KindPool, Name: "stray"}:    {Pool: &config.Pool{Name: "stray"}, Firewalls: []estate.Firewall{{Name: "stray-1", Hub: "fjord"}}},
		{Kind: plan.KindHub, Name: "stray"}:     {Hub: &config.Hub{Name: "stray"}, Links: []estate.Link{{Name: "stray-fjord", Between: [2]string{"fjord", "stray"}, Cost: 1}}},
	} {
		_, err = d.Put(t.Context(), key, "", body)
		require.NoError(t, err)
	}
	_, _, changed = o.drift()
	require.Len(t, changed, 3, "%v", changed)
	assert.Equal(t, "wiring of hub stray", changed[0].On)
	assert.NotEmpty(t, changed[0].Added)
	o.putsRight()
	_, _, changed = o.drift()
	assert.Empty(t, changed)
	left, err := d.All(t.Context(), nil)
	require.NoError(t, err)
	assert.NotContains(t, left, plan.Key{Kind: plan.KindHub, Name: "stray"})
	assert.Empty(t, left[plan.Key{Kind: plan.KindSegment, Name: "stray"}].Body.Segment.Rules, "it is left empty")
	o.holdsWhatItShould()
}
