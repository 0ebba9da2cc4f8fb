package e2e

import (
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/go-rod/rod/lib/input"
	"github.com/stretchr/testify/require"
)

// outside is the world that accounts are read from, played by the binary.
type outside struct {
	t         *testing.T
	endpoints map[string]string // by provider
	play      string
}

var printed = regexp.MustCompile(`^\S+ +(\w+) +(http://\S+)`)

func startOutside(t *testing.T) *outside {
	t.Helper()
	lines, _ := start(t, 7, "standins", "--port", "0")
	w := &outside{t, map[string]string{}, ""}
	for _, line := range lines[:6] {
		m := printed.FindStringSubmatch(line)
		require.NotNil(t, m, line)
		w.endpoints[m[1]] = m[2]
	}
	_, w.play, _ = strings.Cut(lines[6], "go): ")
	return w
}

// does sends something to the interface that plays with the world.
func (w *outside) does(path, body string) {
	w.t.Helper()
	r, err := http.NewRequestWithContext(w.t.Context(), http.MethodPut, w.play+path, strings.NewReader(body))
	require.NoError(w.t, err)
	answer, err := http.DefaultClient.Do(r)
	require.NoError(w.t, err)
	require.NoError(w.t, answer.Body.Close())
	require.Equal(w.t, http.StatusNoContent, answer.StatusCode, path)
}

// TestTakingStock begins with an empty database, as an engineer on the first day
// does: connects an account, reads it, sorts its tags into labels, makes a group,
// and sees a machine that comes later in it; and then an account whose provider
// is slow and fails half-way.
func TestTakingStock(t *testing.T) {
	world := startOutside(t)
	address := serveOwn(t, "--db", filepath.Join(t.TempDir(), "empty.db"))
	u := browse(t, 1280, 800)
	u.goTo(address)
	u.sees("h1", "No estate yet")
	u.clicksOn("section[aria-label=Begin] a", "Connect an account")

	// A wrong token is told at its field; nothing is kept.
	connect := func(provider string, fields map[string]string) {
		u.clicks("label:has(input[value=" + provider + "])")
		for name, text := range fields {
			u.writes("[role=dialog] input[name="+name+"]", text)
		}
		u.clicksOn("[role=dialog] button[type=submit]", "Connect")
	}
	connect("cirra", map[string]string{"name": "north", "endpoint": world.endpoints["cirra"], "account": "cirra-north", "secret": "a guess"})
	u.sees("[role=alert]", "the provider rejected the credential")
	connect("cirra", map[string]string{"secret": "grayshoal-token-north"})
	u.gone("[role=dialog]")

	u.sees("[data-testid=reading-north]", "connected, never synced")
	u.clicksOn("[data-thing='account:north'] button", "Sync")
	u.sees("[data-testid=reading-north]", "3 networks new, 13 workloads new")
	u.writes("[aria-label=Find]", "10.60.2.11")
	u.clicksOn("[data-thing='workload:historian-1']", "historian-1")
	u.sees("aside", "lifecycle: live")
	u.sees("aside", "none yet")

	// Tags to labels, until nothing is unlabelled; what has no tag gets its label
	// by hand.
	u.goTo(address + "/estate/labels")
	u.sees("[data-testid=mapping]", "13 workloads have no label")
	u.clicksOn("[aria-label=Tags] button", "Map App")
	u.writes("[aria-label='Rule 1 tag']", "app|application")
	u.sees("[data-testid=mapping]", "2 workloads have no label")
	u.clicksOn("[aria-label=Tags] button", "Map Environment")
	u.writes("[aria-label='Rule 2 tag']", "env|environment|lifecycle")
	u.writes("[aria-label='Rule 2 with value']", "prod|production|live")
	u.writes("[aria-label='Rule 2 label']", "env")
	u.writes("[aria-label='Rule 2 label value']", "prod")
	u.sees("[data-workload=historian-1]", "env=prod")
	u.clicksOn("[aria-label=Tags] button", "Map Environment")
	u.sees("[data-testid=mapping]", "1 workload has no label")
	u.clicksOn("button", "Save mapping")
	u.sees("[data-testid=mapping]", "1 workload has no label of 13 that were read")
	u.clicksOn("[data-workload=rov-store] a", "rov-store")
	u.writes("[aria-label='Add label']", "app=rov")
	u.clicksOn("aside button", "Set")
	u.sees("[data-testid=consequence]", "No flows change")
	u.clicksOn("aside button:not([disabled])", "Save labels")
	u.gone("aside [data-testid=consequence]")
	u.find("aside [aria-label='Take label app off']")
	u.applies()
	u.goTo(address + "/estate/labels")
	u.sees("[data-testid=mapping]", "Every workload has a label")

	// Two workloads into a group, by label.
	u.goTo(address + "/estate?group=1")
	u.writes("[role=dialog] input[name=name]", "historians")
	u.writes("[role=dialog] input[name=match]", "app in (historian")
	u.sees("[role=alert]", "app in (historian")
	u.writes("[role=dialog] input[name=match]", "app=historian")
	u.sees("[data-testid=members]", "historian-1, historian-2")
	u.clicksOn("button[type=submit]", "Add group")
	u.gone("[role=dialog]")
	u.applies()

	// A machine that the world adds is in it after syncing again, by itself.
	world.does("/accounts/cirra-north/machines", `{"id":"m-late","name":"Historian 3","network":"net-telemetry","addresses":["10.60.2.13"],"tags":{"APPLICATION":"Historian"}}`)
	u.goTo(address + "/estate?thing=account:north")
	u.clicksOn("[data-thing='account:north'] button", "Sync again")
	u.sees("[data-testid=reading-north]", "1 workload new")
	u.sees("[data-testid=report]", "historians + historian-3")
	u.goTo(address + "/estate?thing=group:historians")
	u.sees("aside", "3 workloads are members")
	u.sees("aside", "historian-3")

	// Velum is slow, and fails half-way: what was read is kept, and it goes on.
	u.goTo(address + "/estate?connect=1")
	connect("velum", map[string]string{"name": "central", "endpoint": world.endpoints["velum"], "key": "gs-central", "secret": "velum-secret-central"})
	u.gone("[role=dialog]")
	world.does("/accounts/velum-central/fault", `{"kind":"gone","after":1,"wait":200}`)
	u.clicksOn("[data-thing='account:central'] button", "Sync")
	u.find("[data-testid=reading-central] [role=progressbar]")
	u.sees("[data-testid=reading-central]", "partial (4 of ")
	u.sees("[data-testid=reading-central]", "4 networks new")
	world.does("/accounts/velum-central/fault", `{"kind":"none","wait":100}`)
	u.clicksOn("[data-thing='account:central'] button", "Resume")
	u.sees("[data-testid=reading-central]", "17 workloads new")
	u.reload()
	u.sees("[data-testid=reading-central]", "17 workloads new")
	u.goTo(address + "/begin")
	u.sees("h1", "Progress")
}

