// Package cli is the command line: every command but serve is a client of the service. It prints tables for people, or
// JSON or YAML for programs, and ends with the exit code that says what came of it.
package cli

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"reflect"
	"strings"

	"dovrak/client"
	"dovrak/core/image"
	"dovrak/core/problem"

	"github.com/goccy/go-yaml"
	"github.com/spf13/cobra"
	"golang.org/x/term"
)

// The exit codes.
const (
	Done       = 0
	Failed     = 1
	WrongUsage = 2
	Refused    = 3 // by a rule
	Waits      = 4 // for someone
	Differs    = 5 // a check found a difference
)

// App is one run of the command line.
type App struct {
	In       io.Reader
	Out, Err io.Writer
	Env      func(string) string

	server, token, output string
	colour, terminal      bool          // of Out
	liveErr               bool          // Err is a terminal, on which progress is shown in place
	width                 int           // of Out, in letters
	lines                 *bufio.Reader // of In, where secrets are read from it line by line
}

// usage marks an error of how a command was called.
type usage struct{ error }

func (u usage) Unwrap() error { return u.error }

// Run runs a command and gives its exit code. more are commands that are no clients, such as serve.
func (a *App) Run(ctx context.Context, args []string, more ...*cobra.Command) int {
	a.terminal, a.liveErr = isTerminal(a.Out), isTerminal(a.Err)
	a.colour = a.terminal && a.Env("NO_COLOR") == "" && a.Env("TERM") != "dumb"
	a.width = widthOf(a.Out)
	root := a.root()
	root.AddCommand(more...)
	root.SetArgs(args)
	root.SetIn(a.In)
	root.SetOut(a.Out)
	root.SetErr(a.Err)
	root.SetFlagErrorFunc(func(_ *cobra.Command, err error) error { return usage{err} })
	return a.report(root.ExecuteContext(ctx))
}

func isTerminal(w io.Writer) bool {
	f, ok := w.(*os.File)
	return ok && term.IsTerminal(int(f.Fd()))
}

// widthOf is how wide a terminal is; elsewhere lines are as long as most can show.
func widthOf(w io.Writer) int {
	if f, ok := w.(*os.File); ok {
		if n, _, err := term.GetSize(int(f.Fd())); err == nil && n > 0 {
			return n
		}
	}
	return 120
}

func (a *App) root() *cobra.Command {
	root := &cobra.Command{
		Use:   "dovrak",
		Short: "Govern how container images are tagged, pinned, copied and promoted",
		Long: "Dovrak governs how pipeline-built container images are tagged, pinned by digest, copied and promoted\n" +
			"between registries, with a provable history of every tag change.\n\n" +
			"Every command but serve speaks to the service that DOVRAK_SERVER names, with the token in DOVRAK_TOKEN.\n" +
			"It ends with 0 done, 1 failed, 2 wrong usage, 3 refused by a rule, 4 waits for someone, 5 a check found a difference.",
		SilenceUsage: true, SilenceErrors: true,
		PersistentPreRunE: func(*cobra.Command, []string) error { return a.settle() },
	}
	f := root.PersistentFlags()
	f.StringVarP(&a.output, "output", "o", "table", "table, json or yaml")
	f.StringVar(&a.server, "server", "", "the service's address (DOVRAK_SERVER; default http://127.0.0.1:8620)")
	root.AddCommand(
		a.show(),
		a.where(),
		a.tags(),
		a.compare(),
		a.build(),
		a.vouch(),
		a.point(),
		a.unpoint(),
		a.join(),
		a.copy(),
		a.copies(),
		a.promote(),
		a.promotions(),
		a.stop(),
		a.resume(),
		a.rollback(),
		a.approve(),
		a.decline(),
		a.people(),
		a.trail(),
		a.standing(),
		a.registry(),
		a.charter(),
		a.tokens(),
		a.whoami(),
		a.signin(),
	)
	return root
}

// settle fills in what flags left open from the environment, then from what signin kept.
func (a *App) settle() error {
	switch a.output {
	case "table", "json", "yaml":
	default:
		return usage{fmt.Errorf("there is no output %q: say table, json or yaml", a.output)}
	}
	kept, err := a.kept()
	if err != nil {
		return err
	}
	a.token = a.Env("DOVRAK_TOKEN")
	for _, s := range []string{a.server, a.Env("DOVRAK_SERVER"), kept.Server, "http://127.0.0.1:8620"} {
		if s != "" {
			a.server = strings.TrimSuffix(s, "/")
			break
		}
	}
	if a.token == "" && kept.Server == a.server {
		a.token = kept.Token
	}
	return nil
}

