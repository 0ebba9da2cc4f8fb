package inventory

import (
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"bivium/core/estate"
	"bivium/core/testing/meet"
)

func TestMappingPutsSpellingsIntoOne(t *testing.T) {
	table := NewTable([]estate.MappingRule{
		{Key: "env*|stage", Value: "prod|production|live", Label: "env", To: "prod"},
		{Key: "env*|stage", Label: "env"},
		{Key: "cost centre", Provider: "velum", Label: "centre"},
		{Key: "*-team|team", Account: "north", Label: "team"},
	})
	for _, c := range []struct {
		provider, account string
		tags, want        map[string]string
		unmapped          []string
		conflicts         int
	}{
		{"cirra", "a", map[string]string{"Env": "Production"}, map[string]string{"env": "prod"}, nil, 0},
		{"cirra", "a", map[string]string{"ENVIRONMENT": " live "}, map[string]string{"env": "prod"}, nil, 0},
		{"cirra", "a", map[string]string{"stage": "Pre Prod!"}, map[string]string{"env": "pre-prod-"}, nil, 0},
		{"cirra", "a", map[string]string{"Cost_Centre": "7"}, map[string]string{}, []string{"Cost_Centre"}, 0},
		{"velum", "a", map[string]string{"Cost_Centre": "7"}, map[string]string{"centre": "7"}, nil, 0},
		{"velum", "north", map[string]string{"net-team": "Sea", "x": "1"}, map[string]string{"team": "sea"}, []string{"x"}, 0},
		{"cirra", "a", map[string]string{"env": "prod", "stage": "dev"}, map[string]string{"env": "prod"}, nil, 1},
	} {
		got := table.Labels(c.provider, c.account, c.tags)
		assert.Equal(t, c.want, got.Labels, "%v", c.tags)
		assert.Equal(t, c.unmapped, got.Unmapped, "%v", c.tags)
		assert.Len(t, got.Conflicts, c.conflicts, "%v", c.tags)
	}
	for field, r := range map[string]estate.MappingRule{"label": {Key: "a", Label: "a b"}, "key": {Label: "x"}, "": {Key: "*", Label: "x", To: "y"}} {
		got, _, _ := r.Check()
		assert.Equal(t, field, got)
	}
}

// drawReading draws what an account has, out of few names, so that readings
// meet again and again.
func drawReading(t *rapid.T, account string) *Reading {
	r := &Reading{Account: account, Provider: "cirra", Partial: rapid.IntRange(0, 3).Draw(t, "partial") == 0}
	for i := range 4 {
		if rapid.IntRange(0, 3).Draw(t, "absent") == 0 {
			continue
		}
		n := Network{ID: fmt.Sprint(account, "-", i), Name: rapid.SampledFrom([]string{"Core", "edge", "9 lives", "core"}).Draw(t, "network"), Kind: "cloud", Region: "north"}
		for k := range rapid.IntRange(0, 2).Draw(t, "subnets") {
			n.Subnets = append(n.Subnets, Subnet{"Sub Net", netip.PrefixFrom(netip.AddrFrom4([4]byte{10, byte(i), byte(k), 0}), 24)})
		}
		if rapid.Bool().Draw(t, "routed") {
			n.Routes = []Route{{netip.MustParsePrefix("0.0.0.0/0"), rapid.SampledFrom([]string{"hub", "internet", "peer:" + account + "-0"}).Draw(t, "via")}}
			n.Peers = []string{account + "-0"}
		}
		r.Networks = append(r.Networks, n)
		for k := range rapid.IntRange(0, 3).Draw(t, "workloads") {
			w := Workload{ID: fmt.Sprint(n.ID, "-", k), Name: rapid.SampledFrom([]string{"web 1", "db", "WEB 1"}).Draw(t, "workload"), Network: n.ID, Tags: map[string]string{"Role": rapid.SampledFrom([]string{"Web", "db"}).Draw(t, "tag")}}
			if rapid.IntRange(0, 5).Draw(t, "abroad") == 0 { // in a network of either account, which may be gone
				w.Network = rapid.SampledFrom([]string{"a-0", "b-0"}).Draw(t, "where")
			}
			if rapid.IntRange(0, 5).Draw(t, "addressed") > 0 {
				w.Addresses = []netip.Addr{netip.AddrFrom4([4]byte{10, byte(i), 0, byte(k + 1)})}
			}
			r.Workloads = append(r.Workloads, w)
		}
	}
	return r
}

