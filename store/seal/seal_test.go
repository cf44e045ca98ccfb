package seal_test

import (
	"bytes"
	"errors"
	"os"
	"path/filepath"
	"testing"

	"dovrak/store/seal"
)

func TestASecretOpensForItsOwnerAlone(t *testing.T) {
	dir := t.TempDir()
	key, err := seal.Make(filepath.Join(dir, "one"))
	if err != nil {
		t.Fatal(err)
	}
	other, err := seal.Make(filepath.Join(dir, "other"))
	if err != nil {
		t.Fatal(err)
	}
	sealed := key.Seal("desk-and-mountain", "hut")
	if bytes.Contains(sealed, []byte("mountain")) {
		t.Error("the secret can be read")
	}
	if got, err := key.Open(sealed, "hut"); err != nil || got != "desk-and-mountain" {
		t.Errorf("got %q, %v", got, err)
	}
	changed := bytes.Clone(sealed)
	changed[len(changed)-1] ^= 1
	for name, open := range map[string]func() (string, error){
		"another owner": func() (string, error) { return key.Open(sealed, "forge") },
		"another key":   func() (string, error) { return other.Open(sealed, "hut") },
		"a changed bit": func() (string, error) { return key.Open(changed, "hut") },
		"cut short":     func() (string, error) { return key.Open(sealed[:5], "hut") },
	} {
		if got, err := open(); err == nil || got != "" {
			t.Errorf("%s opens it: %q", name, got)
		}
	}
	if bytes.Equal(sealed, key.Seal("desk-and-mountain", "hut")) {
		t.Error("the same secret is sealed to the same bytes twice")
	}
	if bytes.Equal(key.Fingerprint(), other.Fingerprint()) {
		t.Error("two keys with one fingerprint")
	}
}

func TestKeyFiles(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "key")
	if _, err := seal.Load(file); !errors.Is(err, seal.ErrMissing) {
		t.Errorf("a file that is not there: %v", err)
	}
	made, err := seal.Make(file)
	if err != nil {
		t.Fatal(err)
	}
	loaded, err := seal.Load(file)
	if err != nil || !bytes.Equal(made.Fingerprint(), loaded.Fingerprint()) {
		t.Errorf("another key came back: %v", err)
	}
	if _, err := seal.Make(file); !errors.Is(err, os.ErrExist) {
		t.Errorf("a key was written over: %v", err)
	}
	if info, err := os.Stat(file); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("its mode is %v, %v", info.Mode(), err)
	}
	for name, text := range map[string]string{"short": "abcd", "no digits": string(bytes.Repeat([]byte("x"), 64)), "empty": ""} {
		bad := filepath.Join(dir, name)
		if err := os.WriteFile(bad, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		if _, err := seal.Load(bad); err == nil {
			t.Errorf("%s: taken for a key", name)
		}
	}
}
