package dataplane_test

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"bivium/core/classes"
	"bivium/core/document"
	"bivium/core/estate"
	"bivium/core/findings"
	"bivium/core/matrix"
	"bivium/core/native"
	"bivium/core/native/config"
	"bivium/core/native/proof"
	"bivium/core/native/reader"
	"bivium/core/space"
	"bivium/core/testing/draw"
	"bivium/core/testing/meet"
	"bivium/core/verdict"
	"bivium/demo"
	"bivium/internal/standin/dataplane"
)

func TestMain(m *testing.M) {
	meet.Draws("70")
	m.Run()
}

// holding returns a world that holds a configuration, and is otherwise as an estate says: what
// is there, and what is up.
func holding(e *estate.Estate, cfg *config.Config) *dataplane.World {
	w := &dataplane.World{Networks: map[string]*dataplane.Network{}, Hubs: map[string]*dataplane.Hub{}, Segments: map[string]*dataplane.Segment{}, Pools: map[string]*dataplane.Pool{}}
	for i := range e.Networks {
		n := &e.Networks[i]
		x := &dataplane.Network{Lists: map[string][]dataplane.Rule{}}
		for k := range n.Subnets {
			s := &n.Subnets[k]
			x.Subnets = append(x.Subnets, dataplane.Subnet{Name: s.Name, Prefix: s.Prefix, Segment: n.SegmentOf(s)})
		}
		w.Networks[n.Name] = x
	}
	for i := range e.Attachments {
		a := &e.Attachments[i]
		for _, s := range a.Static {
			w.Networks[a.Network].Held = append(w.Networks[a.Network].Held, dataplane.Held{Segment: s.Segment, Prefix: s.Prefix})
		}
		for _, l := range a.Learned {
			if l.Claims() {
				w.Networks[a.Network].Held = append(w.Networks[a.Network].Held, dataplane.Held{Segment: l.Segment, Prefix: l.Prefix})
			}
		}
	}
	for i := range cfg.Networks {
		holdNetwork(w, e, cfg, &cfg.Networks[i])
	}
	for i := range cfg.Hubs {
		w.Hubs[cfg.Hubs[i].Name] = hub(e, &cfg.Hubs[i])
	}
	for _, s := range cfg.Segments {
		x := &dataplane.Segment{}
		for _, i := range s.Imports {
			x.Imports = append(x.Imports, dataplane.Import{Seen: i.Seen, Own: i.Own, Of: i.Of})
		}
		for i := range s.Rules {
			r := &s.Rules[i]
			m := dataplane.Match{From: ends(r.From), To: ends(r.To), Services: services(r.Services), Any: r.Services == nil, Verb: string(r.Verb)}
			for _, t := range r.Through {
				m.Through = append(m.Through, dataplane.Step{Pool: t.Pool, IsOpen: t.OnFailure == "open"})
			}
			x.Rules = append(x.Rules, m)
		}
		w.Segments[s.Name] = x
	}
	for _, p := range cfg.Pools {
		x := &dataplane.Pool{Book: p.Rulebook != ""}
		for i := range e.Pools {
			for _, f := range e.Pools[i].Firewalls {
				if e.Pools[i].Name == p.Name && f.State == "healthy" {
					x.Hubs = append(x.Hubs, f.Hub)
				}
			}
		}
		for i := range p.Rules {
			r := &p.Rules[i]
			x.Rules = append(x.Rules, dataplane.BookRule{From: ends(r.From), To: ends(r.To), AnyFrom: r.Any[0], AnyTo: r.Any[1], Services: services(r.Services), Any: r.Services == nil, Pass: r.Verb == "pass", Reject: r.Verb == "reject"})
		}
		w.Pools[p.Name] = x
	}
	return w
}

