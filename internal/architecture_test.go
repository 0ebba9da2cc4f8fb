package internal

import (
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// order lists the rooms around the core, by folder: each imports only those before it, and
// what is seen of a revision knows nothing of what changes it.
var order = []string{"vault", "store", "wording", "people", "syslog", "notices", "speaker", "drivers", "standin", "app/view", "app/lanes", "app/failures", "app/targets", "app/rules", "app/consequence", "app", "app/drafts", "app/history", "app/packets", "app/watch", "app/applying", "server/pressure", "server", "client", "certificates", "tools"}

// TestRoomsKnowOnlyThoseBelow reads the sources itself, so that the test's cached result is
// dropped when one of them changes.
func TestRoomsKnowOnlyThoseBelow(t *testing.T) {
	read := 0
	require.NoError(t, filepath.WalkDir(".", func(path string, entry fs.DirEntry, err error) error {
		if err != nil || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		file, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.ImportsOnly)
		if err != nil {
			return err
		}
		read++
		from := roomOf(filepath.Dir(path))
		assert.GreaterOrEqual(t, from, 0, "%s is in no room of the list", path)
		for _, spec := range file.Imports {
			imported, err := strconv.Unquote(spec.Path.Value)
			require.NoError(t, err)
			if inside, ok := strings.CutPrefix(imported, "bivium/internal/"); ok {
				assert.LessOrEqual(t, roomOf(inside), from, "%s imports %s, which comes after it", path, imported)
			}
		}
		return nil
	}))
	require.Greater(t, read, 50)
}

// roomOf returns the place of a folder's room in the list, the deepest that holds it, or -1.
func roomOf(folder string) int {
	for ; folder != "."; folder = filepath.Dir(folder) {
		if i := slices.Index(order, folder); i >= 0 {
			return i
		}
	}
	return -1
}
