package secrets

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"dovrak/core/problem"
)

func TestDeclarations(t *testing.T) {
	hosts := []string{"hut.example:5000"}
	for name, tt := range map[string]struct {
		src  Source
		says string // empty: it is taken
	}{
		"a variable":            {Source{Hosts: hosts, Account: "dovrak", Variable: "HUT"}, ""},
		"a command":             {Source{Hosts: hosts, Command: []string{"/bin/true"}}, ""},
		"two ways":              {Source{Hosts: hosts, Account: "dovrak", Variable: "HUT", File: "/hut"}, "one of variable, file and command"},
		"no way":                {Source{Hosts: hosts, Account: "dovrak"}, "one of variable, file and command"},
		"no hosts":              {Source{Account: "dovrak", Variable: "HUT"}, "hosts that its secret may go to"},
		"a file and no account": {Source{Hosts: hosts, File: "/hut"}, "account"},
	} {
		_, err := New(map[string]Source{"hut": tt.src})
		if (err == nil) != (tt.says == "") || err != nil && !strings.Contains(err.Error(), tt.says) {
			t.Errorf("%s: %v", name, err)
		}
	}
}

func TestASourceIsBoundToItsHosts(t *testing.T) {
	s, err := New(map[string]Source{"hut": {Hosts: []string{"hut.example:5000"}, Account: "dovrak", Variable: "HUT"}})
	if err != nil {
		t.Fatal(err)
	}
	for _, tt := range []struct {
		name  string
		hosts []string
		kind  problem.Kind
	}{
		{"hut", []string{"hut.example:5000"}, ""},
		{"hut", []string{"hut.example"}, problem.Refused}, // another port
		{"hut", []string{"hut.example:5000", "elsewhere.example"}, problem.Refused},
		{"forge", []string{"hut.example:5000"}, problem.NotFound},
	} {
		if err := s.Allows(tt.name, tt.hosts...); tt.kind == "" && err != nil || tt.kind != "" && !problem.Is(err, tt.kind) {
			t.Errorf("%s to %v: %v", tt.name, tt.hosts, err)
		}
	}
}

// TestReading: what comes of each kind of source, and that no error repeats what was read.
func TestReading(t *testing.T) {
	dir := t.TempDir()
	write := func(name, text string) string {
		at := filepath.Join(dir, name)
		if err := os.WriteFile(at, []byte(text), 0o700); err != nil {
			t.Fatal(err)
		}
		return at
	}
	t.Setenv("HUT_SECRET", "s3cret-word")
	t.Setenv("DOVRAK_DATABASE_URL", "postgres://s3cret-word")
	prints := func(text string) []string { return []string{"/bin/echo", text} }
	later := time.Now().Add(time.Hour).UTC().Format(time.RFC3339)
	for name, tt := range map[string]struct {
		src  Source
		want Credential
		says string
	}{
		"a variable":            {Source{Variable: "HUT_SECRET"}, Credential{Account: "desk", Secret: "s3cret-word"}, ""},
		"an empty variable":     {Source{Variable: "HUT_NONE"}, Credential{}, "HUT_NONE is empty"},
		"a file":                {Source{File: write("f", "s3cret-word\n")}, Credential{Account: "desk", Secret: "s3cret-word"}, ""},
		"an empty file":         {Source{File: write("e", "\n")}, Credential{}, "is empty"},
		"a file without end":    {Source{File: "/dev/zero"}, Credential{}, "larger than 64 KiB"},
		"no file":               {Source{File: filepath.Join(dir, "none")}, Credential{}, "no such file"},
		"a command":             {Source{Command: prints(`{"account":"hourly","secret":"x"}`)}, Credential{Account: "hourly", Secret: "x"}, ""},
		"its account left out":  {Source{Command: prints(`{"secret":"x"}`)}, Credential{Account: "desk", Secret: "x"}, ""},
		"no JSON":               {Source{Command: prints("s3cret-word")}, Credential{}, "did not print"},
		"a secret that ran out": {Source{Command: prints(`{"secret":"s3cret-word","until":"2026-01-01T00:00:00Z"}`)}, Credential{}, "had run out"},
		"output without end":    {Source{Command: []string{"/bin/cat", "/dev/zero"}}, Credential{}, "the command /bin/cat"},
		"a command that fails":  {Source{Command: []string{"/bin/sh", "-c", "echo s3cret-word; exit 3"}}, Credential{}, "exit status 3"},
		"Dovrak's own variables are not for it": {Source{Command: []string{"/bin/sh", "-c", `echo "{\"secret\":\"x$DOVRAK_DATABASE_URL\"}"`}},
			Credential{Account: "desk", Secret: "x"}, ""},
	} {
		t.Run(name, func(t *testing.T) {
			tt.src.Account, tt.src.Hosts = "desk", []string{"hut.example"}
			s, err := New(map[string]Source{"hut": tt.src})
			if err != nil {
				t.Fatal(err)
			}
			got, err := s.Read(t.Context(), "hut")
			if tt.says == "" && (err != nil || got != tt.want) ||
				tt.says != "" && (err == nil || !strings.Contains(err.Error(), tt.says)) {
				t.Errorf("got %+v, %v", got, err)
			}
			if err != nil && strings.Contains(err.Error(), "s3cret-word") {
				t.Errorf("the error repeats the secret: %v", err)
			}
		})
	}
	// A command runs again when its secret is about to end, and not before.
	count := filepath.Join(dir, "count")
	script := fmt.Sprintf(`echo x >> %s; echo '{"secret":"x","until":"%s"}'`, count, later)
	s, err := New(map[string]Source{"hut": {Hosts: []string{"h"}, Account: "desk", Command: []string{"/bin/sh", "-c", script}}})
	if err != nil {
		t.Fatal(err)
	}
	for range 3 {
		if _, err := s.Read(context.Background(), "hut"); err != nil {
			t.Fatal(err)
		}
	}
	if raw, err := os.ReadFile(count); err != nil || len(raw) != 2 {
		t.Errorf("it ran %d times, %v", len(raw)/2, err)
	}
}
