package e2e

import (
	"path/filepath"
	"testing"
	"time"

	"github.com/go-rod/rod/lib/input"
	"github.com/go-rod/rod/lib/proto"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// drags takes a thing with the mouse to a place. The browser hands the drag over
// once it has begun, as it would to the system.
func (u *user) drags(from, to string) {
	u.t.Helper()
	middle := func(selector string) (at proto.Point) {
		require.Eventually(u.t, func() bool { // it may be drawn anew just then
			shape, err := u.find(selector).Shape()
			if err != nil || shape.Box() == nil {
				return false
			}
			box := shape.Box()
			at = proto.Point{X: box.X + box.Width/2, Y: box.Y + box.Height/2}
			return true
		}, patience, 50*time.Millisecond, "waiting for %s to be drawn", selector)
		return at
	}
	a, b := middle(from), middle(to)
	page := u.fresh()
	require.NoError(u.t, proto.InputSetInterceptDrags{Enabled: true}.Call(page))
	var begun proto.InputDragIntercepted
	wait := page.WaitEvent(&begun)
	require.NoError(u.t, page.Mouse.MoveTo(a))
	require.NoError(u.t, page.Mouse.Down(proto.InputMouseButtonLeft, 1))
	require.NoError(u.t, page.Mouse.MoveLinear(proto.Point{X: a.X + 20, Y: a.Y + 30}, 3))
	wait()
	for _, step := range []proto.InputDispatchDragEventType{proto.InputDispatchDragEventTypeDragEnter, proto.InputDispatchDragEventTypeDragOver, proto.InputDispatchDragEventTypeDrop} {
		require.NoError(u.t, proto.InputDispatchDragEvent{Type: step, X: b.X, Y: b.Y, Data: begun.Data}.Call(page))
	}
	require.NoError(u.t, page.Mouse.Up(proto.InputMouseButtonLeft, 1))
	require.NoError(u.t, proto.InputSetInterceptDrags{Enabled: false}.Call(page))
}

// does presses the button of an edit, once it is worked out what that changes.
func (u *user) does(within, button string) {
	u.t.Helper()
	u.sees(within+" [data-testid=consequence] button:enabled", button).MustClick()
}

// TestPlacingANetwork places the network that waits: it is refused for an
// overlap, translated, attached, looked at, and taken back.
func TestPlacingANetwork(t *testing.T) {
	address, _ := serve(t, filepath.Join(t.TempDir(), "demo.db"))
	u := browse(t, 1280, 800)
	u.goTo(address)
	u.sees("nav a", "Lanes").MustClick()
	u.drags("[data-tray=tide-lab]", "[data-cell='office delta']")
	u.sees("aside h2", "tide-lab")
	refused := u.sees("[aria-label=Refused]", "subnet harbour-east/lan (10.31.0.0/24)")
	assert.Contains(t, refused.MustText(), "10.31.0.64/26")
	button := u.sees("[data-testid=consequence] button", "Place network")
	assert.True(t, button.MustProperty("disabled").Bool(), "what is refused cannot be done")
	u.clicksOn("[aria-label=Refused] button", "translate tide-lab/bench for office to 100.64.0.0/26")
	u.sees("[aria-label='Routes that change']", "100.64.0.0/26")
	u.sees("[aria-label='Flows that change']", "office")
	u.does("aside", "Place network")
	u.gone("[data-tray=tide-lab]")
	u.find("[data-chip=tide-lab][data-state=up]")

	u.goTo(address + "/lanes?from=staff-1&to=tide-gauge-1&on=tcp/443")
	u.sees("[data-testid=answer]", "Allowed")
	u.find("[data-testid=course]")
	u.clicksOn("button", "Show the path")
	u.sees("[data-testid=road]", "100.64.0.6, inside 10.31.0.70")
	u.goTo(address + "/lanes?from=tide-gauge-1&to=10.31.0.80&on=tcp/443")
	u.sees("[data-testid=answer]", "delivers it locally")

	u.clicksOn("button", "Undo")
	u.find("[data-tray=tide-lab]")
}

// TestAShareThatShowsOtherAddresses places a network that a share would bring where
// its addresses are used, lets the share show others, and looks at the shares.
func TestAShareThatShowsOtherAddresses(t *testing.T) {
	address, _ := serve(t, filepath.Join(t.TempDir(), "demo.db"))
	u := browse(t, 1280, 800)
	u.goTo(address + "/lanes")
	u.drags("[data-tray=tide-lab]", "[data-cell='turbine delta']")
	u.sees("[aria-label=Refused]", "where the same address is already in use")
	u.clicksOn("[aria-label=Refused] button", "in share common-to-turbine, translate 10.31.0.64/26 of turbine for office to 100.64.0.0/26")
	u.sees("[aria-label='Flows that change']", "turbine")
	u.does("aside", "Place network")
	u.gone("[data-tray=tide-lab]")
	u.clicks("[aria-label='3 shares of turbine']")
	row := u.sees("[aria-label^='Translations of']", "10.31.0.64/26")
	assert.Contains(t, row.MustText(), "office sees 10.31.0.64/26 as 100.64.0.0/26")
	u.clicksOn("[aria-label^='Translations of'] button", "remove")
	u.sees("[aria-label=Refused]", "where the same address is already in use")
	u.clicksOn("button", "Undo")
	u.find("[data-tray=tide-lab]")
}

// TestWhyThingsDoNotWork finds why a farm is cut off, heals the archive, and
// decides what a site may announce.
func TestWhyThingsDoNotWork(t *testing.T) {
	address, _ := serve(t, filepath.Join(t.TempDir(), "demo.db"))
	u := browse(t, 1280, 800)
	u.goTo(address + "/lanes")
	u.find("[data-chip=outer-sound][data-state=down]")
	u.clicksOn("button", "outer-sound@fjord is down")
	u.sees("[aria-label='Problems'] li", "10.255.13.1, is a private address, which the hub cannot dial")
	u.sees("[aria-label='Problems'] li", "tidegate-delta-2")
	u.clicks("[data-chip=outer-sound]")
	u.sees("[data-attached=fjord]", "a private address")

	u.goTo(address + "/lanes?from=staff-1&to=archive-1&on=tcp/443")
	u.sees("[data-testid=answer]", "no return path")
	u.clicks("[aria-label='Routes of office at ridge']")
	u.writes("[aria-label='Find a route by address, prefix or name']", "10.81.0.11")
	u.sees("aside", "the longest match comes first")
	u.sees("[data-route='10.81.0.0/24'][data-state=one-way]", "no return path to")
	u.clicksOn("[data-route='10.81.0.0/24'] button", "offer the hub of portal to archive")
	u.sees("[aria-label='Flows that change']", "office")
	u.does("aside", "Apply fix")
	u.find("[data-route='10.81.0.0/24'][data-state=ok]")
	u.sees("[data-testid=answer]", "Allowed")

	u.goTo(address + "/lanes?net=head-office")
	u.sees("[data-learned='10.31.0.128/25']", "would overlap subnet harbour-east/lan")
	u.clicksOn("[data-learned='10.31.0.128/25'] button", "accept")
	u.sees("[data-learned='10.31.0.128/25'] [aria-label=Refused]", "both claim the same addresses")
	u.clicksOn("[data-learned='10.31.0.128/25'] button", "refuse")
	u.does("[data-learned='10.31.0.128/25']", "Refuse prefix")
	u.sees("[data-learned='10.31.0.128/25']", "refused")
	u.clicksOn("[data-learned='10.42.0.0/24'] button", "accept")
	u.does("[data-learned='10.42.0.0/24']", "Accept prefix")
	u.gone("[data-learned='10.42.0.0/24']")
	u.goTo(address + "/lanes?lane=office&hub=delta")
	u.sees("[data-route='10.42.0.0/24']", "learned")
}

// TestLanesByKeyboard goes to a place, opens its routes and comes back, without a
// mouse.
func TestLanesByKeyboard(t *testing.T) {
	address, _ := serve(t, filepath.Join(t.TempDir(), "demo.db"))
	u := browse(t, 1280, 800)
	u.goTo(address + "/lanes")
	u.writes("[aria-label='Go to a network, hub or segment']", "portal")
	u.presses(input.Enter)
	u.presses(input.ArrowDown, input.ArrowUp, input.ArrowLeft, input.Enter)
	u.sees("aside h2", "office at fjord")
	u.presses(input.Minus)
	u.find("button[aria-pressed=true]")
	u.sees("button[aria-pressed=true]", "counts")
}
