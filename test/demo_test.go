package test

import (
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// TestDemo plays the release morning and ends; a second start finds its data and plays nothing again. Neither leaves a
// process behind, and the commands that it prints are there.
func TestDemo(t *testing.T) {
	t.Parallel()
	home, err := os.MkdirTemp(os.Getenv("DOVRAK_TEST_DIR"), "demo-*")
	must(t, err)
	defer os.RemoveAll(home)
	must(t, os.Chmod(home, 0o711))
	program := filepath.Join(t.TempDir(), "demo")
	if out, err := exec.Command("go", "build", "-o", program, "dovrak/cmd/demo").CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	world := filepath.Join(home, "world")
	run := func() string {
		ctx, cancel := context.WithTimeout(t.Context(), 3*time.Minute)
		defer cancel()
		out, err := exec.CommandContext(ctx, program, "-once", "-dir", world, "-bin", binary, "-listen", "127.0.0.1:0").CombinedOutput()
		if err != nil {
			log, lerr := os.ReadFile(filepath.Join(world, "dovrak.log"))
			t.Fatalf("%v\n%s\n%s %v", err, out, log, lerr)
		}
		return string(out)
	}
	for i, want := range []int{13, 0} {
		out := run()
		if n := strings.Count(out, "promoted "); n != want {
			t.Errorf("start %d: %d promotions, want %d:\n%s", i+1, n, want, out)
		}
		if !strings.Contains(out, "show forge/bench/snowpack-model:build-41") {
			t.Errorf("start %d invites nobody:\n%s", i+1, out)
		}
		for _, name := range living(t) {
			if strings.Contains(name, world) {
				t.Errorf("start %d left behind: %s", i+1, name)
			}
		}
	}
}

// living lists the command lines of all processes.
func living(t *testing.T) []string {
	t.Helper()
	files, err := filepath.Glob("/proc/[0-9]*/cmdline")
	must(t, err)
	var out []string
	for _, f := range files {
		raw, err := os.ReadFile(f)
		if err == nil { // a process that ended meanwhile is not one
			out = append(out, strings.ReplaceAll(string(raw), "\x00", " "))
		}
	}
	return out
}
