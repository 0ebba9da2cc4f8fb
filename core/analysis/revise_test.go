package analysis

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"bivium/core/difference"
	"bivium/core/document"
	"bivium/core/estate"
	"bivium/core/expectation"
	"bivium/core/matrix"
	"bivium/core/query"
	"bivium/core/testing/meet"
	"bivium/core/verdict"
)

// editPolicy returns a copy of e with one thing about one policy changed, one
// that is gone, renamed or new, the rest shared, or e if it has no policy.
func editPolicy(t *rapid.T, e *estate.Estate) *estate.Estate {
	if len(e.Policies) == 0 {
		return e
	}
	next := *e
	if len(e.Shares) > 0 && rapid.IntRange(0, 3).Draw(t, "share") == 0 {
		return editShare(t, e)
	}
	next.Policies = slices.Clone(e.Policies)
	at := rapid.IntRange(0, len(e.Policies)-1).Draw(t, "policy")
	p := &next.Policies[at]
	other := &e.Policies[rapid.IntRange(0, len(e.Policies)-1).Draw(t, "other")]
	switch rapid.IntRange(0, 9).Draw(t, "kind") {
	case 7:
		next.Policies = slices.Delete(next.Policies, at, at+1)
	case 8:
		copied := *p
		copied.Name = rapid.StringMatching("[a-z][0-9]").Draw(t, "name")
		if slices.ContainsFunc(e.Policies, func(q estate.Policy) bool { return q.Name == copied.Name }) {
			return e
		}
		copied.Rules = other.Rules
		if copied.Guardrail() != other.Guardrail() {
			copied.Rules = p.Rules
		}
		if rapid.Bool().Draw(t, "renamed") {
			*p = copied
		} else {
			next.Policies = slices.Insert(next.Policies, at, copied)
		}
	case 9:
		*p, next.Policies[len(next.Policies)-1] = next.Policies[len(next.Policies)-1], *p
	case 0:
		p.Enabled = !p.Enabled
	case 1:
		p.From = other.To
	case 2:
		p.To = estate.Side{Any: true}
	case 3:
		if !p.Guardrail() {
			p.Segments = estate.Scope{Names: []string{e.Segments[0].Name}}
		}
	case 4:
		if p.Guardrail() == other.Guardrail() {
			p.Rules = other.Rules
		}
	default:
		p.Rules = slices.Clone(p.Rules)
		for i := range p.Rules {
			r := &p.Rules[i]
			r.Services = []estate.ServiceRef{{Term: estate.Term{Protocol: estate.TCP, Ports: estate.Range{Lo: 443, Hi: rapid.Uint16Range(443, 445).Draw(t, "port")}, SourcePorts: estate.AllPorts}}}
			if r.Action, r.Pool = estate.Deny, ""; len(e.Pools) > 0 && rapid.Bool().Draw(t, "inspect") {
				r.Action, r.Pool = estate.Inspect, e.Pools[0].Name
			}
		}
	}
	return &next
}

// editShare returns a copy of e in which a share lets other services in, or the other
// way too.
func editShare(t *rapid.T, e *estate.Estate) *estate.Estate {
	next := *e
	next.Shares = slices.Clone(e.Shares)
	s := &next.Shares[rapid.IntRange(0, len(e.Shares)-1).Draw(t, "share")]
	switch rapid.IntRange(0, 2).Draw(t, "kind") {
	case 0:
		s.Direction = map[string]string{"inbound": "both", "both": "inbound"}[s.Direction]
	case 1:
		s.Rules = e.Shares[rapid.IntRange(0, len(e.Shares)-1).Draw(t, "other")].Rules
	default:
		s.Rules = slices.Clone(s.Rules)
		r := &s.Rules[rapid.IntRange(0, len(s.Rules)-1).Draw(t, "rule")]
		r.Services = []estate.ServiceRef{{Term: estate.Term{Protocol: estate.TCP, Ports: estate.Range{Lo: 443, Hi: rapid.Uint16Range(443, 445).Draw(t, "port")}, SourcePorts: estate.AllPorts}}}
		if r.Action, r.Pool = estate.Allow, ""; len(e.Pools) > 0 && rapid.Bool().Draw(t, "inspect") {
			r.Action, r.Pool = estate.Inspect, e.Pools[0].Name
		}
	}
	return &next
}

// expecting returns an estate with expectations between all its groups and
// segments, and to and from the internet.
func expecting(e *estate.Estate) *estate.Estate {
	next := *e
	var ends []estate.End
	for _, s := range e.Segments {
		ends = append(ends, estate.End{Party: estate.Party{Segment: s.Name, Groups: estate.Side{Any: true}}})
		for _, g := range e.Groups[:min(2, len(e.Groups))] {
			ends = append(ends, estate.End{Party: estate.Party{Segment: s.Name, Groups: estate.Side{Groups: []string{g.Name}}}})
		}
	}
	ends = append(ends, estate.End{Internet: true})
	web := []estate.ServiceRef{{Term: estate.Term{Protocol: estate.TCP, Ports: estate.Range{Lo: 443, Hi: 443}, SourcePorts: estate.AllPorts}}}
	for _, from := range ends {
		for _, to := range ends {
			for _, x := range []string{"delivered", "denied", "inspected"} {
				next.Expectations = append(next.Expectations, estate.Expectation{Name: fmt.Sprint(x, len(next.Expectations)), From: from, To: to, Services: web, Expect: x})
			}
		}
	}
	return &next
}

