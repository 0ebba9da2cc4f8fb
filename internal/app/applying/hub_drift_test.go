package applying_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bivium/core/native/plan"
	"bivium/internal/app/applying"
	"bivium/internal/app/targets"
)

// TestWhatHubsHoldIsCompared takes a rule out of a match list by hand: the list and the flows that are
// closed are found, and put right.
func TestWhatHubsHoldIsCompared(t *testing.T) {
	o := startOutside(t)
	o.putsRight()
	compare := func() *targets.Drift {
		book, err := (&targets.Books{}).Of(o.app.Now())
		require.NoError(t, err)
		readings, err := o.app.ReadAll(t.Context(), book)
		require.NoError(t, err)
		return book.Compare(readings)
	}
	hubsIn := func(d *targets.Drift) targets.AccountDrift {
		last := targets.AccountDrift{}
		for _, a := range d.Accounts {
			if a.Account == plan.Hubs {
				last = a
			}
		}
		return last
	}
	before := compare()
	require.Greater(t, hubsIn(before).Lists, 5)
	require.Empty(t, hubsIn(before).Changed)
	require.Empty(t, before.Differences)

	d, err := o.app.Hubs(t.Context())
	require.NoError(t, err)
	key := plan.Key{Kind: plan.KindSegment, Name: "office"}
	body, version, err := d.Get(t.Context(), key)
	require.NoError(t, err)
	short := *body.Segment
	require.NotEmpty(t, short.Rules)
	short.Rules = short.Rules[:len(short.Rules)/2]
	_, err = d.Put(t.Context(), key, version, &plan.Body{Segment: &short})
	require.NoError(t, err)

	after := compare()
	require.Len(t, hubsIn(after).Changed, 1)
	changed := hubsIn(after).Changed[0]
	assert.Equal(t, "match list of segment office", changed.On)
	assert.Empty(t, changed.Added)
	assert.NotEmpty(t, changed.Missing)
	require.NotEmpty(t, after.Differences)
	for _, x := range after.Differences {
		assert.Contains(t, []string{x.From, x.To}, "office")
	}

	_, err = o.writer.Begin(t.Context(), applying.Order{Cause: applying.CauseDrift, PutRight: true})
	require.NoError(t, err)
	o.settles()
	assert.Empty(t, hubsIn(compare()).Changed)
}
