package analysis

import (
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"bivium/core/classes"
	"bivium/core/document"
	"bivium/core/estate"
	"bivium/core/findings"
	"bivium/core/matrix"
	"bivium/core/testing/meet"
	"bivium/core/trace"
	"bivium/core/verdict"
)

// sayings returns who has a say in a flow, each with the outcome, and whether it counts: a policy
// that speaks for several of its groups does if it counts for one.
func sayings(t *trace.Trace) []string {
	said := map[string]bool{}
	say := func(kind, name string, rule int, counts bool) {
		key := fmt.Sprint(kind, " ", name, " ", rule-1, " ", t.Verdict.Outcome, " ")
		said[key] = said[key] || counts
	}
	for i, r := range slices.Concat(t.Rules, t.Guardrails) {
		kind := r.Kind
		if i >= len(t.Rules) {
			kind = "policy"
		}
		if r.Rule > 0 {
			say(kind, r.Name, r.Rule, r.Standing == "wins" || r.Standing == "agrees")
		}
	}
	for _, p := range t.Pools {
		if p.Rule > 0 {
			say("rulebook", p.Rulebook, p.Rule, true)
		}
	}
	var out []string
	for key, counts := range said {
		out = append(out, fmt.Sprint(key, counts))
	}
	return out
}

// TestDecidedIsWhatTheTracesOfAllFlowsSay traces a flow of each two classes and each set of services.
func TestDecidedIsWhatTheTracesOfAllFlowsSay(t *testing.T) {
	t.Parallel()
	meet.Check(t, meet.Often(20, "decided", "shadowed"), func(t *rapid.T, met meet.Met) {
		e := drawValid(t)
		s := New(verdict.New(e))
		want := map[string]bool{}
		for a, src := range s.Classes {
			for b, dst := range s.Classes {
				s.EachResult(a, b, func(x matrix.ClassResult) {
					if x.Combination == matrix.UnfoundCombination {
						return
					}
					for atom := range s.Atoms.Len() {
						if x.Mask != nil && !x.Mask.Test(uint(atom)) {
							continue
						}
						f, ok := flowOf(s, src, dst, x.Publication, atom)
						if !ok {
							continue
						}
						traced := trace.Of(s.Judge, f)
						for _, said := range sayings(&traced) {
							want[said] = true
						}
					}
				})
			}
		}
		got := map[string]bool{}
		for _, kind := range []estate.Kind{estate.KindPolicy, estate.KindShare, estate.KindRulebook} {
			list := document.Things(e, kind)
			for i := range list.Len() {
				ref := estate.Ref{Kind: kind, Name: document.NameOf(list.Index(i))}
				shadowed := findings.Shadowed(s.Judge, ref)
				met["shadowed"] += len(shadowed)
				for _, d := range s.Findings.Decided(ref) {
					require.Empty(t, shadowed[d.Rule], "a rule that others contain decides %+v", d.Witness)
					said := fmt.Sprint(kind, " ", ref.Name, " ", d.Rule, " ", d.Outcome, " ", d.Counts)
					got[said] = true
					traced := trace.Of(s.Judge, d.Witness)
					require.Contains(t, sayings(&traced), said, "the witness %+v", d.Witness)
					require.True(t, d.Services.Contains(d.Witness.Service.Protocol, d.Witness.Service.SourcePort, d.Witness.Service.Port))
				}
			}
		}
		require.Equal(t, slices.Sorted(maps.Keys(want)), slices.Sorted(maps.Keys(got)))
		met["decided"] += len(got)
	})
}

// flowOf returns a flow between two classes; none between an address and itself.
func flowOf(s *Analysis, src, dst *classes.Class, publication, atom int) (verdict.Flow, bool) {
	protocol, sport, dport, _ := s.Atoms.Set(atom).Witness()
	f := verdict.Flow{Segment: verdict.Internet, Source: src.End.Addr, Service: verdict.Service{Protocol: protocol, SourcePort: sport, Port: dport}}
	seen := func(a netip.Addr) netip.Addr { return a }
	if src.Internal() {
		f.Segment = s.Net.Segments[src.End.Segment]
		seen = func(a netip.Addr) netip.Addr { return classes.AsSeen(s.Judge, dst, a, src.End.Segment) }
	}
	if publication >= 0 {
		f.Publication = s.Judge.PublicationNames()[publication]
	}
	ends := []netip.Addr{dst.End.Addr}
	for _, r := range dst.Ranges { // another address of the same class
		ends = append(ends, r.From, r.To)
	}
	for _, a := range ends {
		if f.Destination = seen(a); f.Destination != f.Source {
			return f, true
		}
	}
	return f, false
}
