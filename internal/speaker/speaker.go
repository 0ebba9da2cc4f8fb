// Package speaker listens for the routers of sites, one BGP-4 speaker (RFC 4271)
// for each hub that has one. It takes in what routers announce, and announces
// nothing itself.
package speaker

import (
	"context"
	"fmt"
	"log/slog"
	"maps"
	"net"
	"net/netip"
	"slices"
	"sync"
	"time"

	"github.com/osrg/gobgp/v4/api"
	"github.com/osrg/gobgp/v4/pkg/apiutil"
	"github.com/osrg/gobgp/v4/pkg/packet/bgp"
	"github.com/osrg/gobgp/v4/pkg/server"

	"bivium/core/estate"
)

// Key names a session: the hub, and the address that the router speaks from.
type Key struct {
	Hub    string
	Router netip.Addr
}

// Listener is told what happens in sessions. It is called from several goroutines,
// but for one hub from one at a time.
type Listener interface {
	Up(Key)
	Down(key Key, why string)
	Heard(key Key, announced, withdrawn []netip.Prefix)
}

// Speakers are the speakers of all hubs. It is safe for concurrent use.
type Speakers struct {
	port   int
	log    *slog.Logger
	listen Listener

	mu   sync.Mutex
	hubs map[string]*hub
}

// hub is the speaker of one hub.
type hub struct {
	as       int
	address  netip.Addr
	port     int
	issue    string // why it does not listen; "" if it does
	server   *server.BgpServer
	stop     context.CancelFunc
	sessions map[netip.Addr]estate.Session
}

// New returns speakers that listen on a port, 0 for any that is free: each hub has
// its own then. They listen once Follow names hubs.
func New(port int, log *slog.Logger, listen Listener) *Speakers {
	return &Speakers{port: port, log: log, listen: listen, hubs: map[string]*hub{}}
}

// Follow makes the speakers and sessions those of an estate: what is new is begun,
// what is gone is ended, and what stays is left alone.
func (s *Speakers) Follow(e *estate.Estate) {
	s.mu.Lock()
	defer s.mu.Unlock()
	sessions := map[string]map[netip.Addr]estate.Session{}
	for i := range e.Attachments {
		for _, x := range e.Attachments[i].Sessions {
			if sessions[e.Attachments[i].Hub] == nil {
				sessions[e.Attachments[i].Hub] = map[netip.Addr]estate.Session{}
			}
			sessions[e.Attachments[i].Hub][x.Router] = x
		}
	}
	wanted := map[string]*estate.Hub{}
	for i := range e.Hubs {
		if h := &e.Hubs[i]; h.AS > 0 && h.Speaker != "" {
			wanted[h.Name] = h
		}
	}
	for name, h := range s.hubs {
		if w := wanted[name]; w == nil || w.AS != h.as || w.Speaker != h.address.String() {
			h.close()
			delete(s.hubs, name)
			for router := range h.sessions {
				s.listen.Down(Key{name, router}, "its hub no longer accepts sessions")
			}
		}
	}
	for _, name := range slices.Sorted(maps.Keys(wanted)) {
		if s.hubs[name] == nil {
			s.hubs[name] = s.open(wanted[name])
		}
		s.meet(name, s.hubs[name], sessions[name])
	}
}

