// Package vault keeps credentials: it encrypts them before they are stored, and
// opens them just before they are used.
package vault

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/rand"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"strings"
)

// Variable is the name of the environment variable that may hold the key: 32
// bytes in base64.
const Variable = "BIVIUM_KEY"

const (
	keySize = 32
	private = fs.FileMode(0o600)
)

// Vault seals and opens with one key (AES-256 in Galois/counter mode, NIST SP
// 800-38D). It is safe for concurrent use.
type Vault struct{ aead cipher.AEAD }

// Open returns the vault whose key is in the environment, or else in a file. A
// file that is missing is made. Nobody but its owner can read it from then on.
func Open(file string) (*Vault, error) {
	text, from := os.Getenv(Variable), "the environment variable "+Variable
	if text == "" {
		from = "the key file " + file
		read, err := os.ReadFile(file)
		if errors.Is(err, fs.ErrNotExist) {
			read, err = create(file)
		} else if err == nil {
			err = os.Chmod(file, private)
		}
		if err != nil {
			return nil, fmt.Errorf("open the vault: %w", err)
		}
		text = string(read)
	}
	return withKey(text, from)
}

// withKey returns the vault of a key as it is written in base64; from says where.
func withKey(text, from string) (*Vault, error) {
	key, err := base64.StdEncoding.DecodeString(strings.TrimSpace(text))
	if err != nil || len(key) != keySize {
		return nil, fmt.Errorf("open the vault: %s does not hold %d bytes in base64; create a key with: head -c %d /dev/urandom | base64", from, keySize, keySize)
	}
	block, err := aes.NewCipher(key)
	if err != nil {
		return nil, err
	}
	aead, err := cipher.NewGCMWithRandomNonce(block)
	if err != nil {
		return nil, err
	}
	return &Vault{aead}, nil
}

func create(file string) ([]byte, error) {
	key := make([]byte, keySize)
	rand.Read(key) //nolint:errcheck // it never fails
	text := []byte(base64.StdEncoding.EncodeToString(key) + "\n")
	f, err := os.OpenFile(file, os.O_WRONLY|os.O_CREATE|os.O_EXCL, private)
	if err != nil {
		return nil, err
	}
	_, err = f.Write(text)
	return text, errors.Join(err, f.Close())
}

// Use is what a credential is for: it opens for this account, at this endpoint of
// this provider, and for nothing else, whatever is written beside it.
type Use struct{ Account, Provider, Endpoint string }

func (u *Use) bytes() []byte {
	b, err := json.Marshal(u)
	if err != nil {
		panic(fmt.Sprintf("vault: text that JSON cannot hold: %v", err))
	}
	return b
}

// Seal encrypts a secret for one use.
func (v *Vault) Seal(use Use, secret []byte) []byte {
	return v.aead.Seal(nil, nil, secret, use.bytes())
}

// Open returns the secret that was sealed for a use.
func (v *Vault) Open(use Use, sealed []byte) ([]byte, error) {
	secret, err := v.aead.Open(nil, nil, sealed, use.bytes())
	if err != nil {
		return nil, fmt.Errorf("the credential of %s cannot be decrypted for %s: it was encrypted with another key or for another address; provide the key in %s, or connect the account again", use.Account, use.Endpoint, Variable)
	}
	return secret, nil
}

// Next returns a vault with a new key, which is kept in a file beside another one until Adopt
// puts it in its place.
func Next(file string) (*Vault, error) {
	text, err := create(file + nextKey)
	if err != nil {
		return nil, fmt.Errorf("make a new key: %w; if an earlier rotation was interrupted, see which of %s and %s opens the database, and keep that one as %s", err, file, file+nextKey, file)
	}
	return withKey(string(text), "the new key file")
}

// Adopt puts the key of Next in the place of the one before, which is kept with ".old" at the
// end of its name: backups of before are opened with it.
func Adopt(file string) error {
	if err := os.Rename(file, file+".old"); err != nil {
		return err
	}
	return os.Rename(file+nextKey, file)
}

// Abandon forgets the key of Next.
func Abandon(file string) error { return os.Remove(file + nextKey) }

const nextKey = ".next"
