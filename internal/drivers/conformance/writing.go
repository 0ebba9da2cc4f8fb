package conformance

import (
	"net/netip"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bivium/core/estate"
	"bivium/core/inventory"
	"bivium/core/native/config"
	"bivium/core/space"
	"bivium/internal/drivers"
)

// lists reads what the provider has on networks and workloads.
func lists(t *testing.T, p Provider) {
	a := p.Open(t, 2, 3)
	networks, _, _ := read(t, a.Driver, nil)
	found := 0
	for _, n := range networks {
		native, err := a.Driver.Native(t.Context(), []string{n.ID})
		require.NoError(t, err)
		for _, l := range native.Lists {
			assert.Equal(t, n.ID, l.Network)
			assert.NotEmpty(t, l.Version)
			found += len(l.Rules)
		}
		for _, l := range native.Entries {
			found += len(l.Entries)
		}
	}
	assert.Positive(t, found, "the provider has a rule on some network")
	if p.Hangs != "workload" {
		_, err := a.Driver.Native(t.Context(), []string{"no-such-network"})
		assert.ErrorIs(t, err, drivers.ErrMissing)
	}
	a.Fail("wrong", 0, 0)
	_, err := a.Driver.Native(t.Context(), []string{networks[0].ID})
	var senseless *drivers.AnswerError
	assert.ErrorAs(t, err, &senseless)
}

func box(protocol uint8, lo, hi uint16) space.Box {
	_, sources := estate.PortsOf(protocol)
	return space.Box{FirstProtocol: protocol, LastProtocol: protocol, SourcePorts: sources, Ports: estate.Range{Lo: lo, Hi: hi}}
}

func set(p ...string) []*config.Set {
	out := &config.Set{}
	for _, x := range p {
		out.Prefixes = append(out.Prefixes, netip.MustParsePrefix(x))
	}
	return []*config.Set{out}
}

// wanted are rules of every sort: several services and prefixes, both families, ranges of
// protocols, types of ICMP, either verb and either way.
func wanted(first int) []config.Rule {
	rules := []config.Rule{
		{Services: []space.Box{box(estate.TCP, 22, 22)}, Peer: set("10.9.9.0/24")},
		{Allow: true, Services: []space.Box{box(estate.TCP, 1, 1024), box(estate.UDP, 53, 53), box(estate.ICMP, 8, 11)}, Peer: set("10.9.0.0/16", "2001:db8:9::/48")},
		{Allow: true, Services: []space.Box{{FirstProtocol: 47, LastProtocol: 51, SourcePorts: estate.AllPorts, Ports: estate.AllPorts}}, Own: set("10.0.0.0/25")},
		{Out: true, Allow: true, Peer: set("10.0.0.0/8")},
		{Out: true},
	}
	for i := range rules {
		rules[i].Order = first + i
	}
	return rules
}

// packets are those by which lists are compared.
func packets() []packet {
	var out []packet
	for _, out1 := range [2]bool{false, true} {
		for _, own := range []string{"10.0.0.5", "10.0.0.200"} {
			for _, other := range []string{"10.9.9.1", "10.9.1.1", "10.8.0.1", "192.0.2.1"} {
				for _, s := range []space.Box{box(estate.TCP, 22, 22), box(estate.TCP, 1024, 1024), box(estate.TCP, 1025, 1025), box(estate.UDP, 53, 53), box(estate.ICMP, 8, 8), box(estate.ICMP, 11, 11), box(estate.ICMP, 12, 12), box(47, 0, 0), box(52, 0, 0)} {
					out = append(out, packet{out1, netip.MustParseAddr(own), netip.MustParseAddr(other), s})
				}
			}
		}
	}
	return out
}

type packet struct {
	out        bool
	own, other netip.Addr
	service    space.Box
}

func in(sets []*config.Set, a netip.Addr) bool {
	return sets == nil || slices.ContainsFunc(drivers.Prefixes(sets), func(p netip.Prefix) bool { return p.Contains(a) })
}

func holds(b space.Box, s space.Box) bool {
	return b.FirstProtocol <= s.FirstProtocol && s.FirstProtocol <= b.LastProtocol && b.Ports.Lo <= s.Ports.Lo && s.Ports.Hi <= b.Ports.Hi
}

