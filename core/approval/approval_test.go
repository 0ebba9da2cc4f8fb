package approval_test

import (
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"bivium/core/analysis"
	"bivium/core/approval"
	"bivium/core/document"
	"bivium/core/estate"
	"bivium/core/testing/draw"
	"bivium/core/testing/meet"
	"bivium/core/testing/oracle"
	"bivium/core/verdict"
)

const guarded = `
bivium: 1
estate: small
hubs: [{name: h}]
segments: [{name: vault, owners: [keepers], approval: opened}, {name: office}]
networks:
  - {name: v, kind: cloud, segment: vault, subnets: [{name: a, prefix: 10.1.0.0/24}]}
  - {name: w, kind: cloud, segment: vault, subnets: [{name: a, prefix: 10.2.0.0/24}]}
  - {name: o, kind: cloud, segment: office, subnets: [{name: a, prefix: 10.3.0.0/24}]}
attachments: [{network: v, hub: h}, {network: w, hub: h, state: down}, {network: o, hub: h}]
workloads:
  - {name: v1, network: v, addresses: [10.1.0.10], labels: {role: db}}
  - {name: w1, network: w, addresses: [10.2.0.10], labels: {role: db}}
  - {name: o1, network: o, addresses: [10.3.0.10], labels: {role: desk}}
groups:
  - {name: dbs, match: role=db}
  - {name: jumps, match: role=jump}
  - {name: desks, match: role=desk}
  - {name: nets, networks: [v, w]}
pools: [{name: watch, firewalls: [{name: f, hub: h}]}]
policies:
  - {name: base, segments: [vault], from: [nets], to: [nets], rules: [{services: [tcp/80], action: inspect, pool: watch}]}
`

// needs returns which segments must approve that a document becomes what it is with some text
// in the place of another, with their classes of change.
func needs(t *testing.T, document0 string, replace ...string) []approval.Need {
	t.Helper()
	before, err := document.Read([]byte(document0))
	require.NoError(t, err)
	text := strings.NewReplacer(replace...).Replace(document0)
	require.NotEqual(t, document0, text)
	after, err := document.Read([]byte(text))
	require.NoError(t, err)
	a := analysis.New(verdict.New(before))
	b, _ := a.Revise(after)
	return approval.Needed(a, b, nil)
}

func segments(needs []approval.Need) (out []string) {
	for _, n := range needs {
		out = append(out, n.Segment)
	}
	return out
}

func TestWhoMustApprove(t *testing.T) {
	const policies = "policies:\n"
	add := func(policy string) []string { return []string{policies, policies + "  - " + policy + "\n"} }

	opened := needs(t, guarded, add("{name: p, segments: [vault], from: [nets], to: [nets], rules: [{services: [tcp/22], action: allow}]}")...)
	require.Equal(t, []string{"vault"}, segments(opened))
	assert.Equal(t, []string{"keepers"}, opened[0].Owners)
	assert.NotEmpty(t, opened[0].Changes)

	assert.Empty(t, needs(t, guarded, add("{name: p, segments: [office], from: any, to: any, rules: [{services: [tcp/22], action: allow}]}")...), "it concerns another segment")
	assert.Empty(t, needs(t, guarded, "action: inspect, pool: watch", "action: deny"), "nothing is opened")
	assert.Equal(t, []string{"vault"}, segments(needs(t, guarded, "action: inspect, pool: watch", "action: allow")), "fewer pools are passed")

	down := needs(t, guarded, add("{name: p, segments: [vault], from: [dbs], to: [nets], rules: [{services: [tcp/22], action: allow}]}")...)
	assert.Equal(t, []string{"vault"}, segments(down))
	empty := needs(t, guarded, add("{name: p, segments: [vault], from: [jumps], to: [dbs], rules: [{services: [tcp/22], action: allow}]}")...)
	require.Equal(t, []string{"vault"}, segments(empty), "the group is empty today")
	assert.True(t, empty[0].Changes[0].Imagined)
	tunnel := needs(t, strings.Replace(guarded, "{network: v, hub: h}", "{network: v, hub: h, state: down}", 1),
		"{name: dbs, match: role=db}", "{name: dbs, match: \"role in (db, desk)\"}")
	assert.Empty(t, tunnel, "no rule uses the group")

	assert.Equal(t, []string{"vault"}, segments(needs(t, guarded, ", approval: opened", "")), "it would not be asked any more")
	assert.Equal(t, []string{"vault"}, segments(needs(t, guarded, "[keepers]", "[others]")))
	others := needs(t, guarded, "[keepers]", "[others]")
	assert.Equal(t, []string{"keepers"}, others[0].Owners, "those that it had approve")
	gone := needs(t, guarded, "{name: vault, owners: [keepers], approval: opened}, ", "", "segment: vault", "segment: office", "segments: [vault]", "segments: [office]")
	assert.Equal(t, []string{"vault"}, segments(gone))
	assert.True(t, gone[0].Guard)
}

func TestAClassLiesInAnother(t *testing.T) {
	wide := needs(t, guarded, "policies:\n", "policies:\n  - {name: p, segments: [vault], from: [nets], to: [nets], rules: [{services: [tcp/20-30], action: allow}]}\n")
	less := needs(t, guarded, "policies:\n", "policies:\n  - {name: p, segments: [vault], from: [nets], to: [nets], rules: [{services: [tcp/22], action: allow}]}\n")
	known := approval.Index(approval.Classes(wide[0].Changes))
	for _, c := range less[0].Changes {
		assert.True(t, known.Has(&c.Class), "some of what was approved: %v", c.Class)
	}
	for _, c := range wide[0].Changes {
		assert.False(t, approval.Index(approval.Classes(less[0].Changes)).Has(&c.Class), "more than was approved")
	}
}

// TestNoFlowIsOpenedUnasked samples flows of drawn estates before and after drawn edits: where
// one is opened, by the slow evaluator, each segment at its ends that asks is told.
func TestNoFlowIsOpenedUnasked(t *testing.T) {
	meet.Check(t, meet.Often(5, "opened", "asked"), func(t *rapid.T, met meet.Met) {
		e := draw.Faultless(t, estate.Check)
		next, what := draw.Edit(t, e)
		if len(estate.Check(next)) > 0 {
			return
		}
		a := analysis.New(verdict.New(e))
		b, _ := a.Revise(next)
		needs := approval.Needed(a, b, nil)
		met.If(len(needs) > 0, "asked")
		ends, ports := draw.Ends(next), draw.Ports()
		for range 60 {
			p := rapid.SampledFrom(ports).Draw(t, "port")
			f := oracle.Flow{
				Segment: rapid.SampledFrom(next.Segments).Draw(t, "segment").Name, Source: rapid.SampledFrom(ends).Draw(t, "source"), Destination: rapid.SampledFrom(ends).Draw(t, "destination"),
				Protocol: p.Protocol, SourcePort: p.Source, Port: p.Dest,
			}
			if f.Source.Is4() != f.Destination.Is4() || f.Source == f.Destination {
				continue
			}
			passes := func(v oracle.Verdict) bool { return v.Outcome == "allowed" || v.Outcome == "inspected" }
			if passes(oracle.Judge(e, f)) || !passes(oracle.Judge(next, f)) {
				continue
			}
			met["opened"]++
			s := next.Segments[slices.IndexFunc(next.Segments, func(s estate.Segment) bool { return s.Name == f.Segment })]
			if s.Approval == estate.ApproveOpened {
				require.Contains(t, segments(needs), s.Name, "%s opens %v", what, f)
			}
		}
	})
}