func holdNetwork(w *dataplane.World, e *estate.Estate, cfg *config.Config, n *config.Network) {
	x := w.Networks[n.Name]
	x.Provider = n.Provider
	for _, r := range n.Routes {
		x.Table = append(x.Table, dataplane.Route{To: r.To, Via: string(r.Via)})
	}
	for _, p := range n.Peers {
		x.Peers = append(x.Peers, dataplane.Peer{Network: p.Name, Offers: p.OffersHub})
	}
	for i := range n.Lists {
		rules := []dataplane.Rule{}
		for k := range n.Lists[i].Rules {
			r := &n.Lists[i].Rules[k]
			rules = append(rules, dataplane.Rule{Out: r.Out, Allow: r.Allow, Services: services(r.Services), Own: prefixes(r.Own), Peer: prefixes(r.Peer), AnyOwn: r.Own == nil, AnyPeer: r.Peer == nil})
		}
		x.Lists[n.Lists[i].On] = rules
	}
	if n.Provider != config.Cirra {
		return
	}
	x.Bears = map[netip.Addr][]dataplane.Entry{}
	for i := range cfg.Accounts {
		a := &cfg.Accounts[i]
		if a.Name != n.Account {
			continue
		}
		entries := func(names []string) (out []dataplane.Entry) {
			for _, name := range names {
				for _, l := range a.Lists {
					if l.Name == name {
						for _, v := range l.Entries {
							out = append(out, dataplane.Entry{Out: v.Out, Service: services([]space.Box{v.Service})[0], Peer: v.Peer})
						}
					}
				}
			}
			return out
		}
		x.Standard = entries(a.Default)
		for _, b := range a.Bindings {
			for k := range e.Workloads {
				if v := &e.Workloads[k]; v.Name == b.Workload && v.Network == n.Name {
					for _, address := range v.Addresses {
						x.Bears[address] = entries(b.Lists)
					}
				}
			}
		}
	}
}

func hub(e *estate.Estate, h *config.Hub) *dataplane.Hub {
	x := &dataplane.Hub{}
	for _, l := range h.Links {
		to := l.Between[0]
		if to == h.Name {
			to = l.Between[1]
		}
		up := false
		for i := range e.Links {
			up = up || e.Links[i].Name == l.Name && e.Links[i].State == "up"
		}
		x.Links = append(x.Links, dataplane.Link{To: to, Cost: l.Cost, Up: up, Segments: l.Segments})
	}
	for _, a := range h.Attachments {
		y := dataplane.Attachment{Name: a.Name, Network: a.Network, Cost: a.Cost, Accepts: a.Accepts, Announces: a.Announces}
		for i := range e.Attachments {
			if e.Attachments[i].Name != a.Name {
				continue
			}
			y.Up = e.Attachments[i].State == "up"
		}
		for _, r := range a.Routes {
			y.Routes = append(y.Routes, dataplane.Brought{Segment: r.Segment, Prefix: r.Prefix, Static: r.Borne && !r.Learned})
		}
		for _, t := range a.Translate {
			y.Translate = append(y.Translate, dataplane.Translation{Inside: t.Inside, Outside: t.Outside, Segment: t.Segment})
		}
		x.Attachments = append(x.Attachments, y)
	}
	for _, o := range h.Exits {
		up := false
		for i := range e.Exits {
			up = up || e.Exits[i].Name == o.Name && e.Exits[i].State == "up"
		}
		x.Exits = append(x.Exits, dataplane.Exit{Name: o.Name, Up: up, Segments: o.Segments})
	}
	for _, p := range h.Publications {
		x.Publications = append(x.Publications, dataplane.Publication{Name: p.Name, Exit: p.Exit, Segment: p.Segment, To: p.To, Services: services(p.Services), Any: p.Services == nil})
	}
	return x
}

func services(boxes []space.Box) []dataplane.Service {
	var out []dataplane.Service
	for _, b := range boxes {
		out = append(out, dataplane.Service{
			Protocols: [2]int{int(b.FirstProtocol), int(b.LastProtocol)}, Sources: [2]int{int(b.SourcePorts.Lo), int(b.SourcePorts.Hi)}, Ports: [2]int{int(b.Ports.Lo), int(b.Ports.Hi)},
		})
	}
	return out
}

func ends(list []config.End) []dataplane.End {
	var out []dataplane.End
	for _, e := range list {
		x := dataplane.End{Segment: e.Segment, Exit: e.Exit, Every: e.Set == nil}
		if e.Set != nil {
			x.Prefixes = e.Set.Prefixes
		}
		out = append(out, x)
	}
	return out
}

func prefixes(sets []*config.Set) []netip.Prefix {
	var out []netip.Prefix
	for _, s := range sets {
		out = append(out, s.Prefixes...)
	}
	return out
}