// TestTakingIn takes in one sync after the other, and holds what the estate
// has then against what was read.
func TestTakingIn(t *testing.T) {
	table := NewTable([]estate.MappingRule{{Key: "role", Label: "role"}})
	meet.Check(t, meet.Often(1, "a network that went and is spoken of", "a workload in another account's network"), func(t *rapid.T, met meet.Met) {
		e := &estate.Estate{Version: 1, Name: "e", Segments: []estate.Segment{{Name: "s", Default: estate.Deny, Approval: estate.ApproveNone}}, Hubs: []estate.Hub{{Name: "h"}}}
		var known []Known
		for range 4 {
			r := drawReading(t, rapid.SampledFrom([]string{"a", "b"}).Draw(t, "account"))
			taken := Take(e, known, r, table)

			again := Take(taken.Estate, taken.Known, r, table)
			again.Changes = slices.DeleteFunc(again.Changes, func(c Change) bool { return c.What == LeftOut || c.What == Kept })
			require.Empty(t, again.Changes, "the same sync changes nothing")
			require.False(t, again.Altered)
			require.Equal(t, document(e) != document(taken.Estate), taken.Altered)
			require.Equal(t, taken.Estate, again.Estate)
			require.Equal(t, taken.Known, again.Known)

			byID := map[string]*Known{}
			names := map[string]bool{}
			for i := range taken.Known {
				one := &taken.Known[i]
				byID[one.ID] = one
				require.False(t, names[string(one.Kind)+one.Name], "%s stands for two things", one.Name)
				names[string(one.Kind)+one.Name] = true
			}
			at := indexOf(taken.Estate.Workloads, func(w *estate.Workload) string { return w.Name })
			here := 0
			for i := range r.Workloads {
				w := &r.Workloads[i]
				if len(w.Addresses) == 0 || byID[w.Network] == nil {
					continue
				}
				here++
				is := taken.Estate.Workloads[at[byID[w.ID].Name]]
				require.Equal(t, w.Addresses, is.Addresses)
				require.Equal(t, byID[w.Network].Name, is.Network)
				require.Equal(t, byID[w.Network].Account == r.Account, is.Account == "", "an account is named where it is not the network's")
				met.If(is.Account != "", "a workload in another account's network")
				require.Equal(t, Tidy(w.Tags["Role"]), is.Labels["role"])
			}
			if !r.Partial {
				of := 0
				for i := range taken.Known {
					of += oneIf(taken.Known[i].Account == r.Account && taken.Known[i].Kind == WorkloadKind)
				}
				require.Equal(t, here, of, "what is gone from the account is gone")
			}
			for _, n := range e.Networks { // what people say stays
				i := slices.IndexFunc(taken.Estate.Networks, func(m estate.Network) bool { return m.Name == n.Name })
				attached := slices.ContainsFunc(e.Attachments, func(a estate.Attachment) bool { return a.Network == n.Name })
				require.False(t, i < 0 && (attached || n.Account != r.Account), "%s is spoken of, and went", n.Name)
				if i >= 0 {
					require.Equal(t, n.Segment, taken.Estate.Networks[i].Segment)
				}
			}
			met["a network that went and is spoken of"] += Count(taken.Changes, NetworkKind, Kept)
			e, known = taken.Estate, taken.Known
			if len(e.Networks) > 0 {
				place := *e
				place.Networks = slices.Clone(e.Networks)
				n := &place.Networks[rapid.IntRange(0, len(e.Networks)-1).Draw(t, "placed")]
				n.Segment = "s"
				if !slices.ContainsFunc(e.Attachments, func(a estate.Attachment) bool { return a.Network == n.Name }) {
					place.Attachments = append(slices.Clone(e.Attachments), estate.Attachment{Name: n.Name + "-h", Network: n.Name, Hub: "h", State: "up"})
				}
				e = &place
			}
		}
		for _, f := range estate.Check(e) {
			require.NotContains(t, []string{"F1"}, f.Code, "%v", f)
		}
	})
}

