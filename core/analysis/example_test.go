package analysis_test

import (
	"fmt"
	"net/netip"

	"bivium/core/analysis"
	"bivium/core/difference"
	"bivium/core/estate"
	"bivium/core/failure"
	"bivium/core/matrix"
	"bivium/core/query"
	"bivium/core/testing/little"
	"bivium/core/trace"
	"bivium/core/verdict"
)

var (
	a = matrix.Node{Kind: matrix.NodeGroup, Segment: "s", Group: "a"}
	b = matrix.Node{Kind: matrix.NodeGroup, Segment: "s", Group: "b"}
)

// What happens to one flow, and why.
func ExampleOf_trace() {
	j := verdict.New(little.Estate())
	flow := verdict.Flow{
		Segment: "s", Source: netip.MustParseAddr("10.0.0.1"), Destination: netip.MustParseAddr("10.0.1.5"),
		Service: verdict.Service{Protocol: 6, SourcePort: 50000, Port: 22},
	}
	v := j.Judge(flow)
	fmt.Println(v.Outcome, v.Pools)
	t := trace.Of(j, flow)
	fmt.Println(t.Rules[0].Name, "rule", t.Rules[0].Rule, "via", t.Path.Hops[0].Hub)
	// Output:
	// inspected [wall]
	// p rule 2 via h
}

// What happens from one group to another, service by service.
func ExampleDetail_query() {
	m := matrix.New(verdict.New(little.Estate()))
	for _, line := range query.Detail(m, m.SetOf(a), m.SetOf(b), nil, 0) {
		words, allBut := line.Services.Short()
		fmt.Println(words, allBut, line.Parts[0].Verdict.Outcome, "for", line.Parts[0].Pairs, "pairs")
	}
	// Output:
	// [tcp/22] false inspected for 2 pairs
	// [tcp/443] false allowed for 2 pairs
	// [tcp/22 tcp/443] true denied for 2 pairs
}

// An edit, and every flow whose verdict differs after it: nothing else is worked out anew.
func ExampleAnalysis_Revise() {
	before := analysis.New(verdict.New(little.Estate()))
	next := *before.Judge.Estate
	next.Policies = []estate.Policy{next.Policies[0]}
	next.Policies[0].Rules = next.Policies[0].Rules[:1]
	after, changed := before.Revise(&next)
	for i := range changed.Changes {
		c := &changed.Changes[i]
		fmt.Println(c.Services.Words(), c.Before.Outcome, "to", c.After.Outcome, "for example to", c.Witness().Destination)
	}
	fmt.Println("expectation holds:", after.Expectations.All()[0].Holds)
	// Output:
	// [tcp/22] inspected to denied for example to 10.0.1.5
	// expectation holds: true
}

// The difference of any two estates.
func ExampleCompare_difference() {
	old := matrix.New(verdict.New(little.Estate()))
	open := little.Estate()
	open.Segments[0].Default = estate.Allow
	d := difference.Compare(old, matrix.New(verdict.New(open)))
	for i := range d.Changes {
		c := &d.Changes[i]
		fmt.Println(c.From.Segment, "to", c.To.Segment, c.Before.Outcome, "to", c.After.Outcome, "for", c.Pairs, "pairs")
	}
	// Output:
	// s to s denied to allowed for 2 pairs
	// s to s denied to allowed for 238 pairs
}

// What is legal and probably wrong.
func ExampleBook_findings() {
	e := little.Estate()
	e.Policies[0].From.Groups = []string{"nobody"}
	e.Groups = append(e.Groups, estate.Group{Name: "nobody", Match: "app=printer"})
	found := analysis.New(verdict.New(e)).Findings.All(func() {})
	for _, f := range found {
		fmt.Println(f.Code, f.Code.Severity())
	}
	// Output:
	// empty-side low
}

// What each single failure would change.
func ExampleWhatIf_failure() {
	an := analysis.New(verdict.New(little.Estate()))
	for _, impact := range failure.WhatIf(an.Matrix, an.Expectations.All(), failure.Outages(an.Matrix)) {
		fmt.Println(impact.Outage.Ref, "breaks", len(impact.Broken), "expectations")
	}
	// Output:
	// hub h breaks 1 expectations
	// attachment west@h breaks 1 expectations
	// attachment east@h breaks 1 expectations
	// firewall wall-1 breaks 0 expectations
}
