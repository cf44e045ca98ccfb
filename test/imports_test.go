package test

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os/exec"
	"strings"
	"testing"
)

// may says which rooms a room may know, besides itself and what is not of this project: imports point downwards only.
var may = map[string]string{
	"core":        "",
	"failpoint":   "",
	"registry":    "core",
	"transfer":    "core registry failpoint",
	"store":       "core",
	"secrets":     "core",
	"service":     "core registry transfer store secrets failpoint",
	"jobs":        "service store",
	"api":         "api/wire core service store",
	"api/wire":    "",
	"client":      "api/wire core",
	"cli":         "client api/wire core",
	"console":     "",
	"standin":     "",
	"cmd/dovrak":  "api cli console jobs registry secrets service store",
	"cmd/demo":    "standin client api/wire",
	"cmd/openapi": "api",
	"test":        "api api/wire client core registry service standin store cli transfer",
}

// room is the part of the house that a package lies in.
func room(path string) string {
	path = strings.TrimPrefix(path, "dovrak/")
	if _, own := may[path]; own {
		return path
	}
	first, rest, _ := strings.Cut(path, "/")
	if first == "cmd" {
		second, _, _ := strings.Cut(rest, "/")
		return "cmd/" + second
	}
	return first
}

type pkg struct {
	ImportPath                         string
	Imports, TestImports, XTestImports []string
}

// violations lists the imports that go where they may not.
func violations(pkgs []pkg) []string {
	var out []string
	for _, p := range pkgs {
		from := room(p.ImportPath)
		allowed, known := may[from]
		if !known {
			out = append(out, fmt.Sprintf("%s lies in no room of the house", p.ImportPath))
			continue
		}
		for _, to := range p.Imports {
			if !strings.HasPrefix(to, "dovrak/") || room(to) == from || strings.Contains(" "+allowed+" ", " "+room(to)+" ") {
				continue
			}
			out = append(out, fmt.Sprintf("%s imports %s: %s may not know %s", p.ImportPath, to, from, room(to)))
		}
	}
	return out
}

func TestImportsPointDownwards(t *testing.T) {
	out, err := exec.Command("go", "list", "-json", "dovrak/...").Output()
	must(t, err)
	var pkgs []pkg
	for dec := json.NewDecoder(strings.NewReader(string(out))); ; {
		var p pkg
		if err := dec.Decode(&p); errors.Is(err, io.EOF) {
			break
		} else if err != nil {
			t.Fatal(err)
		}
		pkgs = append(pkgs, p)
	}
	if len(pkgs) < 20 {
		t.Fatalf("only %d packages were looked at", len(pkgs))
	}
	for _, v := range violations(pkgs) {
		t.Error(v)
	}
}

// TestImportRuleBites plants violations.
func TestImportRuleBites(t *testing.T) {
	for _, tt := range []struct {
		from, to string
		bad      bool
	}{
		{"dovrak/core/plan", "dovrak/store", true}, {"dovrak/core/plan", "dovrak/core/image", false},
		{"dovrak/registry", "dovrak/transfer", true},
		{"dovrak/service", "dovrak/jobs", true}, {"dovrak/jobs", "dovrak/service", false}, {"dovrak/client", "dovrak/api", true},
		{"dovrak/client", "dovrak/api/wire", false}, {"dovrak/standin/registry", "dovrak/registry", true},
		{"dovrak/store/seal", "dovrak/service", true},
		{"dovrak/attic", "fmt", true},
	} {
		if got := violations([]pkg{{ImportPath: tt.from, Imports: []string{"fmt", tt.to}}}); (len(got) > 0) != tt.bad {
			t.Errorf("%s imports %s: %v", tt.from, tt.to, got)
		}
	}
}
