package plan_test

import (
	"slices"
	"testing"

	"bivium/core/analysis"
	"bivium/core/estate"
	"bivium/core/native"
	"bivium/core/native/plan"
	"bivium/core/synth"
	"bivium/core/verdict"
)

// BenchmarkPlan plans and checks the edit of one rule, which turns what it allows into a denial, on
// generated estates: a rule of one segment, and one that reaches half of all networks. What both
// estates ask of targets is known.
func BenchmarkPlan(b *testing.B) {
	for _, x := range []struct{ size, reach string }{{"S", "segment"}, {"M", "segment"}, {"L", "segment"}, {"M", "half"}} {
		b.Run(x.size+"/"+x.reach, func(b *testing.B) {
			e := synth.New("bench", synth.Sizes[x.size], 1)
			next := *e
			next.Policies = slices.Clone(e.Policies)
			i := slices.IndexFunc(next.Policies, func(p estate.Policy) bool {
				return p.Enabled && !p.Guardrail() && p.Rules[0].Action == estate.Allow &&
					(x.reach == "half" || len(p.Segments.Names) == 1 && p.Segments.Names[0] != e.Segments[0].Name)
			})
			next.Policies[i].Rules = slices.Clone(next.Policies[i].Rules)
			next.Policies[i].Rules[0].Action = estate.Deny
			a := analysis.New(verdict.New(e))
			revised, _ := a.Revise(&next)
			was, is := a.Matrix, revised.Matrix
			first := native.Translate(was)
			before := plan.State{Config: first.Config, Estate: e}
			after := plan.State{Config: native.Retranslate(first, is).Config, Estate: &next}
			b.ResetTimer()
			for b.Loop() {
				p := plan.Make(before, after, func(plan.Key) bool { return true })
				c := p.Check(before, after, was, is)
				b.ReportMetric(float64(len(p.Writes)), "writes")
				b.ReportMetric(float64(len(c.Ends)), "ends")
				if c.Skipped || !c.Counted {
					b.ReportMetric(1, "skipped")
				}
			}
		})
	}
}
