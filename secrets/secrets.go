// Package secrets reads credentials from where the server's own settings file says they are: a variable, a file, or a
// command that prints one which lives for a short time. A source has a name, and is bound to the registry hosts that
// its secret may go to. Whoever uses the API can name a source and no more: the words of a command, the path of a file
// and the hosts stand in a file that only the machine's owner writes.
//
//	secretSources:
//	  hut-desk:
//	    hosts: [hut.skarvind.example:5000]
//	    account: dovrak
//	    file: /run/secrets/hut
//	  forge-hourly:
//	    hosts: [forge.skarvind.example, sign-in.skarvind.example]
//	    command: [/usr/local/bin/forge-secret]
//
// A command prints one JSON object: {"account": "…", "secret": "…", "until": "2026-03-03T10:00:00Z"}. account may be left
// out where the settings name one, until where the secret has no end.
package secrets

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"os"
	"os/exec"
	"slices"
	"strings"
	"sync"
	"time"

	"dovrak/core/problem"
)

// Limits on what a source may cost.
const (
	maxSecret       = 64 << 10 // bytes
	commandDeadline = 10 * time.Second
	early           = 30 * time.Second // before its end, a secret is not used any more
)

// Source says where one credential is. Exactly one of Variable, File and Command is set.
type Source struct {
	Hosts    []string `yaml:"hosts"`   // host[:port] of the registries, and of their sign-ins, that may be given it
	Account  string   `yaml:"account"` // the name to sign in with
	Variable string   `yaml:"variable"`
	File     string   `yaml:"file"`
	Command  []string `yaml:"command"` // the program and its arguments; no shell reads them
}

// Credential is a name and a secret. Until is the zero time where it has no known end.
type Credential struct {
	Account, Secret string
	Until           time.Time
}

// Sources are all that are declared. Make them with [New].
type Sources struct {
	by   map[string]Source
	mu   sync.Mutex
	held map[string]Credential // what commands printed, until shortly before its end
}

// New checks the sources that the settings declare.
func New(declared map[string]Source) (*Sources, error) {
	for _, name := range slices.Sorted(maps.Keys(declared)) {
		if err := declared[name].check(); err != nil {
			return nil, fmt.Errorf("the secret source %s: %w", name, err)
		}
	}
	return &Sources{by: declared, held: map[string]Credential{}}, nil
}

func (s Source) check() error {
	ways := 0
	for _, given := range []bool{s.Variable != "", s.File != "", len(s.Command) > 0} {
		if given {
			ways++
		}
	}
	switch {
	case ways != 1:
		return fmt.Errorf("name one of variable, file and command")
	case len(s.Hosts) == 0:
		return fmt.Errorf("name the hosts that its secret may go to")
	case s.Account == "" && len(s.Command) == 0:
		return fmt.Errorf("name the account to sign in with")
	}
	return nil
}

// Names lists the declared sources.
func (s *Sources) Names() []string { return slices.Sorted(maps.Keys(s.by)) }

// Allows reports whether a source is declared and its secret may go to all the hosts.
func (s *Sources) Allows(name string, hosts ...string) error {
	src, ok := s.by[name]
	if !ok {
		p := &problem.Problem{Kind: problem.NotFound, Title: "No secret source is declared under this name", Asked: name,
			Seen: "the sources " + strings.Join(s.Names(), ", "), Remedy: "declare it in the settings file of every service process"}
		if len(s.by) == 0 {
			p.Seen = "no source at all"
		}
		return p
	}
	for _, h := range hosts {
		if !slices.Contains(src.Hosts, h) {
			return &problem.Problem{Kind: problem.Refused, Title: "This secret may not go to this host", Asked: name + " for " + h,
				Seen: "a source for " + strings.Join(src.Hosts, ", "), Rule: "a secret source is bound to its hosts",
				Remedy: "take another source, or name the host for it in the settings file"}
		}
	}
	return nil
}

