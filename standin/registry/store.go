package registry

import (
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"sort"
	"strings"

	"github.com/opencontainers/go-digest"
)

// store keeps content in a directory:
//
//	blobs/HEX                     what has this sha256
//	repos/NAME/_blobs/HEX         the repository holds this blob (empty file)
//	repos/NAME/_manifests/HEX     the repository holds this manifest (its media type)
//	repos/NAME/_tags/TAG          the digest it means
//	uploads/ID                    an upload under way
type store struct{ dir string }

func (s store) prepare() error {
	for _, d := range []string{"blobs", "repos", "uploads"} {
		if err := os.MkdirAll(filepath.Join(s.dir, d), 0o700); err != nil {
			return err
		}
	}
	return nil
}

var safe = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._/-]*$|^_?[A-Za-z0-9._-]+$`)

func (s store) path(parts ...string) string {
	for _, p := range parts {
		if !safe.MatchString(p) || strings.Contains(p, "..") {
			return filepath.Join(s.dir, "nowhere") // never made, so nothing is ever found there
		}
	}
	return filepath.Join(append([]string{s.dir}, parts...)...)
}

func (s store) blobPath(d digest.Digest) string { return s.path("blobs", d.Encoded()) }

// holds reports whether a repository holds a blob or a manifest; the text is the manifest's media type.
func (s store) holds(repository, kind string, d digest.Digest) (string, bool) {
	if d.Validate() != nil {
		return "", false
	}
	raw, err := os.ReadFile(s.path("repos", repository, kind, d.Encoded()))
	return string(raw), err == nil
}

func (s store) link(repository, kind, name, text string) error {
	to := s.path("repos", repository, kind, name)
	if err := os.MkdirAll(filepath.Dir(to), 0o700); err != nil {
		return err
	}
	return writeWhole(to, []byte(text))
}

// writeWhole replaces a file in one step, so that no reader sees half of it.
func writeWhole(to string, raw []byte) error {
	f, err := os.CreateTemp(filepath.Dir(to), ".new-*")
	if err != nil {
		return err
	}
	_, err = f.Write(raw)
	if err = errors.Join(err, f.Close()); err != nil {
		return errors.Join(err, os.Remove(f.Name()))
	}
	return os.Rename(f.Name(), to)
}

func (s store) tag(repository, tag string) (digest.Digest, bool) {
	raw, err := os.ReadFile(s.path("repos", repository, "_tags", tag))
	return digest.Digest(raw), err == nil
}

func (s store) tags(repository string) ([]string, error) {
	entries, err := os.ReadDir(s.path("repos", repository, "_tags"))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	var out []string
	for _, e := range entries {
		if !strings.HasPrefix(e.Name(), ".new-") {
			out = append(out, e.Name())
		}
	}
	sort.Strings(out)
	return out, err
}

// repositories lists those that hold a manifest.
func (s store) repositories() ([]string, error) {
	root := filepath.Join(s.dir, "repos")
	var out []string
	err := filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
		if err == nil && d.IsDir() && d.Name() == "_manifests" {
			name, rerr := filepath.Rel(root, filepath.Dir(path))
			out = append(out, filepath.ToSlash(name))
			return rerr
		}
		return err
	})
	sort.Strings(out)
	return out, err
}

func (s store) known(repository string) bool {
	_, err := os.Stat(s.path("repos", repository))
	return err == nil
}

// digestOf hashes a file, streamed.
func digestOf(path string) (digest.Digest, error) {
	f, err := os.Open(path)
	if err != nil {
		return "", err
	}
	defer f.Close()
	v := digest.SHA256.Digester()
	_, err = io.Copy(v.Hash(), f)
	return v.Digest(), err
}
