package proof_test

import (
	"encoding/json"
	"net/netip"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"bivium/core/document"
	"bivium/core/estate"
	"bivium/core/matrix"
	"bivium/core/native"
	"bivium/core/native/config"
	"bivium/core/native/proof"
	"bivium/core/native/reader"
	"bivium/core/space"
	"bivium/core/testing/draw"
	"bivium/core/testing/meet"
	"bivium/core/verdict"
)

// mutations are ways in which a configuration can be another than it should: each returns
// whether it found something to change.
var mutations = map[string]func(*rapid.T, *config.Config) bool{
	"a hub rule dropped": func(t *rapid.T, c *config.Config) bool {
		return one(t, c.Segments, func(s *config.Segment) bool { return drop(t, &s.Rules) })
	},
	"a hub rule narrowed": func(t *rapid.T, c *config.Config) bool {
		return one(t, c.Segments, func(s *config.Segment) bool {
			return one(t, s.Rules, func(r *config.HubRule) bool {
				return one(t, r.To, func(e *config.End) bool { return drop(t, &e.Set.Prefixes) })
			})
		})
	},
	"a hub rule widened by an address": func(t *rapid.T, c *config.Config) bool {
		return one(t, c.Segments, func(s *config.Segment) bool {
			return one(t, s.Rules, func(r *config.HubRule) bool {
				return one(t, r.From, func(e *config.End) bool { return widen(t, &e.Set.Prefixes) })
			})
		})
	},
	"a hub rule widened by a port": func(t *rapid.T, c *config.Config) bool {
		return one(t, c.Segments, func(s *config.Segment) bool {
			return one(t, s.Rules, func(r *config.HubRule) bool { return one(t, r.Services, widenPort) })
		})
	},
	"a steer lost": func(t *rapid.T, c *config.Config) bool {
		return one(t, c.Segments, func(s *config.Segment) bool {
			return one(t, s.Rules, func(r *config.HubRule) bool {
				was := r.Verb
				r.Verb, r.Through = config.Permit, nil
				return was == config.Steer
			})
		})
	},
	"a pool order turned": func(t *rapid.T, c *config.Config) bool {
		return one(t, c.Segments, func(s *config.Segment) bool {
			return one(t, s.Rules, func(r *config.HubRule) bool {
				slices.Reverse(r.Through)
				return len(r.Through) > 1
			})
		})
	},
	"a rulebook rule moved": func(t *rapid.T, c *config.Config) bool {
		return one(t, c.Pools, func(p *config.Pool) bool { slices.Reverse(p.Rules); return len(p.Rules) > 1 })
	},
	"a list's rule dropped": func(t *rapid.T, c *config.Config) bool {
		return list(t, c, func(l *config.List) bool { return drop(t, &l.Rules) })
	},
	"a list's rule moved": func(t *rapid.T, c *config.Config) bool {
		return list(t, c, func(l *config.List) bool { slices.Reverse(l.Rules); return len(l.Rules) > 1 })
	},
	"a list's rule widened by an address": func(t *rapid.T, c *config.Config) bool {
		return list(t, c, func(l *config.List) bool {
			return one(t, l.Rules, func(r *config.Rule) bool {
				return one(t, r.Peer, func(s **config.Set) bool { return widen(t, &(*s).Prefixes) })
			})
		})
	},
	"a set cut": func(t *rapid.T, c *config.Config) bool {
		return list(t, c, func(l *config.List) bool {
			return one(t, l.Rules, func(r *config.Rule) bool {
				return one(t, r.Peer, func(s **config.Set) bool { return drop(t, &(*s).Prefixes) })
			})
		})
	},
	"an entry dropped": func(t *rapid.T, c *config.Config) bool {
		return one(t, c.Accounts, func(a *config.Account) bool {
			return one(t, a.Lists, func(l *config.EntryList) bool { return drop(t, &l.Entries) })
		})
	},
	"an entry widened by a port": func(t *rapid.T, c *config.Config) bool {
		return one(t, c.Accounts, func(a *config.Account) bool {
			return one(t, a.Lists, func(l *config.EntryList) bool {
				return one(t, l.Entries, func(e *config.Entry) bool { return widenPort(&e.Service) })
			})
		})
	},
	"a binding missing": func(t *rapid.T, c *config.Config) bool {
		return one(t, c.Accounts, func(a *config.Account) bool { return drop(t, &a.Bindings) })
	},
	"a binding of another": func(t *rapid.T, c *config.Config) bool {
		return one(t, c.Accounts, func(a *config.Account) bool {
			return one(t, a.Bindings, func(b *config.Binding) bool {
				b.Lists = rapid.SampledFrom(a.Bindings).Draw(t, "other").Lists
				return true
			})
		})
	},
	"a route changed": func(t *rapid.T, c *config.Config) bool {
		return one(t, c.Networks, func(n *config.Network) bool {
			n.Routes = append([]estate.Route{{To: netip.MustParsePrefix("10.0.0.0/9"), Via: "none"}}, n.Routes...)
			return true
		})
	},
	"a hub's route lost": func(t *rapid.T, c *config.Config) bool {
		return one(t, c.Hubs, func(h *config.Hub) bool {
			return one(t, h.Attachments, func(a *config.Attachment) bool { return drop(t, &a.Routes) })
		})
	},
	"an import lost": func(t *rapid.T, c *config.Config) bool {
		return one(t, c.Segments, func(s *config.Segment) bool { return drop(t, &s.Imports) })
	},
	"a publication cut": func(t *rapid.T, c *config.Config) bool {
		return one(t, c.Hubs, func(h *config.Hub) bool { return drop(t, &h.Publications) })
	},
}