// open starts the speaker of a hub.
func (s *Speakers) open(of *estate.Hub) *hub {
	h := &hub{as: of.AS, port: s.port, sessions: map[netip.Addr]estate.Session{}}
	fail := func(err error) *hub {
		h.issue = fmt.Sprintf("hub %s cannot listen on %s: %v", of.Name, of.Speaker, err)
		s.log.Warn("a hub does not listen for routers", "hub", of.Name, "error", err)
		return h
	}
	var err error
	if h.address, err = netip.ParseAddr(of.Speaker); err != nil {
		return fail(err)
	}
	if h.port == 0 {
		if h.port, err = freePort(h.address); err != nil {
			return fail(err)
		}
	}
	ctx, stop := context.WithCancel(context.Background())
	h.stop = stop
	h.server = server.NewBgpServer(server.LoggerOption(s.log.With("hub", of.Name), quiet()))
	go h.server.Serve()
	err = h.server.StartBgp(ctx, &api.StartBgpRequest{Global: &api.Global{
		Asn: uint32(h.as), RouterId: routerID(h.address), ListenPort: int32(h.port), ListenAddresses: []string{h.address.String()},
	}})
	if err != nil {
		h.close()
		h.server = nil
		return fail(err)
	}
	// It keeps what routers say with the sessions that said it, and passes it on to
	// nobody.
	for _, d := range []api.PolicyDirection{api.PolicyDirection_POLICY_DIRECTION_IMPORT, api.PolicyDirection_POLICY_DIRECTION_EXPORT} {
		if err := h.server.SetPolicyAssignment(ctx, &api.SetPolicyAssignmentRequest{Assignment: &api.PolicyAssignment{
			Name: "global", Direction: d, DefaultAction: api.RouteAction_ROUTE_ACTION_REJECT,
		}}); err != nil {
			h.close()
			h.server = nil
			return fail(err)
		}
	}
	w := &watcher{hub: of.Name, listen: s.listen, up: map[netip.Addr]bool{}}
	if err := h.server.WatchEvent(ctx, server.WatchEventMessageCallbacks{OnPathUpdate: w.paths, OnPeerUpdate: w.peer}, server.WatchUpdate(true, "", ""), server.WatchPeer()); err != nil {
		h.close()
		h.server = nil
		return fail(err)
	}
	return h
}

// meet makes the sessions of a hub the given ones.
func (s *Speakers) meet(name string, h *hub, sessions map[netip.Addr]estate.Session) {
	if h.server == nil {
		return
	}
	for router, was := range h.sessions {
		if is, stays := sessions[router]; stays && is.AS == was.AS && is.Limit == was.Limit {
			continue
		}
		delete(h.sessions, router)
		if err := h.server.DeletePeer(context.Background(), &api.DeletePeerRequest{Address: router.String()}); err != nil {
			s.log.Warn("a session could not be ended", "hub", name, "router", router, "error", err)
		}
		s.listen.Down(Key{name, router}, "closed by Bivium")
	}
	for router, is := range sessions {
		if _, there := h.sessions[router]; there {
			continue
		}
		if err := h.server.AddPeer(context.Background(), &api.AddPeerRequest{Peer: peerOf(&is)}); err != nil {
			s.log.Warn("a session could not be begun", "hub", name, "router", router, "error", err)
			continue
		}
		h.sessions[router] = is
	}
}

// hardLimit is how many times the limit of a session it takes to be ended (L6).
const hardLimit = 4

// peerOf returns the passive end of a session.
func peerOf(x *estate.Session) *api.Peer {
	p := &api.Peer{
		Conf:         &api.PeerConf{NeighborAddress: x.Router.String(), PeerAsn: uint32(x.AS)},
		Transport:    &api.Transport{PassiveMode: true},
		EbgpMultihop: &api.EbgpMultihop{Enabled: true, MultihopTtl: 64},
		Timers:       &api.Timers{Config: &api.TimersConfig{HoldTime: 30, KeepaliveInterval: 10, IdleHoldTimeAfterReset: 15 * 60}},
	}
	for _, f := range families {
		p.AfiSafis = append(p.AfiSafis, &api.AfiSafi{
			Config:       &api.AfiSafiConfig{Family: f, Enabled: true},
			PrefixLimits: &api.PrefixLimit{Family: f, MaxPrefixes: uint32(hardLimit * x.Limit)},
		})
	}
	return p
}

var families = []*api.Family{
	{Afi: api.Family_AFI_IP, Safi: api.Family_SAFI_UNICAST},
	{Afi: api.Family_AFI_IP6, Safi: api.Family_SAFI_UNICAST},
}

