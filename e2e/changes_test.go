package e2e

import (
	"path/filepath"
	"testing"

	"github.com/go-rod/rod/lib/input"
	"github.com/stretchr/testify/assert"
)

// adds opens turbine to the outside firms in a draft: a service more in the share of the jump host.
func (u *user) widensTheShare(service string) {
	u.t.Helper()
	u.sees("h1", "jump-to-bladeworks")
	u.clicks("[aria-label='services of rule 1']")
	u.types(service)
	u.presses(input.Enter)
	u.clicksOn("[data-testid=effect][data-waiting=false] button:not([disabled])", "Save")
}

// TestAnOwnerApproves is the way of a draft that lets contractors reach more of turbine: the
// owner is asked, and told why; the engineer cannot approve; the owner looks at the draft on
// the Board, comments and approves; it is applied; the path tells since when and by whom.
func TestAnOwnerApproves(t *testing.T) {
	address, _ := serve(t, filepath.Join(t.TempDir(), "demo.db"))
	u := browse(t, 1280, 800)
	u.name = "mira"
	u.goTo(address + "/rules/share/jump-to-bladeworks")
	u.widensTheShare("dns")
	u.steps(1)
	u.clicksOn("[aria-label^=Draft] a", "Review")
	u.sees("[aria-label='Who must approve']", "turbine")
	u.sees("[aria-label='Who must approve']", "Tove Brandal")
	u.sees("[aria-label='Who must approve']", "blade-crews (contractor)")
	u.sees("[data-testid=can-apply]", "owners of turbine must approve first")
	assert.True(t, u.sees("button", "Apply draft").MustProperty("disabled").Bool())
	u.clicksOn("button", "Submit for review")
	u.sees("[data-testid=state]", "in review")
	u.gone("button[data-approve]")

	u.becomes("tove")
	u.goTo(address + "/board?draft=1")
	u.sees("[aria-label^=Draft]", "in review")
	u.marks("contractor>turbine", "unrouted", "denied", "blocked", "inspected")
	u.find("[data-changed='contractor>turbine']")
	u.clicksOn("[aria-label^=Draft] a", "Review")
	u.clicks("[aria-label='Comment on share jump-to-bladeworks']")
	u.writes("[aria-label=Comment]", "until when?")
	u.clicksOn("form button", "Comment")
	u.sees("[aria-label=Comments]", "on share jump-to-bladeworks")
	u.sees("[aria-label=Comments]", "until when?")
	u.sees("[aria-label='Objects that change']", "1 open comment")
	u.clicksOn("button", "Approve for turbine")
	u.sees("[data-testid=state]", "approved")
	u.sees("[aria-label='Who must approve']", "approved by Tove Brandal")

	u.becomes("mira")
	u.goTo(address + "/board?draft=1")
	u.applies()
	u.goTo(address + "/board?from=blade-crew-1&to=jump-1&on=udp/53")
	u.sees("[data-testid=answer]", "Blocked by breakwater")
	u.clicksOn("[aria-label='Since when'] button", "Since when?")
	u.sees("[aria-label='Since when']", "written by Mira Holt (engineer), applied by Mira Holt (engineer), approved by Tove Brandal (owner of turbine) for turbine")
	u.sees("[aria-label='Since when']", "Before: Denied")
}

// TestTwoDraftsMeet lets two drafts change one policy: the second is shown all three versions,
// and decides.
func TestTwoDraftsMeet(t *testing.T) {
	address, _ := serve(t, filepath.Join(t.TempDir(), "demo.db"))
	u := browse(t, 1280, 800)
	change := func(description string) {
		t.Helper()
		u.goTo(address + "/rules/policy/crews-web")
		u.writes("[aria-label=Description]", description)
		u.clicksOn("[data-testid=effect][data-waiting=false] button:not([disabled])", "Save")
		u.steps(1)
	}
	change("what the first says")
	u.clicksOn("button", "Show applied estate")
	u.gone("[data-testid=draft-summary]")
	change("what the second says")
	u.goTo(address + "/changes/1?draft=1")
	u.applies()
	u.goTo(address + "/changes/2?draft=2")
	u.sees("[aria-label=Conflicts]", "1 conflict")
	u.sees("[aria-label=Conflicts]", "what the first says")
	u.sees("[aria-label=Conflicts]", "what the second says")
	assert.True(t, u.sees("button", "Apply draft").MustProperty("disabled").Bool())
	u.clicksOn("[aria-label=Conflicts] button", "Take the draft’s version")
	u.gone("[aria-label=Conflicts]")
	u.applies()
	u.goTo(address + "/rules/policy/crews-web")
	assert.Equal(t, "what the second says", u.find("[aria-label=Description]").MustProperty("value").Str())
}