func list(t *rapid.T, c *config.Config, f func(*config.List) bool) bool {
	return one(t, c.Networks, func(n *config.Network) bool { return one(t, n.Lists, f) })
}

func one[T any](t *rapid.T, list []T, f func(*T) bool) bool {
	return len(list) > 0 && f(&list[rapid.IntRange(0, len(list)-1).Draw(t, "which")])
}

func drop[T any](t *rapid.T, list *[]T) bool {
	if len(*list) == 0 {
		return false
	}
	i := rapid.IntRange(0, len(*list)-1).Draw(t, "dropped")
	*list = slices.Delete(*list, i, i+1)
	return true
}

func widen(t *rapid.T, p *[]netip.Prefix) bool {
	if len(*p) == 0 {
		return false
	}
	before := rapid.SampledFrom(*p).Draw(t, "widened").Addr().Prev()
	if before.IsValid() {
		*p = append(*p, netip.PrefixFrom(before, before.BitLen()))
	}
	return before.IsValid()
}

func widenPort(b *space.Box) bool {
	if b.Ports.Hi >= 255 && b.FirstProtocol != 6 && b.FirstProtocol != 17 || b.Ports.Hi == 65535 || b.Ports == (estate.Range{}) {
		return false
	}
	b.Ports.Hi++
	return true
}

// rare are mutations that mostly change nothing: a second line stops what they open, or there are
// no two pools in a row. TestRareMutationsAreFound holds them, where they do.
var rare = []string{"a pool order turned", "an entry widened by a port", "a list's rule widened by an address", "a hub rule widened by an address", "a set cut"}

// TestMutationsAreFound changes drawn configurations: what single packets show to be otherwise,
// the proof lists, and each of its witnesses is one.
func TestMutationsAreFound(t *testing.T) {
	names := make([]string, 0, len(mutations))
	wants := meet.Wants{}
	for name := range mutations {
		names = append(names, name)
		if !slices.Contains(rare, name) {
			wants[name] = 1
		}
	}
	slices.Sort(names)
	company := grayshoal(t)
	companyMatrix := matrix.New(verdict.New(company))
	companyNative := native.Translate(companyMatrix)
	meet.Check(t, wants, func(t *rapid.T, met meet.Met) {
		e, s, tr := company, companyMatrix, companyNative // where every kind of rule is
		if rapid.Bool().Draw(t, "drawn") {
			e = draw.Faultless(t, faultsOf)
			s = matrix.New(verdict.New(e))
			tr = native.Translate(s)
			if len(tr.Refused) > 0 {
				return
			}
		}
		j := s.Judge
		name := rapid.SampledFrom(names).Draw(t, "mutation")
		cfg := copied(t, tr.Config)
		if !mutations[name](t, cfg) {
			return
		}
		got := proof.Prove(s, cfg)
		r := reader.New(e, cfg)
		require.False(t, got.Incomplete)
		for _, d := range got.Differences {
			meant, found := proof.Expected(j, &d.Witness), r.Carry(&d.Witness)
			require.False(t, meant.Same(&found), "the witness %+v fares alike", d.Witness)
		}
		ends := append(draw.Ends(e), netip.MustParseAddr("198.51.100.7"))
		for range 150 {
			f := drawnFlow(t, e, ends)
			meant, found := proof.Expected(j, &f), r.Carry(&f)
			if meant.Same(&found) {
				continue
			}
			blurred := !found.Delivered && found.Blocked == "" && r.BlurOf(&f) != reader.Sharp
			require.True(t, blurred || listed(got.Differences, &f), "%s: %+v is meant to be %+v, and is %+v; not among %+v", name, f, meant, found, got.Differences)
		}
		met.If(len(got.Differences) > 0, name)
	})
}

// listed reports whether some difference has a flow.
func listed(list []proof.Difference, f *verdict.Flow) bool {
	return slices.ContainsFunc(list, func(d proof.Difference) bool {
		return d.From == f.Segment && d.Services.Contains(f.Protocol, f.SourcePort, f.Port) && among(d.Sources, f.Source) && among(d.Destinations, f.Destination)
	})
}

