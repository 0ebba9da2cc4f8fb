// Package vault keeps credentials: it encrypts them before they are stored, and
// opens them just before they are used.
package vault

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/rand"
	"encoding/base64"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"strings"
)

// Variable is the name of the environment variable that may hold the key: 32
// bytes in base64.
const Variable = "BIVIUM_KEY"

const keySize = 32

// Vault seals and opens with one key (AES-256 in Galois/counter mode, NIST SP
// 800-38D). It is safe for concurrent use.
type Vault struct{ aead cipher.AEAD }

// Open returns the vault whose key is in the environment, or else in a file. A
// file that is missing is made, readable by its owner alone.
func Open(file string) (*Vault, error) {
	text, from := os.Getenv(Variable), "the environment variable "+Variable
	if text == "" {
		from = "the key file " + file
		read, err := os.ReadFile(file)
		if errors.Is(err, fs.ErrNotExist) {
			read, err = create(file)
		}
		if err != nil {
			return nil, fmt.Errorf("open the vault: %w", err)
		}
		text = string(read)
	}
	key, err := base64.StdEncoding.DecodeString(strings.TrimSpace(text))
	if err != nil || len(key) != keySize {
		return nil, fmt.Errorf("open the vault: %s does not hold %d bytes in base64; make some by: head -c %d /dev/urandom | base64", from, keySize, keySize)
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
	f, err := os.OpenFile(file, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return nil, err
	}
	_, err = f.Write(text)
	return text, errors.Join(err, f.Close())
}

// Seal encrypts a secret that belongs to an owner: nobody can open it as
// another's.
func (v *Vault) Seal(owner string, secret []byte) []byte {
	return v.aead.Seal(nil, nil, secret, []byte(owner))
}

// Open returns the secret that was sealed for an owner.
func (v *Vault) Open(owner string, sealed []byte) ([]byte, error) {
	secret, err := v.aead.Open(nil, nil, sealed, []byte(owner))
	if err != nil {
		return nil, fmt.Errorf("the credential of %s cannot be opened; it was sealed with another key: give that one in %s, or connect the account anew", owner, Variable)
	}
	return secret, nil
}
