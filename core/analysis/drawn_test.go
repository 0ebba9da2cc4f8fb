package analysis

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"bivium/core/estate"
	"bivium/core/findings"
	"bivium/core/matrix"
	"bivium/core/query"
	"bivium/core/testing/draw"
	"bivium/core/testing/meet"
	"bivium/core/testing/oracle"
	"bivium/core/verdict"
)

func drawValid(t *rapid.T) *estate.Estate {
	return draw.Faultless(t, faultsOf)
}

func TestMatrixSaysWhatTheOracleSays(t *testing.T) {
	t.Parallel()
	meet.Check(t, meet.Often(101, "a flow", "an unknown flow"), func(t *rapid.T, met meet.Met) {
		e := drawValid(t)
		j := verdict.New(e)
		s := matrix.New(j)
		ends := append(draw.Ends(e), netip.MustParseAddr("198.51.100.7"))
		for range 80 {
			f := verdict.Flow{Segment: verdict.Internet}
			if k := rapid.IntRange(0, len(e.Segments)).Draw(t, "segment"); k < len(e.Segments) {
				f.Segment = e.Segments[k].Name
			}
			f.Source, f.Destination = rapid.SampledFrom(ends).Draw(t, "source"), rapid.SampledFrom(ends).Draw(t, "destination")
			p := rapid.SampledFrom(draw.Ports()).Draw(t, "service")
			f.Protocol, f.SourcePort, f.Port = p.Protocol, p.Source, p.Dest
			want := oracle.Judge(e, oracle.Flow{Segment: f.Segment, Source: f.Source, Destination: f.Destination, Protocol: f.Protocol, SourcePort: f.SourcePort, Port: f.Port})
			told := query.Tell(s, &f)
			require.Equal(t, want.Outcome+" "+want.Reason+" "+want.Intended, string(told.Outcome)+" "+string(told.Reason)+" "+string(told.Intended), "told of %v", f)
			got, ok := verdictOf(s, f)
			if want.Reason == "unknown" {
				met["an unknown flow"]++
				require.False(t, ok, "%v is unknown, and the survey has %v", f, got)
				continue
			}
			met["a flow"]++
			require.True(t, ok, "%v is in no class, and the oracle says %v", f, want)
			require.Equal(t, want.Outcome+" "+want.Reason+" "+want.Intended, string(got.Outcome)+" "+string(got.Reason)+" "+string(got.Intended), "%v", f)
			require.Equal(t, want.Contested, got.Contested)
		}
	})
}

// TestExternalAddressesAreToldApartByWhatAnExitBringsIn holds a case that a
// draw found: a group of prefixes stands within a group of exits, so only the
// exit tells whether an address is in it.
func TestExternalAddressesAreToldApartByWhatAnExitBringsIn(t *testing.T) {
	prefix := netip.MustParsePrefix
	e := &estate.Estate{
		Hubs: []estate.Hub{{Name: "h"}}, Segments: []estate.Segment{{Name: "s", Default: estate.Deny}},
		Networks:    []estate.Network{{Name: "n", Kind: "site", Segment: "s", Subnets: []estate.Subnet{{Name: "u", Prefix: prefix("10.0.0.0/24")}}}},
		Attachments: []estate.Attachment{{Network: "n", Hub: "h", State: "up"}},
		Exits:       []estate.Exit{{Name: "x", Hub: "h", Segments: []string{"s"}, State: "up"}},
		Groups:      []estate.Group{{Name: "out", Exits: []string{"x"}}, {Name: "near", Within: "out", Prefixes: []netip.Prefix{prefix("192.0.2.0/24")}}},
		Policies: []estate.Policy{{
			Name: "p", Tier: "standard", Segments: estate.Scope{All: true}, From: estate.Side{Any: true}, To: estate.Side{Groups: []string{"near"}}, Enabled: true,
			Rules: []estate.Rule{{Services: []estate.ServiceRef{{Term: estate.Term{AnyProtocol: true}}}, Action: estate.Allow}},
		}},
	}
	j := verdict.New(e)
	s := matrix.New(j)
	for address, want := range map[string]verdict.Outcome{"192.0.2.9": verdict.Allowed, "198.51.100.9": verdict.Denied} {
		f := verdict.Flow{Segment: "s", Source: netip.MustParseAddr("10.0.0.1"), Destination: netip.MustParseAddr(address), Service: verdict.Service{Protocol: 6, SourcePort: 50000, Port: 80}}
		require.Equal(t, want, j.Judge(f).Outcome)
		got, ok := verdictOf(s, f)
		require.True(t, ok)
		require.Equal(t, want, got.Outcome, "the survey on %s", address)
	}
}

func TestForbiddenSharesAreFound(t *testing.T) {
	read := func(shares ...estate.Share) *verdict.Judge {
		e := &estate.Estate{
			Segments: []estate.Segment{{Name: "a"}, {Name: "b"}, {Name: "c"}},
			Networks: []estate.Network{
				{Name: "na", Segment: "a", Subnets: []estate.Subnet{{Name: "s", Prefix: netip.MustParsePrefix("10.0.0.0/24")}}},
				{Name: "nb", Segment: "b", Subnets: []estate.Subnet{{Name: "s", Prefix: netip.MustParsePrefix("10.0.0.128/25")}}},
				{Name: "nc", Segment: "c", Subnets: []estate.Subnet{{Name: "s", Prefix: netip.MustParsePrefix("10.0.1.0/24")}}},
			},
			Shares: shares,
		}
		return verdict.New(e)
	}
	share := func(name, owner, guest string) estate.Share {
		any := estate.Side{Any: true}
		return estate.Share{Name: name, Owner: estate.Party{Segment: owner, Groups: any}, Guest: estate.Party{Segment: guest, Groups: any}, Enabled: true}
	}
	assert.Empty(t, findings.ShareFaults(read(share("fine", "a", "c"))))

	home := findings.ShareFaults(read(share("clash", "a", "b")))
	require.Len(t, home, 2, "each side has addresses that the other has too")
	assert.Equal(t, estate.ForbiddenShare, home[0].Code)
	assert.Equal(t, estate.InUse, home[0].Form)
	assert.Contains(t, home[0].Args, "10.0.0.128")

	twice := findings.ShareFaults(read(share("one", "a", "c"), share("two", "b", "c")))
	require.Len(t, twice, 2, "either share is at fault")
	assert.Equal(t, estate.AlreadyShared, twice[0].Form)
	off := share("two", "b", "c")
	off.Enabled = false
	assert.Empty(t, findings.ShareFaults(read(share("one", "a", "c"), off)))
}