// among reports whether some prefixes have an address: what is in words may be anybody.
func among(words []string, a netip.Addr) bool {
	return slices.ContainsFunc(words, func(w string) bool {
		p, err := netip.ParsePrefix(w)
		return err != nil || p.Contains(a)
	})
}

func copied(t *rapid.T, cfg *config.Config) *config.Config {
	text, err := json.Marshal(cfg)
	require.NoError(t, err)
	out := &config.Config{}
	require.NoError(t, json.Unmarshal(text, out))
	return out
}

func drawnFlow(t *rapid.T, e *estate.Estate, ends []netip.Addr) verdict.Flow {
	f := verdict.Flow{Segment: verdict.Internet}
	if k := rapid.IntRange(0, len(e.Segments)).Draw(t, "segment"); k < len(e.Segments) {
		f.Segment = e.Segments[k].Name
	}
	f.Source, f.Destination = rapid.SampledFrom(ends).Draw(t, "source"), rapid.SampledFrom(ends).Draw(t, "destination")
	p := rapid.SampledFrom(draw.Ports()).Draw(t, "service")
	f.Protocol, f.SourcePort, f.Port = p.Protocol, p.Source, p.Dest
	return f
}

// TestRareMutationsAreFound holds what drawn estates seldom have: two pools in a row, and lists
// of which a wider rule is no second line only.
func TestRareMutationsAreFound(t *testing.T) {
	e, err := document.Read([]byte(`
bivium: 1
estate: little
accounts: [{name: c, provider: cirra}, {name: v, provider: velum}]
hubs: [{name: h}]
segments: [{name: s}]
networks:
  - {name: a, kind: cloud, account: c, segment: s, subnets: [{name: u, prefix: 10.0.0.0/24}]}
  - {name: b, kind: cloud, account: v, segment: s, enforcement: subnets, subnets: [{name: u, prefix: 10.0.1.0/25}, {name: w, prefix: 10.0.1.128/25}]}
attachments: [{network: a, hub: h}, {network: b, hub: h}]
workloads:
  - {name: one, network: a, addresses: [10.0.0.1], labels: {is: one}}
  - {name: two, network: a, addresses: [10.0.0.2], labels: {is: two}}
  - {name: three, network: b, addresses: [10.0.1.3], labels: {is: three}}
  - {name: four, network: b, addresses: [10.0.1.130], labels: {is: four}}
groups: [{name: one, match: is=one}, {name: two, match: is=two}, {name: three, match: is=three}, {name: four, match: is=four}]
pools: [{name: p, firewalls: [{name: p1, hub: h}]}, {name: q, firewalls: [{name: q1, hub: h}]}]
policies:
  - {name: near, segments: [s], from: [one, three], to: [two, four], rules: [{services: [tcp/443], action: allow}]}
  - {name: far, segments: [s], from: [one], to: [three], rules: [{services: [tcp/80], action: inspect, pool: p}]}
  - {name: rail, tier: guardrail, fromSegments: all, toSegments: all, from: any, to: [three], rules: [{services: [tcp/80], action: inspect, pool: q}]}
`))
	require.NoError(t, err)
	s := matrix.New(verdict.New(e))
	for what, c := range map[string]struct {
		change func(*config.Config)
		found  proof.Change
		of     string
	}{
		"the order of pools": {func(c *config.Config) { slices.Reverse(c.Segments[0].Rules[steered(c)].Through) }, proof.Others, "10.0.1.3"},
		"an entry's port": {func(c *config.Config) {
			each(c, "for-two", func(e *config.Entry) {
				if !e.Out && e.Service.Ports.Lo == 443 {
					e.Service.Ports.Hi = 444
				}
			})
		}, proof.Opened, "10.0.0.2"},
		"a rule's address": {func(c *config.Config) {
			for _, l := range c.Networks[1].Lists {
				for i := range l.Rules {
					if r := &l.Rules[i]; l.On == "w" && !r.Out && r.Allow {
						r.Peer[0].Prefixes = append(r.Peer[0].Prefixes, netip.MustParsePrefix("10.0.1.4/32"))
					}
				}
			}
		}, proof.Opened, "10.0.1.130"},
	} {
		cfg := native.Translate(s).Config
		require.Empty(t, proof.Prove(s, cfg).Differences, what)
		c.change(cfg)
		got := proof.Prove(s, cfg)
		require.True(t, slices.ContainsFunc(got.Differences, func(d proof.Difference) bool {
			return d.Change == c.found && among(d.Destinations, netip.MustParseAddr(c.of))
		}), "%s: %+v", what, got.Differences)
	}
}

func steered(c *config.Config) int {
	return slices.IndexFunc(c.Segments[0].Rules, func(r config.HubRule) bool { return len(r.Through) == 2 })
}

func each(c *config.Config, list string, f func(*config.Entry)) {
	for _, l := range c.Accounts[0].Lists {
		if l.Name == list {
			for i := range l.Entries {
				f(&l.Entries[i])
			}
		}
	}
}
