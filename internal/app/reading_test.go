package app_test

import (
	"context"
	"fmt"
	"log/slog"
	"net/netip"
	"path/filepath"
	"testing"
	"time"

	"bivium/internal/app"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bivium/core/inventory"
	"bivium/core/limits"
	"bivium/internal/drivers"
	"bivium/internal/store"
	"bivium/internal/vault"
)

// winding is an account whose pages lead to each other in some way.
type winding struct {
	next func(cursor string) string
	each int // workloads on a page
}

func (w winding) Page(_ context.Context, cursor string) (*drivers.Page, error) {
	p := &drivers.Page{Next: w.next(cursor), Notes: make([]string, 300)}
	p.Networks = []inventory.Network{{ID: "n", Name: "n", Kind: "cloud", Subnets: []inventory.Subnet{{Name: "s", Prefix: netip.MustParsePrefix("10.0.0.0/8")}}}}
	p.Workloads = make([]inventory.Workload, w.each)
	return p, nil
}
func (winding) Native(context.Context, []string) (*drivers.Native, error) { return nil, nil }
func (winding) Put(context.Context, *drivers.Put) (string, error)         { return "", nil }
func (winding) Health(context.Context) ([]drivers.Health, error)          { return nil, nil }

// TestAnInventoryWithoutEndIsGivenUp reads accounts whose pages go round in circles, or hold
// more than anybody has.
func TestAnInventoryWithoutEndIsGivenUp(t *testing.T) {
	for what, c := range map[string]struct {
		winding
		says string
	}{
		"to itself":  {winding{func(string) string { return "a" }, 1}, "pages repeat"},
		"in circles": {winding{func(c string) string { return map[string]string{"": "a", "a": "b", "b": "c", "c": "a"}[c] }, 1}, "pages repeat"},
		"too many":   {winding{func(c string) string { return c + "a" }, limits.ProviderThings}, fmt.Sprintf("more than %d networks and workloads", limits.ProviderThings)},
	} {
		t.Run(what, func(t *testing.T) {
			file := filepath.Join(t.TempDir(), "a.db")
			s, err := store.Open(t.Context(), file)
			require.NoError(t, err)
			v, err := vault.Open(file + ".key")
			require.NoError(t, err)
			a, err := app.Open(t.Context(), app.Config{
				Store: s, Clock: time.Now, Vault: v, Log: slog.New(slog.DiscardHandler),
				Dial: func(string, drivers.Access) (drivers.Driver, error) { return c.winding, nil },
			})
			require.NoError(t, err)
			defer func() {
				a.Close()
				assert.NoError(t, s.Close())
			}()
			_, err = a.Connect(t.Context(), app.Connection{Name: "north", Provider: "velum", Endpoint: "http://127.0.0.1:1", Secret: "x"}, "demo")
			require.NoError(t, err)
			_, err = a.Read(t.Context(), "north", "demo", false)
			require.NoError(t, err)
			var last *app.ReadingView
			require.Eventually(t, func() bool {
				accounts, err := a.Accounts(t.Context())
				require.NoError(t, err)
				last = accounts[0].Reading
				return last != nil && last.State != store.Running
			}, time.Minute, 20*time.Millisecond)
			assert.Equal(t, store.Partial, last.State)
			assert.Contains(t, last.Report.Why, c.says)
			assert.LessOrEqual(t, len(last.Report.Notes), limits.ProviderNotes)
		})
	}
}
