package e2e

import (
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/go-rod/rod"
	"github.com/go-rod/rod/lib/input"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// chooses opens a list of choices and takes one.
func (u *user) chooses(label, value string) {
	u.t.Helper()
	u.clicks("[aria-label='" + label + "']")
	if _, err := u.page.Timeout(3 * time.Second).Element("[role=option]"); err != nil { // the list before was still closing
		u.clicks("[aria-label='" + label + "']")
	}
	u.clicksOn("[role=option]", value)
}

// adds opens the menu of what can be added, and takes one.
func (u *user) adds(kind string) {
	u.t.Helper()
	u.clicksOn("nav[aria-label=Rules] button", "Add")
	u.clicksOn("[role=menuitem]", kind)
	u.find("input[aria-label=Name]")
}

// puts types a token into a field.
func (u *user) puts(field, token string) {
	u.t.Helper()
	u.clicks("[aria-label='" + field + "']")
	u.types(token)
	u.presses(input.Enter)
	if strings.HasPrefix(field, "services") { // it is there before anything else is done
		u.find("[aria-label='Remove " + token + " from " + field + "']")
	}
}

// clears removes a token of a field. Where what is around it moves just then, it is clicked on again, as
// a person would.
func (u *user) clears(field, token string) {
	u.t.Helper()
	button := "[aria-label='Remove " + token + " from " + field + "']"
	for range 3 {
		u.clicks(button)
		if u.page.Timeout(3*time.Second).Wait(rod.Eval(`(s) => !document.querySelector(s)`, button)) == nil {
			return
		}
	}
	u.gone(button)
}

// TestAPolicyIsWrittenWithItsGroups writes a policy with two groups that are not there yet,
// reads what it would change, saves it; then a more specific one, of which both say who wins.
func TestAPolicyIsWrittenWithItsGroups(t *testing.T) {
	address, _ := serve(t, filepath.Join(t.TempDir(), "demo.db"))
	u := browse(t, 1280, 800)
	u.goTo(address + "/rules")
	u.sees("h1", "Rules")
	u.adds("Policy")
	u.writes("input[aria-label=Name]", "cabins-out")
	u.clears("segments", "turbine")
	u.puts("segments", "office")
	u.puts("from groups", "hut-crews")
	u.clicksOn("button", "Add group hut-crews")
	u.types("role=cabin")
	u.sees("[data-testid=members]", "workload")
	u.presses(input.Enter)
	u.puts("to groups", "internet-exits")
	u.clears("services of rule 1", "any")
	u.puts("services of rule 1", "shop-web")
	u.clicksOn("button", "Add service shop-web")
	u.types("tcp/8088")
	u.presses(input.Enter)
	u.chooses("Action of rule 1", "inspect")
	u.chooses("Pool of rule 1", "tidegate")
	u.clicksOn("button", "another rule")
	u.puts("services of rule 2", "any")
	u.sees("[data-testid=effect]", "Added with it: group hut-crews, service shop-web")
	u.sees("[data-testid=effect]", "cells change")
	u.sees("aside[aria-label=Facts]", "workloads in scope")
	u.reload() // what is being written is not lost
	u.sees("nav[aria-label=Rules]", "new, not saved")
	u.sees("[data-testid=effect]", "cells change")
	u.clicksOn("button", "Add policy")
	u.steps(1)
	u.sees("h1", "cabins-out")
	u.sees("footer", "24 policies")

	u.adds("Policy")
	u.writes("input[aria-label=Name]", "cabins-free")
	u.clears("segments", "turbine")
	u.puts("segments", "office")
	u.puts("from groups", "cabin-one")
	u.clicksOn("button", "Add group cabin-one")
	u.types("role=cabin")
	u.presses(input.Enter)
	u.puts("to groups", "internet-exits")
	u.chooses("Action of rule 1", "allow")
	u.sees("[data-testid=effect]", "Added with it: group cabin-one")
	u.clicksOn("button", "Add policy")
	u.steps(2)

	// Nested in the first group, the second one is more specific.
	u.goTo(address + "/rules/group/cabin-one")
	u.chooses("Within", "hut-crews")
	u.sees("[data-testid=effect]", "cells change")
	u.clicksOn("button", "Save")
	u.steps(3)
	u.goTo(address + "/rules/policy/cabins-out")
	u.sees("[aria-label='Which policy wins']", "Overridden by (more specific)")
	u.sees("[aria-label='Which policy wins']", "cabins-free")
	u.clicksOn("[aria-label='Which policy wins'] a", "cabins-free")
	u.sees("[aria-label='Which policy wins']", "Overrides (less specific)")
}

// TestAShareIsOfferedThroughANewPool adds a pool with a rulebook, of which one rule is never
// reached, and a share that inspects by it.
func TestAShareIsOfferedThroughANewPool(t *testing.T) {
	address, _ := serve(t, filepath.Join(t.TempDir(), "demo.db"))
	u := browse(t, 1280, 800)
	u.goTo(address + "/rules")
	u.adds("Rulebook")
	u.writes("input[aria-label=Name]", "sluice-book")
	u.clears("services of rule 1", "any")
	u.puts("services of rule 1", "dns")
	u.clicksOn("button", "another rule")
	u.puts("services of rule 2", "ssh")
	u.clicksOn("button", "another rule")
	u.puts("services of rule 3", "dns") // never reached
	u.clicksOn("button", "Add rulebook")
	u.steps(1)

	u.adds("Firewall pool")
	u.writes("input[aria-label=Name]", "sluice")
	u.chooses("Rulebook", "sluice-book")
	u.writes("[aria-label='Name of firewall 1']", "sluice-ridge-1")
	u.chooses("Hub of firewall 1", "ridge")
	u.sees("[data-testid=effect]", "No flows change.")
	u.clicksOn("button", "Add firewall pool")
	u.steps(2)

	u.adds("Share")
	u.writes("input[aria-label=Name]", "names-to-contractors")
	u.chooses("Segment of owner", "office")
	u.chooses("Segment of guest", "contractor")
	u.puts("groups of owner", "name-servers")
	u.puts("groups of guest", "any")
	u.clears("services of rule 1", "any")
	u.puts("services of rule 1", "dns")
	u.chooses("Action of rule 1", "inspect")
	u.chooses("Pool of rule 1", "sluice")
	// The contractors have addresses of the office: they are shown under others.
	u.sees("[data-testid=effect]", "Refused: this introduces 1 fault")
	u.clicksOn("[data-testid=effect] button", "translate 10.40.0.0/16 of contractor for office")
	u.sees("[aria-label='Other addresses']", "100.64.0.0/16")
	u.find("[aria-label='Cells that change']")
	u.clicksOn("button", "Add share")
	u.steps(3)
	u.goTo(address + "/board?from=blade-crew-1&to=names-1&on=udp/53")
	u.sees("[data-testid=answer]", "sluice at ridge")
	u.sees("[data-testid=road]", "rulebook sluice-book rule 1: pass")
	u.goTo(address + "/rules/rulebook/sluice-book")
	u.sees("aside[aria-label=Facts]", "Rule 3")
}

// TestASegmentIsMadeForANetworkOfTheTray makes a segment, places the network that waits in it, and
// offers it one subnet for DNS through a pool: the board and the route table show just that. An
// overlap with what a further share would bring is refused, and solved by other addresses.
func TestASegmentIsMadeForANetworkOfTheTray(t *testing.T) {
	address, _ := serve(t, filepath.Join(t.TempDir(), "demo.db"))
	u := browse(t, 1280, 800)
	u.goTo(address + "/rules")
	u.adds("Segment")
	u.writes("input[aria-label=Name]", "tides")
	u.clicksOn("button", "Add segment")
	u.steps(1)
	u.goTo(address + "/lanes?draft=1")
	u.drags("[data-tray=tide-lab]", "[data-cell='tides delta']")
	u.does("aside", "Place network")
	u.gone("[data-tray=tide-lab]")
	u.steps(2)

	u.goTo(address + "/rules?draft=1")
	u.adds("Share")
	u.writes("input[aria-label=Name]", "names-to-tides")
	u.chooses("Segment of owner", "office")
	u.chooses("Segment of guest", "tides")
	u.clicks("[aria-label='groups of owner']")
	u.types("common/services")
	u.sees("li[role=option]", "common/services")
	u.presses(input.Enter)
	u.find("[aria-label='Remove common-services from groups of owner']")
	u.sees("[data-testid=effect]", "Added with it: group common-services")
	u.puts("groups of guest", "any")
	u.clears("services of rule 1", "any")
	u.puts("services of rule 1", "dns")
	u.chooses("Action of rule 1", "inspect")
	u.chooses("Pool of rule 1", "tidegate")
	// The laboratory has addresses of the office: the office sees others.
	u.sees("[data-testid=effect]", "Refused: this introduces 1 fault")
	u.clicksOn("[data-testid=effect] button", "translate 10.31.0.64/26 of tides for office")
	u.sees("[aria-label='Other addresses']", "100.64.0.0/26")
	u.sees("[aria-label='Routes that change']", "10.61.1.0/24")
	u.clicksOn("[data-testid=effect] button:not([disabled])", "Add share")
	u.steps(3)

	// The firewalls of the pool do not pass it yet: the answer names the rule, and the rulebook gets one.
	const ask = "/board?draft=1&open=office,tides&from=tide-gauge-1&to="
	u.goTo(address + ask + "names-1&on=udp/53")
	u.sees("[data-testid=answer]", "Blocked by tidegate at delta: rulebook crew-web rule 4 drops it")
	u.goTo(address + "/rules/rulebook/crew-web?draft=1")
	u.clicksOn("button", "another rule")
	u.clicks("[aria-label='Move rule 5 up']")
	u.chooses("Action of rule 4", "pass")
	u.puts("services of rule 4", "dns")
	u.puts("to groups of rule 4", "common-services")
	u.clicksOn("[data-testid=effect] button:not([disabled])", "Save")
	u.steps(4)

	u.goTo(address + ask + "names-1&on=udp/53")
	u.sees("[data-testid=answer]", "Inspected by tidegate at delta (share names-to-tides, rule 1).")
	u.goTo(address + ask + "names-1&on=tcp/22")
	u.sees("[data-testid=answer]", "Denied")
	u.goTo(address + ask + "directory-1&on=udp/53")
	u.sees("[data-testid=answer]", "no share makes it reachable")
	u.goTo(address + "/lanes?draft=1")
	u.clicks("[aria-label='Routes of tides at delta']")
	u.sees("table[aria-label=Routes]", "10.61.1.0/24")
	assert.NotContains(t, u.find("table[aria-label=Routes]").MustText(), "10.61.0.0/24")
}

// TestWhatIsUsedIsRenamedAndDeleted renames a group that many refer to; its deletion is
// refused with all of them, and done with them.
func TestWhatIsUsedIsRenamedAndDeleted(t *testing.T) {
	address, _ := serve(t, filepath.Join(t.TempDir(), "demo.db"))
	u := browse(t, 1280, 800)
	u.goTo(address + "/rules/group/controllers")
	u.sees("aside[aria-label=Facts]", "Used by 8 objects")
	u.clicks("button[aria-label=Rename]")
	u.writes("[role=dialog] input", "steerers")
	u.sees("[role=dialog]", "No flows change.")
	u.clicksOn("[role=dialog] button", "Rename")
	u.sees("h1", "steerers")
	u.steps(1)
	u.sees("aside[aria-label=Facts]", "Used by 8 objects")

	u.clicks("button[aria-label=Delete]")
	u.sees("[role=alert]", "is in use by 8 objects")
	u.sees("[role=alert]", "These must be deleted too")
	assert.True(t, u.sees("[role=dialog] button", "Delete group steerers").MustProperty("disabled").Bool())
	u.clicksOn("[role=alert] button", "Include")
	u.sees("[role=dialog] [aria-label='What is changed and deleted']", "delete group steerers")
	u.find("[role=dialog] [aria-label='Flows that change']")
	u.clicksOn("[role=dialog] button", "Delete group steerers and change")
	u.steps(2)
	u.sees("h1", "Rules")
	u.goTo(address + "/rules/group/steerers")
	u.sees("section, div", "There is no group steerers")
}

// TestATicketIsSolvedBySuggestion asks a question that is denied, reads the edits that would
// allow it with what each would change besides, and applies the one that changes least.
func TestATicketIsSolvedBySuggestion(t *testing.T) {
	address, _ := serve(t, filepath.Join(t.TempDir(), "demo.db"))
	u := browse(t, 1280, 800)
	u.goTo(address + "/board?from=model-dev-1&to=price-db-1&on=sql")
	u.sees("[data-testid=answer]", "Denied by policy dev-not-prod")
	u.clicksOn("section[aria-label='Change the outcome'] button", "Allow it")
	u.find("ol[aria-label=Suggestions][aria-busy=false]")
	const first = "ol[aria-label=Suggestions] li:first-child"
	u.sees(first, "Add policy model-dev-1-to-price-db-1, from model-dev-1 to price-db-1: allow sql")
	u.sees(first, "no other flows change")
	u.sees(first, "1 expectation breaks: dev-not-to-prod")
	u.clicks(first + " button[aria-expanded]")
	u.sees(first, "dev-not-to-prod")
	u.find(first + " [aria-label='Flows that change']")
	u.clicksOn(first+" button", "Apply")
	u.sees("[data-testid=answer]", "Allowed by policy model-dev-1-to-price-db-1")
	u.steps(1)
}

// TestRulesAreFoundByWhatTheyDoAndChangedTogether finds what lets somebody reach a host, follows it
// to its path, and adds a service wherever another is, but for one rule object, as one edit.
func TestRulesAreFoundByWhatTheyDoAndChangedTogether(t *testing.T) {
	address, _ := serve(t, filepath.Join(t.TempDir(), "demo.db"))
	u := browse(t, 1280, 800)
	u.goTo(address + "/rules")
	u.clicksOn("nav[aria-label=Rules] a", "find by effect")
	u.sees("section", "Fill in at least one field")
	u.writes("[aria-label='To']", "10.60.2.11")
	u.presses(input.Enter)
	u.sees("[aria-label='What decides']", "historian-to-forecast")
	u.chooses("Outcome", "inspected")
	u.gone("[aria-label='What decides'] a[href*=collectors-store]")
	u.clicksOn("[aria-label='What decides'] button", "Show path")
	u.sees("[data-testid=answer]", "Inspected by breakwater at fjord (share historian-to-forecast, rule 1)")

	u.goTo(address + "/rules")
	u.clicksOn("nav[aria-label=Rules] a", "change several")
	u.chooses("Change", "add a service")
	u.writes("[aria-label='Beside service']", "web")
	u.writes("[aria-label='Service to add']", "tcp/8443")
	u.sees("section", "4 objects would change")
	u.clicksOn("[aria-label='What would change'] label", "crew-web")
	u.sees("[data-testid=consequence]", "office → internet")
	u.clicksOn("[data-testid=consequence] button:not([disabled])", "Change 3 objects")
	u.steps(1)
	u.sees("section", "1 object would change")
	u.clicksOn("[aria-label^=Draft] a", "Review")
	u.sees("[aria-label='Findings that change']", "Resolved: 1")
	u.applies()
	u.goTo(address + "/rules/policy/traders-web")
	u.sees("main", "tcp/8443")
}

// TestWhatIfAHubFails is asked of a hub on Lanes: which expectations break, and a flow that changes as
// it is now.
func TestWhatIfAHubFails(t *testing.T) {
	address, _ := serve(t, filepath.Join(t.TempDir(), "demo.db"))
	u := browse(t, 1280, 800)
	u.goTo(address + "/findings")
	u.clicksOn("[aria-label=Findings] a", "What if one thing fails")
	u.sees("section[aria-label='hub fjord']", "breaks 3 expectations")
	u.goTo(address + "/findings/failures?of=hub:fjord")
	u.sees("[aria-label=Failures]", "Only hub fjord")
	u.gone("section[aria-label='hub delta']")
	u.clicksOn("section[aria-label='hub fjord'] button", "forecast-1 → historian-1")
	u.sees("[data-testid=answer]", "Inspected by breakwater at fjord")
	u.goTo(address + "/rules/pool/breakwater")
	u.sees("[aria-label=Facts]", "If one of its firewalls fails")
}

// TestAnExpectationIsMadeOfACell makes an expectation of a cell of the board, and breaks it by
// an edit: that is said before the edit is made.
func TestAnExpectationIsMadeOfACell(t *testing.T) {
	address, _ := serve(t, filepath.Join(t.TempDir(), "demo.db"))
	u := browse(t, 1280, 800)
	u.goTo(address + "/board?row=turbine&col=contractor")
	u.clicksOn("aside button", "Expect this")
	u.sees("aside[aria-label=Facts]", "It holds.")
	u.clicksOn("button", "Add expectation")
	u.steps(1)
	u.sees("h1", "turbine-to-contractor-denied")

	u.goTo(address + "/rules/share/jump-to-bladeworks")
	u.clicks("button[aria-label^='one way']")
	u.chooses("Action of rule 1", "allow")
	u.sees("[data-testid=effect] [aria-label='Expectations that change']", "turbine-to-contractor-denied")
	u.steps(1)

	// The palette opens anything by name.
	require.NoError(t, u.page.KeyActions().Press(input.ControlLeft).Type('k').Do())
	u.types("add service")
	u.presses(input.Enter)
	u.find("input[aria-label=Name]")
	u.sees("nav[aria-label=Rules]", "new-service")
}

// TestATaskIsDoneByPattern fills in a pattern from its start to its end, and looks at the cell
// of the board that the policy decides.
func TestATaskIsDoneByPattern(t *testing.T) {
	address, _ := serve(t, filepath.Join(t.TempDir(), "demo.db"))
	u := browse(t, 1280, 800)
	u.goTo(address + "/rules")
	u.clicksOn("section[aria-label=Patterns] button", "Internet for a group through a firewall")
	u.sees("main", "The consequence is shown once every choice is made.")
	u.puts("group", "price-feeds")
	u.chooses("segment", "market")
	u.puts("services", "ssh")
	u.chooses("pool", "tidegate")
	u.puts("exits", "delta-out")
	u.sees("[aria-label='What is written']", "add group by-delta-out")
	u.sees("[aria-label='What is written']", "add policy price-feeds-internet")
	u.find("[data-testid=consequence] [aria-label='Flows that change']")
	u.clicksOn("[data-testid=consequence] button", "Apply")
	u.sees("h1", "price-feeds-internet")
	u.steps(1)
	u.clicksOn("a", "Show on the Board")
	u.sees("aside", "price-feeds in market to internet")
}

// TestTheScopeOfAPoolIsShown goes from a pool to Lanes and to the Board, where what it bears on
// stands out, and from a policy to the networks of its sides.
func TestTheScopeOfAPoolIsShown(t *testing.T) {
	address, _ := serve(t, filepath.Join(t.TempDir(), "demo.db"))
	u := browse(t, 1280, 800)
	u.goTo(address + "/rules/pool/tidegate")
	u.sees("[aria-label=Facts]", "market → the internet")
	u.clicksOn("a", "Show on Lanes")
	u.sees("[aria-label=Scope]", "flows pass tidegate at delta, tidegate at fjord")
	u.find("[data-lane=office][data-lit]")
	u.find("[data-hub=fjord][data-lit]")
	u.gone("[data-lane=turbine][data-lit]")
	u.gone("[data-hub=ridge][data-lit]")
	u.goTo(address + "/rules/policy/offices-web")
	u.clicksOn("a", "Show on the Board")
	u.find("[data-scope='offices in office to internet']")
	u.find("[data-scope='cabins in office to internet']")
	u.clicksOn("nav a", "Lanes")
	u.goTo(address + "/lanes?scope=policy:offices-web")
	u.find("[data-chip=harbour-west][data-lit]")
	u.gone("[data-chip=archive][data-lit]")
	u.clicksOn("[aria-label=Scope] button", "Clear scope")
	u.gone("[data-chip=harbour-west][data-lit]")
	u.goTo(address + "/board?scope=policy:offices-wbe")
	u.sees("[aria-label=Scope]", "there is no rule object")
}

// TestEachPatternDoesWhatItSays fills in every pattern, each on top of those before, and asks the
// draft whether what its sentence says is so.
func TestEachPatternDoesWhatItSays(t *testing.T) {
	address, _ := serve(t, filepath.Join(t.TempDir(), "demo.db"))
	u := browse(t, 1280, 800)
	draft := ""
	for _, p := range []struct {
		title   string
		fill    func()
		answers [][3]string // from, to and on; and what the answer begins with
		says    []string
	}{
		{"Two groups never meet", func() {
			u.puts("first group", "traders")
			u.puts("second group", "price-databases")
		}, [][3]string{{"trader-1", "price-db-1", "tcp/5432"}, {"price-db-1", "trader-1", "tcp/22"}}, []string{"Denied", "Denied"}},
		{"A partner reaches one place on named services", func() {
			u.puts("group of the partner", "traders")
			u.chooses("segment of the partner", "market")
			u.puts("group that is reached", "time-servers")
			u.chooses("segment that is reached", "office")
			u.puts("services", "ssh")
		}, [][3]string{{"trader-1", "time-1", "ssh"}, {"bid-engine", "time-1", "ssh"}}, []string{"Allowed", "Denied"}},
		{"Offer services to several segments", func() {
			u.puts("services", "web")
			u.puts("group", "patch-servers")
			u.chooses("segment of the group", "office")
			u.puts("segments that may reach it", "market")
			u.puts("segments that may reach it", "turbine")
		}, [][3]string{{"trader-1", "patches", "tcp/443"}, {"kelp-plc-1", "patches", "tcp/443"}, {"kelp-plc-1", "patches", "ssh"}}, []string{"Allowed", "Allowed", "Denied"}},
		{"Publish a service", func() {
			u.puts("services", "tcp/8443")
			u.puts("group", "portal-app")
			u.chooses("segment", "office")
			u.writes("[aria-label='public address']", "203.0.113.21")
			u.chooses("exit", "ridge-out")
		}, [][3]string{{"internet:198.51.100.7", "203.0.113.21", "tcp/8443"}, {"internet:198.51.100.7", "203.0.113.21", "tcp/22"}}, []string{"Allowed", "Unrouted"}},
		{"Protect a network that has a gateway of its own", func() {
			u.puts("network", "forecast-dev")
		}, [][3]string{{"model-dev-1", "198.51.100.7", "tcp/443"}}, []string{"Denied"}},
		{"Isolate a segment", func() {
			u.chooses("segment", "market")
		}, [][3]string{{"trader-1", "198.51.100.7", "tcp/443"}, {"forecast-1", "historian-1", "read-api"}}, []string{"Unrouted", "Unrouted"}},
		{"Isolate a segment", func() { // of which the exits serve no other by now
			u.chooses("segment", "office")
		}, [][3]string{{"crew-1", "198.51.100.7", "tcp/443"}, {"trader-1", "patches", "tcp/443"}, {"internet:198.51.100.7", "portal-web-1", "tcp/443"}, {"crew-1", "patches", "tcp/1"}}, []string{"Unrouted", "Unrouted", "Unrouted", "Denied"}},
	} {
		u.goTo(address + "/rules?" + draft)
		u.clicksOn("section[aria-label=Patterns] button", p.title)
		p.fill()
		u.find("[data-testid=consequence] [aria-label='Flows that change']")
		u.clicksOn("[data-testid=consequence] button", "Apply")
		draft = "draft=1"
		u.sees("[data-testid=draft-summary]", "step")
		u.gone("[data-testid=consequence]")
		for i, q := range p.answers {
			u.goTo(address + "/board?" + draft + "&from=" + q[0] + "&to=" + q[1] + "&on=" + q[2])
			u.sees("[data-testid=answer]", p.says[i])
		}
	}
}

// TestEveryKindIsCopiedSwitchedRenamedAndDeleted does so with an object of each kind, in one draft.
func TestEveryKindIsCopiedSwitchedRenamedAndDeleted(t *testing.T) {
	address, _ := serve(t, filepath.Join(t.TempDir(), "demo.db"))
	u := browse(t, 1280, 800)
	presses := func(button string) {
		u.clicksOn("[data-testid=effect][data-waiting=false] button:not([disabled])", button)
	}
	draft, steps := "", 0
	for _, x := range []struct {
		kind, name string
		switches   bool
		with       func() // what a copy cannot have in common with the first
	}{
		{"policy", "offices-web", true, nil},
		{"policy", "no-telnet", true, nil},
		{"share", "common-to-turbine", true, nil},
		{"publication", "landowners", true, func() { u.writes("[aria-label='Public address']", "203.0.113.30") }},
		{"expectation", "operators-steer", false, nil},
		{"segment", "market", false, nil},
		{"group", "crews", false, nil},
		{"service", "patching", false, nil},
		{"exit", "delta-out", false, nil},
		{"pool", "tidegate", false, nil},
		{"rulebook", "crew-web", false, nil},
	} {
		u.goTo(address + "/rules/" + x.kind + "/" + x.name + draft)
		u.clicks("button[aria-label=Copy]")
		copied := u.find("input[aria-label=Name]").MustProperty("value").Str()
		require.NotEqual(t, x.name, copied)
		if x.with != nil {
			x.with()
		}
		presses("Add")
		u.sees("h1", copied)
		steps++
		draft = "?draft=1"
		u.steps(steps)
		if x.switches {
			u.clicks("button[role=switch]")
			presses("Save")
			steps++
			u.steps(steps)
			u.find("button[role=switch][data-state=unchecked]")
			u.sees("nav[aria-label=Rules] [aria-current=page] span", "off")
		}
		u.clicks("button[aria-label=Rename]")
		u.writes("[role=dialog] input", "another-"+x.kind)
		u.clicksOn("[role=dialog] button:not([disabled])", "Rename")
		u.sees("h1", "another-"+x.kind)
		steps++
		u.steps(steps)
		u.clicks("button[aria-label=Delete]")
		u.clicksOn("[role=dialog] button:not([disabled])", "another-"+x.kind)
		u.sees("h1", "Rules")
		steps++
		u.steps(steps)
		u.gone("[role=dialog]")
	}
}
