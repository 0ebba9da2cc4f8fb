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

	sealed := v.Seal("north", []byte("token"))
	assert.NotContains(t, string(sealed), "token")
	assert.NotEqual(t, sealed, v.Seal("north", []byte("token")), "two seals of one secret tell nothing of it")
	again, err := Open(file) // after a restart
	require.NoError(t, err)
	secret, err := again.Open("north", sealed)
	require.NoError(t, err)
	assert.Equal(t, "token", string(secret))

	_, err = v.Open("south", sealed)
	assert.ErrorContains(t, err, "another key")
	for i := range sealed {
		broken := append([]byte{}, sealed...)
		broken[i] ^= 1
		_, err = v.Open("north", broken)
		assert.Error(t, err, "byte %d", i)
	}
	_, err = v.Open("north", nil)
	assert.Error(t, err)
}

func TestTheKeyOfTheEnvironmentWins(t *testing.T) {
	file := filepath.Join(t.TempDir(), "k")
	t.Setenv(Variable, base64.StdEncoding.EncodeToString(make([]byte, 32)))
	v, err := Open(file)
	require.NoError(t, err)
	_, err = os.Stat(file)
	require.ErrorIs(t, err, os.ErrNotExist, "no file is made that nobody needs")
	sealed := v.Seal("a", []byte("b"))

	t.Setenv(Variable, "")
	other, err := Open(file)
	require.NoError(t, err)
	_, err = other.Open("a", sealed)
	require.ErrorContains(t, err, "sealed with another key")

	for _, bad := range []string{"short", base64.StdEncoding.EncodeToString(make([]byte, 16))} {
		t.Setenv(Variable, bad)
		_, err = Open(file)
		require.ErrorContains(t, err, Variable)
		require.NotContains(t, err.Error(), bad, "a key is never printed")
	}
}
