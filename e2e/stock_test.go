package e2e

import (
	"net/http"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

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
	lines, _ := start(t, 6, "standins", "--port", "0")
	w := &outside{t, map[string]string{}, ""}
	for _, line := range lines[:5] {
		m := printed.FindStringSubmatch(line)
		require.NotNil(t, m, line)
		w.endpoints[m[1]] = m[2]
	}
	_, w.play, _ = strings.Cut(lines[5], "go: ")
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
	lines, _ := start(t, 1, "serve", "--quiet", "--listen", "127.0.0.1:0", "--db", filepath.Join(t.TempDir(), "empty.db"))
	address := lines[0]
	u := browse(t, 1280, 800)
	u.goTo(address)
	u.sees("h1", "There is nothing here yet")
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
	u.sees("[role=alert]", "the provider does not accept the credential")
	connect("cirra", map[string]string{"secret": "grayshoal-token-north"})
	u.gone("[role=dialog]")

	u.sees("[data-testid=reading-north]", "connected, and never read")
	u.clicksOn("[data-thing='account:north'] button", "Read")
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
	u.clicksOn("button", "Map the tags")
	u.sees("[data-testid=mapping]", "1 workload has no label of 13 that were read")
	u.clicksOn("[data-workload=rov-store] a", "rov-store")
	u.writes("[aria-label='Label by hand']", "app=rov")
	u.clicksOn("aside button", "Set")
	u.sees("aside", "take app off")
	u.goTo(address + "/estate/labels")
	u.sees("[data-testid=mapping]", "Every workload has a label")

	// Two workloads into a group, by label.
	u.goTo(address + "/estate?group=1")
	u.writes("[role=dialog] input[name=name]", "historians")
	u.writes("[role=dialog] input[name=match]", "app in (historian")
	u.sees("[role=alert]", "app in (historian")
	u.writes("[role=dialog] input[name=match]", "app=historian")
	u.sees("[data-testid=members]", "historian-1, historian-2")
	u.clicksOn("button[type=submit]", "Make the group")
	u.gone("[role=dialog]")

	// A machine that the world adds is in it after reading again, by itself.
	world.does("/accounts/cirra-north/machines", `{"id":"m-late","name":"Historian 3","network":"net-telemetry","addresses":["10.60.2.13"],"tags":{"APPLICATION":"Historian"}}`)
	u.goTo(address + "/estate?thing=account:north")
	u.clicksOn("[data-thing='account:north'] button", "Read again")
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
	u.clicksOn("[data-thing='account:central'] button", "Read")
	u.find("[data-testid=reading-central] [role=progressbar]")
	u.sees("[data-testid=reading-central]", "partial (4 of ")
	u.sees("[data-testid=reading-central]", "4 networks new")
	world.does("/accounts/velum-central/fault", `{"kind":"none","wait":100}`)
	u.clicksOn("[data-thing='account:central'] button", "Go on")
	u.sees("[data-testid=reading-central]", "17 workloads new")
	u.reload()
	u.sees("[data-testid=reading-central]", "17 workloads new")
	u.goTo(address + "/begin")
	u.sees("h1", "How far it is")
}
