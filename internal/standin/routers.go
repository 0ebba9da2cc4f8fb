package standin

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"log/slog"
	"net/netip"
	"slices"

	"github.com/osrg/gobgp/v4/api"
	"github.com/osrg/gobgp/v4/pkg/apiutil"
	"github.com/osrg/gobgp/v4/pkg/packet/bgp"
	"github.com/osrg/gobgp/v4/pkg/server"
)

// Router is how a site speaks BGP-4: from which address, to the speaker of which
// hub, and what it announces at first.
type Router struct {
	From      netip.Addr     `yaml:"from"`
	AS        int            `yaml:"as"`
	Hub       string         `yaml:"hub"`
	HubAS     int            `yaml:"hubAS"`
	Announces []netip.Prefix `yaml:"announces"`

	server *server.BgpServer
	stop   context.CancelFunc
}

// Speak lets the routers of all sites dial the hubs that listen, by address of the
// hub, until ctx ends.
func (w *World) Speak(ctx context.Context, address func(hub string) (netip.AddrPort, bool)) error {
	w.mu.Lock()
	defer w.mu.Unlock()
	var err error
	for _, a := range w.accounts {
		for _, n := range a.Networks {
			if n.Router == nil {
				continue
			}
			if to, ok := address(n.Router.Hub); ok {
				err = errors.Join(err, n.Router.Dial(ctx, to))
			}
		}
	}
	return err
}

// Dial begins the session of a router, which it keeps up until ctx ends or Hang is
// called.
func (r *Router) Dial(ctx context.Context, to netip.AddrPort) error {
	ctx, r.stop = context.WithCancel(ctx)
	quiet := &slog.LevelVar{}
	quiet.Set(slog.LevelError + 4)
	s := server.NewBgpServer(server.LoggerOption(slog.New(slog.DiscardHandler), quiet))
	go s.Serve()
	r.server = s
	context.AfterFunc(ctx, s.Stop)
	if err := s.StartBgp(ctx, &api.StartBgpRequest{Global: &api.Global{Asn: uint32(r.AS), RouterId: r.From.String(), ListenPort: -1}}); err != nil {
		return fmt.Errorf("start the router %s: %w", r.From, err)
	}
	peer := &api.Peer{
		Conf:         &api.PeerConf{NeighborAddress: to.Addr().String(), PeerAsn: uint32(r.HubAS)},
		Transport:    &api.Transport{LocalAddress: r.From.String(), RemotePort: uint32(to.Port())},
		EbgpMultihop: &api.EbgpMultihop{Enabled: true, MultihopTtl: 64},
		Timers:       &api.Timers{Config: &api.TimersConfig{ConnectRetry: 1, IdleHoldTimeAfterReset: 1}},
	}
	for _, afi := range []api.Family_Afi{api.Family_AFI_IP, api.Family_AFI_IP6} {
		peer.AfiSafis = append(peer.AfiSafis, &api.AfiSafi{Config: &api.AfiSafiConfig{Family: &api.Family{Afi: afi, Safi: api.Family_SAFI_UNICAST}, Enabled: true}})
	}
	if err := r.Announce(r.Announces...); err != nil {
		return err
	}
	return s.AddPeer(ctx, &api.AddPeerRequest{Peer: peer})
}

// Hang ends the session for good.
func (r *Router) Hang() {
	if r.stop != nil {
		r.stop()
	}
}

// Announce announces prefixes.
func (r *Router) Announce(prefixes ...netip.Prefix) error {
	paths := make([]*apiutil.Path, 0, len(prefixes))
	for _, p := range prefixes {
		path, err := r.path(p)
		if err != nil {
			return err
		}
		paths = append(paths, path)
	}
	if len(paths) == 0 {
		return nil
	}
	_, err := r.server.AddPath(apiutil.AddPathRequest{Paths: paths})
	return err
}

// Withdraw withdraws prefixes.
func (r *Router) Withdraw(prefixes ...netip.Prefix) error {
	paths := make([]*apiutil.Path, 0, len(prefixes))
	for _, p := range prefixes {
		path, err := r.path(p)
		if err != nil {
			return err
		}
		path.Withdrawal = true
		paths = append(paths, path)
	}
	return r.server.DeletePath(apiutil.DeletePathRequest{Paths: paths})
}

func (r *Router) path(p netip.Prefix) (*apiutil.Path, error) {
	nlri, err := bgp.NewIPAddrPrefix(p)
	if err != nil {
		return nil, fmt.Errorf("announce %s: %w", p, err)
	}
	out := &apiutil.Path{Family: bgp.RF_IPv4_UC, Nlri: nlri, Attrs: []bgp.PathAttributeInterface{bgp.NewPathAttributeOrigin(0)}}
	next := r.From
	if p.Addr().Is6() {
		out.Family, next = bgp.RF_IPv6_UC, netip.AddrFrom16(r.From.As16())
		hop, err := bgp.NewPathAttributeMpReachNLRI(out.Family, []bgp.PathNLRI{{NLRI: nlri}}, next)
		if err != nil {
			return nil, fmt.Errorf("announce %s: %w", p, err)
		}
		out.Attrs = append(out.Attrs, hop)
		return out, nil
	}
	hop, err := bgp.NewPathAttributeNextHop(next)
	if err != nil {
		return nil, fmt.Errorf("announce %s: %w", p, err)
	}
	out.Attrs = append(out.Attrs, hop)
	return out, nil
}

// Flood returns so many prefixes of IPv4, one after the other from a first one.
func Flood(first netip.Prefix, count int) []netip.Prefix {
	b := first.Addr().As4()
	n := binary.BigEndian.Uint32(b[:])
	out := make([]netip.Prefix, count)
	for i := range out {
		binary.BigEndian.PutUint32(b[:], n+uint32(i)<<(32-first.Bits()))
		out[i] = netip.PrefixFrom(netip.AddrFrom4(b), first.Bits())
	}
	return out
}

// Router returns the router of a site, by the site's name.
func (w *World) Router(site string) (*Router, error) {
	w.mu.RLock()
	defer w.mu.RUnlock()
	for _, a := range w.accounts {
		i := slices.IndexFunc(a.Networks, func(n *Network) bool { return n.Name == site && n.Router != nil && n.Router.server != nil })
		if i >= 0 {
			return a.Networks[i].Router, nil
		}
	}
	return nil, fmt.Errorf("no site %q has a router that speaks", site)
}

// Said is what a router is told to say, for the interface that plays with the world.
type Said struct {
	Announce []netip.Prefix `json:"announce"`
	Withdraw []netip.Prefix `json:"withdraw"`
	Flood    int            `json:"flood"` // announce so many prefixes of 172.16.0.0/12 and on
	Flap     int            `json:"flap"`  // withdraw and announce what Announce names so often
}

// Say lets the router of a site say something.
func (w *World) Say(site string, s *Said) error {
	r, err := w.Router(site)
	if err != nil {
		return err
	}
	if len(s.Withdraw) > 0 {
		err = errors.Join(err, r.Withdraw(s.Withdraw...))
	}
	err = errors.Join(err, r.Announce(s.Announce...), r.Announce(Flood(netip.MustParsePrefix("172.16.0.0/24"), s.Flood)...))
	for range s.Flap {
		err = errors.Join(err, r.Withdraw(s.Announce...), r.Announce(s.Announce...))
	}
	return err
}
