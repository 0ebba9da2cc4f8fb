package survey

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"bivium/core/estate"
	"bivium/core/testing/draw"
	"bivium/core/testing/oracle"
	"bivium/core/verdict"
)

func drawValid(t *rapid.T) *estate.Estate {
	return rapid.Custom(draw.Estate).Filter(func(e *estate.Estate) bool {
		return len(estate.Check(e)) == 0 && len(ShareFaults(verdict.New(e))) == 0
	}).Draw(t, "estate")
}

func TestSurveySaysWhatTheOracleSays(t *testing.T) {
	compared, unknown := 0, 0
	rapid.Check(t, func(t *rapid.T) {
		e := drawValid(t)
		j := verdict.New(e)
		s := New(j)
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
			got, ok := s.verdictOf(f)
			if want.Reason == "unknown" {
				unknown++
				require.False(t, ok, "%v is unknown, and the survey has %v", f, got)
				continue
			}
			compared++
			require.True(t, ok, "%v is in no class, and the oracle says %v", f, want)
			require.Equal(t, want.Outcome+" "+want.Reason+" "+want.Intended, string(got.Outcome)+" "+string(got.Reason)+" "+string(got.Intended), "%v", f)
			require.Equal(t, want.Contested, got.Contested)
		}
	})
	assert.Greater(t, compared, 100, "too few flows were known")
	assert.Greater(t, unknown, 100)
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
	assert.Empty(t, ShareFaults(read(share("fine", "a", "c"))))

	home := ShareFaults(read(share("clash", "a", "b")))
	require.Len(t, home, 2, "each side has addresses that the other has too")
	assert.Equal(t, estate.ForbiddenShare, home[0].Code)
	assert.Contains(t, home[0].Message, "10.0.0.128")
	assert.Contains(t, home[0].Message, "home of its own")

	twice := ShareFaults(read(share("one", "a", "c"), share("two", "b", "c")))
	require.Len(t, twice, 2, "either share is at fault")
	assert.Contains(t, twice[0].Message, "already")
	off := share("two", "b", "c")
	off.Enabled = false
	assert.Empty(t, ShareFaults(read(share("one", "a", "c"), off)))
}
