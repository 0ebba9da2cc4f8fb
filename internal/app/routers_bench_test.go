package app_test

import (
	"context"
	"fmt"
	"log/slog"
	"net/netip"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"time"

	"bivium/internal/app"

	"github.com/stretchr/testify/require"

	"bivium/core/document"
	"bivium/core/estate"
	"bivium/internal/standin"
	"bivium/internal/store"
)

// BenchmarkRouters takes in 100,000 prefixes of ten sites over real sessions, until
// they are in the estate, with all flows worked out: all of them accepted, or all
// of them waiting. The routers run in the same process.
func BenchmarkRouters(b *testing.B) {
	for _, may := range []string{"accepted", "waiting"} {
		b.Run(may, func(b *testing.B) {
			for range b.N {
				takeIn(b, 10, 10_000, may)
			}
			var m runtime.MemStats
			runtime.ReadMemStats(&m)
			b.ReportMetric(float64(m.Sys)/(1<<20), "MiB-of-process")
		})
	}
}

func takeIn(b *testing.B, sites, each int, status string) {
	var text strings.Builder
	text.WriteString("bivium: 1\nestate: many\nhubs: [{name: summit, as: 64512, speaker: 127.0.1.1}]\nsegments: [{name: red}]\nnetworks:\n")
	for i := range sites {
		fmt.Fprintf(&text, "  - {name: site-%d, kind: site, segment: red, subnets: [{name: lan, prefix: 192.168.%d.0/24}]}\n", i, i)
	}
	text.WriteString("attachments:\n")
	may := "10.0.0.0/8"
	if status == "waiting" {
		may = "192.0.2.0/24"
	}
	for i := range sites {
		fmt.Fprintf(&text, "  - {network: site-%d, hub: summit, sessions: [{router: 127.0.3.%d, as: %d, segment: red, may: [%s], limit: %d}]}\n", i, i+1, 64700+i, may, each)
	}
	s, err := store.Open(b.Context(), filepath.Join(b.TempDir(), "many.db"))
	require.NoError(b, err)
	defer s.Close() //nolint:errcheck // the bench ends
	a, err := app.Open(b.Context(), app.Config{
		Store: s, Clock: time.Now, Log: slog.New(slog.DiscardHandler),
		First: func() (*estate.Estate, error) { return document.Read([]byte(text.String())) },
	})
	require.NoError(b, err)
	defer a.Close()
	a.Learn(0)
	at, ok := a.Speaker("summit")
	require.True(b, ok)
	b.ResetTimer()
	for i := range sites {
		r := &standin.Router{From: netip.AddrFrom4([4]byte{127, 0, 3, byte(i + 1)}), AS: 64700 + i, HubAS: 64512, Announces: standin.Flood(netip.PrefixFrom(netip.AddrFrom4([4]byte{10, byte(i * 16), 0, 0}), 26), each)}
		go r.Dial(context.Background(), at) //nolint:errcheck // what does not come is missed below
		defer r.Hang()
	}
	require.Eventually(b, func() bool {
		got := 0
		for _, x := range a.Now().Estate.Attachments {
			for _, l := range x.Learned {
				if l.Status == status {
					got++
				}
			}
		}
		return got == sites*each
	}, 10*time.Minute, 100*time.Millisecond)
	b.StopTimer()
}
