package core

import (
	"bytes"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// modules are those that the core may use, beside the standard library.
var modules = []string{
	"github.com/bits-and-blooms/bitset",
	"github.com/gaissmai/bart",
	"github.com/go-json-experiment/json",
	"go.yaml.in/yaml/v3",
	"go4.org/netipx",
}

// order lists the packages of the core: each imports only those before it. It is also the
// order in which to read them.
var order = []string{
	"limits", "parallel", "lists", // small things
	"estate", "document", "space", "paths", // what is given: the estate, its file, its services, its routes
	"membership", "verdict", "trace", "recompile", // one flow
	"intervals", "classes", "matrix", "revise", "touched", // all flows, and after an edit
	"query", "difference", "expectation", "findings", "failure", "analysis", // what follows from it
	"native/config", "native/cover", "native", "native/reader", "native/proof", // what targets must hold, what that does, and that it is what is meant
	"native/plan",                                                                                            // in which order it is written
	"approval", "edit", "native/proposal", "suggest", "flowfile", "inventory", "learning", "wiring", "synth", // edits, and what comes from outside
}

// mostLines is how long a package may become before nobody holds it in their head.
const mostLines = 3200

// impure are packages of the standard library that reach outside.
var impure = []string{"os", "net", "net/http", "log", "log/slog", "database/sql", "io/ioutil", "os/exec"}

// TestCoreIsPure reads the sources itself and not through the go command,
// so that the test's cached result is dropped when one of them changes.
func TestCoreIsPure(t *testing.T) {
	read, lines := 0, map[string]int{}
	require.NoError(t, filepath.WalkDir(".", func(path string, entry fs.DirEntry, err error) error {
		if err != nil || entry.IsDir() && (entry.Name() == "testing" || entry.Name() == "testdata") {
			// What only tests use may use what tests use.
			return errOrSkip(err)
		}
		if !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return nil
		}
		source, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		file, err := parser.ParseFile(token.NewFileSet(), path, source, parser.ImportsOnly)
		if err != nil {
			return err
		}
		read++
		lines[filepath.Dir(path)] += bytes.Count(source, []byte("\n"))
		for _, spec := range file.Imports {
			imported, err := strconv.Unquote(spec.Path.Value)
			require.NoError(t, err)
			checkImport(t, path, imported)
		}
		return nil
	}))
	require.Greater(t, read, 30)
	for path, n := range lines {
		assert.Contains(t, order, path, "a package without a place in the order")
		assert.LessOrEqual(t, n, mostLines, "%s is too long", path)
	}
}

func errOrSkip(err error) error {
	if err != nil {
		return err
	}
	return filepath.SkipDir
}

func checkImport(t *testing.T, path, imported string) {
	t.Helper()
	switch {
	case strings.HasPrefix(imported, "bivium/"):
		assert.True(t, strings.HasPrefix(imported, "bivium/core/"), "%s imports %s", path, imported)
		assert.False(t, strings.HasPrefix(imported, "bivium/core/testing/"), "%s imports %s", path, imported)
		from, to := slices.Index(order, filepath.Dir(path)), slices.Index(order, strings.TrimPrefix(imported, "bivium/core/"))
		assert.Less(t, to, from, "%s imports %s, which comes after it", path, imported)
	case strings.Contains(strings.SplitN(imported, "/", 2)[0], "."):
		assert.True(t, slices.ContainsFunc(modules, func(m string) bool {
			return imported == m || strings.HasPrefix(imported, m+"/")
		}), "%s imports %s, which is not on the list", path, imported)
	default:
		assert.NotContains(t, impure, imported, "%s imports %s", path, imported)
	}
}
