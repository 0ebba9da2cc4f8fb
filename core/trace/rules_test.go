package trace

import (
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bivium/core/document"
	"bivium/core/membership"
	"bivium/core/verdict"
)

// pathFacts is two segments on one hub: shops and their tills in s, a clock in t.
const pathFacts = `
bivium: 1
estate: rules
accounts: [{name: own, provider: premises}]
hubs: [{name: fen}]
segments: [{name: s}, {name: t}]
networks:
  - {name: yard, kind: site, segment: s, labels: {use: shop}, subnets: [{name: desks, prefix: 10.0.0.0/24}]}
  - {name: mill, kind: site, segment: s, subnets: [{name: floor, prefix: 10.0.1.0/24}]}
  - {name: tower, kind: site, segment: t, subnets: [{name: top, prefix: 10.0.2.0/24}]}
attachments: [{network: yard, hub: fen}, {network: mill, hub: fen}, {network: tower, hub: fen}]
exits: [{name: out, hub: fen, segments: [s]}]
workloads:
  - {name: till, network: yard, addresses: [10.0.0.5], labels: {app: till}}
  - {name: store, network: mill, addresses: [10.0.1.5], labels: {app: store}}
  - {name: clock, network: tower, addresses: [10.0.2.5], labels: {app: clock}}
groups:
  - {name: shops, networkMatch: use=shop}
  - {name: tills, match: app=till, within: shops}
  - {name: far-tills, match: app=till, within: stores}
  - {name: stores, match: app=store}
  - {name: mills, networks: [mill]}
  - {name: clocks, match: app=clock}
  - {name: outside, exits: [out]}
pools:
  - {name: zeta, firewalls: [{name: z1, hub: fen}]}
  - {name: alpha, firewalls: [{name: a1, hub: fen}]}
  - {name: gone, onFailure: closed}
  - {name: loose, onFailure: open}
policies:
`

// rule is one line of a policy list for ground.
func rule(name, from, to, action string) string {
	pool := ""
	if by, ok := strings.CutPrefix(action, "inspect "); ok {
		action, pool = "inspect", ", pool: "+by
	}
	return "  - {name: " + name + ", segments: all, from: " + from + ", to: " + to + ", rules: [{services: [tcp/80], action: " + action + pool + "}]}\n"
}

func guardrail(name, action string) string {
	return strings.Replace(rule(name, "any", "any", action), "segments: all", "tier: guardrail", 1)
}

func judge(t *testing.T, policies string) *verdict.Judge {
	t.Helper()
	if policies == "" {
		policies = rule("nobody", "[far-tills]", "any", "allow")
	}
	e, err := document.Read([]byte(pathFacts + policies))
	require.NoError(t, err)
	return verdict.New(e)
}

func flow(segment, src, dst string, port uint16) verdict.Flow {
	return verdict.Flow{
		Segment: segment, Source: netip.MustParseAddr(src), Destination: netip.MustParseAddr(dst),
		Service: verdict.Service{Protocol: 6, SourcePort: 50000, Port: port},
	}
}

// say writes a verdict in a few words.
func say(v verdict.Verdict) string {
	s := string(v.Outcome) + " " + string(v.Reason)
	if len(v.By) > 0 {
		s += " by " + strings.Join(v.By, "+")
	}
	if len(v.Pools) > 0 {
		s += " through " + strings.Join(v.Pools, "+")
	}
	if v.Contested {
		s += " contested"
	}
	return s
}