func document(e *estate.Estate) string { return fmt.Sprintf("%+v", *e) }

func oneIf(b bool) int {
	if b {
		return 1
	}
	return 0
}

// TestLabelsByHand reads what the estate had before: labels that no tag gives
// were set by hand, stay, and win.
func TestLabelsByHand(t *testing.T) {
	e := &estate.Estate{Version: 1, Name: "e",
		Networks:  []estate.Network{{Name: "core", Kind: "cloud", Subnets: []estate.Subnet{{Name: "x", Prefix: netip.MustParsePrefix("10.0.0.0/24")}}}},
		Workloads: []estate.Workload{{Name: "web-1", Network: "core", Addresses: []netip.Addr{netip.MustParseAddr("10.0.0.1")}, Labels: map[string]string{"env": "prod", "tier": "front"}}}}
	table := NewTable([]estate.MappingRule{{Key: "env", Label: "env"}, {Key: "tier", Label: "tier"}})
	r := &Reading{Account: "a", Provider: "cirra", Networks: []Network{{ID: "1", Name: "core", Kind: "cloud"}},
		Workloads: []Workload{{ID: "2", Name: "web 1", Network: "1", Addresses: e.Workloads[0].Addresses, Tags: map[string]string{"Env": "Dev", "tier": "front"}}}}
	taken := Take(e, nil, r, table)
	assert.Equal(t, map[string]string{"env": "prod", "tier": "front"}, taken.Estate.Workloads[0].Labels)
	r.Workloads[0].Tags = map[string]string{"Env": "Dev", "tier": "back"}
	taken = Take(taken.Estate, taken.Known, r, table)
	assert.Equal(t, map[string]string{"env": "prod", "tier": "back"}, taken.Estate.Workloads[0].Labels)
	assert.Equal(t, []Change{{WorkloadKind, "web-1", Changed, []Detail{{Code: OtherLabels}}}}, taken.Changes)
}

// TestANetworkEnforcesWhatItsProviderCan reads networks of a provider that enforces between subnets
// alone: new ones say so, and those that said nothing; what somebody wrote stays.
func TestANetworkEnforcesWhatItsProviderCan(t *testing.T) {
	e := &estate.Estate{Version: 1, Name: "e", Accounts: []estate.Account{{Name: "a", Provider: "velum"}}, Networks: []estate.Network{
		{Name: "silent", Kind: "cloud", Account: "a"}, {Name: "native", Kind: "cloud", Account: "a", Enforcement: estate.EnforceNative}, {Name: "site", Kind: "site", Account: "a"},
	}}
	r := &Reading{Account: "a", Provider: "velum"}
	for _, name := range []string{"silent", "native", "site", "fresh"} {
		kind := "cloud"
		if name == "site" {
			kind = "site"
		}
		r.Networks = append(r.Networks, Network{ID: name, Name: name, Kind: kind, Enforcement: estate.EnforceSubnets})
	}
	said := map[string]string{}
	for _, n := range Take(e, nil, r, NewTable(nil)).Estate.Networks {
		said[n.Name] = n.Enforcement
	}
	assert.Equal(t, map[string]string{"silent": estate.EnforceSubnets, "native": estate.EnforceNative, "site": "", "fresh": estate.EnforceSubnets}, said)
}