// Read gives a source's credential. What a command printed is used until shortly before its end; a variable and a file
// are read each time, so that a changed one counts at once. No error holds anything of the secret.
func (s *Sources) Read(ctx context.Context, name string) (Credential, error) {
	src := s.by[name]
	c := Credential{Account: src.Account}
	var err error
	switch {
	case src.Variable != "":
		if c.Secret = os.Getenv(src.Variable); c.Secret == "" {
			err = fmt.Errorf("the variable %s is empty", src.Variable)
		}
	case src.File != "":
		c.Secret, err = readFile(src.File)
	default:
		return s.fromCommand(ctx, name, src)
	}
	return c, unreadable(name, err)
}

func readFile(name string) (string, error) {
	f, err := os.Open(name)
	if err != nil {
		return "", err
	}
	defer f.Close()
	raw, err := io.ReadAll(io.LimitReader(f, maxSecret+1))
	switch {
	case err != nil:
		return "", err
	case len(raw) > maxSecret:
		return "", fmt.Errorf("%s is larger than 64 KiB", name)
	case len(bytes.TrimSpace(raw)) == 0:
		return "", fmt.Errorf("%s is empty", name)
	}
	return string(bytes.TrimSpace(raw)), nil
}

// fromCommand runs a command once at a time, since many sign-ins may want the same secret at the same moment.
func (s *Sources) fromCommand(ctx context.Context, name string, src Source) (Credential, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if c, ok := s.held[name]; ok && time.Now().Add(early).Before(c.Until) {
		return c, nil
	}
	c, err := run(ctx, src)
	if err != nil {
		return c, unreadable(name, err)
	}
	if !c.Until.IsZero() {
		s.held[name] = c
	}
	return c, nil
}

// run runs a source's command. It sees the service's environment without what is Dovrak's own.
func run(ctx context.Context, src Source) (Credential, error) {
	ctx, cancel := context.WithTimeout(ctx, commandDeadline)
	defer cancel()
	cmd := exec.CommandContext(ctx, src.Command[0], src.Command[1:]...)
	cmd.Env = slices.DeleteFunc(os.Environ(), func(v string) bool { return strings.HasPrefix(v, "DOVRAK_") })
	cmd.WaitDelay = time.Second
	out := limited{full: cancel}
	cmd.Stdout = &out
	if err := cmd.Run(); err != nil {
		return Credential{}, fmt.Errorf("the command %s: %w", src.Command[0], err)
	}
	var printed struct {
		Account string    `json:"account"`
		Secret  string    `json:"secret"`
		Until   time.Time `json:"until"`
	}
	if err := json.Unmarshal(out.got.Bytes(), &printed); err != nil || printed.Secret == "" {
		return Credential{}, fmt.Errorf(`the command %s did not print {"secret": "…", "until": "…"}`, src.Command[0])
	}
	if printed.Account == "" {
		printed.Account = src.Account
	}
	if printed.Account == "" {
		return Credential{}, fmt.Errorf("neither the command %s nor the settings name an account", src.Command[0])
	}
	if !printed.Until.IsZero() && !time.Now().Before(printed.Until) {
		return Credential{}, fmt.Errorf("the command %s printed a secret that had run out at %s", src.Command[0], printed.Until.UTC())
	}
	return Credential(printed), nil
}

// limited is a buffer that ends the command when it prints more than a secret can be.
// Its buffer is a field, since an embedded one would take all there is by its own ReadFrom.
type limited struct {
	got  bytes.Buffer
	full func()
}

func (l *limited) Write(p []byte) (int, error) {
	if l.got.Len()+len(p) > maxSecret {
		l.full()
		return 0, fmt.Errorf("more than 64 KiB were printed")
	}
	return l.got.Write(p)
}

func unreadable(name string, err error) error {
	if err == nil {
		return nil
	}
	return (&problem.Problem{Kind: problem.Unreachable, Title: "The secret cannot be read from its source", Asked: "the source " + name,
		Seen: err.Error(), Remedy: "see to the source on the machine of the service"}).Because(err)
}
