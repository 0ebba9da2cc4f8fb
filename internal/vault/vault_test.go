package vault

import (
	"encoding/base64"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestASecretOpensForItsOwnerAlone(t *testing.T) {
	t.Setenv(Variable, "")
	file := filepath.Join(t.TempDir(), "k")
	v, err := Open(file)
	require.NoError(t, err)
	info, err := os.Stat(file)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())

	north := Use{"north", "cirra", "https://api.cirra.example"}
	sealed := v.Seal(north, []byte("token"))
	assert.NotContains(t, string(sealed), "token")
	assert.NotEqual(t, sealed, v.Seal(north, []byte("token")), "two seals of one secret tell nothing of it")
	require.NoError(t, os.Chmod(file, 0o644))
	again, err := Open(file) // after a restart
	require.NoError(t, err)
	info, err = os.Stat(file)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm(), "a file that others could read is closed to them")
	secret, err := again.Open(north, sealed)
	require.NoError(t, err)
	assert.Equal(t, "token", string(secret))

	for _, other := range []Use{
		{"south", north.Provider, north.Endpoint}, {north.Account, "velum", north.Endpoint}, {north.Account, north.Provider, "https://elsewhere.example"},
	} {
		_, err = v.Open(other, sealed)
		assert.ErrorContains(t, err, "another key", "%v", other)
	}
	for i := range sealed {
		broken := append([]byte{}, sealed...)
		broken[i] ^= 1
		_, err = v.Open(north, broken)
		assert.Error(t, err, "byte %d", i)
	}
	_, err = v.Open(north, nil)
	assert.Error(t, err)
}

func TestTheKeyOfTheEnvironmentWins(t *testing.T) {
	file := filepath.Join(t.TempDir(), "k")
	t.Setenv(Variable, base64.StdEncoding.EncodeToString(make([]byte, 32)))
	v, err := Open(file)
	require.NoError(t, err)
	_, err = os.Stat(file)
	require.ErrorIs(t, err, os.ErrNotExist, "no file is made that nobody needs")
	sealed := v.Seal(Use{Account: "a"}, []byte("b"))

	t.Setenv(Variable, "")
	other, err := Open(file)
	require.NoError(t, err)
	_, err = other.Open(Use{Account: "a"}, sealed)
	require.ErrorContains(t, err, "another key")

	for _, bad := range []string{"short", base64.StdEncoding.EncodeToString(make([]byte, 16))} {
		t.Setenv(Variable, bad)
		_, err = Open(file)
		require.ErrorContains(t, err, Variable)
		require.NotContains(t, err.Error(), bad, "a key is never printed")
	}
}
