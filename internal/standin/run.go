package standin

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"time"
)

// Running is a world that answers on loopback.
type Running struct {
	Endpoints map[string]string // by provider
	Play      string            // address of the interface that plays with the world
	Hubs      string            // address of the hubs and their firewalls
	servers   []*http.Server
}

// Serve lets the world answer on loopback, each provider at its own port: those
// from first on, in order of name, or any free ones if it is 0.
func (w *World) Serve(ctx context.Context, first int) (*Running, error) {
	r := &Running{Endpoints: map[string]string{}}
	for i, part := range []struct {
		name    string
		handler http.Handler
	}{{"cirra", w.Cirra()}, {"premises", w.Premises()}, {"stratok", w.Stratok()}, {"velum", w.Velum()}, {"play", w.Play()}, {"hubs", w.Hubs()}} {
		port := 0
		if first > 0 {
			port = first + i
		}
		l, err := new(net.ListenConfig).Listen(ctx, "tcp", fmt.Sprintf("127.0.0.1:%d", port))
		if err != nil {
			return nil, errors.Join(fmt.Errorf("start the stand-in of %s: %w", part.name, err), r.Close())
		}
		s := &http.Server{Handler: part.handler, ReadHeaderTimeout: 10 * time.Second}
		r.servers = append(r.servers, s)
		go s.Serve(l) //nolint:errcheck // Close ends it
		switch address := "http://" + l.Addr().String(); part.name {
		case "play":
			r.Play = address
		case "hubs":
			r.Hubs = address
		default:
			r.Endpoints[part.name] = address
		}
	}
	return r, nil
}

// Close ends all answers.
func (r *Running) Close() error {
	var err error
	for _, s := range r.servers {
		err = errors.Join(err, s.Close())
	}
	return err
}

// Visitor is a machine that comes and goes by itself.
type Visitor struct {
	Account string
	Machine Machine
	Every   time.Duration
}

// Visitors are those of Grayshoal Wind: laptops of crews that are on shore now and
// then, and a machine that forecasts are computed on by night.
var Visitors = []Visitor{
	{"grayshoal-own", Machine{ID: "crew-laptop-7", Name: "crew-7", Network: "net-crew-remote", Addresses: []netip.Addr{netip.MustParseAddr("10.50.0.77")}, Tags: map[string]string{"Role": "Crew"}}, time.Minute},
	{"grayshoal-own", Machine{ID: "crew-laptop-9", Name: "crew-9", Network: "net-crew-remote", Addresses: []netip.Addr{netip.MustParseAddr("10.50.0.79")}, Tags: map[string]string{"role": "crew"}}, 100 * time.Second},
	{"velum-central", Machine{ID: "batch-1", Name: "forecast-batch", Network: "net-forecast", Addresses: []netip.Addr{netip.MustParseAddr("10.71.0.40")}, Tags: map[string]string{"application": "forecast", "ENV": "Prod"}}, 3 * time.Minute},
}

// Live lets machines come and go by themselves until ctx ends.
func (w *World) Live(ctx context.Context, visitors []Visitor) {
	for _, v := range visitors {
		go func() {
			tick := time.NewTicker(v.Every)
			defer tick.Stop()
			for here := false; ; here = !here {
				select {
				case <-ctx.Done():
					return
				case <-tick.C:
				}
				if here {
					w.Stop(v.Account, v.Machine.ID) //nolint:errcheck // the account is there for good
				} else {
					w.Start(v.Account, &v.Machine) //nolint:errcheck // likewise
				}
			}
		}()
	}
}

// HubToken is what opens the hubs' interface.
func (r *Running) HubToken() string { return fabricKey }

// Credentials returns how each account is reached, by name: for those who play.
func (w *World) Credentials() map[string][3]string {
	w.mu.RLock()
	defer w.mu.RUnlock()
	out := map[string][3]string{}
	for name, a := range w.accounts {
		out[name] = [3]string{a.Provider, a.Key, a.Secret}
	}
	return out
}
