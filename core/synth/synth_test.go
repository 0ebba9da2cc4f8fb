package synth_test

import (
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bivium/core/document"
	"bivium/core/estate"
	"bivium/core/paths"
	"bivium/core/survey"
	"bivium/core/synth"
	"bivium/core/verdict"
)

func TestEstatesAreAsLargeAsTheySayAndWithoutFaults(t *testing.T) {
	for _, name := range []string{"S", "M", "L"} {
		size := synth.Sizes[name]
		e := synth.New(name, size, 1)
		assert.Empty(t, estate.Check(e), name)
		assert.Empty(t, survey.ShareFaults(verdict.New(e)), name)
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
	for _, name := range []string{"S", "M", "L"} {
		e := synth.New(strings.ToLower(name), synth.Sizes[name], 1)
		text, err := document.WriteJSON(e)
		require.NoError(b, err)
		b.Run(name+"/read", func(b *testing.B) {
			for b.Loop() {
				_, _ = document.Read(text)
			}
		})
		b.Run(name+"/judge", func(b *testing.B) {
			for b.Loop() {
				verdict.New(e)
			}
		})
		j := verdict.New(e)
		f := verdict.Flow{
			Segment: j.Net().Segments[0], Source: e.Networks[0].Subnets[0].Prefix.Addr().Next(), Destination: e.Workloads[0].Addresses[0],
			Service: verdict.Service{Protocol: estate.TCP, SourcePort: 50000, Port: 443},
		}
		b.Run(name+"/verdict", func(b *testing.B) {
			for b.Loop() {
				j.Judge(f)
			}
		})
		b.Run(name+"/trace", func(b *testing.B) {
			for b.Loop() {
				j.Trace(f)
			}
		})
		b.Run(name+"/survey", func(b *testing.B) {
			for b.Loop() {
				survey.New(j)
			}
		})
		s := survey.New(j)
		s.Expectations()
		edited := editOf(e)
		b.Run(name+"/edit", func(b *testing.B) {
			for b.Loop() {
				next, d := s.Revise(edited)
				next.Expectations()
				if len(d.Changes) == 0 {
					b.Fatal("the edit changes nothing")
				}
			}
		})
		placed := placeOf(e)
		b.Run(name+"/place", func(b *testing.B) {
			for b.Loop() {
				_, d := s.Revise(placed)
				if len(d.Changes) == 0 {
					b.Fatal("the placement changes nothing")
				}
			}
		})
		flows := flowsOf(e)
		b.Run(name+"/batch", func(b *testing.B) {
			s.Tell(&flows[0])
			for i := 0; b.Loop(); i++ {
				s.Tell(&flows[i%len(flows)])
			}
		})
		b.Run(name+"/findings", func(b *testing.B) {
			for b.Loop() {
				s.Findings()
			}
		})
		b.Run(name+"/what-if", func(b *testing.B) {
			for b.Loop() {
				s.WhatIf(s.Outages())
			}
		})
		b.Run(name+"/whole", func(b *testing.B) {
			for b.Loop() {
				e, err := document.Read(text)
				require.NoError(b, err)
				survey.New(verdict.New(e))
			}
		})
	}
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
				survey.New(verdict.New(x.e))
			}
		})
	}
}

// editOf returns the estate with the first rule of one policy turned round: of
// the policies that decide most, the one in the middle of the list.
func editOf(e *estate.Estate) *estate.Estate {
	next := *e
	next.Policies = slices.Clone(e.Policies)
	for i := len(e.Policies) / 2; ; i++ {
		p := &next.Policies[i]
		if p.Rules[0].Action != estate.Allow || p.From.Any || p.To.Any || p.To.Groups[0] == "internet-exits" || p.Segments.Names[0] != e.Segments[0].Name {
			continue
		}
		p.Rules = slices.Clone(p.Rules)
		p.Rules[0].Action = estate.Deny
		return &next
	}
}

// placeOf returns the estate with a network put into another segment.
func placeOf(e *estate.Estate) *estate.Estate {
	next := *e
	next.Networks = slices.Clone(e.Networks)
	for i := len(e.Networks) / 2; ; i++ {
		if n := &next.Networks[i]; n.Kind == "cloud" && !slices.ContainsFunc(e.Peerings, func(p estate.Peering) bool { return slices.Contains(p.Between[:], n.Name) }) {
			n.Segment = e.Segments[len(e.Segments)/2].Name
			return &next
		}
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
		for _, s := range j.Net().Segments {
			if _, ok := j.Internal(j.Net().Segment(s), f.Source); ok {
				f.Segment = s
			}
		}
		out = append(out, f)
	}
	return out
}
