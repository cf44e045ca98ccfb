package main

import (
	"context"
	_ "embed"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"dovrak/standin/debian"
	"dovrak/standin/oidc"
	"dovrak/standin/registry"

	"github.com/goccy/go-yaml"
	"github.com/jackc/pgx/v5"
)

//go:embed world/charter.yaml
var charter []byte

// world is what runs. Each part that was started is ended by end, the last first.
type world struct {
	dir, bin string
	listen   string
	addr     map[string]string // of each registry, and of the issuer: host and port
	ridgeCA  []byte            // in PEM
	issuer   *oidc.Issuer      // of the valley's pipelines
	people   *oidc.Issuer      // at which people sign in
	line     mountainLine      // to the hut
	ends     []func(context.Context) error
	said     io.Writer
}

// accounts are the made-up secrets by which the registries know their users.
var accounts = map[string]registry.Account{
	"pipeline": {Secret: "bench-push", Pull: true, Push: true},
	"dovrak":   {Secret: "desk-and-mountain", Pull: true, Push: true, Delete: true},
	"auditor":  {Secret: "look-only", Pull: true},
}

// hutLine is the speed of the line to the mountains, in bytes a second for each request.
const hutLine = 6 << 20

func raise(ctx context.Context, dir, bin, listen string) (*world, error) {
	w := &world{dir: dir, bin: bin, listen: listen, addr: map[string]string{}, said: os.Stdout}
	for _, d := range []string{dir, filepath.Join(dir, "registries")} {
		if err := os.MkdirAll(d, 0o755); err != nil {
			return w, err
		}
	}
	url, err := w.database(ctx)
	if err != nil {
		return w, err
	}
	if err := w.registries(ctx); err != nil {
		return w, err
	}
	return w, w.service(ctx, url)
}

func (w *world) database(ctx context.Context) (string, error) {
	pg, err := debian.StartPostgres(ctx, debian.PostgresOptions{Dir: filepath.Join(w.dir, "postgres")})
	if err != nil {
		return "", err
	}
	w.ends = append(w.ends, pg.Stop)
	c, err := pgx.Connect(ctx, pg.URL("postgres"))
	if err != nil {
		return "", err
	}
	var there bool
	err = c.QueryRow(ctx, "SELECT EXISTS (SELECT 1 FROM pg_database WHERE datname = 'dovrak')").Scan(&there)
	if err == nil && !there {
		_, err = c.Exec(ctx, "CREATE DATABASE dovrak")
	}
	return pg.URL("dovrak"), errors.Join(err, c.Close(ctx))
}

// registries starts forge, ridge and hut, each where it was before, since the service knows them by their address.
func (w *world) registries(ctx context.Context) error {
	file := filepath.Join(w.dir, "registries.yaml")
	raw, err := os.ReadFile(file)
	if err == nil {
		err = yaml.Unmarshal(raw, &w.addr)
	}
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	for name, opt := range map[string]registry.Options{
		"forge": {SignIn: registry.Token, Accounts: accounts},
		"hut":   {SignIn: registry.Basic, Accounts: accounts, BytesPerSecond: hutLine, Fault: w.line.fault},
	} {
		opt.Dir = filepath.Join(w.dir, "registries", name)
		if err := w.registry(name, opt); err != nil {
			return err
		}
	}
	if err := errors.Join(w.ridge(ctx), w.issuers()); err != nil {
		return err
	}
	if raw, err = yaml.Marshal(w.addr); err != nil {
		return err
	}
	return os.WriteFile(file, raw, 0o644)
}

func (w *world) issuers() (err error) {
	if w.issuer, err = w.issuerAt("valley"); err == nil {
		w.people, err = w.issuerAt("people")
	}
	if err == nil {
		w.people.Let(staff...)
	}
	return err
}

func (w *world) registry(name string, opt registry.Options) error {
	at := w.addr[name]
	if at == "" {
		at = "127.0.0.1:0"
	}
	l, err := net.Listen("tcp", at)
	if err != nil {
		return fmt.Errorf(
			"the registry %s cannot listen where it did before: %w; end what listens there, or begin anew: make demo FRESH=1",
			name,
			err,
		)
	}
	h, err := registry.New(opt)
	if err != nil {
		return err
	}
	srv := &http.Server{Handler: h, ReadHeaderTimeout: 10 * time.Second}
	go func() {
		if err := srv.Serve(l); !errors.Is(err, http.ErrServerClosed) {
			fmt.Fprintln(os.Stderr, "demo: the registry", name, "failed:", err)
		}
	}()
	w.addr[name] = l.Addr().String()
	w.ends = append(w.ends, func(context.Context) error { return srv.Close() })
	return nil
}