// TestRoutesWrittenHereStay reads a route table, edits it, and reads it again:
// what was written here stays until the account has it too.
func TestRoutesWrittenHereStay(t *testing.T) {
	table := NewTable(nil)
	all := netip.MustParsePrefix("0.0.0.0/0")
	reading := func(via string) *Reading {
		return &Reading{Account: "a", Provider: "cirra", Networks: []Network{{ID: "1", Name: "core", Kind: "cloud", Routes: []Route{{all, via}}}}}
	}
	taken := Take(&estate.Estate{Version: 1, Name: "e"}, nil, reading("internet"), table)
	require.Equal(t, []estate.Route{{To: all, Via: "internet"}}, taken.Estate.Networks[0].Routes)
	edited := *taken.Estate
	edited.Networks = slices.Clone(edited.Networks)
	edited.Networks[0].Routes = []estate.Route{{To: all, Via: "hub"}}
	taken = Take(&edited, taken.Known, reading("none"), table)
	assert.Equal(t, estate.Via("hub"), taken.Estate.Networks[0].Routes[0].Via)
	assert.Equal(t, []estate.Route{{To: all, Via: "none"}}, taken.Known[0].Routes, "what the account has is known beside")
	assert.Equal(t, Kept, taken.Changes[0].What)
	taken = Take(taken.Estate, taken.Known, reading("hub"), table)
	assert.Empty(t, taken.Changes)
	taken = Take(taken.Estate, taken.Known, reading("none"), table)
	assert.Equal(t, estate.Via("none"), taken.Estate.Networks[0].Routes[0].Via, "they were the same, so it follows again")
}

// TestPeeringsWrittenHereStay does the same with peerings; of an account that is written to, what is
// there stays as the estate has it, and what is new is taken in.
func TestPeeringsWrittenHereStay(t *testing.T) {
	table := NewTable(nil)
	reading := func(managed bool, pairs ...[2]int) *Reading {
		r := &Reading{Account: "a", Provider: "cirra", Managed: managed}
		for i, name := range []string{"core", "edge", "lab"} {
			r.Networks = append(r.Networks, Network{ID: strconv.Itoa(i), Name: name, Kind: "cloud"})
		}
		for _, p := range pairs {
			r.Networks[p[0]].Peers = append(r.Networks[p[0]].Peers, r.Networks[p[1]].ID)
		}
		return r
	}
	between := func(e *estate.Estate) (out [][2]string) {
		for _, p := range e.Peerings {
			out = append(out, p.Between)
		}
		return out
	}
	taken := Take(&estate.Estate{Version: 1, Name: "e"}, nil, reading(false, [2]int{0, 1}), table)
	require.Equal(t, [][2]string{{"core", "edge"}}, between(taken.Estate))
	edited := *taken.Estate
	edited.Peerings = []estate.Peering{{Name: "p", Between: [2]string{"core", "lab"}}}
	taken = Take(&edited, taken.Known, reading(false, [2]int{0, 1}), table)
	assert.Equal(t, [][2]string{{"core", "lab"}}, between(taken.Estate), "one was added and one removed here, and neither is written yet")
	taken = Take(taken.Estate, taken.Known, reading(false, [2]int{2, 0}), table)
	assert.Empty(t, taken.Changes, "now they are written")
	taken = Take(taken.Estate, taken.Known, reading(false), table)
	assert.Empty(t, between(taken.Estate), "it follows again")
	taken = Take(taken.Estate, taken.Known, reading(true, [2]int{0, 1}), table)
	assert.Empty(t, between(taken.Estate), "at the console of an account that is written to")
	more := reading(true, [2]int{0, 1})
	more.Networks = append(more.Networks, Network{ID: "3", Name: "new", Kind: "cloud"})
	more.Networks[1].Peers = append(more.Networks[1].Peers, "3")
	taken = Take(taken.Estate, taken.Known, more, table)
	assert.Equal(t, [][2]string{{"edge", "new"}}, between(taken.Estate), "a network that is new brings its own")

	edited = *taken.Estate
	edited.Networks = slices.Clone(edited.Networks)
	edited.Networks[0].Routes = []estate.Route{{To: netip.MustParsePrefix("10.0.0.0/8"), Via: "peer:lab"}, {To: netip.MustParsePrefix("0.0.0.0/0"), Via: "hub"}}
	less := reading(true)
	less.Networks = less.Networks[:2]
	taken = Take(&edited, taken.Known, less, table)
	assert.Equal(t, edited.Networks[0].Routes[1:], taken.Estate.Networks[0].Routes, "no route is left to a peer that is gone")
}