func TestWhoWins(t *testing.T) {
	for _, c := range []struct{ given, policies, expect string }{
		{"nobody speaks", "", "denied default"},
		{"one speaks", rule("p", "[tills]", "[stores]", "allow"), "allowed policy by p"},
		{"a rule for another port is silent", strings.Replace(rule("p", "[tills]", "[stores]", "allow"), "tcp/80", "tcp/81", 1), "denied default"},
		{"a group overrides any", rule("p", "[shops]", "[stores]", "allow") + rule("q", "any", "[stores]", "deny"), "allowed policy by p"},
		{"a group within overrides its parent", rule("p", "[tills]", "[stores]", "allow") + rule("q", "[shops]", "[stores]", "deny"), "allowed policy by p"},
		{"narrower on one side and wider on the other does not override", rule("p", "[tills]", "any", "allow") + rule("q", "[shops]", "[stores]", "deny"), "denied policy by q contested"},
		{"equal sides do not override", rule("p", "[tills]", "[stores]", "allow") + rule("q", "[tills]", "[stores]", "deny"), "denied policy by q contested"},
		{"the same members by another group do not override", rule("p", "[tills]", "[stores]", "allow") + rule("q", "[tills]", "[mills]", "inspect zeta"), "inspected policy by q through zeta contested"},
		{"overridden ones do not contest", rule("p", "[tills]", "[stores]", "allow") + rule("q", "any", "any", "deny"), "allowed policy by p"},
		{"one that is overridden still overrides nobody else's contest", rule("p", "[tills]", "[stores]", "inspect zeta") + rule("q", "[shops]", "[stores]", "allow") + rule("r", "[shops]", "[mills]", "inspect alpha"), "inspected policy by p+r through alpha+zeta"},
		{"two that agree", rule("q", "[tills]", "[mills]", "deny") + rule("p", "[tills]", "[stores]", "deny"), "denied policy by p+q"},
		{"disabled ones are mute", strings.Replace(rule("p", "[tills]", "[stores]", "allow"), "segments: all", "enabled: false, segments: all", 1), "denied default"},
		{"another segment's are mute", strings.Replace(rule("p", "[tills]", "[stores]", "allow"), "segments: all", "segments: [t]", 1), "denied default"},
		{"a member of the group alone is no member within", rule("p", "[far-tills]", "[stores]", "allow"), "denied default"},
		{"a guardrail is stricter", rule("p", "[tills]", "[stores]", "allow") + guardrail("g", "deny"), "denied guardrail by g"},
		{"a guardrail only agrees", rule("p", "[tills]", "[stores]", "deny") + guardrail("g", "deny"), "denied policy by p"},
		{"a guardrail is milder", rule("p", "[tills]", "[stores]", "deny") + guardrail("g", "inspect zeta"), "denied policy by p"},
		{"a guardrail's pools come first", rule("p", "[tills]", "[stores]", "inspect alpha") + guardrail("g", "inspect zeta"), "inspected policy by p through zeta+alpha"},
		{"no guardrail overrides another", rule("p", "[tills]", "[stores]", "allow") + guardrail("g", "inspect zeta") + guardrail("h", "deny"), "denied guardrail by h"},
		{"a pool without a firewall closes", rule("p", "[tills]", "[stores]", "inspect gone"), "denied no-firewall"},
		{"a pool without a firewall is open", rule("p", "[tills]", "[stores]", "inspect loose"), "allowed failed-open"},
		{"one pool open, one passed", rule("p", "[tills]", "[stores]", "inspect loose") + rule("q", "[tills]", "[mills]", "inspect zeta"), "inspected policy by p+q through zeta"},
	} {
		j := judge(t, c.policies)
		f := flow("s", "10.0.0.5", "10.0.1.5", 80)
		assert.Equal(t, c.expect, say(j.Judge(f)), c.given)
	}
}

func TestTheInternetIsOpenedByGroupsOnly(t *testing.T) {
	f := flow("s", "10.0.0.5", "198.51.100.7", 80)
	assert.Equal(t, "denied default", say(judge(t, rule("p", "[tills]", "any", "allow")).Judge(f)), "any is inside")
	assert.Equal(t, "allowed policy by p", say(judge(t, rule("p", "any", "[outside]", "allow")).Judge(f)))
	assert.Equal(t, "denied guardrail by g", say(judge(t, rule("p", "any", "[outside]", "allow")+guardrail("g", "deny")).Judge(f)), "a guardrail's any is everywhere")
}

