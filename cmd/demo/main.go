// Command demo starts a whole made-up world on loopback and plays a release morning in it: PostgreSQL, a plain registry
// server and two simulated ones, the service, a pipeline's builds and their promotions. Ctrl-C ends every process it started; run again,
// it finds its data.
package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"os"
	"os/signal"
	"path/filepath"
	"syscall"

	"dovrak/standin/debian"
)

func main() {
	dir := flag.String("dir", "var/demo", "where the world is kept")
	bin := flag.String("bin", "bin/dovrak", "the program")
	listen := flag.String("listen", "127.0.0.1:8620", "where the service listens")
	fresh := flag.Bool("fresh", false, "begin anew")
	once := flag.Bool("once", false, "end after the morning, in place of waiting for Ctrl-C")
	flag.Parse()
	signal.Ignore(syscall.SIGPIPE) // whoever read along may go; what was started is ended all the same
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	err := run(ctx, *dir, *bin, *listen, *fresh, *once)
	stop()
	if err != nil && !errors.Is(err, context.Canceled) {
		fmt.Fprintln(os.Stderr, "demo:", err)
		os.Exit(1)
	}
}

func run(ctx context.Context, dir, bin, listen string, fresh, once bool) (err error) {
	if fresh {
		if err := debian.Forget(filepath.Join(dir, "postgres")); err != nil {
			return err
		}
		if err := os.RemoveAll(dir); err != nil {
			return err
		}
	}
	w, err := raise(ctx, dir, bin, listen)
	defer func() { err = errors.Join(err, w.end()) }()
	if err != nil {
		return err
	}
	if err := w.play(ctx); err != nil {
		return err
	}
	w.invite()
	if !once {
		<-ctx.Done()
		fmt.Println("\nending the world; its data stays in", dir)
	}
	return nil
}
