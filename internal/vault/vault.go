// Package vault seals secrets for the database and opens them again: XChaCha20-
// Poly1305 with the row's identity as associated data, so that a sealed value moved
// to another row doesn't open.
//
// The key file holds one base64 key a line. The first seals; the others only open
// what was sealed before a rotation. A sealed value begins with the format's number
// and four bytes that name its key, which tell nothing of the key itself.
package vault

import (
	"bytes"
	"crypto/cipher"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"

	"golang.org/x/crypto/chacha20poly1305"
)

// ErrSealed is returned for a sealed value that doesn't open here.
var ErrSealed = errors.New("vault: the sealed value doesn't open with this key in this place")

const (
	format = 1
	header = 1 + 4 // format, name of the key
)

type key struct {
	name [4]byte
	raw  []byte
	aead cipher.AEAD
}

func newKey(raw []byte) (key, error) {
	a, err := chacha20poly1305.NewX(raw)
	if err != nil {
		return key{}, fmt.Errorf("vault: %w", err)
	}
	sum := sha256.Sum256(append([]byte("duskyharbor vault key\x00"), raw...))
	return key{[4]byte(sum[:4]), raw, a}, nil
}

// Vault holds the keys. Its zero value opens nothing. It may be used by several
// goroutines.
type Vault struct {
	mu   sync.RWMutex
	keys []key
	path string // empty: the keys aren't read again
}

// New makes a vault from a 32-byte key.
func New(raw []byte) (*Vault, error) {
	k, err := newKey(raw)
	if err != nil {
		return nil, err
	}
	return &Vault{keys: []key{k}}, nil
}

// Load reads the key file, or makes one where there is none. A key file that others
// may read is refused.
func Load(path string) (*Vault, error) {
	if _, err := os.Stat(path); errors.Is(err, fs.ErrNotExist) {
		if err := create(path); err != nil {
			return nil, err
		}
	}
	keys, err := read(path)
	if err != nil {
		return nil, err
	}
	return &Vault{keys: keys, path: path}, nil
}

func read(path string) ([]key, error) {
	info, err := os.Stat(path)
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
	var keys []key
	for _, line := range strings.Fields(string(text)) {
		raw, err := base64.StdEncoding.DecodeString(line)
		if err != nil || len(raw) != chacha20poly1305.KeySize {
			return nil, fmt.Errorf("vault: %s holds a line that is no key of %d bytes", filepath.Base(path), chacha20poly1305.KeySize)
		}
		k, err := newKey(raw)
		if err != nil {
			return nil, err
		}
		keys = append(keys, k)
	}
	if len(keys) == 0 {
		return nil, fmt.Errorf("vault: %s holds no key of %d bytes", filepath.Base(path), chacha20poly1305.KeySize)
	}
	return keys, nil
}

func fresh() (key, error) {
	raw := make([]byte, chacha20poly1305.KeySize)
	if _, err := rand.Read(raw); err != nil {
		return key{}, fmt.Errorf("vault: %w", err)
	}
	return newKey(raw)
}

func lines(keys []key) []byte {
	var b bytes.Buffer
	for _, k := range keys {
		b.WriteString(base64.StdEncoding.EncodeToString(k.raw) + "\n")
	}
	return b.Bytes()
}

func create(path string) error {
	k, err := fresh()
	if err != nil {
		return err
	}
	f, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if errors.Is(err, fs.ErrExist) {
		return nil // another process made it at the same moment
	}
	if err != nil {
		return fmt.Errorf("vault: %w", err)
	}
	_, err = f.Write(lines([]key{k}))
	return errors.Join(err, f.Sync(), f.Close())
}

// write replaces the key file whole or not at all.
func write(path string, keys []key) error {
	f, err := os.OpenFile(path+".new", os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return fmt.Errorf("vault: %w", err)
	}
	_, err = f.Write(lines(keys))
	if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
		return fmt.Errorf("vault: %w", err)
	}
	return os.Rename(path+".new", path)
}

// Rotate puts a new key first in the key file, has reseal seal everything with it,
// and then forgets the old keys. Nobody may seal meanwhile, see store.WhileNoneSeals.
// After a failure both are in the file and everything opens: it can be run again.
// Running servers read the file again by themselves.
func Rotate(path string, reseal func(old, next *Vault) error) error {
	old, err := read(path)
	if err != nil {
		return err
	}
	k, err := fresh()
	if err != nil {
		return err
	}
	both := append([]key{k}, old...)
	if err := write(path, both); err != nil {
		return err
	}
	if err := reseal(&Vault{keys: both}, &Vault{keys: []key{k}}); err != nil {
		return fmt.Errorf("vault: the old keys stay in the file, everything still opens: %w", err)
	}
	return write(path, []key{k})
}

// Seal encrypts a secret for the place it is kept at ("credential_set.sealed/7").
func (v *Vault) Seal(secret, place string) ([]byte, error) {
	v.reload() // a key that was rotated out must seal nothing more
	v.mu.RLock()
	defer v.mu.RUnlock()
	if len(v.keys) == 0 {
		return nil, ErrSealed
	}
	k := v.keys[0]
	out := append([]byte{format}, k.name[:]...)
	nonce := make([]byte, chacha20poly1305.NonceSizeX)
	if _, err := rand.Read(nonce); err != nil {
		return nil, fmt.Errorf("vault: %w", err)
	}
	return k.aead.Seal(append(out, nonce...), nonce, []byte(secret), []byte(place)), nil
}

// Open decrypts what Seal made for the same place.
func (v *Vault) Open(sealed []byte, place string) (string, error) {
	if s, err := v.open(sealed, place); err == nil {
		return s, nil
	}
	v.reload()
	return v.open(sealed, place)
}

func (v *Vault) open(sealed []byte, place string) (string, error) {
	v.mu.RLock()
	defer v.mu.RUnlock()
	const n = chacha20poly1305.NonceSizeX
	for _, k := range v.keys {
		if len(sealed) >= header+n && sealed[0] == format && [4]byte(sealed[1:header]) == k.name {
			body := sealed[header:]
			if plain, err := k.aead.Open(nil, body[:n], body[n:], []byte(place)); err == nil {
				return string(plain), nil
			}
		}
		// Values of before rotation was there have no header.
		if len(sealed) >= n {
			if plain, err := k.aead.Open(nil, sealed[:n], sealed[n:], []byte(place)); err == nil {
				return string(plain), nil
			}
		}
	}
	return "", ErrSealed
}

// reload reads the key file again; while it can't be read the keys stay.
func (v *Vault) reload() {
	if v.path == "" {
		return
	}
	keys, err := read(v.path)
	if err != nil {
		return
	}
	v.mu.Lock()
	v.keys = keys
	v.mu.Unlock()
}
