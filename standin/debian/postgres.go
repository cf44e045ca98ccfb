// Package debian runs servers from Debian's packages as processes of the project's own, on loopback: PostgreSQL as a
// cluster with its own directory, port and sockets, and the plain open-source registry server. Neither touches a
// server that the machine runs already. It is for the demo and the tests.
package debian

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	mathrand "math/rand/v2"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
)

// Postgres is a running cluster.
type Postgres struct {
	port     int
	password string
	data     string
	bin      string
}

// PostgresOptions say where and how. Fast gives up durability for speed: for tests alone.
type PostgresOptions struct {
	Dir  string // where the cluster is kept; made if missing
	Fast bool
}

// ErrNoPostgres says what to install.
var ErrNoPostgres = errors.New("debian: PostgreSQL is not installed: sudo apt-get install -y postgresql")

// StartPostgres starts a cluster on a free port, making it first where there is none. One that was left running is
// stopped before.
func StartPostgres(ctx context.Context, o PostgresOptions) (*Postgres, error) {
	bin, err := postgresBin()
	if err != nil {
		return nil, err
	}
	home, err := reachable(ctx, o.Dir)
	if err != nil {
		return nil, err
	}
	p := &Postgres{data: filepath.Join(home, "data"), bin: bin}
	if err := p.prepare(ctx, home); err != nil {
		return nil, err
	}
	if p.run(ctx, "pg_ctl", "-D", p.data, "status") == nil {
		if err := p.Stop(ctx); err != nil {
			return nil, err
		}
	}
	if p.port, err = FreePort(); err != nil {
		return nil, err
	}
	sockets, err := socketDir(home)
	if err != nil {
		return nil, err
	}
	settings := fmt.Sprintf("-p %d -c listen_addresses=127.0.0.1 -c unix_socket_directories=%s -c max_connections=300", p.port, sockets)
	if o.Fast {
		settings += " -c fsync=off -c synchronous_commit=off -c full_page_writes=off"
	}
	return p, p.run(ctx, "pg_ctl", "-D", p.data, "-l", filepath.Join(home, "postgres.log"), "-w", "-t", "60", "-o", settings, "start")
}

// URL is the address of one of the cluster's databases.
func (p *Postgres) URL(database string) string {
	return fmt.Sprintf("postgres://postgres:%s@127.0.0.1:%d/%s?sslmode=disable", p.password, p.port, database)
}

// Stop stops the cluster; sessions that are open are ended.
func (p *Postgres) Stop(ctx context.Context) error {
	return p.run(ctx, "pg_ctl", "-D", p.data, "-m", "fast", "-w", "-t", "60", "stop")
}

func postgresBin() (string, error) {
	found, err := filepath.Glob("/usr/lib/postgresql/*/bin/initdb")
	if err != nil || len(found) == 0 {
		return "", ErrNoPostgres
	}
	slices.SortFunc(found, func(a, b string) int { return version(a) - version(b) })
	return filepath.Dir(found[len(found)-1]), nil
}

func version(initdb string) int {
	n, err := strconv.Atoi(strings.Split(initdb, "/")[4])
	if err != nil {
		return 0
	}
	return n
}

// prepare makes the cluster where there is none, with a password that is kept beside it.
func (p *Postgres) prepare(ctx context.Context, home string) error {
	file := filepath.Join(home, "password")
	raw, err := os.ReadFile(file)
	if err == nil {
		p.password = strings.TrimSpace(string(raw))
		_, err = os.Stat(filepath.Join(p.data, "PG_VERSION"))
	}
	if err == nil || !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	p.password = rand.Text()
	if err := os.WriteFile(file, []byte(p.password+"\n"), 0o600); err != nil {
		return err
	}
	if err := give(ctx, home); err != nil {
		return err
	}
	return p.run(
		ctx,
		"initdb",
		"-D",
		p.data,
		"-U",
		"postgres",
		"--auth=scram-sha-256",
		"--pwfile="+file,
		"-E",
		"UTF8",
		"--locale=C.UTF-8",
		"-N",
	)
}

// run runs one of PostgreSQL's programs: as the user postgres where we are root, since it refuses root.
func (p *Postgres) run(ctx context.Context, program string, args ...string) error {
	name := filepath.Join(p.bin, program)
	if os.Geteuid() == 0 {
		args = append([]string{"-u", "postgres", "--", name}, args...)
		name = "runuser"
	}
	cmd := exec.CommandContext(ctx, name, args...)
	cmd.Dir = "/"
	log, err := os.CreateTemp("", "dovrak-pg-*") // a pipe would be held open by the server that pg_ctl starts
	if err != nil {
		return err
	}
	defer os.Remove(log.Name())
	defer log.Close()
	cmd.Stdout, cmd.Stderr = log, log
	if err := cmd.Run(); err != nil {
		said, rerr := os.ReadFile(log.Name())
		return errors.Join(fmt.Errorf("debian: %s: %w: %s", program, err, strings.TrimSpace(string(said))), rerr)
	}
	return nil
}

// reachable gives the directory itself, or, where we are root and the user postgres cannot enter it, one of the same
// purpose that it can.
func reachable(ctx context.Context, dir string) (string, error) {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return "", err
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return "", err
	}
	if os.Geteuid() != 0 {
		return dir, nil
	}
	if err := give(ctx, dir); err != nil {
		return "", err
	}
	try := exec.CommandContext(ctx, "runuser", "-u", "postgres", "--", "test", "-w", dir)
	try.Dir = "/"
	if try.Run() == nil {
		return dir, nil
	}
	elsewhere := filepath.Join("/var/tmp", "dovrak-"+nameOf(dir))
	if err := os.MkdirAll(elsewhere, 0o700); err != nil {
		return "", err
	}
	return elsewhere, give(ctx, elsewhere)
}

// Forget removes a cluster that does not run, wherever it was kept.
func Forget(dir string) error {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return err
	}
	return errors.Join(os.RemoveAll(dir), os.RemoveAll(filepath.Join("/var/tmp", "dovrak-"+nameOf(dir))))
}

// give makes the user postgres the owner, where we are root.
func give(ctx context.Context, dir string) error {
	if os.Geteuid() != 0 {
		return nil
	}
	out, err := exec.CommandContext(ctx, "chown", "-R", "postgres:", dir).CombinedOutput()
	if err != nil {
		return fmt.Errorf("debian: chown: %w: %s", err, out)
	}
	return nil
}

func nameOf(dir string) string {
	sum := sha256.Sum256([]byte(dir))
	return hex.EncodeToString(sum[:6])
}

// socketDir gives a directory whose sockets' names stay within the 107 bytes that the system allows.
func socketDir(home string) (string, error) {
	if len(home) < 80 {
		return home, nil
	}
	dir := filepath.Join(os.TempDir(), "dovrak-"+nameOf(home))
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return "", err
	}
	return dir, give(context.Background(), dir)
}

// FreePort finds a port on loopback on which nothing listens. It lies below those that the system gives to connections and to
// listeners that ask for any, so that none of them takes it before its server does.
func FreePort() (int, error) {
	for range 100 {
		port := 20_000 + mathrand.IntN(10_000)
		l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", port))
		if err == nil {
			return port, l.Close()
		}
	}
	return 0, errors.New("debian: no free port from 20000 to 29999")
}