// TestLookingAround walks the tree by keyboard, works through a finding to the
// thing it names, and looks at a document before it replaces anything.
func TestLookingAround(t *testing.T) {
	address, _ := serve(t, filepath.Join(t.TempDir(), "demo.db"))
	u := browse(t, 1280, 800)
	u.goTo(address + "/estate")
	u.find("[data-thing='account:cirra-north']")
	require.NoError(t, u.find("[role=treegrid]").Focus())
	u.presses(input.ArrowRight) // opens the first account
	u.find("[data-thing='region:cirra-north/north']")
	u.presses(input.ArrowDown, input.ArrowRight)
	u.find("[data-thing='network:common']")
	u.presses(input.ArrowDown, input.Enter)
	u.sees("aside", "network common")
	u.sees("aside", "attachment common@fjord")
	u.reload()
	u.sees("aside", "network common")
	u.find("[data-thing='network:common']") // what was open is open
	require.NoError(t, u.find("[role=treegrid]").Focus())
	u.presses(input.ArrowLeft)
	u.gone("[data-thing='region:cirra-north/north']")

	// A region has no sheet: a click opens it.
	u.clicks("[aria-label='Open stratok-south']")
	u.clicksOn("[data-thing='region:stratok-south/south']", "south")
	u.find("[data-thing='network:portal']")
	u.sees("aside", "network common")

	// What no segment holds, and whose a machine is.
	u.goTo(address + "/estate?unplaced=1")
	u.sees("[data-thing='network:tide-lab']", "none yet")
	u.goTo(address + "/estate?find=seabed")
	u.sees("section[aria-label=Estate]", "Nothing found for")
	u.goTo(address + "/estate")
	u.clicksOn("[data-thing='account:cirra-surveys'] button", "Sync")
	u.sees("[data-testid=reading-cirra-surveys]", "1 workload left out")
	u.clicksOn("[data-thing='account:cirra-north'] button", "Sync")
	u.sees("[data-testid=reading-cirra-north]", "2 workloads new")
	u.clicksOn("[data-thing='account:cirra-surveys'] button", "Sync again")
	u.sees("[data-testid=reading-cirra-surveys]", "1 workload new")
	u.goTo(address + "/estate?find=seabed")
	u.sees("[data-thing='workload:seabed-maps']", "of cirra-surveys")

	// A finding leads to the thing that it names, with all that touches it.
	u.goTo(address + "/findings")
	u.clicksOn("section[aria-label=Findings] button", "tidegate-delta-2")
	u.sees("aside", "How to fix it")
	u.clicksOn("aside a", "tidegate")
	u.sees("aside h3", "In the document")
	u.sees("aside", "crew-web")

	// A document that cannot be read says where; one that can, what it changes.
	imports := func(text string) {
		file := filepath.Join(t.TempDir(), "estate.yaml")
		require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
		require.NoError(t, u.find("[aria-label=Document]").SetFiles([]string{file}))
	}
	u.goTo(address + "/estate?import=1")
	imports("bivium: 1\nestate: small\nsegments:\n  - {name: office, defualt: deny}\n")
	u.sees("[role=dialog] [role=alert]", "line 4")
	imports("bivium: 1\nestate: small\nsegments:\n  - {name: office}\n")
	u.sees("[data-testid=import]", "No faults")
	u.sees("[data-testid=import]", "removed")
	u.clicksOn("[role=dialog] button", "Replace estate")
	u.sees("footer", "0 workloads")
	u.steps(1)
}

// TestTheDemoFromNothing takes the third way to begin.
func TestTheDemoFromNothing(t *testing.T) {
	address := serveOwn(t, "--db", filepath.Join(t.TempDir(), "empty.db"))
	u := browse(t, 1280, 800)
	u.goTo(address + "/board") // which leads to the beginning, as any place does
	u.sees("footer", "Connect: an account")
	u.clicks("[aria-label='No more steps']") // who knows the way is not led
	u.reload()
	u.sees("footer", "0 workloads")
	u.gone("[aria-label='No more steps']")
	u.clicksOn("button", "Open the demo")
	u.marks("office>internet", "denied", "inspected", "blocked", "unrouted")
	u.sees("footer", "grayshoal")
}
