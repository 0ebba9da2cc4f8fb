package store_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bivium/core/document"
	"bivium/core/estate"
	"bivium/demo"
	"bivium/internal/store"
)

func grayshoal(t testing.TB) *estate.Estate {
	t.Helper()
	e, err := document.Read(demo.Grayshoal)
	require.NoError(t, err)
	return e
}

func open(t testing.TB, file string) *store.Store {
	t.Helper()
	s, err := store.Open(t.Context(), file)
	require.NoError(t, err)
	t.Cleanup(func() { _ = s.Close() })
	return s
}

// edit returns a revision that switches a policy of the demo on or off.
func edit(e *estate.Estate, enabled bool, based int64, actor string) *store.Revision {
	next := *e
	next.Policies = slices.Clone(e.Policies)
	for i := range next.Policies {
		if next.Policies[i].Name == "crews-web" {
			next.Policies[i].Enabled = enabled
		}
	}
	r := revisionOf(e, &next, based, nil)
	r.Actor = actor
	return r
}

func TestAnEstateComesBackAsItWasPut(t *testing.T) {
	file := filepath.Join(t.TempDir(), "deep", "er", "a.db")
	s := open(t, file)
	_, _, _, err := s.Get(t.Context())
	require.ErrorIs(t, err, store.ErrEmpty)
	e := grayshoal(t)
	require.NoError(t, s.Put(t.Context(), e))
	require.NoError(t, s.Close())

	got, revision, _, err := open(t, file).Get(t.Context())
	require.NoError(t, err)
	assert.Equal(t, int64(1), revision)
	want, err := document.Write(e)
	require.NoError(t, err)
	text, err := document.Write(got)
	require.NoError(t, err)
	assert.Equal(t, string(want), string(text))
	info, err := os.Stat(filepath.Dir(file))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o700), info.Mode().Perm(), "nobody else may look in")
}

func TestAnEditNeedsTheRevisionThatIsCurrent(t *testing.T) {
	s := open(t, filepath.Join(t.TempDir(), "a.db"))
	e := grayshoal(t)
	require.NoError(t, s.Put(t.Context(), e))
	revision, err := s.Change(t.Context(), edit(e, false, 1, "one"))
	require.NoError(t, err)
	assert.Equal(t, int64(2), revision)
	_, err = s.Change(t.Context(), edit(e, false, 1, "two"))
	var stale *store.StaleError
	require.ErrorAs(t, err, &stale)
	assert.Equal(t, store.StaleError{Based: 1, Current: 2}, *stale)
	got, revision, _, err := s.Get(t.Context())
	require.NoError(t, err)
	assert.Equal(t, int64(2), revision, "what was refused left nothing behind")
	assert.Len(t, got.Policies, len(e.Policies))
}

// TestKilledWriterLosesNoAcknowledgedEdit runs itself as a child that edits and
// prints each revision that it was given, kills it, and looks for the last.
func TestKilledWriterLosesNoAcknowledgedEdit(t *testing.T) {
	if file := os.Getenv("BIVIUM_TEST_WRITER"); file != "" {
		s := open(t, file)
		e, revision, _, err := s.Get(t.Context())
		require.NoError(t, err)
		for i := 0; ; i++ {
			r := edit(e, i%2 == 0, revision, "child")
			if len(r.Changes) == 0 {
				r = edit(e, i%2 != 0, revision, "child")
			}
			revision, err = s.Change(t.Context(), r)
			require.NoError(t, err)
			_, _ = os.Stdout.WriteString(strconv.FormatInt(revision, 10) + "\n")
		}
	}
	file := filepath.Join(t.TempDir(), "a.db")
	s, err := store.Open(t.Context(), file)
	require.NoError(t, err)
	require.NoError(t, s.Put(t.Context(), grayshoal(t)))
	require.NoError(t, s.Close()) // one process at a time
	child := exec.CommandContext(t.Context(), os.Args[0], "-test.run", "^TestKilledWriterLosesNoAcknowledgedEdit$")
	child.Env = append(os.Environ(), "BIVIUM_TEST_WRITER="+file)
	out, err := child.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, child.Start())
	text := make([]byte, 0, 4096)
	for len(text) < 200 { // some fifty edits
		chunk := make([]byte, 64)
		n, err := out.Read(chunk)
		require.NoError(t, err)
		text = append(text, chunk[:n]...)
	}
	require.NoError(t, child.Process.Kill())
	rest := make([]byte, 1<<16)
	for {
		n, err := out.Read(rest)
		text = append(text, rest[:n]...)
		if err != nil {
			break
		}
	}
	_ = child.Wait()
	acknowledged := lastNumber(t, string(text))
	_, revision, _, err := open(t, file).Get(t.Context())
	require.NoError(t, err)
	assert.GreaterOrEqual(t, revision, acknowledged)
	assert.LessOrEqual(t, revision, acknowledged+1, "at most the edit under way is there as well")
}

// lastNumber returns the number of the last whole line.
func lastNumber(t *testing.T, text string) int64 {
	t.Helper()
	end := len(text) - 1
	for end >= 0 && text[end] != '\n' {
		end--
	}
	start := end - 1
	for start >= 0 && text[start] != '\n' {
		start--
	}
	n, err := strconv.ParseInt(text[start+1:end], 10, 64)
	require.NoError(t, err)
	return n
}