// TestNamesThatAreTakenGetANumber takes in several machines of one name, of the longest that
// there may be and without a dash.
func TestNamesThatAreTakenGetANumber(t *testing.T) {
	table := NewTable(nil)
	for _, called := range []string{strings.Repeat("x", 62), strings.Repeat("x", 300), "a", "a-2", "internet", "Ä"} {
		r := &Reading{Account: "north", Provider: "velum", Networks: []Network{{ID: "n", Name: "net", Kind: "cloud", Subnets: []Subnet{{Name: "all", Prefix: netip.MustParsePrefix("10.0.0.0/24")}}}}}
		for i := range 12 {
			r.Workloads = append(r.Workloads, Workload{ID: fmt.Sprint(i), Name: called, Network: "n", Addresses: []netip.Addr{netip.AddrFrom4([4]byte{10, 0, 0, byte(i)})}})
		}
		taken := Take(&estate.Estate{Version: 1, Name: "e"}, nil, r, table)
		names := map[string]bool{}
		for _, w := range taken.Estate.Workloads {
			require.NoError(t, estate.CheckName(w.Name))
			names[w.Name] = true
		}
		assert.Len(t, names, 12, "%.10s", called)
	}
}

// TestLabelsByAnEdit sets one label and takes another off: both hold when tags change, until
// an edit says what the tags say.
func TestLabelsByAnEdit(t *testing.T) {
	table := NewTable([]estate.MappingRule{{Key: "env", Label: "env"}, {Key: "tier", Label: "tier"}})
	r := &Reading{Account: "a", Provider: "cirra", Networks: []Network{{ID: "1", Name: "core", Kind: "cloud"}},
		Workloads: []Workload{{ID: "2", Name: "web-1", Network: "1", Addresses: []netip.Addr{netip.MustParseAddr("10.0.0.1")}, Tags: map[string]string{"env": "dev", "tier": "front"}}}}
	read := Take(&estate.Estate{Version: 1, Name: "e"}, nil, r, table)
	edited := func(e *estate.Estate, labels map[string]string) *estate.Estate {
		next := *e
		next.Workloads = []estate.Workload{e.Workloads[0]}
		next.Workloads[0].Labels = labels
		return &next
	}

	web := func(e *estate.Estate) map[Thing]map[string]string {
		return map[Thing]map[string]string{{WorkloadKind, "web-1"}: e.Workloads[0].Labels}
	}
	assert.Nil(t, table.HandsOf(read.Known, read.Estate, nil))
	next := edited(read.Estate, map[string]string{"env": "prod", "owner": "ada"})
	known := table.HandsOf(read.Known, next, web(next))
	r.Workloads[0].Tags = map[string]string{"env": "stage", "tier": "back"}
	again := Take(next, known, r, table)
	assert.Equal(t, map[string]string{"env": "prod", "owner": "ada"}, again.Estate.Workloads[0].Labels)
	assert.Equal(t, again.Estate.Workloads[0].Labels, table.HandIn(again.Known[1], again.Estate))

	next = edited(again.Estate, map[string]string{"env": "stage", "tier": "back"})
	known = table.HandsOf(again.Known, next, web(next))
	r.Workloads[0].Tags = map[string]string{"env": "dev", "tier": "front"}
	again = Take(next, known, r, table)
	assert.Equal(t, map[string]string{"env": "dev", "tier": "front"}, again.Estate.Workloads[0].Labels)
}