func (a *App) client() *client.Client { return &client.Client{Server: a.server, Token: a.token} }

// print gives v as JSON or YAML, or calls table. Behind a pointer, what a terminal would act on is made visible first:
// labels and tags are whatever somebody once pushed.
func (a *App) print(v any, table func()) error {
	switch a.output {
	case "json":
		enc := json.NewEncoder(a.Out)
		enc.SetIndent("", "  ")
		enc.SetEscapeHTML(false)
		return enc.Encode(v)
	case "yaml":
		raw, err := json.Marshal(v)
		if err != nil {
			return err
		}
		if raw, err = yaml.JSONToYAML(raw); err != nil {
			return err
		}
		_, err = a.Out.Write(raw)
		return err
	}
	clean(reflect.ValueOf(v))
	table()
	return nil
}

// clean makes every string below a pointer safe for a terminal.
func clean(v reflect.Value) {
	switch v.Kind() {
	case reflect.Pointer, reflect.Interface:
		if !v.IsNil() {
			clean(v.Elem())
		}
	case reflect.Struct:
		for i := range v.NumField() {
			if v.Type().Field(i).IsExported() {
				clean(v.Field(i))
			}
		}
	case reflect.Slice:
		for i := range v.Len() {
			clean(v.Index(i))
		}
	case reflect.Map:
		if m, ok := v.Interface().(map[string]string); ok {
			for k, s := range m {
				delete(m, k)
				m[image.Visible(k)] = image.Visible(s)
			}
		}
	case reflect.String:
		if v.CanSet() {
			v.SetString(image.Visible(v.String()))
		}
	}
}

// ended is how a command ends that did its work and found something to tell by its exit code alone.
type ended struct{ code int }

func (e ended) Error() string { return fmt.Sprint("ended with ", e.code) }

// report tells of an error and gives its exit code.
func (a *App) report(err error) int {
	if err == nil {
		return Done
	}
	if e, ok := errors.AsType[ended](err); ok {
		return e.code
	}
	if u, ok := errors.AsType[usage](err); ok || strings.HasPrefix(err.Error(), "unknown ") {
		if !ok {
			u = usage{err}
		}
		fmt.Fprintf(
			a.Err,
			"%s: %s\n  %s  dovrak --help shows the commands, and COMMAND --help its options\n",
			a.ember("dovrak"),
			u.Error(),
			a.dim("remedy"),
		)
		return WrongUsage
	}
	if errors.Is(err, context.Canceled) {
		fmt.Fprintln(a.Err, "interrupted; what the service has taken on goes on there")
		return Failed
	}
	p, ok := errors.AsType[*problem.Problem](err)
	if !ok {
		fmt.Fprintf(a.Err, "%s: %v\n", a.ember("dovrak"), err)
		return Failed
	}
	a.tell(p)
	switch p.Kind {
	case problem.Malformed:
		return WrongUsage
	case problem.Refused:
		return Refused
	}
	return Failed
}

// tell prints a problem: each fact on a line of its own, what to do last.
func (a *App) tell(p *problem.Problem) {
	word := "failed"
	if p.Kind == problem.Refused {
		word = "refused"
	}
	fmt.Fprintf(a.Err, "%s: %s\n", a.ember(word), p.Title)
	for _, l := range []struct{ name, text string }{
		{"asked", p.Asked}, {"seen", p.Seen}, {"where", p.Where}, {"rule", p.Rule}, {"remedy", p.Remedy},
	} {
		if l.text != "" {
			fmt.Fprintf(a.Err, "  %s %s\n", a.dim(fmt.Sprintf("%-6s", l.name)), image.Visible(l.text))
		}
	}
}

// args refuses another number of arguments, naming what is wanted.
func args(n int, shape string) cobra.PositionalArgs {
	return func(_ *cobra.Command, got []string) error {
		if len(got) != n {
			return usage{fmt.Errorf("wanted: %s", shape)}
		}
		return nil
	}
}

func atLeast(n int, shape string) cobra.PositionalArgs {
	return func(_ *cobra.Command, got []string) error {
		if len(got) < n {
			return usage{fmt.Errorf("wanted: %s", shape)}
		}
		return nil
	}
}
