package analysis

import (
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"bivium/core/estate"
	"bivium/core/findings"
	"bivium/core/testing/draw"
	"bivium/core/testing/meet"
	"bivium/core/trace"
	"bivium/core/verdict"
)

func TestFindingsOfTheDemoAreItsPlantedIssues(t *testing.T) {
	j := verdict.New(readEstate(t, "../../demo/grayshoal.yaml"))
	var found []string
	for _, f := range New(j).Findings.All(unpaced) {
		found = append(found, string(f.Code)+": "+strings.TrimSpace(strings.Join(append([]string{f.Form}, f.Args...), " ")))
	}
	for _, planted := range []string{
		"contested: control-room turbine kelp-bank turbine consoles-no-shell jump-to-controllers",
		"bypass: forecast-dev",
		"unenforced: bypass",
		"one-way: archive office",
		"unreached-rule: 3 policy offices-web",
		"same-members: consoles-no-shell jump-to-controllers plcs controllers",
		"learned-waits: 10.31.0.128/25 office head-office harbour-east lan 10.31.0.0/24",
		"down: firewall tidegate-delta-2 tidegate delta failed",
		"down: attachment outer-sound fjord",
		"open-by-default: office",
	} {
		assert.Contains(t, found, planted)
	}
	assert.Len(t, found, 21, "no other issues than these, and what follows from them")
}

func TestFindingsHaveWitnesses(t *testing.T) {
	t.Parallel()
	wants := meet.Often(1, findings.FindingOrder...)
	delete(wants, string(findings.SameMembers)) // groups that hold the same are too seldom
	reasons := map[findings.FindingCode]verdict.Reason{
		findings.Unenforced: verdict.ReasonUnenforced, findings.Uninspectable: verdict.ReasonUninspectable, findings.FailedOpen: verdict.ReasonFailedOpen, findings.NoFirewall: verdict.ReasonNoFirewall,
		findings.Asymmetric: verdict.ReasonAsymmetric, findings.OneWay: verdict.ReasonNoWayBack, findings.MeantUnrouted: verdict.ReasonNoPath, findings.RailNotEnforced: verdict.ReasonUnenforced,
	}
	meet.Check(t, wants, func(t *rapid.T, met meet.Met) {
		j := verdict.New(estate.AsOf(drawValid(t), "2026-07-01"))
		for _, f := range New(j).Findings.All(unpaced) {
			met[string(f.Code)]++
			require.NotEmpty(t, f.Args)
			if f.Witness == nil {
				continue
			}
			v := j.Judge(*f.Witness)
			if want, ok := reasons[f.Code]; ok {
				require.Equal(t, want, v.Reason, "%s: %s: %v", f.Code, f.Args, f.Witness)
			}
			if f.Code == findings.Contested {
				require.True(t, v.Contested, "%v: %v", f.Args, f.Witness)
			}
			if f.Code == findings.Bypass {
				require.Equal(t, "bypass", trace.Of(j, *f.Witness).Path.Kind)
			}
		}
	})
}

// TestNoFindingIsMissing judges drawn flows: whatever is remarkable of one, a finding says so of its
// places, and for its service.
func TestNoFindingIsMissing(t *testing.T) {
	t.Parallel()
	codes := map[verdict.Reason]findings.FindingCode{verdict.ReasonNoPath: findings.MeantUnrouted, verdict.ReasonNoWayBack: findings.OneWay, verdict.ReasonAsymmetric: findings.Asymmetric}
	meet.Check(t, meet.Often(1, findings.MeantUnrouted, findings.OneWay, findings.Asymmetric), func(t *rapid.T, met meet.Met) {
		e := drawValid(t)
		j := verdict.New(e)
		all := New(j).Findings.All(unpaced)
		place := func(p *trace.EndView) []string { return []string{p.Network, p.Segment} }
		ends := draw.Ends(e)
		for range 40 {
			port := rapid.SampledFrom(draw.Ports()).Draw(t, "service")
			f := verdict.Flow{
				Segment: rapid.SampledFrom(e.Segments).Draw(t, "segment").Name, Source: rapid.SampledFrom(ends).Draw(t, "source"), Destination: rapid.SampledFrom(ends).Draw(t, "destination"),
				Service: verdict.Service{Protocol: port.Protocol, SourcePort: port.Source, Port: port.Dest},
			}
			x := trace.Of(j, f)
			code, remarkable := codes[x.Verdict.Reason]
			if !remarkable || x.Verdict.Intended == estate.Deny {
				continue
			}
			met[string(code)]++
			from, to := place(&x.Source), place(&x.Destination)
			about := map[findings.FindingCode][][]string{findings.MeantUnrouted: {append([]string{x.Path.Absence, "from"}, from...), append([]string{x.Path.Absence, "to"}, to...)}, findings.OneWay: {to}, findings.Asymmetric: {slices.Concat(from, to)}}[code]
			require.True(t, slices.ContainsFunc(all, func(g findings.Finding) bool {
				return g.Code == code && slices.ContainsFunc(about, func(args []string) bool { return slices.Equal(args, g.Args) })
			}), "%s of %v: %v", code, f, about)
		}
	})
}

// unpaced lets findings be worked out without waiting for anybody.
func unpaced() {}
