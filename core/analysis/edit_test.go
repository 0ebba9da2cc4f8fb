package analysis

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"bivium/core/difference"
	"bivium/core/estate"
	"bivium/core/expectation"
	"bivium/core/findings"
	"bivium/core/matrix"
	"bivium/core/query"
	"bivium/core/testing/draw"
	"bivium/core/testing/meet"
	"bivium/core/verdict"
)

// sound reports whether an estate has no faults.
func sound(e *estate.Estate) bool { return len(faultsOf(e)) == 0 }

func faultsOf(e *estate.Estate) []estate.Fault {
	return append(estate.Check(e), findings.ShareFaults(verdict.New(e))...)
}

// asFromTheGround holds a revised matrix, and what it says was changed, to matrices anew.
func asFromTheGround(t *rapid.T, e, next *estate.Estate, revised *Analysis, d *difference.Difference) {
	everything := func(string) bool { return true }
	anew := New(verdict.New(next))
	want := difference.Compare(matrix.New(verdict.New(e)), anew.Matrix)
	require.Equal(t, changesOf(&want), changesOf(d))
	nodes := query.Nodes(anew.Matrix, everything)
	require.Equal(t, nodes, query.Nodes(revised.Matrix, everything))
	require.Equal(t, cellWords(&want, nodes), cellWords(d, nodes))
	for _, row := range nodes {
		for _, col := range nodes {
			require.Equal(t, markWords(anew.Between(row, col)), markWords(revised.Between(row, col)), "%v to %v", row, col)
		}
	}
	require.Equal(t, heldWords(anew.Expectations.All()), heldWords(revised.Expectations.All()))
	for _, h := range anew.Expectations.All()[:min(1, len(e.Expectations))] {
		var d expectation.Details
		expectation.Detail(anew.Matrix, h.Expectation, &d)
		require.Equal(t, len(d.Failures) == 0, h.Holds, h.Expectation.Name)
		require.Equal(t, h.Holds && len(d.Saved) > 0, h.ByRouting, h.Expectation.Name)
	}
	require.Equal(t, findingWords(anew), findingWords(revised))
	require.Equal(t, anew.Findings.Passages(unpaced), revised.Findings.Passages(unpaced))
	require.Equal(t, turnWords(anew), turnWords(revised))
	ends := draw.Ends(next)
	for range 20 {
		p := rapid.SampledFrom(draw.Ports()).Draw(t, "service")
		f := verdict.Flow{
			Segment: rapid.SampledFrom(next.Segments).Draw(t, "segment").Name, Source: rapid.SampledFrom(ends).Draw(t, "source"),
			Destination: rapid.SampledFrom(ends).Draw(t, "destination"),
			Service:     verdict.Service{Protocol: p.Protocol, SourcePort: p.Source, Port: p.Dest},
		}
		require.Equal(t, anew.Judge.Judge(f), revised.Judge.Judge(f), "%v", f)
		require.Equal(t, revised.Judge.Judge(f), query.Tell(revised.Matrix, &f), "%v", f)
	}
}

// ofOneFamily reports whether two matrices number rule sets alike: neither was made from
// the ground after the other.
func ofOneFamily(a, b *Analysis) bool {
	some := func(s *Analysis) *int32 {
		for _, x := range s.Interner.RuleSets {
			if len(x.Terms) > 0 {
				return &x.Terms[0]
			}
		}
		return nil
	}
	return some(a) != nil && some(a) == some(b)
}

// TestAnyEditIsRevisedInPlace holds a row of edits, of everything that an estate has
// and each made on the matrix of the one before, to matrices anew.
func TestAnyEditIsRevisedInPlace(t *testing.T) {
	t.Parallel()
	wants := meet.Wants{}
	for _, what := range draw.Edits() {
		wants[what+", in place"] = 3
	}
	for _, what := range []string{"a group selects", "a workload is relabelled", "a share's side", "an exit", "a publication", "a firewall", "a service", "a default", "enforcement", "a route", "a peering",
		"a network comes", "a network goes", "a segment comes", "a segment goes", "a hub comes", "a hub goes", "an exit comes", "an exit goes", "a pool comes", "a rulebook comes"} {
		wants[what+", with other flows"] = 1
	}
	meet.Check(t, wants, func(t *rapid.T, met meet.Met) {
		e := expecting(drawValid(t))
		s := New(verdict.New(e))
		s.Expectations.All()
		for range 4 {
			next, what := draw.Edit(t, e)
			if rapid.IntRange(0, 3).Draw(t, "two") == 0 {
				next, _ = draw.Edit(t, next)
				what = "two edits at once"
			}
			if !sound(next) {
				continue
			}
			revised, d := s.Revise(next)
			asFromTheGround(t, e, next, revised, &d)
			if ofOneFamily(revised, s) {
				met[what+", in place"]++
				met.If(len(d.Changes) > 0, what+", with other flows")
			}
			e, s = next, revised
		}
	})
}

// inspecting returns an estate in which all policies inspect what they let pass by one
// pool, which has firewalls everywhere and the first of the rulebooks.
func inspecting(e *estate.Estate) *estate.Estate {
	next := *e
	p := estate.Pool{Name: e.Pools[0].Name, OnFailure: "closed", Rulebook: e.Rulebooks[0].Name}
	for _, h := range e.Hubs {
		p.Firewalls = append(p.Firewalls, estate.Firewall{Name: h.Name, Hub: h.Name, State: "healthy"})
	}
	next.Pools = slices.Concat([]estate.Pool{p}, e.Pools[1:])
	next.Policies = slices.Clone(e.Policies)
	for i := range next.Policies {
		q := &next.Policies[i]
		q.Rules = slices.Clone(q.Rules)
		for k := range q.Rules {
			if r := &q.Rules[k]; r.Action != estate.Deny {
				r.Action, r.Pool = estate.Inspect, p.Name
			}
		}
	}
	return &next
}

// TestRulebooksAreEditedInPlace holds edits of rulebooks that many flows see to matrices
// anew: in most drawn estates a firewall sees few.
func TestRulebooksAreEditedInPlace(t *testing.T) {
	t.Parallel()
	meet.Check(t, meet.Wants{"an edit that changes flows": 10, "one that comes or goes": 1}, func(t *rapid.T, met meet.Met) {
		e := rapid.Custom(draw.Estate).Filter(func(e *estate.Estate) bool { return sound(e) && len(e.Rulebooks) > 0 }).Draw(t, "estate")
		e = inspecting(e)
		s := New(verdict.New(e))
		for range 2 {
			what := rapid.SampledFrom([]string{"a rulebook", "a rulebook", "a rulebook", "a rulebook comes", "a rulebook goes", "a pool comes"}).Draw(t, "what")
			next := draw.EditOf(t, e, what)
			if !sound(next) {
				continue
			}
			revised, d := s.Revise(next)
			asFromTheGround(t, e, next, revised, &d)
			inPlace := ofOneFamily(revised, s)
			met.If(inPlace && len(d.Changes) > 0, "an edit that changes flows")
			met.If(inPlace && len(d.Changes) > 0 && what != "a rulebook", "one that comes or goes")
			e, s = next, revised
		}
	})
}