func packet(f *verdict.Flow) dataplane.Packet {
	return dataplane.Packet{Segment: f.Segment, From: f.Source, To: f.Destination, Protocol: int(f.Protocol), SourcePort: int(f.SourcePort), Port: int(f.Port), Publication: f.Publication}
}

// agrees holds what came of a packet to what the estate says, and to what the reader reads: three
// opinions of one configuration.
func agrees(t require.TestingT, j *verdict.Judge, r *reader.Reader, w *dataplane.World, f *verdict.Flow, met meet.Met) {
	want, read, got := proof.Expected(j, f), r.Carry(f), w.Send(packet(f))
	fate := reader.Fate{Delivered: got.Delivered, Pools: got.Pools, Blocked: got.Blocked}
	require.True(t, read.Same(&fate), "%+v\nis read as %+v\nand carried as %+v", f, read, got)
	if !want.Same(&fate) {
		require.False(t, got.Delivered, "%+v: more than is meant: %+v", f, got)
		require.NotEqual(t, reader.Sharp, r.BlurOf(f), "%+v is meant to be %+v, and is %+v", f, want, got)
		met["stricter"]++
		return
	}
	v := j.Judge(*f)
	if got.Delivered && !borrowed(j, f) {
		answered := v.Reason != verdict.ReasonNoWayBack && v.Reason != verdict.ReasonAsymmetric
		require.Equal(t, answered, got.Answered, "%+v: %v %v, %+v", f, v.Outcome, v.Reason, got)
		met.If(answered, "answered")
		met.If(!answered, "no answer")
		met.If(len(got.Pools) > 0, "inspected")
		met.If(f.Segment == verdict.Internet, "published")
		met.If(f.Source.Is6(), "of IPv6")
	}
	met.If(got.Blocked != "", "blocked")
	met.If(!got.Delivered, "stopped")
}

// borrowed reports whether a packet from the internet comes from an address that the estate
// holds itself. The reply goes to who holds it, and the estate does not ask (M2.3).
func borrowed(j *verdict.Judge, f *verdict.Flow) bool {
	if f.Segment != verdict.Internet {
		return false
	}
	for s := range j.Net.Segments {
		if _, ok := j.Net.Home(s, f.Source); ok {
			return true
		}
	}
	return false
}

func faultsOf(e *estate.Estate) []estate.Fault {
	return append(estate.Check(e), findings.ShareFaults(verdict.New(e))...)
}

// eachKind tells of a flow of each pair of classes of endpoints that differ in what decides them,
// and of each service that the rules tell apart.
func eachKind(j *verdict.Judge, s *matrix.Matrix, tell func(f *verdict.Flow)) int {
	type kind struct{ rules, effect, publication, from, to int }
	sent := map[kind]bool{}
	for a, src := range s.Classes {
		for b, dst := range s.Classes {
			s.EachResult(a, b, func(x matrix.ClassResult) {
				key := kind{int(x.Combination.RuleSet), int(x.Combination.Effect), int(x.Publication), int(src.Network), int(dst.Network)}
				if sent[key] || src.End.Addr == dst.End.Addr {
					return
				}
				sent[key] = true
				for atom := range s.Atoms.Len() {
					protocol, sport, dport, _ := s.Atoms.Set(atom).Witness()
					f := verdict.Flow{Segment: verdict.Internet, Source: src.End.Addr, Destination: dst.End.Addr, Service: verdict.Service{Protocol: protocol, SourcePort: sport, Port: dport}}
					if src.Internal() {
						f.Segment, f.Destination = j.Net.Segments[src.End.Segment], classes.AsSeen(j, dst, dst.End.Addr, src.End.Segment)
					}
					tell(&f)
				}
			})
		}
	}
	return len(sent)
}

