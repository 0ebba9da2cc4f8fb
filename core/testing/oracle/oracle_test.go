package oracle_test

import (
	"net/netip"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"

	"bivium/core/estate"
	"bivium/core/testing/little"
	"bivium/core/testing/oracle"
)

const client, client2, server, nobody = "10.0.0.1", "10.0.0.2", "10.0.1.5", "192.168.7.7"

func ask(e *estate.Estate, from, to string, port uint16) oracle.Verdict {
	return oracle.Judge(e, oracle.Flow{
		Segment: "s", Source: netip.MustParseAddr(from), Destination: netip.MustParseAddr(to), Protocol: 6, SourcePort: 50000, Port: port,
	})
}

// TestTheOracleIsRightByHand holds the slow evaluator, which everything else is held to, to
// verdicts worked out by hand from the model, one clause at a time.
func TestTheOracleIsRightByHand(t *testing.T) {
	second := func(e *estate.Estate, action estate.Action) {
		p := e.Policies[0]
		p.Name, p.Rules = "q", []estate.Rule{{Services: p.Rules[0].Services, Action: action}}
		e.Policies = append(e.Policies, p)
	}
	for _, c := range []struct {
		clause   string
		edit     func(*estate.Estate)
		from, to string
		port     uint16
		want     oracle.Verdict
	}{
		{"M4: a rule allows", nil, client, server, 443, oracle.Verdict{Outcome: "allowed", Intended: "allow", Reason: "policy", By: "p"}},
		{"M8.4: a rule inspects at the pool of the hub", nil, client, server, 22, oracle.Verdict{Outcome: "inspected", Intended: "inspect", Pools: "wall", Reason: "policy", By: "p"}},
		{"M4: no rule matches, so the default holds", nil, client, server, 80, oracle.Verdict{Outcome: "denied", Intended: "deny", Reason: "default"}},
		{"M4: rules are of one direction", nil, server, client, 443, oracle.Verdict{Outcome: "denied", Intended: "deny", Reason: "default"}},
		{"M2.4: nobody has the address", nil, client, nobody, 443, oracle.Verdict{Outcome: "unrouted", Reason: "unknown"}},
		{"M2.4: no flow to oneself", nil, client, client, 443, oracle.Verdict{Outcome: "unrouted", Reason: "unknown"}},
		{"M8.3: a local path enforces nothing, if its network does not", func(e *estate.Estate) { e.Networks[0].Enforcement = "none" }, client, client2, 443,
			oracle.Verdict{Outcome: "allowed", Intended: "deny", Reason: "unenforced"}},
		{"M8.3: as networks do", nil, client, client2, 443, oracle.Verdict{Outcome: "denied", Intended: "deny", Reason: "default"}},
		{"M7: an attachment is down", func(e *estate.Estate) { e.Attachments[1].State = "down" }, client, server, 443,
			oracle.Verdict{Outcome: "unrouted", Intended: "allow", Reason: "no-path"}},
		{"M8.5: no firewall is healthy, and the pool fails closed", func(e *estate.Estate) { e.Pools[0].Firewalls[0].State = "failed" }, client, server, 22,
			oracle.Verdict{Outcome: "denied", Intended: "inspect", Reason: "no-firewall"}},
		{"M5: of two that match, neither more specific, the stricter holds, contested", func(e *estate.Estate) { second(e, estate.Deny) }, client, server, 443,
			oracle.Verdict{Outcome: "denied", Intended: "deny", Reason: "policy", By: "q", Contested: true}},
		{"M5: two that agree are not contested", func(e *estate.Estate) { second(e, estate.Allow) }, client, server, 443,
			oracle.Verdict{Outcome: "allowed", Intended: "allow", Reason: "policy", By: "p;q"}},
		{"M3: a group is who has its labels", func(e *estate.Estate) { e.Workloads[2].Labels = map[string]string{"app": "other"} }, client, server, 443,
			oracle.Verdict{Outcome: "denied", Intended: "deny", Reason: "default"}},
	} {
		e := little.Estate()
		e.Policies = slices.Clone(e.Policies)
		if c.edit != nil {
			c.edit(e)
		}
		assert.Equal(t, c.want, ask(e, c.from, c.to, c.port), c.clause)
	}
}