// changesOf puts changes into words, in order.
func changesOf(d *difference.Difference) []string {
	var out []string
	for i := range d.Changes {
		c := &d.Changes[i]
		line := fmt.Sprint(c.From, c.To, c.Publication, c.Services.Words(), matrix.VerdictKey(c.Before), matrix.VerdictKey(c.After), c.Pairs)
		var blocks []string // in an order that follows the numbers of classes
		for _, b := range d.Blocks(c) {
			blocks = append(blocks, fmt.Sprint(b.From.Words(), b.To.Words()))
		}
		slices.Sort(blocks)
		out = append(out, line+fmt.Sprint(blocks))
	}
	slices.Sort(out)
	return out
}

// TestRevisingIsWorkingOutAnew holds a row of edits, each made on the matrix of
// the one before, against matrices anew.
func TestRevisingIsWorkingOutAnew(t *testing.T) {
	t.Parallel()
	everything := func(string) bool { return true }
	meet.Check(t, meet.Wants{"an edit that changes flows": 100, "an edit in place": 300, "an edit of a share that changes flows": 5}, func(t *rapid.T, met meet.Met) {
		e := expecting(drawValid(t))
		s := New(verdict.New(e))
		s.Expectations.All()
		for range 3 {
			next := editPolicy(t, e)
			revised, d := s.Revise(next)
			anew := New(verdict.New(next))
			want := difference.Compare(matrix.New(verdict.New(e)), anew.Matrix)
			require.Equal(t, changesOf(&want), changesOf(&d))
			nodes := query.Nodes(anew.Matrix, everything)
			require.Equal(t, nodes, query.Nodes(revised.Matrix, everything))
			require.Equal(t, want.Cells(nodes), d.Cells(nodes))
			for _, row := range nodes {
				for _, col := range nodes {
					require.Equal(t, anew.Between(row, col), revised.Between(row, col), "%v to %v", row, col)
				}
			}
			require.Equal(t, heldWords(anew.Expectations.All()), heldWords(revised.Expectations.All()))
			met.If(len(d.Changes) > 0 && revised.ID == s.ID && len(next.Shares) > 0 && &next.Shares[0] != &e.Shares[0], "an edit of a share that changes flows")
			met.If(len(d.Changes) > 0, "an edit that changes flows")
			met.If(revised.ID == s.ID, "an edit in place")
			e, s = next, revised
		}
	})
}

func heldWords(list []expectation.Result) []string {
	out := make([]string, len(list))
	for i, h := range list {
		out[i] = fmt.Sprint(h.Expectation.Name, h.Holds, h.ByRouting, h.Vacuous, len(h.Failures()), len(h.Saved()))
	}
	return out
}

// TestServicesAreCutOtherwiseAgainAndAgain holds a case that a draw found: atoms that an
// earlier edit had cut are joined by a later one, and the outcomes that were kept of their
// vectors were those of before.
func TestServicesAreCutOtherwiseAgainAndAgain(t *testing.T) {
	const text = `
bivium: 1
estate: cuts
segments: [{name: s, default: allow}]
networks:
  - {name: a, kind: site, segment: s, subnets: [{name: lan, prefix: 10.1.0.0/24}]}
  - {name: b, kind: site, segment: s, subnets: [{name: lan, prefix: 10.2.0.0/24}]}
services: [{name: mixed, terms: [MIXED]}]
groups: [{name: one, prefixes: [10.1.0.1/32, 10.2.0.1/32]}]
policies:
  - {name: p, segments: all, from: any, to: any, rules: [{services: [mixed], action: allow}]}
  - {name: q, segments: all, from: any, to: any, rules: [{services: [mixed], action: deny}]}
  - {name: r, segments: all, from: FROM, to: any, rules: [{services: [mixed, tcp/80-90], action: allow}]}
`
	read := func(mixed, from string) *estate.Estate {
		e, err := document.Read([]byte(strings.NewReplacer("MIXED", mixed, "FROM", from).Replace(text)))
		require.NoError(t, err)
		return e
	}
	e := read("icmpv6/128", "any")
	s := New(verdict.New(e))
	for _, step := range [][2]string{{"tcp, tcp/443", "any"}, {"icmp/8", "any"}, {"icmp/8", "[one]"}} {
		next := document.Shared(e, read(step[0], step[1]))
		revised, _ := s.Revise(next)
		anew := New(verdict.New(next))
		nodes := query.Nodes(anew.Matrix, func(string) bool { return true })
		for _, row := range nodes {
			for _, col := range nodes {
				require.Equal(t, markWords(anew.Between(row, col)), markWords(revised.Between(row, col)), "%v: %v to %v", step, row, col)
			}
		}
		e, s = next, revised
	}
}
