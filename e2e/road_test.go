package e2e

import (
	"path/filepath"
	"testing"

	"github.com/go-rod/rod/lib/input"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestTheFirstRoad does what an engineer with a ticket does: asks, looks at the
// board, opens a cell, edits a policy, sees the board change, and finds it kept
// after a reload and a restart.
func TestTheFirstRoad(t *testing.T) {
	db := filepath.Join(t.TempDir(), "demo.db")
	address, stop := serve(t, db)
	u := browse(t, 1280, 800)
	u.goTo(address)
	u.marks("office>internet", "denied", "inspected", "blocked", "unrouted")

	// Ask by keyboard alone: the slash goes to the question, proposals are
	// chosen by arrow and Enter, Enter on the last field asks.
	u.presses('/')
	u.types("crew-1")
	u.sees("li[role=option]", "crew-1")
	u.presses(input.ArrowDown, input.Enter)
	u.types("internet")
	u.presses(input.Enter)
	u.types("web")
	u.presses(input.Enter)
	u.sees("[data-testid=answer]", "It depends: ")
	u.sees("[data-testid=lines]", "tcp/80, tcp/443")
	u.sees("[data-testid=lines]", "udp/443")

	// A question about one flow shows its road at once, and is in the address.
	u.goTo(address + "/board?from=crew-1&to=198.51.100.7&on=tcp/443")
	u.sees("[data-testid=answer]", "Inspected by tidegate at delta (policy crews-web, rule 1).")
	u.sees("[data-testid=road]", "rulebook crew-web rule 2: pass")
	u.reload()
	u.sees("[data-testid=answer]", "Inspected by tidegate at delta (policy crews-web, rule 1).")

	// Open a segment to its groups, and a cell to its services.
	u.clicks(`[aria-label="Open office"]`)
	u.marks("office/crews>internet", "denied", "inspected", "blocked")
	u.clicksCell("office/crews>internet")
	u.sees("[data-testid=lines]", "tidegate · crews-web")
	u.sees("[data-testid=lines]", "rulebook crew-web")

	// Switch the policy off; see what changes before it is saved, and after.
	u.sees("a", "Rules").MustClick()
	u.clicks("[aria-label='Find a rule']")
	u.types("inspect web")
	u.gone("a[href*='collectors-poll']")
	u.sees("a", "crews-web").MustClick()
	u.clicks("button[role=switch]")
	u.sees("[data-testid=effect]", "2 cells change")
	u.sees("[data-testid=effect]", "crews in office")
	u.sees("[aria-label='Expectations that change']", "crews-web-inspected")
	u.sees("button", "Save").MustClick()
	u.gone("[data-testid=effect]")
	u.sees("a", "Board").MustClick()
	u.marks("office/crews>internet", "denied")
	u.sees("[data-testid=answer]", "Denied: no policy permits it")
	u.reload()
	u.marks("office/crews>internet", "denied")

	stop()
	address, _ = serve(t, db)
	u.goTo(address + "/board?open=office&draft=1")
	u.marks("office/crews>internet", "denied")
	u.applies()
	u.goTo(address + "/board?open=office")
	u.marks("office/crews>internet", "denied")
}

// TestABadEdit types names that nothing bears: they are refused where they
// stand, nothing typed is lost, and nothing is saved.
func TestABadEdit(t *testing.T) {
	address, _ := serve(t, filepath.Join(t.TempDir(), "demo.db"))
	u := browse(t, 1280, 800)
	u.goTo(address + "/rules/policy/crews-web")
	u.sees("h1", "crews-web")

	u.clicks("[aria-label='services of rule 1']")
	u.types("wbe")
	u.presses(input.Enter)
	u.sees("[role=alert]", `refers to unknown service "wbe"`)
	u.sees("[role=alert]", "did you mean web?")
	u.sees("[data-testid=effect]", "It cannot be applied with this fault")
	save := u.sees("button", "Save")
	assert.True(t, save.MustProperty("disabled").Bool())

	u.clicks("[aria-label='from groups']")
	u.types("crewz")
	u.presses(input.Enter)
	u.sees("[role=alert]", `refers to unknown group "crewz"`)

	// Nothing is lost on reload, and the estate is as it was.
	u.reload()
	u.sees("[role=alert]", `refers to unknown service "wbe"`)
	u.sees("footer", "revision 2")

	// Fix it: remove the bad names, and change something that can be.
	u.clicks("[aria-label='Remove wbe from services of rule 1']")
	u.clicks("[aria-label='Remove crewz from from groups']")
	u.gone("[data-testid=effect]")
	u.clicks("[aria-label='services of rule 1']")
	u.types("tcp/8443")
	u.presses(input.Enter)
	u.sees("[data-testid=effect]", "read-api") // which is just tcp/8443
	u.sees("button", "Save").MustClick()
	u.steps(1)
}

// TestAFaultIsKeptInADraft keeps an edit that brings a fault, to go on later: the draft holds
// it, and its review says that it cannot be applied and why, until the fault is gone.
func TestAFaultIsKeptInADraft(t *testing.T) {
	address, _ := serve(t, filepath.Join(t.TempDir(), "demo.db"))
	u := browse(t, 1280, 800)
	u.goTo(address + "/rules/policy/crews-web")
	u.clicks("[aria-label='services of rule 1']")
	u.types("wbe")
	u.presses(input.Enter)
	u.clicksOn("[data-testid=effect] button", "Keep in the draft anyway")
	u.steps(1)
	u.clicksOn("[aria-label^=Draft] a", "Review")
	u.sees("main", `unknown service "wbe"`)
	assert.True(t, u.sees("button", "Apply draft").MustProperty("disabled").Bool())

	u.goTo(address + "/rules/policy/crews-web")
	u.clicks("[aria-label='Remove wbe from services of rule 1']")
	u.sees("[data-testid=effect]", "No flows change")
	u.clicksOn("[data-testid=effect] button:not([disabled])", "Save")
	u.steps(2)
	u.clicksOn("[aria-label^=Draft] a", "Review")
	u.sees("main", "it changes nothing") // and has no fault
}

// TestTwoPeople edits one policy of one draft from two pages: the second is shown both
// versions, and nothing is overwritten until one is chosen.
func TestTwoPeople(t *testing.T) {
	address, _ := serve(t, filepath.Join(t.TempDir(), "demo.db"))
	mine, theirs := browse(t, 1280, 800), browse(t, 1280, 800)
	theirs.goTo(address + "/changes")
	theirs.clicksOn("button", "Begin draft")
	theirs.sees("h1", "rune-")
	mine.name = "mira"
	mine.goTo(address + "/rules/policy/crews-web?draft=1")
	theirs.goTo(address + "/rules/policy/crews-web?draft=1")
	mine.sees("[aria-label^=Draft]", "Rune Falk (administrator) is here, with policy crews-web open")
	mine.clicks("button[role=switch]")
	mine.sees("[data-testid=effect]", "2 cells change")

	theirs.clicks("[aria-label='Remove rule 2']")
	theirs.sees("[data-testid=effect]", "by another rule") // denied by the default instead
	theirs.sees("button", "Save").MustClick()
	theirs.steps(1)

	mine.sees("[role=alert]", "Someone else changed this policy")
	mine.sees("[role=alert]", "inspect web by tidegate")
	theirs.reload()
	theirs.steps(1) // nothing was overwritten

	mine.sees("button", "Keep mine").MustClick()
	mine.gone("[role=alert]")
	mine.clicksOn("[data-testid=effect][data-waiting=false] button:not([disabled])", "Save")
	mine.steps(2)
}

// TestByKeyboard walks over the board, opens a cell and closes it, and asks for
// the list of shortcuts, with no hand on the mouse.
func TestByKeyboard(t *testing.T) {
	address, _ := serve(t, filepath.Join(t.TempDir(), "demo.db"))
	u := browse(t, 1280, 800)
	u.goTo(address)
	u.marks("turbine>internet", "unrouted")
	u.presses('?')
	u.sees("[role=dialog]", "ask a question")
	u.presses(input.Escape)
	u.gone("[role=dialog]")

	require.NoError(t, u.find("[role=grid]").Focus())
	u.presses(input.ArrowDown, input.ArrowDown, input.ArrowDown, 'o') // open turbine
	u.over("turbine/operators>turbine/controllers")
	u.presses(input.ArrowRight, input.ArrowRight, input.ArrowRight, input.Enter)
	u.sees("aside", "turbine to turbine")
	u.presses(input.ArrowDown) // the selection moves, and the panel with it
	u.sees("aside", "collectors in turbine to turbine")
	u.presses(input.Escape)
	u.gone("aside")
	u.reload()
	u.find(`[aria-expanded=true][aria-label="Close turbine"]`)

	// What was asked before comes back with Alt and the arrows.
	u.goTo(address + "/board")
	u.find("[role=grid]")
	u.presses('/')
	u.types("jump-1")
	u.presses(input.Enter)
	u.types("kelp-plc-1")
	u.presses(input.Enter)
	u.types("ssh")
	u.presses(input.Enter)
	u.sees("[data-testid=answer]", "Policies conflict.")
	u.sees("button", "Clear").MustClick()
	u.gone("[data-testid=answer]")
	u.presses('/')
	require.NoError(t, u.fresh().KeyActions().Press(input.AltLeft).Type(input.ArrowUp).Release(input.AltLeft).Do())
	require.Equal(t, "kelp-plc-1", u.find("#question-to-input").MustProperty("value").Str())
}
