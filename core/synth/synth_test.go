package synth_test

import (
	"maps"
	"math/rand/v2"
	"net/netip"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bivium/core/analysis"
	"bivium/core/document"
	"bivium/core/estate"
	"bivium/core/failure"
	"bivium/core/findings"
	"bivium/core/matrix"
	"bivium/core/paths"
	"bivium/core/query"
	"bivium/core/synth"
	"bivium/core/trace"
	"bivium/core/verdict"
)

func TestEstatesAreAsLargeAsTheySayAndWithoutFaults(t *testing.T) {
	for _, name := range []string{"S", "M", "L", "XL"} {
		size := synth.Sizes[name]
		e := synth.New(name, size, 1)
		assert.Empty(t, estate.Check(e), name)
		assert.Empty(t, findings.ShareFaults(verdict.New(e)), name)
		rules := 0
		for _, p := range e.Policies {
			rules += len(p.Rules)
		}
		got := synth.Size{
			Segments: len(e.Segments), Hubs: len(e.Hubs), Networks: len(e.Networks), Workloads: len(e.Workloads),
			Groups: len(e.Groups), Policies: len(e.Policies), Rules: rules, Shares: len(e.Shares),
		}
		assert.InDelta(t, size.Rules, got.Rules, float64(size.Rules)/50)
		got.Rules = size.Rules
		assert.Equal(t, size, got)
	}
}

func TestNetworksAreWiredInEveryWayTheModelKnows(t *testing.T) {
	e := synth.New("wired", synth.Sizes["M"], 1)
	net := paths.New(e)
	var own, behind, six, waiting, accepted int
	for i := range net.Networks {
		n := &net.Networks[i]
		own += len(n.Routes)
		if len(n.Attachments) == 0 {
			behind++
			for _, s := range n.Subnets {
				subnet := &net.Subnets[s]
				home, _ := net.Home(subnet.Segment, subnet.Prefix.Addr())
				assert.Equal(t, i, home.Network, "a static prefix of %s's neighbour covers it", n.Name)
			}
		}
	}
	for i := range e.Workloads {
		six += len(e.Workloads[i].Addresses) - 1
	}
	for i := range e.Attachments {
		for _, l := range e.Attachments[i].Learned {
			if l.Status == "waiting" {
				waiting++
			} else {
				accepted++
			}
		}
	}
	for what, count := range map[string]int{
		"routes of networks": own, "networks behind a neighbour": behind, "IPv6 addresses": six, "waiting prefixes": waiting,
		"accepted prefixes": accepted, "peerings": len(e.Peerings), "publications": len(e.Publications),
	} {
		assert.Positive(t, count, what)
	}
}

func TestOneSeedIsOneEstate(t *testing.T) {
	write := func(seed uint64) string {
		text, err := document.Write(synth.New("same", synth.Sizes["S"], seed))
		require.NoError(t, err)
		_, err = document.Read(text)
		require.NoError(t, err)
		return string(text)
	}
	assert.Equal(t, write(7), write(7))
	assert.NotEqual(t, write(7), write(8))
}

// The benchmarks of the table of numbers, for the sizes that fit today.
func BenchmarkEstate(b *testing.B) {
	for _, name := range []string{"S", "M", "L", "XL"} {
		b.Run(name, func(b *testing.B) { benchmarkSize(b, name) })
	}
}

