// Command dovrak is the program: `dovrak serve` is the service, every other command its client.
package main

import (
	"context"
	"os"
	"os/signal"
	"syscall"

	"dovrak/cli"
)

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	app := cli.App{In: os.Stdin, Out: os.Stdout, Err: os.Stderr, Env: os.Getenv}
	code := app.Run(ctx, os.Args[1:], serveCommand())
	stop()
	os.Exit(code)
}