// ridge is the plain registry server from Debian's packages, with TLS by a CA of the demo's own.
func (w *world) ridge(ctx context.Context) error {
	opt := debian.RegistryOptions{Dir: filepath.Join(w.dir, "registries", "ridge"), Name: "dovrak", Secret: accounts["dovrak"].Secret}
	if at := w.addr["ridge"]; at != "" {
		_, port, err := net.SplitHostPort(at)
		if err != nil {
			return err
		}
		if opt.Port, err = strconv.Atoi(port); err != nil {
			return err
		}
	}
	r, err := debian.StartRegistry(ctx, opt)
	if err != nil {
		return err
	}
	w.addr["ridge"], w.ridgeCA = strings.TrimPrefix(r.Address, "https://"), r.CA
	w.ends = append(w.ends, func(context.Context) error { return r.Stop() })
	return nil
}

// service starts dovrak serve and waits until it is ready.
func (w *world) service(ctx context.Context, url string) error {
	log, err := os.OpenFile(filepath.Join(w.dir, "dovrak.log"), os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o644)
	if err != nil {
		return err
	}
	defer log.Close()
	l, err := net.Listen("tcp", w.listen)
	if err != nil { // someone else has the port
		if l, err = net.Listen("tcp", "127.0.0.1:0"); err != nil {
			return err
		}
	}
	w.listen = l.Addr().String()
	if err := l.Close(); err != nil {
		return err
	}
	cmd := exec.Command(w.bin, "serve")
	cmd.Env = append(os.Environ(), "DOVRAK_DATABASE_URL="+url, "DOVRAK_LISTEN="+w.listen,
		"DOVRAK_KEY_FILE="+filepath.Join(w.dir, "dovrak.key"), "DOVRAK_FIRST_TOKEN_FILE="+filepath.Join(w.dir, "administrator.token"))
	cmd.Stdout, cmd.Stderr = log, log
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGTERM}
	if err := cmd.Start(); err != nil {
		return err
	}
	gone := make(chan error, 1)
	go func() { gone <- cmd.Wait() }()
	w.ends = append(w.ends, func(ctx context.Context) error { return stopProcess(ctx, cmd, gone) })
	return w.ready(ctx, gone)
}

func stopProcess(ctx context.Context, cmd *exec.Cmd, gone <-chan error) error {
	if err := cmd.Process.Signal(syscall.SIGTERM); errors.Is(err, os.ErrProcessDone) {
		return nil
	}
	select {
	case err := <-gone:
		return err
	case <-ctx.Done():
		return cmd.Process.Kill()
	}
}

func (w *world) ready(ctx context.Context, gone chan error) error {
	ctx, cancel := context.WithTimeout(ctx, time.Minute)
	defer cancel()
	tick := time.NewTicker(50 * time.Millisecond)
	defer tick.Stop()
	for {
		if resp, err := http.Get("http://" + w.listen + "/readyz"); err == nil {
			if err := resp.Body.Close(); err == nil && resp.StatusCode == http.StatusOK {
				return nil
			}
		}
		select {
		case err := <-gone:
			gone <- err
			return fmt.Errorf("the service ended: %v; see %s", err, filepath.Join(w.dir, "dovrak.log"))
		case <-ctx.Done():
			return fmt.Errorf("the service was not ready in time; see %s", filepath.Join(w.dir, "dovrak.log"))
		case <-tick.C:
		}
	}
}

// end ends what was started, the last first.
func (w *world) end() error {
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	var errs []error
	for i := len(w.ends) - 1; i >= 0; i-- {
		errs = append(errs, w.ends[i](ctx))
	}
	return errors.Join(errs...)
}

// command runs the program as a person would, with the token of the person named, and shows both sides.
func (w *world) command(ctx context.Context, as string, in string, args ...string) (string, error) {
	token, err := os.ReadFile(w.tokenFile(as))
	if err != nil {
		return "", err
	}
	cmd := exec.CommandContext(ctx, w.bin, args...)
	cmd.Env = append(os.Environ(), "DOVRAK_SERVER=http://"+w.listen, "DOVRAK_TOKEN="+strings.TrimSpace(string(token)))
	cmd.Stdin = strings.NewReader(in)
	var out, problem strings.Builder
	cmd.Stdout, cmd.Stderr = &out, &problem
	if err := cmd.Run(); err != nil {
		return "", fmt.Errorf("dovrak %s: %w\n%s", strings.Join(args, " "), err, problem.String())
	}
	return out.String(), nil
}

func (w *world) tokenFile(of string) string {
	return filepath.Join(w.dir, strings.ToLower(of)+".token")
}