// benchmarkSize measures everything of one size. It is a benchmark of its own for each, so
// that no estate is made for one that is not asked for.
func benchmarkSize(b *testing.B, name string) {
	e := synth.New(strings.ToLower(name), synth.Sizes[name], 1)
	text, err := document.WriteJSON(e)
	require.NoError(b, err)
	b.Run("read", func(b *testing.B) {
		for b.Loop() {
			_, _ = document.Read(text)
		}
	})
	b.Run("judge", func(b *testing.B) {
		for b.Loop() {
			verdict.New(e)
		}
	})
	j := verdict.New(e)
	f := verdict.Flow{
		Segment: j.Net.Segments[0], Source: e.Networks[0].Subnets[0].Prefix.Addr().Next(), Destination: e.Workloads[0].Addresses[0],
		Service: verdict.Service{Protocol: estate.TCP, SourcePort: 50000, Port: 443},
	}
	b.Run("verdict", func(b *testing.B) {
		for b.Loop() {
			j.Judge(f)
		}
	})
	b.Run("trace", func(b *testing.B) {
		for b.Loop() {
			trace.Of(j, f)
		}
	})
	b.Run("survey", func(b *testing.B) {
		for b.Loop() {
			matrix.New(j)
		}
	})
	s := analysis.New(j)
	s.Expectations.All()
	for _, edit := range editsOf(e) {
		b.Run("edit/"+edit.name, func(b *testing.B) {
			for b.Loop() {
				next, d := s.Revise(edit.next)
				next.Complete()
				next.Expectations.All()
				if len(d.Changes) == 0 && edit.changes {
					b.Fatal("the edit changes nothing")
				}
			}
		})
	}
	flows := flowsOf(e)
	b.Run("batch", func(b *testing.B) {
		query.Tell(s.Matrix, &flows[0])
		for i := 0; b.Loop(); i++ {
			query.Tell(s.Matrix, &flows[i%len(flows)])
		}
	})
	b.Run("whole", func(b *testing.B) {
		for b.Loop() {
			e, err := document.Read(text)
			require.NoError(b, err)
			matrix.New(verdict.New(e))
		}
	})
	if name == "XL" {
		return // no number is asked of the rest
	}
	b.Run("findings", func(b *testing.B) {
		for b.Loop() {
			s.Findings.All(func() {})
		}
	})
	b.Run("what-if", func(b *testing.B) {
		for b.Loop() {
			failure.WhatIf(s.Matrix, s.Expectations.All(), failure.Outages(s.Matrix))
		}
	})
}

// BenchmarkTenfold judges and surveys M, and M with ten times the workloads, which have
// the labels that those of M have in each network.
func BenchmarkTenfold(b *testing.B) {
	one, size := synth.New("m", synth.Sizes["M"], 1), synth.Sizes["M"]
	size.Workloads *= 10
	ten := synth.New("m", size, 1)
	labels := map[string][]map[string]string{}
	for i := range one.Workloads {
		w := &one.Workloads[i]
		labels[w.Network] = append(labels[w.Network], w.Labels)
	}
	for i := range ten.Workloads {
		w := &ten.Workloads[i]
		if list := labels[w.Network]; len(list) > 0 {
			w.Labels = list[i%len(list)]
		}
	}
	for _, x := range []struct {
		name string
		e    *estate.Estate
	}{{"once", one}, {"tenfold", ten}} {
		b.Run(x.name, func(b *testing.B) {
			for b.Loop() {
				matrix.New(verdict.New(x.e))
			}
		})
	}
}

// edit is an estate that comes of another.
type edit struct {
	name    string
	next    *estate.Estate
	changes bool // some flow must fare otherwise
}