func TestSharesDecideBetweenSegments(t *testing.T) {
	share := func(rest string) string {
		return rule("p", "any", "any", "allow") + "shares:\n  - {name: time, owner: {segment: t, groups: [clocks]}, guest: {segment: s, groups: [tills]}, " + rest + "}\n"
	}
	there, back := flow("s", "10.0.0.5", "10.0.2.5", 80), flow("t", "10.0.2.5", "10.0.0.5", 80)
	j := judge(t, share("rules: [{services: [tcp/80], action: allow}]"))
	assert.Equal(t, "allowed share by time", say(j.Judge(there)))
	assert.Equal(t, "denied no-share", say(j.Judge(back)), "inbound goes one way")
	assert.Equal(t, "denied no-share", say(j.Judge(flow("s", "10.0.0.5", "10.0.2.5", 81))))
	assert.Equal(t, "unrouted unknown", say(j.Judge(flow("s", "10.0.0.5", "10.0.2.6", 80))), "what is not offered is not there")
	assert.Equal(t, "denied no-share", say(j.Judge(flow("s", "10.0.1.5", "10.0.2.5", 80))), "it is there for all of the segment, and open to the guests")
	both := judge(t, share("direction: both, rules: [{services: [tcp/80], action: allow}]"))
	assert.Equal(t, "allowed share by time", say(both.Judge(back)))
}

func TestTraceTellsWhatEachRuleDid(t *testing.T) {
	j := judge(t, rule("narrow", "[tills]", "[stores]", "allow")+rule("twin", "[tills]", "[mills]", "inspect zeta")+rule("wide", "any", "[stores]", "deny")+
		strings.Replace(rule("mute", "[tills]", "[stores]", "deny"), "tcp/80", "udp/53", 1)+guardrail("guard", "inspect alpha"))
	got := Of(j, flow("s", "10.0.0.5", "10.0.1.5", 80))
	standing := map[string]string{}
	for _, v := range append(got.Rules, got.Guardrails...) {
		standing[v.Name] = v.Standing + v.Over
	}
	assert.Equal(t, map[string]string{"twin": "wins", "narrow": "milder", "wide": "overriddennarrow", "mute": "silent", "guard": "agrees"}, standing)
	assert.Equal(t, "twin", got.Rules[0].Name, "who wins comes first")
	var pools []string
	for _, p := range got.Pools {
		pools = append(pools, p.Pool+" "+p.State)
	}
	assert.Equal(t, []string{"alpha passed", "zeta passed"}, pools)
	require.Len(t, got.Source.Groups, 2)
	assert.Equal(t, membership.Ground{By: "match", Value: "app=till"}, got.Source.Groups[1].Ground)
	assert.Equal(t, DefaultView{Action: "deny", Why: "segment"}, got.Default)
}

func TestFlowsThatCannotBe(t *testing.T) {
	j := judge(t, rule("p", "any", "any", "allow"))
	for given, f := range map[string]verdict.Flow{
		"to itself":                 flow("s", "10.0.0.5", "10.0.0.5", 80),
		"from nobody":               flow("s", "10.0.9.9", "10.0.0.5", 80),
		"to nobody":                 flow("s", "10.0.0.5", "10.0.9.9", 80),
		"of two families":           flow("s", "10.0.0.5", "2001:db8::1", 80),
		"in no segment":             flow("nowhere", "10.0.0.5", "10.0.1.5", 80),
		"a private outside":         flow("internet", "10.9.9.9", "10.0.1.5", 80),
		"a type of ICMP beyond 255": {Segment: "s", Source: netip.MustParseAddr("10.0.0.5"), Destination: netip.MustParseAddr("10.0.1.5"), Service: verdict.Service{Protocol: 1, Port: 256}},
		"a port of GRE":             {Segment: "s", Source: netip.MustParseAddr("10.0.0.5"), Destination: netip.MustParseAddr("10.0.1.5"), Service: verdict.Service{Protocol: 47, Port: 1}},
	} {
		v := j.Judge(f)
		assert.Equal(t, "unrouted unknown", say(v), given)
		assert.Empty(t, v.Intended, given)
	}
	assert.Equal(t, "unrouted no-path", say(j.Judge(flow("internet", "198.51.100.7", "10.0.1.5", 80))), "no publication")
}
