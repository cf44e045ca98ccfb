package main

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"os"
	"strconv"
	"time"

	"dovrak/api"
	"dovrak/console"
	"dovrak/jobs"
	"dovrak/registry"
	"dovrak/secrets"
	"dovrak/service"
	"dovrak/store"
	"dovrak/store/seal"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/spf13/cobra"
	"golang.org/x/sync/errgroup"
	"golang.org/x/term"
)

func serveCommand() *cobra.Command {
	var file string
	cmd := &cobra.Command{
		Use:   "serve",
		Short: "Run the service",
		Long: "Run the service. Settings come from flags, else from the environment, else from the file given by --config.\n" +
			"The same binary runs on one machine or on many against one database; they share the key file besides.",
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, err := read(cmd, file)
			if err != nil {
				return err
			}
			var level slog.Level
			if err := level.UnmarshalText([]byte(s.LogLevel)); err != nil {
				return err
			}
			log := slog.New(slog.NewJSONHandler(cmd.ErrOrStderr(), &slog.HandlerOptions{Level: level}))
			return serve(cmd.Context(), s, log, cmd.OutOrStdout())
		},
	}
	cmd.Flags().StringVar(&file, "config", os.Getenv("DOVRAK_CONFIG"), "settings file, in YAML (DOVRAK_CONFIG)")
	for _, o := range options {
		help := o.help + " (" + o.env
		if o.fallback != "" {
			help += "; default " + o.fallback
		}
		cmd.Flags().String(o.flag, "", help+")")
	}
	cmd.Flags().Bool("behind-proxy", false, "a proxy with TLS stands before the service")
	return cmd
}

// serve runs until ctx ends, then brings the work in hand to a safe point.
func serve(ctx context.Context, s settings, log *slog.Logger, out io.Writer) error {
	st, err := openStore(ctx, s.DatabaseURL)
	if err != nil {
		return err
	}
	defer st.Close()
	key, err := loadKey(ctx, st, s.KeyFile)
	if err != nil {
		return err
	}
	metrics := prometheus.NewRegistry()
	metrics.MustRegister(collectors.NewGoCollector(), collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}))
	queue, err := jobs.New(st, quieter(log))
	if err != nil {
		return err
	}
	sources, err := secrets.New(s.SecretSources)
	if err != nil {
		return err
	}
	link := store.NewLink(st, log)
	svc := service.New(service.Options{Secrets: sources, Store: st, Link: link, Key: key, Queue: queue, Log: log, Observe: observe(metrics),
		BlobsAtOnce: s.blobsAtOnce})
	if err := svc.FirstStart(ctx, func(token string) error { return giveFirstToken(s.FirstTokenFile, token, out) }); err != nil {
		return err
	}
	listener, err := net.Listen("tcp", s.Listen)
	if err != nil {
		return err
	}
	if s.PublicURL == "" {
		s.PublicURL = "http://" + listener.Addr().String()
		if s.TLSCert != "" {
			s.PublicURL = "https://" + listener.Addr().String()
		}
	}
	files, err := console.Files()
	if err != nil {
		return err
	}
	handler, err := api.New(
		api.Options{Service: svc, Log: log, PublicURL: s.PublicURL, Registry: metrics, Console: files, Closing: ctx.Done()},
	)
	if err != nil {
		return err
	}
	tlsConfig, err := s.tls()
	if err != nil {
		return err
	}
	return run(ctx, log, svc, queue, link, handler, listener, tlsConfig)
}

// run holds the service's parts together: when one fails, or ctx ends, all stop. The link goes last: while it lives,
// others know that this process does.
func run(
	ctx context.Context,
	log *slog.Logger,
	svc *service.Service,
	queue *jobs.Queue,
	link *store.Link,
	h http.Handler,
	l net.Listener,
	t *tls.Config,
) error {
	linked, unlink := context.WithCancel(context.WithoutCancel(ctx))
	ready := make(chan struct{})
	gone := make(chan error, 1)
	go func() { gone <- link.Run(linked, ready) }()
	select {
	case <-ready:
	case <-ctx.Done():
	}
	g, gctx := errgroup.WithContext(ctx)
	g.Go(func() error { return svc.Run(gctx) })
	g.Go(func() error { return queue.Start(gctx, svc) })
	g.Go(func() error { return serveHTTP(gctx, h, l, t) })
	log.Info("the service stands", "listen", l.Addr().String(), "process", link.Process)
	err := g.Wait()
	unlink()
	if lerr := <-gone; err == nil {
		err = lerr
	}
	log.Info("the service has stopped")
	if errors.Is(err, context.Canceled) {
		return nil
	}
	return err
}