// editsOf returns edits of everything that is edited by hand. Segment 0 is the largest,
// of those that generated estates have.
func editsOf(e *estate.Estate) []edit {
	var out []edit
	add := func(name string, changes bool, change func(next *estate.Estate)) {
		next := *e
		change(&next)
		out = append(out, edit{name, &next, changes})
	}
	largest, middle := e.Segments[0].Name, e.Segments[len(e.Segments)/2].Name
	placeable := func(segment string) *estate.Network {
		for i := len(e.Networks) / 3; ; i++ {
			n := &e.Networks[i%len(e.Networks)]
			peered := slices.ContainsFunc(e.Peerings, func(p estate.Peering) bool { return slices.Contains(p.Between[:], n.Name) })
			if n.Kind == "cloud" && !peered && n.Segment == segment {
				return n
			}
		}
	}
	move := func(next *estate.Estate, n *estate.Network, segment string) {
		next.Networks = slices.Clone(e.Networks)
		at := slices.IndexFunc(e.Networks, func(x estate.Network) bool { return x.Name == n.Name })
		next.Networks[at].Segment = segment
	}
	add("rule", true, func(next *estate.Estate) { next.Policies = turnedRound(e) })
	add("place", len(e.Networks) > 100, func(next *estate.Estate) { move(next, placeable(e.Segments[len(e.Segments)-1].Name), middle) })
	add("place-in-the-largest", true, func(next *estate.Estate) { move(next, placeable(middle), largest) })
	add("attach-twice", false, func(next *estate.Estate) {
		next.Attachments = append(slices.Clone(e.Attachments), estate.Attachment{Network: placeable(middle).Name, Hub: e.Hubs[len(e.Hubs)-1].Name, Cost: 50, State: "up"})
	})
	add("link", false, func(next *estate.Estate) {
		next.Links = slices.Clone(e.Links)
		next.Links[0].Cost += 3
	})
	add("group", false, func(next *estate.Estate) {
		next.Groups = slices.Clone(e.Groups)
		g := &next.Groups[len(e.Groups)/2]
		g.Match, g.Networks, g.NetworkMatch, g.Subnets, g.Exits, g.Prefixes = "", nil, "", nil, nil, []netip.Prefix{netip.MustParsePrefix("10.0.20.0/22")}
	})
	add("labels", false, func(next *estate.Estate) {
		next.Workloads = slices.Clone(e.Workloads)
		next.Workloads[0].Labels = maps.Clone(e.Workloads[1].Labels)
	})
	add("share", false, func(next *estate.Estate) {
		next.Shares = slices.Clone(e.Shares)
		next.Shares[0].Enabled = !e.Shares[0].Enabled
	})
	add("network-comes", true, func(next *estate.Estate) {
		n := *placeable(middle)
		n.Name, n.Routes = "a-new-one", nil
		n.Subnets = []estate.Subnet{{Name: "first", Prefix: netip.MustParsePrefix("10.255.255.0/24")}}
		next.Networks = slices.Concat([]estate.Network{n}, e.Networks)
		next.Attachments = append(slices.Clone(e.Attachments), estate.Attachment{Network: n.Name, Hub: e.Hubs[0].Name, Cost: 1, State: "up"})
	})
	add("segment-comes", false, func(next *estate.Estate) {
		next.Segments = slices.Concat([]estate.Segment{{Name: "a-new-one", Default: estate.Deny}}, e.Segments)
		move(next, placeable(middle), "a-new-one")
	})
	add("hub-comes", false, func(next *estate.Estate) {
		next.Hubs = slices.Concat([]estate.Hub{{Name: "a-new-one"}}, e.Hubs)
		next.Links = append(slices.Clone(e.Links), estate.Link{Between: [2]string{"a-new-one", e.Hubs[0].Name}, Cost: 7, State: "up"})
	})
	add("pool-comes", false, func(next *estate.Estate) {
		next.Pools = slices.Concat([]estate.Pool{{Name: "a-new-one", Firewalls: []estate.Firewall{{Name: "one", Hub: e.Hubs[0].Name, State: "healthy"}}}}, e.Pools)
	})
	add("exit-comes", false, func(next *estate.Estate) {
		next.Exits = slices.Concat([]estate.Exit{{Name: "a-new-one", Hub: e.Hubs[0].Name, State: "up"}}, e.Exits)
	})
	return out
}

// turnedRound returns the policies with the first rule of one turned round: of those that
// decide most, the one in the middle of the list.
func turnedRound(e *estate.Estate) []estate.Policy {
	out := slices.Clone(e.Policies)
	for i := len(e.Policies) / 2; ; i++ {
		p := &out[i]
		if p.Rules[0].Action != estate.Allow || p.From.Any || p.To.Any || p.To.Groups[0] == "internet-exits" || p.Segments.Names[0] != e.Segments[0].Name {
			continue
		}
		p.Rules = slices.Clone(p.Rules)
		p.Rules[0].Action = estate.Deny
		return out
	}
}

// flowsOf returns flows between workloads of one segment, and to nobody.
func flowsOf(e *estate.Estate) []verdict.Flow {
	r := rand.New(rand.NewPCG(1, 2))
	j := verdict.New(e)
	var out []verdict.Flow
	for len(out) < 100_000 {
		a, b := &e.Workloads[r.IntN(len(e.Workloads))], &e.Workloads[r.IntN(len(e.Workloads))]
		f := verdict.Flow{Source: a.Addresses[0], Destination: b.Addresses[0], Service: verdict.Service{Protocol: estate.TCP, SourcePort: 50000, Port: uint16(r.IntN(9000))}}
		for _, s := range j.Net.Segments {
			if _, ok := j.Internal(j.Net.Segment(s), f.Source); ok {
				f.Segment = s
			}
		}
		out = append(out, f)
	}
	return out
}
