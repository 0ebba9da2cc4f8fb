package e2e

import (
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// serveLarge starts the server with an estate of 100,000 workloads on 2,000 networks, in 32
// segments at 24 hubs.
func serveLarge(t *testing.T) string {
	t.Helper()
	if testing.Short() {
		t.Skip("takes a quarter of a minute")
	}
	dir := t.TempDir()
	text, err := exec.CommandContext(t.Context(), binary, "generate", "--size", "L", "--json").Output()
	require.NoError(t, err)
	file := filepath.Join(dir, "l.json")
	require.NoError(t, os.WriteFile(file, text, 0o600))
	return serveOwn(t, "--db", filepath.Join(dir, "l.db"), "--import", file)
}

// collisions tells of texts that a person sees one over another, or too small to read, in
// some part of the page.
const collisions = `(within) => {
	const out = [];
	const shown = [];
	const page = document.querySelector(within).getBoundingClientRect();
	const walk = document.createTreeWalker(document.querySelector(within), NodeFilter.SHOW_TEXT);
	for (let n = walk.nextNode(); n; n = walk.nextNode()) {
		if (!n.data.trim()) continue;
		const style = getComputedStyle(n.parentElement);
		if (style.visibility === "hidden" || style.opacity === "0" || n.parentElement.closest("[aria-hidden=true].sr-only, .sr-only")) continue;
		const range = document.createRange();
		range.selectNodeContents(n);
		let head = null; // what stays where it is when the rest is scrolled has a ground of its own
		for (let p = n.parentElement; p && !head; p = p.parentElement) if (getComputedStyle(p).position === "sticky") head = p;
		for (const r of range.getClientRects()) { // line by line
			// What a parent cuts off is not seen.
			let left = r.left, right = r.right, top = r.top, bottom = r.bottom;
			for (let p = n.parentElement; p; p = p.parentElement) {
				if (!(p instanceof HTMLElement) || getComputedStyle(p).overflow === "visible") continue;
				const b = p.getBoundingClientRect();
				left = Math.max(left, b.left); right = Math.min(right, b.right); top = Math.max(top, b.top); bottom = Math.min(bottom, b.bottom);
			}
			if (right - left < 1 || bottom - top < 1 || left > page.right || right < page.left || top > page.bottom || bottom < page.top) continue;
			if (parseFloat(style.fontSize) < 10.5) out.push("too small: " + n.data.trim() + " " + style.fontSize);
			shown.push({ node: n, text: n.data.trim(), left, right, top, bottom, head });
		}
	}
	for (let i = 0; i < shown.length; i++) {
		for (let k = i + 1; k < shown.length; k++) {
			const a = shown[i], b = shown[k];
			if (a.head !== b.head || a.node === b.node) continue;
			const wide = Math.min(a.right, b.right) - Math.max(a.left, b.left), high = Math.min(a.bottom, b.bottom) - Math.max(a.top, b.top);
			// A line of text is taller than its letters.
			if (wide > 2 && high > 6) out.push("over each other: " + a.text + " | " + b.text + " by " + wide.toFixed(0) + "x" + high.toFixed(0));
		}
	}
	return { texts: shown.length, out: out.slice(0, 8) };
}`

type collided struct {
	Texts int
	Out   []string
}

func (u *user) legible(within string, atLeast int, what string) {
	u.t.Helper()
	var c collided
	require.NoError(u.t, u.fresh().MustEval(collisions, within).Unmarshal(&c))
	assert.Empty(u.t, c.Out, what)
	assert.GreaterOrEqual(u.t, c.Texts, atLeast, "%s: there is something to read", what)
}

// fits looks whether all of a part of the page can be seen without moving it sideways.
func (u *user) fits(within, what string) {
	u.t.Helper()
	over := u.find(within).MustEval(`() => this.scrollWidth - this.clientWidth`).Int()
	assert.LessOrEqual(u.t, over, 0, "%s: %d points lie beyond the edge", what, over)
}

// TestALargeEstateIsLegible looks at Lanes of 32 segments, 24 hubs and 2,000 networks in each
// amount of detail, scrolled a way, and at the board of it.
func TestALargeEstateIsLegible(t *testing.T) {
	address := serveLarge(t)
	u := browse(t, 1280, 800)
	u.goTo(address + "/lanes")
	u.sees("main", "segment-00")
	const plane = "[aria-label=Lanes][tabindex]"
	for _, detail := range []string{"far", "counts", "names", "all"} {
		u.clicksOn("[aria-label='Level of detail'] button", detail)
		u.settles()
		u.legible(plane, 40, detail)
		u.find(plane).MustEval(`() => { this.scrollTop = 1500; this.scrollLeft = 900 }`)
		u.settles()
		u.legible(plane, 20, detail+", scrolled")
		u.find(plane).MustEval(`() => { this.scrollTop = 0; this.scrollLeft = 0 }`)
	}
	u.goTo(address + "/")
	u.sees("main", "segment-07")
	u.settles()
	u.legible("main", 40, "board")

	// What stands beside the lanes has long ways and long names.
	readable := func(what, within string, parts ...string) {
		u.settles()
		u.legible(within, 60, what)
		for _, part := range append(parts, "aside") {
			u.fits(part, what)
		}
	}
	u.goTo(address + "/lanes?lane=segment-00&hub=hub-02")
	u.sees("[aria-label=Routes]", "10.0.0.0/24")
	readable("routes", "aside")
	u.goTo(address + "/lanes?net=net-00080")
	u.sees("aside", "Segment")
	u.chooses("Segment of sub-0", "segment-16")
	u.sees("[aria-label='Flows that change']", "removed")
	readable("a placement", "aside")
	u.goTo(address + "/findings")
	u.sees("section[aria-label=Findings]", "Contested")
	readable("findings", "main", "section[aria-label=Findings]")

	// A question between two segments of it is answered over the lanes.
	u.goTo(address + "/lanes?from=segment-00&to=segment-01&on=tcp/443")
	u.sees("[data-testid=answer]", ".")
}
