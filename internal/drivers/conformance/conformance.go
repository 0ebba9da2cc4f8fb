// Package conformance holds what every driver must do, whatever its provider: a
// driver for a real cloud passes it against a provider that can be made to
// misbehave. See docs/drivers.md.
package conformance

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bivium/core/inventory"
	"bivium/internal/drivers"
)

// Provider is a provider that a driver is tried against. Each call of Open makes
// a driver for an account with as many networks and workloads as are asked for;
// its pauses before another try are short.
type Provider struct {
	Open func(t *testing.T, networks, workloads int) Account
	// Hangs is what the provider's lists hang on: subnet, network or workload.
	Hangs string
	// Most is how many rules a list may have; 0 for any number.
	Most int
}

// Account is one account, its driver, and what can be done to it.
type Account struct {
	Driver drivers.Driver
	// Expired is a driver of the same account whose credential is not accepted.
	Expired drivers.Driver
	// Fail lets the provider misbehave after some answers, for some more, 0 for
	// good: full (it asks to be left alone), gone, half (an answer that ends too
	// early), wrong (one that makes no sense), slow (no answer for a minute), none.
	Fail func(kind string, after, times int)
	// Drop lets a network vanish with what is in it.
	Drop func(network string)
}

// Read reads all pages, and fails the test if a page cannot be read.
func read(t *testing.T, d drivers.Driver, between func(page int)) ([]inventory.Network, []inventory.Workload, []string) {
	t.Helper()
	var networks []inventory.Network
	var workloads []inventory.Workload
	var notes []string
	cursor := ""
	for n := 0; ; n++ {
		require.Less(t, n, 2000, "the pages do not end")
		page, err := d.Page(t.Context(), cursor)
		require.NoError(t, err, "page %d", n)
		networks, workloads, notes = append(networks, page.Networks...), append(workloads, page.Workloads...), append(notes, page.Notes...)
		if page.Next == "" {
			return networks, workloads, notes
		}
		require.NotEqual(t, cursor, page.Next, "the cursor does not move")
		cursor = page.Next
		if between != nil {
			between(n)
		}
	}
}

func whole(t *testing.T, networks []inventory.Network, workloads []inventory.Workload, wantNetworks, wantWorkloads int) {
	t.Helper()
	known := map[string]bool{}
	for i := range networks {
		n := &networks[i]
		assert.False(t, known[n.ID], "network %s comes twice", n.ID)
		known[n.ID] = true
		assert.NotEmpty(t, n.Name)
		assert.Contains(t, []string{"cloud", "site", "remote", "partner"}, n.Kind)
		for _, s := range n.Subnets {
			assert.True(t, s.Prefix.IsValid(), "%s %s", n.ID, s.Name)
		}
	}
	had := map[string]bool{}
	for i := range workloads {
		w := &workloads[i]
		assert.False(t, had[w.ID], "workload %s comes twice", w.ID)
		had[w.ID] = true
		assert.True(t, known[w.Network], "workload %s is in network %q, which was not read", w.ID, w.Network)
		assert.NotEmpty(t, w.Addresses, w.ID)
		assert.NotEmpty(t, w.Tags, w.ID)
	}
	assert.Len(t, networks, wantNetworks)
	assert.Len(t, workloads, wantWorkloads)
}

// Run holds a driver to everything.
func Run(t *testing.T, p Provider) {
	t.Run("pages", func(t *testing.T) {
		a := p.Open(t, 3, 1700)
		networks, workloads, _ := read(t, a.Driver, nil)
		whole(t, networks, workloads, 3, 1700)
	})
	t.Run("a reading goes on where another left it", func(t *testing.T) {
		a, page := p.Open(t, 120, 1200), 0
		first, err := a.Driver.Page(t.Context(), "")
		require.NoError(t, err)
		require.NotEmpty(t, first.Next)
		networks, workloads := first.Networks, first.Workloads
		for cursor := first.Next; cursor != ""; page++ {
			other := p.Open(t, 120, 1200) // knows nothing but the cursor
			next, err := other.Driver.Page(t.Context(), cursor)
			require.NoError(t, err)
			networks, workloads = append(networks, next.Networks...), append(workloads, next.Workloads...)
			cursor = next.Next
		}
		whole(t, networks, workloads, 120, 1200)
		_, err = a.Driver.Page(t.Context(), "no cursor of mine")
		assert.Error(t, err)
	})
	t.Run("ten thousand networks", func(t *testing.T) {
		a := p.Open(t, 10000, 200)
		networks, workloads, _ := read(t, a.Driver, nil)
		whole(t, networks, workloads, 10000, 200)
	})
	for _, kind := range []string{"full", "gone", "half", "wrong"} {
		t.Run(kind+" for a while", func(t *testing.T) {
			a := p.Open(t, 3, 1700)
			a.Fail(kind, 2, 2)
			networks, workloads, _ := read(t, a.Driver, nil)
			whole(t, networks, workloads, 3, 1700)
		})
	}
	for kind, want := range map[string]error{"full": drivers.ErrUnreachable, "gone": drivers.ErrUnreachable} {
		t.Run(kind+" for good", func(t *testing.T) {
			a := p.Open(t, 1, 1)
			a.Fail(kind, 0, 0)
			_, err := a.Driver.Page(t.Context(), "")
			assert.ErrorIs(t, err, want)
		})
	}
	for _, kind := range []string{"half", "wrong"} {
		t.Run(kind+" for good", func(t *testing.T) {
			a := p.Open(t, 1, 1)
			a.Fail(kind, 0, 0)
			_, err := a.Driver.Page(t.Context(), "")
			var senseless *drivers.AnswerError
			assert.ErrorAs(t, err, &senseless)
		})
	}
	t.Run("expired", func(t *testing.T) {
		a := p.Open(t, 1, 1)
		_, err := a.Expired.Page(t.Context(), "")
		assert.ErrorIs(t, err, drivers.ErrCredential)
		_, err = a.Expired.Health(t.Context())
		assert.ErrorIs(t, err, drivers.ErrCredential)
	})
	t.Run("slow, and given up", func(t *testing.T) {
		a := p.Open(t, 1, 1)
		a.Fail("slow", 0, 0)
		ctx, cancel := context.WithTimeout(t.Context(), 50*time.Millisecond)
		defer cancel()
		_, err := a.Driver.Page(ctx, "")
		assert.ErrorIs(t, err, context.DeadlineExceeded)
	})
	t.Run("a network vanishes", func(t *testing.T) {
		a := p.Open(t, 120, 240)
		networks, workloads, _ := read(t, a.Driver, func(page int) {
			if page == 0 {
				a.Drop("net-00119")
			}
		})
		assert.Len(t, networks, 120)
		assert.Len(t, workloads, 238, "those of the network are gone with it")
	})
	t.Run("lists", func(t *testing.T) { lists(t, p) })
	t.Run("writing", func(t *testing.T) { writing(t, p) })
	t.Run("routes", func(t *testing.T) { routes(t, p) })
	t.Run("health", func(t *testing.T) {
		a := p.Open(t, 1, 1)
		states, err := a.Driver.Health(t.Context())
		require.NoError(t, err)
		require.NotEmpty(t, states)
		for _, s := range states {
			assert.Contains(t, []string{"hub", "firewall", "uplink"}, s.Kind)
			assert.Contains(t, []string{"up", "down", "waiting"}, s.State)
		}
	})
}