// Issue returns why a hub does not listen, "" if it does or is not to.
func (s *Speakers) Issue(hub string) string {
	s.mu.Lock()
	defer s.mu.Unlock()
	if h := s.hubs[hub]; h != nil {
		return h.issue
	}
	return ""
}

// Address returns where a hub listens, and whether it does.
func (s *Speakers) Address(hub string) (netip.AddrPort, bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	h := s.hubs[hub]
	if h == nil || h.server == nil {
		return netip.AddrPort{}, false
	}
	return netip.AddrPortFrom(h.address, uint16(h.port)), true
}

// Admit lets a session that was ended for bringing too much come back.
func (s *Speakers) Admit(key Key) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if h := s.hubs[key.Hub]; h != nil && h.server != nil {
		if err := h.server.EnablePeer(context.Background(), &api.EnablePeerRequest{Address: key.Router.String()}); err != nil {
			s.log.Warn("a session could not be admitted again", "hub", key.Hub, "router", key.Router, "error", err)
		}
	}
}

// Close ends all sessions, and listens no more.
func (s *Speakers) Close() {
	s.mu.Lock()
	defer s.mu.Unlock()
	for name, h := range s.hubs {
		h.close()
		delete(s.hubs, name)
	}
}

func (h *hub) close() {
	if h.stop != nil {
		h.stop()
	}
	if h.server != nil {
		h.server.Stop()
	}
}

// routerID returns the identifier of a hub: its address, or, for one of IPv6, 32
// bits of it (RFC 6286 asks for a number that is its own, not for an address).
func routerID(a netip.Addr) string {
	if a.Is4() {
		return a.String()
	}
	b := a.As16()
	return netip.AddrFrom4([4]byte(b[12:])).String()
}

func freePort(a netip.Addr) (int, error) {
	l, err := new(net.ListenConfig).Listen(context.Background(), "tcp", netip.AddrPortFrom(a, 0).String())
	if err != nil {
		return 0, err
	}
	defer l.Close() //nolint:errcheck // nobody wrote to it
	return l.Addr().(*net.TCPAddr).Port, nil
}

// quiet is the level of what the library logs: sessions are told of on screen.
func quiet() *slog.LevelVar {
	v := &slog.LevelVar{}
	v.Set(slog.LevelError)
	return v
}

// watcher tells the listener what the speaker of a hub sees.
type watcher struct {
	hub    string
	listen Listener
	up     map[netip.Addr]bool
}

func (w *watcher) peer(e *apiutil.WatchEventMessage_PeerEvent, _ time.Time) {
	router := e.Peer.State.NeighborAddress
	up := e.Peer.State.SessionState == bgp.BGP_FSM_ESTABLISHED
	if up == w.up[router] {
		return
	}
	w.up[router] = up
	if up {
		w.listen.Up(Key{w.hub, router})
		return
	}
	why := e.Peer.State.DisconnectMessage
	if e.Peer.State.AdminState == api.PeerState_ADMIN_STATE_PFX_CT {
		why = TooMany
	}
	w.listen.Down(Key{w.hub, router}, why)
}

// TooMany is why a session was ended that brought far too much (L6).
const TooMany = "it announced too many prefixes"

func (w *watcher) paths(paths []*apiutil.Path, _ time.Time) {
	var announced, withdrawn []netip.Prefix
	flush := func(router netip.Addr) {
		if len(announced)+len(withdrawn) > 0 {
			w.listen.Heard(Key{w.hub, router}, announced, withdrawn)
			announced, withdrawn = nil, nil
		}
	}
	for i, p := range paths {
		if i > 0 && paths[i-1].PeerAddress != p.PeerAddress {
			flush(paths[i-1].PeerAddress)
		}
		n, ok := p.Nlri.(*bgp.IPAddrPrefix)
		if !ok {
			continue
		}
		if p.Withdrawal {
			withdrawn = append(withdrawn, n.Prefix.Masked())
		} else {
			announced = append(announced, n.Prefix.Masked())
		}
	}
	if len(paths) > 0 {
		flush(paths[len(paths)-1].PeerAddress)
	}
}