// TestTheEstateAsItWas asks the estate of an earlier revision, sees what differs, and rolls
// back.
func TestTheEstateAsItWas(t *testing.T) {
	address, _ := serve(t, filepath.Join(t.TempDir(), "demo.db"))
	u := browse(t, 1280, 800)
	const question = "/board?from=crew-1&to=198.51.100.7&on=tcp/443"
	u.goTo(address + "/rules/policy/crews-web")
	u.clicks("button[role=switch]")
	u.clicksOn("[data-testid=effect][data-waiting=false] button:not([disabled])", "Save")
	u.applies()
	u.goTo(address + question)
	u.sees("[data-testid=answer]", "Denied")
	u.goTo(address + question + "&as-of=2")
	u.sees("[data-testid=answer]", "Inspected by tidegate")
	u.sees("[aria-label='Estate as of revision 2']", "Read-only")
	u.clicksOn("button", "Show applied estate")
	u.sees("[data-testid=answer]", "Denied")

	u.goTo(address + "/changes/history")
	u.clicksOn("table a", "rune-")
	u.sees("[aria-label='Objects that change']", "crews-web")
	u.sees("[aria-label='Flows that change']", "office → internet")
	u.goTo(address + "/changes/history")
	u.clicksOn("table button", "Roll back")
	u.sees("h1", "roll-back-3")
	u.sees("[aria-label='Objects that change']", "crews-web")
	u.applies()
	u.goTo(address + question)
	u.sees("[data-testid=answer]", "Inspected by tidegate")
}

// TestAnEmergency applies a draft without approval: it stays marked until the owner has
// reviewed it. The auditor reads that, and can change nothing.
func TestAnEmergency(t *testing.T) {
	address, _ := serve(t, filepath.Join(t.TempDir(), "demo.db"))
	u := browse(t, 1280, 800)
	u.name = "mira"
	u.goTo(address + "/rules/share/jump-to-bladeworks")
	u.widensTheShare("dns")
	u.steps(1)
	u.clicksOn("[aria-label^=Draft] a", "Review")
	u.clicksOn("button", "Apply without approval…")
	u.sees("[role=dialog]", "Why it cannot wait")
	u.types("turbine 4 does not stop")
	u.clicksOn("[role=dialog] button:not([disabled])", "Apply without approval")
	u.sees("[data-testid=state]", "applied as revision 3")

	u.becomes("sol")
	u.goTo(address + "/changes/history")
	u.sees("table", "Applied without approval: turbine 4 does not stop. Not reviewed yet.")
	u.goTo(address + "/people/audit")
	u.sees("table", "emergency, without approvals: turbine 4 does not stop")
	u.sees("section", "are intact. Head:")
	u.goTo(address + "/rules/policy/crews-web")
	u.clicks("button[role=switch]")
	u.sees("[data-testid=effect]", "Only engineers can save this.")
	assert.True(t, u.sees("[data-testid=effect] button", "Save").MustProperty("disabled").Bool())
	u.clicksOn("[data-testid=effect] button", "Discard")

	u.becomes("tove")
	u.goTo(address + "/findings")
	u.sees("[aria-label=Outside]", "Revision 3 was applied in an emergency and is not reviewed")
	u.goTo(address + "/changes/history")
	u.clicksOn("table button", "Mark as reviewed")
	u.sees("table", "Reviewed by Tove Brandal")
	u.goTo(address + "/findings")
	u.sees("[aria-label=Findings]", "No faults")
	assert.NotContains(t, u.find("[aria-label=Findings]").MustText(), "applied in an emergency")
	u.becomes("sol")
	u.goTo(address + "/people/audit")
	u.sees("table", "emergency reviewed")
}

// TestAFreezeHoldsChangesBack declares a freeze: a draft cannot be applied, and it is said why; in an
// emergency it can, and stays marked.
func TestAFreezeHoldsChangesBack(t *testing.T) {
	address, _ := serve(t, filepath.Join(t.TempDir(), "demo.db"))
	u := browse(t, 1280, 800)
	u.name = "rune"
	u.goTo(address + "/changes/windows")
	u.sees("section", "There are none")
	u.chooses("Kind", "freeze")
	u.chooses("Segment", "office")
	u.writes("input[placeholder='2026-12-20']", "2020-01-01")
	u.writes("input[placeholder='2027-01-02']", "2999-12-31")
	u.clicksOn("form button", "Add")
	u.sees("table", "frozen from 2020-01-01 to 2999-12-31")
	u.goTo(address + "/rules/policy/crews-web")
	u.clicks("button[role=switch]")
	u.clicksOn("[data-testid=effect][data-waiting=false] button:not([disabled])", "Save")
	u.clicksOn("[aria-label^=Draft] a", "Review")
	u.sees("[data-testid=can-apply]", "segment office: frozen from 2020-01-01 to 2999-12-31")
	assert.True(t, u.sees("button", "Apply draft").MustProperty("disabled").Bool())
	u.clicksOn("button", "Apply in an emergency…")
	u.sees("[role=dialog]", "Why it cannot wait")
	u.types("the proxy leaks")
	u.clicksOn("[role=dialog] button:not([disabled])", "Apply in an emergency")
	u.sees("[data-testid=state]", "applied as revision")
	u.goTo(address + "/changes/windows")
	u.clicksOn("table button", "Remove")
	u.sees("section", "There are none")
}
