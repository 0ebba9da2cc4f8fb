package hubs_test

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bivium/core/document"
	"bivium/core/matrix"
	"bivium/core/native"
	"bivium/core/native/plan"
	"bivium/core/verdict"
	"bivium/demo"
	"bivium/internal/drivers"
	"bivium/internal/drivers/call"
	"bivium/internal/drivers/hubs"
	"bivium/internal/standin"
)

// TestWhatIsWrittenIsReadBack writes every document of the demo to the hubs, reads it back, and
// tries to write over it on an old version.
func TestWhatIsWrittenIsReadBack(t *testing.T) {
	world := &standin.World{}
	running, err := world.Serve(t.Context(), 0)
	require.NoError(t, err)
	defer running.Close() //nolint:errcheck // the test ends
	c, err := call.New(running.Hubs)
	require.NoError(t, err)
	d := hubs.New(drivers.Access{Secret: running.HubToken()}, c)
	e, err := document.Read(demo.Grayshoal)
	require.NoError(t, err)
	written := 0
	for key, body := range plan.Documents(plan.State{Config: native.Translate(matrix.New(verdict.New(e))).Config, Estate: e}) {
		if key.Target() != plan.Hubs {
			continue
		}
		none, _, err := d.Get(t.Context(), key)
		require.NoError(t, err)
		assert.Nil(t, none)
		version, err := d.Put(t.Context(), key, "", body)
		require.NoError(t, err)
		now, at, err := d.Get(t.Context(), key)
		require.NoError(t, err)
		assert.Equal(t, version, at)
		if !assert.Equal(t, plan.Hash(body), plan.Hash(now), "%v", key) {
			a, _ := json.Marshal(body) //nolint:errcheck // it is only told
			b, _ := json.Marshal(now)  //nolint:errcheck // likewise
			t.Logf("%s\n%s", a, b)
		}
		_, err = d.Put(t.Context(), key, "", body)
		require.ErrorIs(t, err, drivers.ErrChanged)
		written++
	}
	require.Greater(t, written, 8)
	key := plan.Key{Kind: plan.KindPool, Name: "tidegate"}
	_, version, err := d.Get(t.Context(), key)
	require.NoError(t, err)
	_, err = d.Put(t.Context(), key, version, nil)
	require.NoError(t, err)
	gone, _, err := d.Get(t.Context(), key)
	require.NoError(t, err)
	assert.Nil(t, gone)
}
