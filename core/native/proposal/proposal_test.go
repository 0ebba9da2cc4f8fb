package proposal_test

import (
	"net/netip"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"bivium/core/document"
	"bivium/core/edit"
	"bivium/core/estate"
	"bivium/core/findings"
	"bivium/core/matrix"
	"bivium/core/native"
	"bivium/core/native/config"
	"bivium/core/native/proof"
	"bivium/core/native/proposal"
	"bivium/core/space"
	"bivium/core/testing/draw"
	"bivium/core/testing/meet"
	"bivium/core/verdict"
)

func tcp(port uint16) space.Box {
	return space.Box{FirstProtocol: estate.TCP, LastProtocol: estate.TCP, SourcePorts: estate.AllPorts, Ports: estate.Range{Lo: port, Hi: port}}
}

func faultsOf(e *estate.Estate) []estate.Fault {
	return append(estate.Check(e), findings.ShareFaults(verdict.New(e))...)
}

// bare returns an estate without policies.
func bare(e *estate.Estate) *estate.Estate {
	out := *e
	out.Policies, out.Expectations = nil, nil
	return &out
}

// TestPoliciesSayWhatListsDo draws lists, those of an estate with policies, and has policies
// proposed for the same estate without any: with them, nothing that lists do differs from what
// policies intend, and the policies that were written say of each drawn flow what its lists do.
func TestPoliciesSayWhatListsDo(t *testing.T) {
	wants := meet.Wants{"proposed": 60, "allow": 60, "deny": 20, "to the internet": 10}
	meet.Check(t, wants, func(t *rapid.T, met meet.Met) {
		e := draw.Faultless(t, faultsOf)
		tr := native.Translate(matrix.New(verdict.New(e)))
		if len(tr.Refused) > 0 {
			return
		}
		all := func(string) bool { return true }
		plain := bare(e)
		s := matrix.New(verdict.New(plain))
		seen := proof.Observe(s, tr.Config, all)
		p, err := proposal.Write(s, seen, "drawn")
		require.NoError(t, err)
		if p.Policies == 0 {
			return
		}
		result, err := edit.Apply(plain, p.Edit, nil)
		require.NoError(t, err)
		next := result.Estate
		require.Empty(t, faultsOf(next))
		s = matrix.New(verdict.New(next))
		for _, o := range proof.Observe(s, tr.Config, all) {
			require.False(t, o.Incomplete)
			for _, pair := range o.Pairs {
				require.Fail(t, "policies do not say what lists do", "%v to %v in %s: more %v, less %v", o.Units[pair.From].Ranges, o.Units[pair.To].Ranges, o.Segment, o.Services(pair.More).Words(), o.Services(pair.Less).Words())
			}
		}
		met.If(p.Policies > 0, "proposed")
		for _, r := range p.Relations {
			if r.Passes {
				met["allow"]++
			} else {
				met["deny"]++
			}
			require.Equal(t, r.Passes, s.Judge.Judge(r.Witness).Intended != estate.Deny, "%+v", r.Witness)
		}
		for _, o := range seen {
			for _, pair := range o.Pairs {
				met.If(o.Units[pair.To].Network == "", "to the internet")
			}
		}
	})
}

// TestGroupsAreNamedAfterLabels has two web servers and a database in one subnet, and a list that
// lets the one reach the other: labels say who they are.
func TestGroupsAreNamedAfterLabels(t *testing.T) {
	e, err := document.Read([]byte(`
bivium: 1
estate: shop
accounts: [{name: cloud, provider: cirra, observed: true}]
segments: [{name: shop}]
networks:
  - name: floor
    kind: cloud
    account: cloud
    segment: shop
    subnets: [{name: a, prefix: 10.1.0.0/24}]
workloads:
  - {name: web-1, network: floor, addresses: [10.1.0.11], labels: {role: web, stage: live}}
  - {name: web-2, network: floor, addresses: [10.1.0.12], labels: {role: web, stage: live}}
  - {name: web-9, network: floor, addresses: [10.1.0.19], labels: {role: web, stage: test}}
  - {name: db-1, network: floor, addresses: [10.1.0.21], labels: {role: db, stage: live}}
`))
	require.NoError(t, err)
	s := matrix.New(verdict.New(e))
	cfg := native.Translate(s).Config
	i := slices.IndexFunc(cfg.Accounts, func(a config.Account) bool { return a.Name == "cloud" })
	cfg.Accounts[i] = config.Account{Name: "cloud", Lists: []config.EntryList{
		{Name: "front", Entries: []config.Entry{{Out: true, Service: tcp(5432), Peers: "back"}}},
		{Name: "back", Entries: []config.Entry{{Service: tcp(5432), Peer: netip.MustParsePrefix("10.1.0.0/24")}}},
	}, Bindings: []config.Binding{{Workload: "web-1", Lists: []string{"front"}}, {Workload: "web-2", Lists: []string{"front"}}, {Workload: "db-1", Lists: []string{"back"}}, {Workload: "web-9"}}}
	seen := proof.Observe(s, cfg, func(network string) bool { return network == "floor" })
	p, err := proposal.Write(s, seen, "what the lists of cloud do")
	require.NoError(t, err)
	require.Equal(t, 1, p.Policies)
	result, err := edit.Apply(e, p.Edit, nil)
	require.NoError(t, err)
	text, err := document.Write(result.Estate)
	require.NoError(t, err)
	assert.Contains(t, string(text), "role=web,stage=live")
	assert.Contains(t, string(text), "role=db")
	assert.Contains(t, string(text), "tcp/5432")
}
