// Package seal keeps secrets unreadable in the database. They are sealed with XChaCha20-Poly1305 under a key of 32
// bytes that lives in a file outside it; a backup of the database alone opens nothing. A sealed secret is bound to
// what it belongs to, so that it cannot be moved to another row.
package seal

import (
	"crypto/cipher"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"strings"

	"golang.org/x/crypto/chacha20poly1305"
)

// Key seals and opens. Get one from [Load] or [Make].
type Key struct {
	raw  []byte
	aead cipher.AEAD
}

// ErrMissing says that there is no key file.
var ErrMissing = errors.New("seal: no key file")

// Load reads a key file: 64 hexadecimal digits. A file that others may read is refused.
func Load(path string) (*Key, error) {
	info, err := os.Stat(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, ErrMissing
	}
	if err != nil {
		return nil, err
	}
	if info.Mode().Perm()&0o077 != 0 {
		return nil, fmt.Errorf("seal: %s may be read by others (mode %04o); chmod 600 it", path, info.Mode().Perm())
	}
	text, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	raw, err := hex.DecodeString(strings.TrimSpace(string(text)))
	if err != nil || len(raw) != chacha20poly1305.KeySize {
		return nil, fmt.Errorf("seal: %s is not a key file of 64 hexadecimal digits", path)
	}
	return fromRaw(raw)
}

// Make writes a new key file, mode 0600, and never over one that is there.
func Make(path string) (*Key, error) {
	raw := make([]byte, chacha20poly1305.KeySize)
	rand.Read(raw) // never fails: crypto/rand aborts the program instead
	f, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return nil, err
	}
	_, err = fmt.Fprintln(f, hex.EncodeToString(raw))
	if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
		return nil, err
	}
	return fromRaw(raw)
}

func fromRaw(raw []byte) (*Key, error) {
	aead, err := chacha20poly1305.NewX(raw)
	return &Key{raw, aead}, err
}

// Fingerprint tells keys apart and reveals nothing of one.
func (k *Key) Fingerprint() []byte {
	sum := sha256.Sum256(append([]byte("dovrak sealing key\x00"), k.raw...))
	return sum[:]
}

// Seal seals a secret for its owner, e.g. the id of a registry.
func (k *Key) Seal(secret, owner string) []byte {
	nonce := make([]byte, chacha20poly1305.NonceSizeX)
	rand.Read(nonce)
	return k.aead.Seal(nonce, nonce, []byte(secret), []byte(owner))
}

// Open opens what was sealed for the same owner.
func (k *Key) Open(sealed []byte, owner string) (string, error) {
	if len(sealed) < chacha20poly1305.NonceSizeX {
		return "", errors.New("seal: too short to be a sealed secret")
	}
	n := chacha20poly1305.NonceSizeX
	secret, err := k.aead.Open(nil, sealed[:n], sealed[n:], []byte(owner))
	if err != nil {
		return "", fmt.Errorf("seal: cannot be opened by this key for %s", owner)
	}
	return string(secret), nil
}
