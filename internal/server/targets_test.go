package server_test

import (
	"net/http"
	"net/url"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestTargetsHoldWhatIsMeant asks for what targets have to hold: every line that is for a policy
// is found from the policy, and leads back to its target; and all of it is proven.
func TestTargetsHoldWhatIsMeant(t *testing.T) {
	w := start(t)
	type line struct {
		Place int
		For   []struct{ Kind, Name string }
	}
	var all struct {
		Targets []struct {
			Kind, Name   string
			Rules, Bound int
		}
		Refused []any
	}
	w.get("/api/targets", "Targets", &all)
	require.Empty(t, all.Refused)
	lines := 0
	for _, target := range all.Targets {
		assert.LessOrEqual(t, target.Bound, target.Rules, "%v", target)
		var held struct {
			Listings []struct{ Lines []line }
		}
		w.get("/api/targets/held?"+url.Values{"kind": {target.Kind}, "name": {target.Name}}.Encode(), "Held", &held)
		n := 0
		for _, l := range held.Listings {
			n += len(l.Lines)
			for _, x := range l.Lines {
				for _, f := range x.For {
					if f.Name == "bids-prices" {
						lines++
					}
				}
			}
		}
		assert.Equal(t, target.Rules, n, "%v", target)
	}
	var uses struct {
		Uses []struct{ Lines []line }
	}
	w.get("/api/targets/for?kind=policy&name=bids-prices", "Uses", &uses)
	found := 0
	for _, u := range uses.Uses {
		found += len(u.Lines)
	}
	assert.Positive(t, lines)
	assert.Equal(t, lines, found)
	var proof struct {
		Proven      bool
		Differences []any
		Unheld      []struct{ Network string }
	}
	w.get("/api/targets/proof", "NativeProof", &proof)
	assert.True(t, proof.Proven)
	assert.Empty(t, proof.Differences)
	assert.Len(t, proof.Unheld, 2)
	w.send(http.MethodGet, "/api/targets/held?kind=network&name=no-such", "", nil, http.StatusUnprocessableEntity, "Problem", nil)
}
