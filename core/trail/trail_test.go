package trail

import (
	"bytes"
	"strings"
	"testing"
	"time"

	"golang.org/x/mod/sumdb/tlog"
)

func entry() (Entry, Opening) {
	e := Entry{ID: "01a2", At: time.Date(2026, 3, 3, 9, 15, 0, 123456000, time.UTC), Act: TagPointed,
		Facts: map[string]string{"to": "sha256:bb", "from": "sha256:aa", "subject": "hut/live/snowpack-model:live <&>"}}
	return e, e.Seal("actor", "Ragna")
}

func TestCanonicalBytes(t *testing.T) {
	e, _ := entry()
	raw, err := e.Bytes()
	if err != nil {
		t.Fatal(err)
	}
	if bytes.Contains(raw, []byte("Ragna")) {
		t.Error("a personal field stands in the bytes")
	}
	again, err := Read(raw)
	if err != nil {
		t.Fatal(err)
	}
	if out, err := again.Bytes(); err != nil || !bytes.Equal(out, raw) {
		t.Fatalf("%s\nbecame\n%s, %v", raw, out, err)
	}
	for name, other := range map[string]string{
		"a space":              strings.Replace(string(raw), ",", ", ", 1),
		"another order":        strings.Replace(string(raw), `{"v":1,"id":"01a2",`, `{"id":"01a2","v":1,`, 1),
		"a later version":      strings.Replace(string(raw), `"v":1`, `"v":2`, 1),
		"a time without zone":  strings.Replace(string(raw), `456Z"`, `456"`, 1),
		"a key of its own":     strings.Replace(string(raw), `{"v":1`, `{"v":1,"x":1`, 1),
		"an escape of its own": strings.Replace(string(raw), `<&>`, `\u003c&>`, 1),
	} {
		if other == string(raw) {
			t.Errorf("%s: nothing was changed", name)
		}
		if _, err := Read([]byte(other)); err == nil {
			t.Errorf("%s: read all the same", name)
		}
	}
}

func TestOpenings(t *testing.T) {
	e, o := entry()
	if !e.Opens(o) {
		t.Fatal("its own opening does not open it")
	}
	salt := bytes.Clone(o.Salt)
	salt[0] ^= 1
	for name, other := range map[string]Opening{
		"another value": {"actor", o.Salt, "Tormod"}, "another salt": {"actor", salt, "Ragna"}, "another field": {"because", o.Salt, "Ragna"},
		"the boundary moved": {"actor", append(bytes.Clone(o.Salt), 'a'), "Ragna"},
	} {
		if e.Opens(other) {
			t.Errorf("%s opens it", name)
		}
	}
	if e2, _ := entry(); e2.Sealed["actor"] == e.Sealed["actor"] {
		t.Error("the same value gives the same commitment twice: it could be guessed")
	}
}

type memory []tlog.Hash

func (m memory) ReadHashes(at []int64) ([]tlog.Hash, error) {
	out := make([]tlog.Hash, len(at))
	for i, p := range at {
		out[i] = m[p]
	}
	return out, nil
}

func TestHashesMakeOneTree(t *testing.T) {
	var kept memory
	for n := range int64(9) {
		hashes, err := Hashes(n, []byte{byte(n)}, kept)
		if err != nil {
			t.Fatal(err)
		}
		if at := tlog.StoredHashIndex(0, n); at != int64(len(kept)) {
			t.Fatalf("entry %d goes to %d, but %d hashes are kept", n, at, len(kept))
		}
		kept = append(kept, hashes...)
	}
	root, err := tlog.TreeHash(9, kept)
	if err != nil {
		t.Fatal(err)
	}
	proof, err := tlog.ProveRecord(9, 4, kept)
	if err != nil {
		t.Fatal(err)
	}
	if err := tlog.CheckRecord(proof, 9, root, 4, tlog.RecordHash([]byte{4})); err != nil {
		t.Error(err)
	}
	if tlog.CheckRecord(proof, 9, root, 4, tlog.RecordHash([]byte{5})) == nil {
		t.Error("a changed entry proves")
	}
}