// TestPacketsDoWhatIsMeant sends packets through drawn estates that are written in full: one of
// each kind, and some of any.
func TestPacketsDoWhatIsMeant(t *testing.T) {
	wants := meet.Wants{"answered": 100, "no answer": 1, "inspected": 100, "published": 30, "blocked": 10, "stopped": 100, "of IPv6": 10}
	meet.Check(t, wants, func(t *rapid.T, met meet.Met) {
		e := draw.Faultless(t, faultsOf)
		j := verdict.New(e)
		s := matrix.New(j)
		tr := native.Translate(s)
		if len(tr.Refused) > 0 {
			return
		}
		r, w := reader.New(e, tr.Config), holding(e, tr.Config)
		eachKind(j, s, func(f *verdict.Flow) { agrees(t, j, r, w, f, met) })
		addresses := append(draw.Ends(e), netip.MustParseAddr("198.51.100.7"))
		for range 60 {
			f := verdict.Flow{Segment: verdict.Internet}
			if k := rapid.IntRange(0, len(e.Segments)).Draw(t, "segment"); k < len(e.Segments) {
				f.Segment = e.Segments[k].Name
			}
			f.Source, f.Destination = rapid.SampledFrom(addresses).Draw(t, "source"), rapid.SampledFrom(addresses).Draw(t, "destination")
			p := rapid.SampledFrom(draw.Ports()).Draw(t, "service")
			f.Protocol, f.SourcePort, f.Port = p.Protocol, p.Source, p.Dest
			agrees(t, j, r, w, &f, met)
		}
	})
}

// TestAPacketOfEachClassOfTheDemo sends a packet for each pair of classes of endpoints of the
// demo, of each service that its rules tell apart.
func TestAPacketOfEachClassOfTheDemo(t *testing.T) {
	e, err := document.Read(demo.Grayshoal)
	require.NoError(t, err)
	j := verdict.New(e)
	s := matrix.New(j)
	tr := native.Translate(s)
	require.Empty(t, tr.Refused)
	r, w := reader.New(e, tr.Config), holding(e, tr.Config)
	met := meet.Met{}
	sent := eachKind(j, s, func(f *verdict.Flow) { agrees(t, j, r, w, f, met) })
	require.Greater(t, sent, 100)
	require.Positive(t, met["inspected"])
	require.Positive(t, met["no answer"])
	require.Positive(t, met["published"])
	t.Log(sent, met)
}

// TestErrorsComeBack sends packets of each class of the demo, and looks at the errors that routers
// and firewalls send back: nobody has the address, no path leads there, or a rulebook rejects it.
// Each tells of what came of the packet, and none comes where a list stops it without a word.
func TestErrorsComeBack(t *testing.T) {
	e, err := document.Read(demo.Grayshoal)
	require.NoError(t, err)
	j := verdict.New(e)
	s := matrix.New(j)
	w := holding(e, native.Translate(s).Config)
	machines := map[netip.Addr]bool{}
	for i := range e.Workloads {
		for _, a := range e.Workloads[i].Addresses {
			machines[a] = true
		}
	}
	for _, n := range w.Networks {
		n.Machines = machines
	}
	seen := map[string]int{}
	eachKind(j, s, func(f *verdict.Flow) {
		got := w.Send(packet(f))
		if got.Error == nil {
			return
		}
		seen[got.Error.Says]++
		last := got.Hops[len(got.Hops)-1]
		switch got.Error.Says {
		case "ICMP host unreachable":
			require.True(t, got.Delivered && got.Answered, "%v: %v", f, got)
		case "ICMP network unreachable":
			require.Equal(t, dataplane.Hop{At: "hubs", Said: "no path"}, last, "%v", f)
		case "ICMP administratively prohibited":
			require.Equal(t, []string{"pool " + got.Blocked, "reject"}, []string{got.Error.From, last.Said}, "%v: %v", f, got)
			require.Equal(t, uint8(17), f.Protocol, "only QUIC is rejected in the demo")
		default:
			t.Errorf("%v: %v", f, got.Error)
		}
	})
	require.Len(t, seen, 3, "%v", seen)

	tidegate := w.Pools["tidegate"]
	for i := range tidegate.Rules {
		tidegate.Rules[i].Pass, tidegate.Rules[i].Reject = false, true
	}
	crew, there := netip.Addr{}, netip.MustParseAddr("198.51.100.7")
	for i := range e.Workloads {
		if e.Workloads[i].Name == "crew-1" {
			crew = e.Workloads[i].Addresses[0]
		}
	}
	got := w.Send(dataplane.Packet{Segment: "office", From: crew, To: there, Protocol: 6, SourcePort: 50000, Port: 443})
	require.Equal(t, &dataplane.Error{Says: "TCP reset", From: "pool tidegate"}, got.Error)
}