func serveHTTP(ctx context.Context, h http.Handler, l net.Listener, t *tls.Config) error {
	if t != nil {
		l = tls.NewListener(l, t)
	}
	srv := &http.Server{Handler: h, ReadHeaderTimeout: 10 * time.Second, IdleTimeout: 2 * time.Minute, MaxHeaderBytes: 64 << 10,
		BaseContext: func(net.Listener) context.Context { return context.WithoutCancel(ctx) }}
	failed := make(chan error, 1)
	go func() { failed <- srv.Serve(l) }()
	select {
	case err := <-failed:
		return err
	case <-ctx.Done():
	}
	stop, cancel := context.WithTimeout(context.WithoutCancel(ctx), 20*time.Second)
	defer cancel()
	return srv.Shutdown(stop)
}

// openStore opens the database and brings its tables up to date; a database that is down is waited for only briefly.
func openStore(ctx context.Context, url string) (*store.Store, error) {
	opening, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	st, err := store.Open(opening, url)
	if err != nil {
		return nil, fmt.Errorf("%w\nsee that PostgreSQL is up and that DOVRAK_DATABASE_URL names it", err)
	}
	if err := st.Migrate(ctx); err != nil {
		return nil, errors.Join(err, st.Close())
	}
	return st, nil
}

// loadKey reads the sealing key. A new one is made only for an empty database: another key could open nothing in one
// that is in use.
func loadKey(ctx context.Context, st *store.Store, file string) (*seal.Key, error) {
	key, err := seal.Load(file)
	if !errors.Is(err, seal.ErrMissing) {
		return key, err
	}
	fp, err := st.KeyFingerprint(ctx)
	if err != nil {
		return nil, err
	}
	if fp != nil {
		return nil, fmt.Errorf("the key file %s is not there, and the database was sealed with one: put it back (DOVRAK_KEY_FILE)", file)
	}
	key, err = seal.Make(file)
	if errors.Is(err, os.ErrExist) { // another process was first
		return seal.Load(file)
	}
	return key, err
}

// giveFirstToken writes the administrator's token to its file, or shows it on a terminal; elsewhere it would end up
// in a log.
func giveFirstToken(file, token string, out io.Writer) error {
	if file != "" {
		f, err := os.OpenFile(file, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
		if err != nil {
			return err
		}
		_, err = fmt.Fprintln(f, token)
		return errors.Join(err, f.Chmod(0o600), f.Sync(), f.Close())
	}
	if f, ok := out.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		_, err := fmt.Fprintf(out, "The administrator's token, shown this once:\n\n  %s\n\n", token)
		return err
	}
	return errors.New(
		"this is the first start, and there is no terminal to show the administrator's token on: set DOVRAK_FIRST_TOKEN_FILE",
	)
}

// observe counts what is asked of registries.
func observe(r *prometheus.Registry) func(registry.Exchange) {
	seconds := prometheus.NewHistogramVec(
		prometheus.HistogramOpts{Name: "dovrak_registry_request_seconds", Help: "Time until a registry answered.",
			Buckets: []float64{.005, .02, .1, .5, 2, 10, 60}},
		[]string{"registry", "method", "status"},
	)
	r.MustRegister(seconds)
	return func(x registry.Exchange) {
		seconds.WithLabelValues(x.Registry, x.Method, strconv.Itoa(x.Status)).Observe(x.Took.Seconds())
	}
}

// quieter keeps the queue's routine out of the log.
func quieter(log *slog.Logger) *slog.Logger { return slog.New(atLeastWarn{log.Handler()}) }

type atLeastWarn struct{ slog.Handler }

func (h atLeastWarn) Enabled(ctx context.Context, l slog.Level) bool {
	return l >= slog.LevelWarn && h.Handler.Enabled(ctx, l)
}
func (h atLeastWarn) WithAttrs(a []slog.Attr) slog.Handler {
	return atLeastWarn{h.Handler.WithAttrs(a)}
}
func (h atLeastWarn) WithGroup(n string) slog.Handler { return atLeastWarn{h.Handler.WithGroup(n)} }
