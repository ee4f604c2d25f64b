// Package vault seals secrets for the database and opens them again: XChaCha20-
// Poly1305 with the row's identity as associated data, so that a sealed value moved
// to another row doesn't open.
package vault

import (
	"crypto/cipher"
	"crypto/rand"
	"encoding/base64"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"golang.org/x/crypto/chacha20poly1305"
)

// ErrSealed is returned for a sealed value that doesn't open here.
var ErrSealed = errors.New("vault: the sealed value doesn't open with this key in this place")

// Vault holds the key. Its zero value opens nothing.
type Vault struct{ aead cipher.AEAD }

// New makes a vault from a 32-byte key.
func New(key []byte) (*Vault, error) {
	a, err := chacha20poly1305.NewX(key)
	if err != nil {
		return nil, fmt.Errorf("vault: %w", err)
	}
	return &Vault{a}, nil
}

// Load reads the key file, or makes one where there is none. A key file that others
// may read is refused.
func Load(path string) (*Vault, error) {
	info, err := os.Stat(path)
	if errors.Is(err, fs.ErrNotExist) {
		if err := create(path); err != nil {
			return nil, err
		}
		info, err = os.Stat(path)
	}
	if err != nil {
		return nil, fmt.Errorf("vault: %w", err)
	}
	if info.Mode().Perm()&0o077 != 0 {
		return nil, fmt.Errorf("vault: %s may be read by others; set its rights to 600", filepath.Base(path))
	}
	text, err := os.ReadFile(path)
	if err != nil {
		return nil, fmt.Errorf("vault: %w", err)
	}
	key, err := base64.StdEncoding.DecodeString(strings.TrimSpace(string(text)))
	if err != nil || len(key) != chacha20poly1305.KeySize {
		return nil, fmt.Errorf("vault: %s holds no key of %d bytes", filepath.Base(path), chacha20poly1305.KeySize)
	}
	return New(key)
}

func create(path string) error {
	key := make([]byte, chacha20poly1305.KeySize)
	if _, err := rand.Read(key); err != nil {
		return fmt.Errorf("vault: %w", err)
	}
	f, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if errors.Is(err, fs.ErrExist) {
		return nil // another process made it at the same moment
	}
	if err != nil {
		return fmt.Errorf("vault: %w", err)
	}
	defer f.Close()
	_, err = f.WriteString(base64.StdEncoding.EncodeToString(key) + "\n")
	return err
}

// Seal encrypts a secret for the place it is kept at ("credential_set/7").
func (v *Vault) Seal(secret, place string) ([]byte, error) {
	nonce := make([]byte, chacha20poly1305.NonceSizeX)
	if _, err := rand.Read(nonce); err != nil {
		return nil, fmt.Errorf("vault: %w", err)
	}
	return v.aead.Seal(nonce, nonce, []byte(secret), []byte(place)), nil
}

// Open decrypts what Seal made for the same place.
func (v *Vault) Open(sealed []byte, place string) (string, error) {
	if v.aead == nil || len(sealed) < chacha20poly1305.NonceSizeX {
		return "", ErrSealed
	}
	n := chacha20poly1305.NonceSizeX
	plain, err := v.aead.Open(nil, sealed[:n], sealed[n:], []byte(place))
	if err != nil {
		return "", ErrSealed
	}
	return string(plain), nil
}
