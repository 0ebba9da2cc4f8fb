package core

import (
	"os/exec"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// modules are those that the core may use, beside the standard library.
var modules = []string{
	"github.com/bits-and-blooms/bitset",
	"github.com/gaissmai/bart",
	"go.yaml.in/yaml/v3",
	"go4.org/netipx",
}

// impure are packages of the standard library that reach outside.
var impure = []string{"os", "net", "net/http", "log", "log/slog", "database/sql", "io/ioutil", "os/exec"}

func TestCoreIsPure(t *testing.T) {
	out, err := exec.Command("go", "list", "-f", `{{.ImportPath}}{{range .Imports}} {{.}}{{end}}`, "./...").Output()
	require.NoError(t, err)
	packages := strings.Split(strings.TrimSpace(string(out)), "\n")
	require.Greater(t, len(packages), 5)
	for _, line := range packages {
		words := strings.Fields(line)
		for _, imported := range words[1:] {
			switch {
			case strings.HasPrefix(imported, "bivium/"):
				assert.True(t, strings.HasPrefix(imported, "bivium/core/"), "%s imports %s", words[0], imported)
			case strings.Contains(strings.SplitN(imported, "/", 2)[0], "."):
				assert.True(t, slices.ContainsFunc(modules, func(m string) bool {
					return imported == m || strings.HasPrefix(imported, m+"/")
				}), "%s imports %s, which is not on the list", words[0], imported)
			default:
				assert.NotContains(t, impure, imported, "%s imports %s", words[0], imported)
			}
		}
	}
}
