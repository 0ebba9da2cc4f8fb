package proof_test

import (
	"slices"
	"testing"

	"bivium/core/analysis"
	"bivium/core/estate"
	"bivium/core/native"
	"bivium/core/native/proof"
	"bivium/core/synth"
	"bivium/core/verdict"
)

// BenchmarkNative translates generated estates, and proves what comes of it: from the ground, and
// after an edit of one rule of a policy of one segment.
func BenchmarkNative(b *testing.B) {
	for _, size := range []string{"S", "M", "L"} {
		e := synth.New("bench", synth.Sizes[size], 1)
		a := analysis.New(verdict.New(e))
		var tr *native.Translation
		var pr *proof.Proof
		b.Run(size+"/all", func(b *testing.B) {
			for b.Loop() {
				tr = native.Translate(a.Matrix)
				pr = proof.Prove(a.Matrix, tr.Config)
			}
			proven(b, pr)
		})
		b.Run(size+"/rule", func(b *testing.B) {
			next, _ := a.Revise(denying(e))
			var got *proof.Proof
			for b.Loop() {
				after := native.Retranslate(tr, next.Matrix)
				got = proof.Reprove(pr, next.Matrix, after.Config, after.Touches())
			}
			proven(b, got)
		})
	}
}

func proven(b *testing.B, p *proof.Proof) {
	if len(p.Differences) > 0 || p.Incomplete {
		b.Fatalf("%d differences, incomplete: %t", len(p.Differences), p.Incomplete)
	}
}

// denying returns an estate of which one policy denies what it allowed: one of a single segment,
// between two groups of workloads.
func denying(e *estate.Estate) *estate.Estate {
	next := *e
	next.Policies = slices.Clone(e.Policies)
	i := slices.IndexFunc(next.Policies, func(p estate.Policy) bool {
		return p.Enabled && !p.Guardrail() && len(p.Segments.Names) == 1 && p.Segments.Names[0] != e.Segments[0].Name && p.Rules[0].Action == estate.Allow
	})
	next.Policies[i].Rules = slices.Clone(next.Policies[i].Rules)
	next.Policies[i].Rules[0].Action = estate.Deny
	return &next
}