// says returns what the first rule that matches says, and whether one does.
func says(rules []config.Rule, p packet) (allow, matched bool) {
	for _, r := range rules {
		if r.Out == p.out && in(r.Own, p.own) && in(r.Peer, p.other) && (r.Services == nil || slices.ContainsFunc(r.Services, func(b space.Box) bool { return holds(b, p.service) })) {
			return r.Allow, true
		}
	}
	return false, false
}

// writing writes lists, reads them back, and is refused where somebody else has written.
func writing(t *testing.T, p Provider) {
	a := p.Open(t, 2, 3)
	networks, workloads, _ := read(t, a.Driver, nil)
	if p.Hangs == "workload" {
		entries(t, p, a, workloads[0].ID)
		return
	}
	put := drivers.Put{Network: networks[1].ID, List: &config.List{Rules: wanted(100)}}
	if p.Hangs == "subnet" {
		put.List.On = networks[1].Subnets[0].Name
	}
	find := func() *drivers.NetworkList {
		native, err := a.Driver.Native(t.Context(), []string{put.Network})
		require.NoError(t, err)
		for i := range native.Lists {
			if native.Lists[i].On == put.List.On {
				return &native.Lists[i]
			}
		}
		return &drivers.NetworkList{}
	}
	put.Version = find().Version
	version, err := a.Driver.Put(t.Context(), &put)
	require.NoError(t, err)
	is := find()
	assert.Equal(t, version, is.Version)
	for _, k := range packets() {
		allow, matched := says(put.List.Rules, k)
		gotAllow, gotMatched := says(is.Rules, k)
		assert.Equal(t, [2]bool{allow, matched}, [2]bool{gotAllow, gotMatched}, "%+v", k)
	}
	_, err = a.Driver.Put(t.Context(), &put)
	require.ErrorIs(t, err, drivers.ErrChanged, "it was written on a version that is over")
	if p.Most > 0 {
		put.Version, put.List.Rules = version, slices.Repeat(wanted(100)[:1], p.Most+1)
		_, err = a.Driver.Put(t.Context(), &put)
		var limit *drivers.LimitError
		require.ErrorAs(t, err, &limit)
		assert.Equal(t, version, find().Version, "what is refused changes nothing")
	}
	put.Version, put.List.Rules = version, wanted(100)
	a.Fail("torn", 0, 1)
	_, err = a.Driver.Put(t.Context(), &put)
	require.ErrorIs(t, err, drivers.ErrTried, "it breaks off, and is tried again")
	torn := find()
	assert.NotEqual(t, version, torn.Version, "reading back shows it")
	assert.True(t, slices.ContainsFunc(packets(), func(k packet) bool {
		allow, matched := says(put.List.Rules, k)
		gotAllow, gotMatched := says(torn.Rules, k)
		return allow != gotAllow || matched != gotMatched
	}), "and that a part of it is missing")
	version = torn.Version
	put.Version, put.List.Rules = version, nil
	a.Fail("lost", 0, 1)
	_, err = a.Driver.Put(t.Context(), &put)
	require.NoError(t, err, "it is acknowledged, and lost")
	assert.Equal(t, version, find().Version, "reading back shows it")
}

