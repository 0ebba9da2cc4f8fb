package e2e

import (
	"fmt"
	"net/http"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// written is a demo whose targets are written to, and the interface that plays with its world.
type written struct {
	*user
	address, play string
	mira          *client
}

func startWritten(t *testing.T) *written {
	t.Helper()
	lines, _ := start(t, 8, "demo", "--quiet", "--listen", "127.0.0.1:0", "--db", filepath.Join(t.TempDir(), "demo.db"))
	_, play, found := strings.Cut(lines[7], "controlled at ")
	require.True(t, found, "%v", lines)
	play, _, _ = strings.Cut(play, " ")
	w := &written{browse(t, 1280, 800), lines[0], play, &client{address: lines[0]}}
	w.asks("/api/sign-in/demo", "", map[string]string{"name": "mira"}, nil)
	return w
}

// asks sends something to the server.
func (w *written) asks(path, version string, body, out any) {
	w.t.Helper()
	status, err := w.mira.send(http.MethodPost, path, version, body, out)
	require.NoError(w.t, err)
	require.Less(w.t, status, 300, path)
}

// plays does something to the world outside.
func (w *written) plays(method, path, body string) {
	w.t.Helper()
	r, err := http.NewRequestWithContext(w.t.Context(), method, w.play+path, strings.NewReader(body))
	require.NoError(w.t, err)
	answer, err := http.DefaultClient.Do(r)
	require.NoError(w.t, err)
	require.NoError(w.t, answer.Body.Close())
	require.Equal(w.t, http.StatusNoContent, answer.StatusCode, path)
}

// drafts puts objects into a new draft.
func (w *written) drafts(name string, operations ...any) int64 {
	w.t.Helper()
	var d soaked
	w.asks("/api/drafts", "", map[string]string{"name": name}, &d)
	w.asks(fmt.Sprint("/api/edit?draft=", d.ID), fmt.Sprint(d.Version), map[string]any{"operations": operations}, nil)
	return d.ID
}

// inForce waits until what a revision asks of targets is in force.
func (w *written) inForce(revision int) {
	w.t.Helper()
	w.find(fmt.Sprintf("[data-testid=in-force][data-state=in-force][data-revision='%d']", revision))
}

type object = map[string]any

func share() object {
	return object{"op": "put", "kind": "share", "base": "absent", "object": object{
		"name": "historian-to-traders", "owner": object{"segment": "turbine", "groups": []string{"historian"}}, "guest": object{"segment": "market", "groups": []string{"traders"}},
		"rules": []object{{"services": []string{"web", "ping"}, "action": "inspect", "pool": "breakwater"}},
	}}
}

// TestAShareComesIntoForce drafts a share of turbine through a firewall, and lets its rulebook pass
// the web: the plan is shown before, the owner approves, it is written to every target, and packets
// do what was meant: web passes through the firewall, ping is stopped by its rulebook, and
// everything else stays closed.
func TestAShareComesIntoForce(t *testing.T) {
	w := startWritten(t)
	w.name = "mira"
	var control struct{ Base string }
	status, err := w.mira.send(http.MethodGet, "/api/object?kind=rulebook&name=control", "", nil, &control)
	require.NoError(t, err)
	require.Equal(t, http.StatusOK, status)
	draft := w.drafts("historian-for-traders", share(), object{"op": "put", "kind": "rulebook", "base": control.Base, "object": object{"name": "control", "rules": []object{
		{"from": []string{"operators"}, "to": []string{"controllers"}, "services": []string{"modbus", "opc-ua"}, "action": "pass"},
		{"from": []string{"forecasters"}, "to": []string{"historian"}, "services": []string{"read-api"}, "action": "pass"},
		{"from": []string{"traders"}, "to": []string{"historian"}, "services": []string{"web"}, "action": "pass"},
		{"from": []string{"blade-crews"}, "to": []string{"jump-hosts"}, "services": []string{"ssh", "rdp"}, "action": "pass"},
		{"from": "any", "to": "any", "services": []string{"any"}, "action": "drop"},
	}}})
	w.goTo(w.address + fmt.Sprintf("/changes/%d?draft=%d", draft, draft))
	w.clicksOn("button", "Show the plan")
	w.sees("[aria-label=Plan]", "No flow is opened temporarily")
	w.sees("[aria-label=Open]", "Match list of segment market")
	w.sees("[aria-label=Open]", "share historian-to-traders rule 1")
	w.clicksOn("button", "Submit for review")
	w.sees("[data-testid=state]", "in review")
	w.becomes("tove")
	w.goTo(w.address + "/people/notices")
	w.sees("[data-testid=unseen]", "1")
	w.clicksOn("[aria-label=Notifications] a", "Draft historian-for-traders waits for your approval for segment turbine")
	w.clicksOn("button", "Approve for turbine")
	w.sees("[data-testid=state]", "approved")
	w.becomes("mira")
	w.goTo(w.address + fmt.Sprintf("/changes/%d?draft=%d", draft, draft))
	w.applies()
	w.inForce(3)
	w.goTo(w.address + "/changes/plans")
	w.sees("h1", "Revision 3: in force")
	w.clicksOn("table a", "Plan 1")
	w.sees("[data-testid=plan-state]", "in force")

	for service, came := range map[string]string{
		"tcp/443": "delivered through breakwater, and answered", "icmp/8": "blocked by breakwater", "tcp/22": "stopped at",
	} {
		w.goTo(w.address + "/board?from=trader-1&to=historian-1&on=" + service)
		w.clicksOn("[aria-label='Try it'] button", "Try it with a packet")
		w.sees("[data-testid=packet][data-agrees=true]", came)
	}
	w.goTo(w.address + "/changes/plans/1")
	w.clicksOn("button", "Send a round of packets")
	w.sees("[data-testid=round]", "packets did something else") // what somebody wrote by hand
	w.sees("[data-testid=round]", "1 of")
}

// TestDriftIsPutRight writes over what somebody wrote by hand: it is said who, and afterwards a
// round of packets comes out as predicted.
func TestDriftIsPutRight(t *testing.T) {
	w := startWritten(t)
	w.goTo(w.address + "/?from=trader-1&to=price-db-1&on=tcp/22")
	w.clicksOn("[aria-label='Try it'] button", "Try it with a packet")
	w.sees("[data-testid=packet][data-agrees=false]", "delivered, and answered")
	w.sees("[data-testid=outside]", "drift at 3")
	w.goTo(w.address + "/findings")
	w.sees("[aria-label=Outside]", "Account velum-central: 1 list or route table differs from what is intended Sets of flows: 1 opened.")
	w.goTo(w.address + "/targets/drift")
	w.clicksOn("button", "Put right")
	w.sees("[data-testid=plan-state]", "in force")
	w.sees("[aria-label=Plan]", "It removes rules that were written by")
	w.sees("[aria-label=Plan]", "a.vik")
	w.goTo(w.address + "/targets/drift")
	w.sees("[aria-label=Target]", "No list or route table differs from what is intended")
	w.goTo(w.address + "/findings")
	w.clicksOn("[aria-label=Outside] button", "Compare now")
	w.sees("[aria-label=Outside]", "Accounts hold what is intended")
	w.gone("[data-testid=outside]")
	w.goTo(w.address + "/changes/plans")
	w.sees("table", "Plan 1")
	w.clicksOn("button", "Send a round of packets")
	w.sees("[data-testid=round]", "packets did what was predicted")
}

// TestTargetsThatAreDownOrRefuse applies a draft while one target does not answer and another
// refuses what is written: what does not depend on them is in force, it is said what is not and
// why; once they are back it is finished, and packets prove it.
func TestTargetsThatAreDownOrRefuse(t *testing.T) {
	w := startWritten(t)
	w.plays(http.MethodPut, "/accounts/velum-central/fault", `{"kind": "gone"}`)
	w.plays(http.MethodPut, "/accounts/cirra-north/fault", `{"kind": "refused"}`)
	policy := func(action, name, segment, from, to, service string) object {
		return object{"op": "put", "kind": "policy", "base": "absent", "object": object{"name": name, "segments": []string{segment}, "from": []string{from}, "to": []string{to}, "rules": []object{{"services": []string{service}, "action": action}}}}
	}
	draft := w.drafts("three-clouds", policy("allow", "traders-ssh", "market", "traders", "price-databases", "ssh"), policy("allow", "names-to-directory", "office", "name-servers", "directory-servers", "tcp/9090"), policy("deny", "portal-9443", "office", "portal-app", "portal-web", "tcp/9443"))
	w.goTo(w.address + fmt.Sprintf("/changes/%d?draft=%d", draft, draft))
	w.clicksOn("button:not([disabled])", "Apply draft")
	w.find("[data-testid=in-force][data-state=partly]")
	w.clicks("[data-testid=in-force]")
	w.sees("[aria-label=Plan] table", "refused")
	w.sees("[aria-label=Plan] table", "it does not answer")
	w.goTo(w.address + "/lanes")
	w.find("[data-chip=trading] [aria-label*='not in force at velum-central']")
	w.clicksOn("button", "problems")
	w.sees("[aria-label=Problems]", "does not hold what is applied")
	w.goTo(w.address + "/board?from=portal-app-1&to=portal-web-1&on=tcp/9443")
	w.clicksOn("[aria-label='Try it'] button", "Try it with a packet")
	w.sees("[data-testid=packet][data-agrees=true]", "stopped at list into portal")
	w.goTo(w.address + "/board?from=names-1&to=directory-1&on=tcp/9090")
	w.clicksOn("[aria-label='Try it'] button", "Try it with a packet")
	w.sees("[data-testid=packet][data-agrees=false]", "Revision 3 is not in force yet at cirra-north")

	w.plays(http.MethodPut, "/accounts/velum-central/fault", `{"kind": "none"}`)
	w.plays(http.MethodPut, "/accounts/cirra-north/fault", `{"kind": "none"}`)
	w.clicks("[data-testid=in-force]")
	w.clicksOn("button", "Try again now")
	w.inForce(3)
	w.goTo(w.address + "/board?from=names-1&to=directory-1&on=tcp/9090")
	w.clicksOn("[aria-label='Try it'] button", "Try it with a packet")
	w.sees("[data-testid=packet][data-agrees=true]", "delivered, and answered")
}

// TestANetworkIsProtected points the default route of a network with its own internet gateway to
// its hub, from the row of the route that bypasses every firewall: packets are tried before and
// after, and the route is written to the cloud.
func TestANetworkIsProtected(t *testing.T) {
	w := startWritten(t)
	const question = "/board?from=model-dev-1&to=198.51.100.7&on=tcp/443"
	w.goTo(w.address + question)
	w.clicksOn("[aria-label='Try it'] button", "Try it with a packet")
	w.sees("[data-testid=packet][data-agrees=true]", "delivered, and answered")
	w.sees("[data-testid=packet]", "bypass")
	w.goTo(w.address + "/lanes?net=forecast-dev")
	w.clicksOn("[data-state=past] button", "protect the network: route 0.0.0.0/0 to its hub")
	w.sees("body", "dev-stays-in")
	w.clicksOn("button:not([disabled])", "Apply fix")
	w.clicksOn("[aria-label^=Draft] a", "Review")
	w.clicksOn("button", "Show the plan")
	w.sees("[aria-label=Move]", "Route table of network forecast-dev")
	w.clicksOn("button:not([disabled])", "Apply draft")
	w.inForce(3)
	w.goTo(w.address + question)
	w.clicksOn("[aria-label='Try it'] button", "Try it with a packet")
	w.sees("[data-testid=packet][data-agrees=true]", "stopped at")
}

// TestAMachineThatComesGetsItsLists lets a machine come up that its tags bring into a group: once
// its account is synced, what it may do is written, and a packet shows it. Another, whose tags
// would open turbine, waits for its owner.
func TestAMachineThatComesGetsItsLists(t *testing.T) {
	w := startWritten(t)
	w.plays(http.MethodPut, "/accounts/velum-central/machines", `{"id": "m-late", "name": "trader-late", "network": "net-trading", "addresses": ["10.70.0.44"], "tags": {"role": "trader"}}`)
	w.plays(http.MethodPut, "/accounts/velum-central/machines", `{"id": "m-batch", "name": "forecast-late", "network": "net-forecast", "addresses": ["10.71.0.44"], "tags": {"app": "forecast", "env": "prod"}}`)
	w.asks("/api/accounts/velum-central/reading", "", map[string]any{}, nil)
	w.goTo(w.address + "/changes/plans")
	w.sees("table", "sync")
	w.inForce(3)
	w.goTo(w.address + "/board?from=trader-late&to=price-db-1&on=tcp/5432")
	w.clicksOn("[aria-label='Try it'] button", "Try it with a packet")
	w.sees("[data-testid=packet][data-agrees=true]", "delivered, and answered")
	w.goTo(w.address + "/changes")
	w.sees("table", "in review")
	w.goTo(w.address + "/board?from=forecast-late&to=historian-1&on=tcp/8443")
	w.clicksOn("[aria-label='Try it'] button", "Try it with a packet")
	w.sees("[data-testid=packet][data-agrees=true]", "stopped at")
}

// TestDriftIsTakenOver makes the estate say what somebody opened by hand: a draft with a policy, which
// is applied; then nothing differs any more in what flows do.
func TestDriftIsTakenOver(t *testing.T) {
	w := startWritten(t)
	w.goTo(w.address + "/targets/drift")
	w.clicksOn("button", "Take over into a draft")
	w.sees("h1", "take-over-drift")
	w.sees("[aria-label='Objects that change']", "allow-trading-desks-to-trading-prices")
	w.clicksOn("button:not([disabled])", "Apply draft")
	w.inForce(3)
	w.goTo(w.address + "/targets/drift")
	w.sees("[aria-label=Target]", "No flow has another outcome than intended")
	w.goTo(w.address + "/board?from=trader-1&to=price-db-1&on=tcp/22")
	w.clicksOn("[aria-label='Try it'] button", "Try it with a packet")
	w.sees("[data-testid=packet][data-agrees=true]", "delivered, and answered")
}

// TestAStageGoesBackByItself applies a draft in stages while a firewall is down that nobody knows to
// be: its round of packets does not come out as predicted, the reason is on screen, and everything
// goes back by itself.
func TestAStageGoesBackByItself(t *testing.T) {
	w := startWritten(t)
	w.plays(http.MethodPut, "/accounts/cirra-north/parts/breakwater-fjord-1", `{"state": "down", "why": "cut off"}`)
	draft := w.drafts("in-stages", share())
	w.name = "mira"
	w.goTo(w.address + fmt.Sprintf("/changes/%d?draft=%d", draft, draft))
	w.clicksOn("button", "Submit for review")
	w.sees("[data-testid=state]", "in review")
	w.becomes("tove")
	w.goTo(w.address + fmt.Sprintf("/changes/%d", draft))
	w.clicksOn("button", "Approve for turbine")
	w.sees("[data-testid=state]", "approved")
	w.becomes("mira")
	w.goTo(w.address + fmt.Sprintf("/changes/%d?draft=%d", draft, draft))
	w.clicksOn("label", "in stages, with test packets")
	w.clicksOn("button:not([disabled])", "Apply draft")
	w.sees("[data-testid=state]", "applied as revision 3")
	w.goTo(w.address + "/changes/plans/1")
	w.sees("[data-testid=plan-state]", "superseded")
	w.sees("[aria-label=Plan]", "packets did not come out as predicted")
	w.sees("[aria-label=Plan]", "no firewall works")
	w.inForce(4)
	w.goTo(w.address + "/changes/history")
	w.sees("table", "Takes revision 3 back")
}