// entries writes lists that workloads bear.
func entries(t *testing.T, p Provider, a Account, workload string) {
	list := config.EntryList{Name: "of-a-test", Entries: []config.Entry{
		{Service: box(estate.TCP, 443, 443), Peer: netip.MustParsePrefix("10.9.0.0/16")},
		{Out: true, Service: config.Anything, Peer: netip.MustParsePrefix("2001:db8::/32")},
		{Service: space.Box{FirstProtocol: 47, LastProtocol: 51, SourcePorts: estate.AllPorts, Ports: estate.AllPorts}, Peers: "of-a-test"},
	}}
	find := func() (*drivers.EntryList, *drivers.Binding) {
		native, err := a.Driver.Native(t.Context(), nil)
		require.NoError(t, err)
		l, b := &drivers.EntryList{}, &drivers.Binding{}
		for i := range native.Entries {
			if native.Entries[i].Name == list.Name {
				l = &native.Entries[i]
			}
		}
		for i := range native.Bindings {
			if native.Bindings[i].Workload == workload {
				b = &native.Bindings[i]
			}
		}
		return l, b
	}
	version, err := a.Driver.Put(t.Context(), &drivers.Put{Entries: &list})
	require.NoError(t, err)
	_, bound := find()
	_, err = a.Driver.Put(t.Context(), &drivers.Put{Version: bound.Version, Workload: workload, Bears: []string{list.Name}})
	require.NoError(t, err)
	got, bound := find()
	want := slices.Clone(list.Entries)
	want[0].Service.SourcePorts = estate.AllPorts
	assert.Equal(t, want, got.Entries)
	assert.Equal(t, []string{list.Name}, bound.Lists)
	if single, ok := a.Driver.(drivers.Single); ok {
		one := func(p *drivers.Put) *drivers.Native {
			native, err := single.One(t.Context(), p)
			require.NoError(t, err)
			return native
		}
		assert.Equal(t, []drivers.EntryList{*got}, one(&drivers.Put{Entries: &config.EntryList{Name: list.Name}}).Entries)
		assert.Contains(t, one(&drivers.Put{Workload: workload}).Bindings, *bound)
		assert.Empty(t, one(&drivers.Put{Entries: &config.EntryList{Name: "no-such-list"}}).Entries)
	}
	_, err = a.Driver.Put(t.Context(), &drivers.Put{Entries: &list})
	require.ErrorIs(t, err, drivers.ErrChanged)
	_, err = a.Driver.Put(t.Context(), &drivers.Put{Version: version, Entries: &list, Remove: true})
	require.Error(t, err, "the list is in use")
	list.Entries = slices.Repeat(list.Entries[:1], p.Most+1)
	_, err = a.Driver.Put(t.Context(), &drivers.Put{Version: version, Entries: &list})
	var limit *drivers.LimitError
	require.ErrorAs(t, err, &limit)
	_, err = a.Driver.Put(t.Context(), &drivers.Put{Version: bound.Version, Workload: workload, Bears: []string{"no-such-list"}})
	require.ErrorIs(t, err, drivers.ErrMissing)
	_, err = a.Driver.Put(t.Context(), &drivers.Put{Version: bound.Version, Workload: workload, Remove: true})
	require.NoError(t, err)
	_, err = a.Driver.Put(t.Context(), &drivers.Put{Version: version, Entries: &list, Remove: true})
	require.NoError(t, err)
	got, bound = find()
	assert.Empty(t, got.Version, "the list is gone")
	assert.Empty(t, bound.Version, "and the default applies to the workload")
}

// routes writes the route table of a network and its ends of peerings, reads them back, and is refused where somebody else has written.
func routes(t *testing.T, p Provider) {
	a := p.Open(t, 2, 3)
	networks, _, _ := read(t, a.Driver, nil)
	find := func() *drivers.Table {
		native, err := a.Driver.Native(t.Context(), []string{networks[0].ID})
		require.NoError(t, err)
		for i := range native.Tables {
			if native.Tables[i].Network == networks[0].ID {
				return &native.Tables[i]
			}
		}
		return nil
	}
	put := drivers.Put{Network: networks[0].ID, Table: []inventory.Route{
		{To: netip.MustParsePrefix("10.0.0.0/8"), Via: "hub"}, {To: netip.MustParsePrefix("0.0.0.0/0"), Via: "none"}, {To: netip.MustParsePrefix("10.9.0.0/16"), Via: "peer:" + networks[1].ID},
	}}
	put.Version = find().Version
	put.Peers = []drivers.Peer{{Network: networks[1].ID, OffersHub: true}}
	version, err := a.Driver.Put(t.Context(), &put)
	require.NoError(t, err)
	assert.Equal(t, drivers.Table{Network: networks[0].ID, Version: version, Routes: put.Table, Peers: put.Peers}, *find())
	_, err = a.Driver.Put(t.Context(), &put)
	require.ErrorIs(t, err, drivers.ErrChanged)
	put.Version, put.Table = version, []inventory.Route{}
	_, err = a.Driver.Put(t.Context(), &put)
	require.NoError(t, err)
	assert.Equal(t, put.Peers, find().Peers, "peers stay as they are written")
	put.Version, put.Peers = find().Version, nil
	_, err = a.Driver.Put(t.Context(), &put)
	require.NoError(t, err)
	assert.Empty(t, find().Routes)
	assert.Empty(t, find().Peers)
}
