package cli

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"dovrak/api/wire"

	"github.com/dustin/go-humanize"
	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
)

func (a *App) registry() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "registry",
		Short: "Connect registries, and find out what they permit",
		Args:  args(0, "registry add, check, list, edit, drop, declare, undeclare, destinations, take-in or take-ins"),
		RunE:  helped,
	}
	cmd.AddCommand(a.registryAdd(), a.registryEdit(), a.registryList(), a.registryCheck(), a.registryDrop(),
		a.registryDeclare(), a.registryUndeclare(), a.registryDestinations(), a.registryTakeIn(), a.registryTakeIns())
	return cmd
}

// connection holds the flags that add and edit share.
type connection struct {
	address, ca, clientCert, clientKey string
	account, secretFile, source        string
	signInHosts, labels                []string
	unverifiedOwner, unverifiedUntil   string
	plain, anonymous                   bool
	requests                           float64
	transfers                          int
	bytes                              string
}

func (c *connection) flags(f *pflag.FlagSet) {
	f.StringVar(&c.address, "address", "", "scheme, host and port, e.g. https://hut.example:5000")
	f.StringVar(&c.ca, "ca", "", "a file with the certificate of a CA of your own, in PEM; empty is the system's trust")
	f.StringVar(&c.clientCert, "client-cert", "", "a file with a certificate to show the registry, in PEM")
	f.StringVar(&c.clientKey, "client-key", "", "a file with its key, in PEM; sealed")
	f.StringVar(&c.account, "account", "", "the name to sign in with")
	f.StringVar(&c.secretFile, "secret-file", "",
		"a file with its secret, - for standard input; a secret on the command line would be seen by others")
	f.StringVar(&c.source, "secret-source", "", "in place of both: a source that the server's settings file declares")
	f.StringSliceVar(&c.signInHosts, "sign-in-host", nil, "another host to which the registry's sign-in may send the credential")
	f.StringArrayVar(&c.labels, "label", nil, "name=value, e.g. region=valley; an empty value takes it away")
	f.Float64Var(&c.requests, "requests-per-second", 0, "at most, over all processes (default 50)")
	f.IntVar(&c.transfers, "transfers-at-once", 0, "at most, over all processes (default 4)")
	f.StringVar(&c.bytes, "bytes-per-second", "", "of layers, from it and to it, over all processes, e.g. 6MiB; 0 is no limit")
	f.BoolVar(&c.plain, "plain", false, "plain HTTP to another machine: everything may be read on the way")
	f.StringVar(&c.unverifiedOwner, "unverified-owner", "", "leave certificates unchecked: who answers for it; empty ends that")
	f.StringVar(&c.unverifiedUntil, "unverified-until", "", "and until when, at most 31 days: a day or a time, in UTC")
}

// settings gives what was said; flags that were not given are left out.
func (a *App) settings(cmd *cobra.Command, c connection) (wire.RegistrySettings, error) {
	var s wire.RegistrySettings
	given := cmd.Flags().Changed
	for _, f := range []struct {
		flag, value string
		to          **string
	}{
		{"address", c.address, &s.Address}, {"account", c.account, &s.Account}, {"secret-source", c.source, &s.SecretSource},
		{"unverified-owner", c.unverifiedOwner, &s.UnverifiedOwner},
	} {
		if given(f.flag) {
			*f.to = &f.value
		}
	}
	for _, f := range []struct {
		flag, file string
		to         **string
	}{
		{"ca", c.ca, &s.CA}, {"client-cert", c.clientCert, &s.ClientCert}, {"client-key", c.clientKey, &s.ClientKey},
		{"secret-file", c.secretFile, &s.Secret},
	} {
		if !given(f.flag) {
			continue
		}
		text, err := a.text(f.file)
		if err != nil {
			return s, err
		}
		*f.to = &text
	}
	if given("plain") {
		s.Plain = &c.plain
	}
	if given("sign-in-host") {
		s.SignInHosts = &c.signInHosts
	}
	if given("requests-per-second") {
		s.RequestsPerSecond = &c.requests
	}
	if given("transfers-at-once") {
		s.TransfersAtOnce = &c.transfers
	}
	if given("bytes-per-second") {
		n, err := humanize.ParseBytes(c.bytes)
		if err != nil || n > 1<<50 {
			return s, usage{fmt.Errorf("--bytes-per-second %s: write e.g. 6MiB, or 0 for no limit", c.bytes)}
		}
		limit := int64(n)
		s.BytesPerSecond = &limit
	}
	s.Anonymous = c.anonymous
	if given("unverified-until") {
		at, err := day(c.unverifiedUntil)
		if err != nil {
			return s, err
		}
		s.UnverifiedUntil = &at
	}
	for _, l := range c.labels {
		k, v, ok := strings.Cut(l, "=")
		if !ok {
			return s, usage{fmt.Errorf("the label %q: write name=value", l)}
		}
		if s.Labels == nil {
			s.Labels = map[string]string{}
		}
		s.Labels[k] = v
	}
	return s, nil
}

// text reads a file whole, without the line's end that editors leave; no name is no text.
func (a *App) text(name string) (string, error) {
	if name == "" {
		return "", nil
	}
	raw, err := a.file(name)
	return strings.TrimSpace(string(raw)), err
}

// day reads a day or a time, in UTC.
func day(s string) (time.Time, error) {
	for _, layout := range []string{time.RFC3339, "2006-01-02T15:04", "2006-01-02"} {
		if t, err := time.Parse(layout, s); err == nil {
			return t, nil
		}
	}
	return time.Time{}, usage{fmt.Errorf("the time %q: write e.g. 2026-03-31 or 2026-03-31T12:00:00Z", s)}
}

func (a *App) registryAdd() *cobra.Command {
	var c connection
	cmd := &cobra.Command{
		Use:     "add NAME --address URL",
		Short:   "Connect a registry under a short name",
		Example: "  dovrak registry add hut --address https://hut.example:5000 --account dovrak --secret-file hut.secret",
		Args:    args(1, "registry add NAME --address URL"),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.settings(cmd, c)
			if err != nil {
				return err
			}
			out, err := a.client().AddRegistry(cmd.Context(), wire.NewRegistry{Name: args[0], RegistrySettings: s})
			if err != nil {
				return err
			}
			return a.print(&out, func() {
				fmt.Fprintf(
					a.Out,
					"%s is connected at %s; what it permits: dovrak registry check %s\n",
					a.bold(out.Name),
					out.Address,
					out.Name,
				)
			})
		},
	}
	c.flags(cmd.Flags())
	return cmd
}

func (a *App) registryEdit() *cobra.Command {
	var c connection
	cmd := &cobra.Command{
		Use:     "edit NAME",
		Short:   "Change a connection; what is not named stays as it is",
		Example: "  dovrak registry edit hut --account dovrak --secret-file new.secret\n  dovrak registry edit hut --requests-per-second 20",
		Args:    args(1, "registry edit NAME --what …"),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.settings(cmd, c)
			if err != nil {
				return err
			}
			out, err := a.client().EditRegistry(cmd.Context(), args[0], s)
			if err != nil {
				return err
			}
			return a.print(&out, func() { a.drawRegistries([]wire.Registry{out}) })
		},
	}
	c.flags(cmd.Flags())
	cmd.Flags().BoolVar(&c.anonymous, "anonymous", false, "no credential from now on")
	return cmd
}

func (a *App) registryDrop() *cobra.Command {
	return &cobra.Command{
		Use:   "drop NAME",
		Short: "End a connection and wipe its secret; its history stays",
		Args:  args(1, "registry drop NAME"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := a.client().DropRegistry(cmd.Context(), args[0]); err != nil {
				return err
			}
			return a.print(
				map[string]string{"dropped": args[0]},
				func() { fmt.Fprintf(a.Out, "%s is not connected any more\n", args[0]) },
			)
		},
	}
}

func (a *App) registryList() *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List the connected registries, with what they were last seen to permit", Args: args(0, "registry list"),
		RunE: func(cmd *cobra.Command, _ []string) error {
			out, err := a.client().Registries(cmd.Context())
			if err != nil {
				return err
			}
			return a.print(&out, func() { a.drawRegistries(out.Items) })
		},
	}
}

func (a *App) drawRegistries(all []wire.Registry) {
	now := time.Now()
	t := a.ledger("registry", "address", "signs in", "req/s", "transfers", "labels", "last check")
	right(t, 4, 5)
	for _, r := range all {
		last := a.amber("never: dovrak registry check " + r.Name)
		if len(r.Checks) > 0 {
			last = a.verdict(r.Checks[0]) + a.dim(" "+age(r.Checks[0].At, now)+" ago")
		}
		t.AppendRow(table.Row{a.bold(r.Name), r.Address, signsIn(r), r.RequestsPerSecond, r.TransfersAtOnce, labelled(r.Labels), last})
	}
	a.list(t, "No registry is connected yet: dovrak registry add NAME --address URL", "")
	for _, r := range all {
		if e := r.Exception; e != nil {
			word := a.ember("unchecked certificates")
			if !e.Counts {
				word = "unchecked certificates, over"
			}
			fmt.Fprintf(a.Out, "%s: %s, by %s until %s UTC\n", r.Name, word, e.Owner, clock(e.Until))
		}
		if r.Plain && strings.HasPrefix(r.Address, "http:") {
			fmt.Fprintf(a.Out, "%s: %s\n", r.Name, a.amber("plain HTTP to another machine"))
		}
	}
}

func signsIn(r wire.Registry) string {
	switch {
	case r.SecretSource != "":
		return "by source " + r.SecretSource
	case r.Account != "":
		return "as " + r.Account
	}
	return "without a credential"
}

func labelled(l map[string]string) string {
	var out []string
	for _, k := range slices.Sorted(maps.Keys(l)) {
		out = append(out, k+"="+l[k])
	}
	return strings.Join(out, " ")
}

// verdict says a check in a few words: the first step that fails, or that none does.
func (a *App) verdict(c wire.RegistryCheck) string {
	for _, s := range c.Steps {
		if s.Result == "fails" {
			return a.ember(s.Name + " fails")
		}
	}
	return "nothing fails"
}

func (a *App) registryCheck() *cobra.Command {
	var n wire.NewCheck
	cmd := &cobra.Command{
		Use:   "check NAME",
		Short: "Find out step by step whether a registry can be reached, trusted, signed in to, and what it permits",
		Long: "Find out step by step whether a registry can be reached, trusted, signed in to, and what it permits in a repository.\n" +
			"Nothing is stored, pointed or deleted: an upload session that is opened is cancelled. Ends with 5 if a step fails.",
		Example: "  dovrak registry check hut --repository live/snowpack-model --for push",
		Args:    args(1, "registry check NAME"),
		RunE: func(cmd *cobra.Command, args []string) error {
			out, err := a.client().CheckRegistry(cmd.Context(), args[0], n)
			if err != nil {
				return err
			}
			if err := a.print(&out, func() { a.drawCheck(out) }); err != nil {
				return err
			}
			if slices.ContainsFunc(out.Steps, func(s wire.CheckStep) bool { return s.Result == "fails" }) {
				return ended{Differs}
			}
			return nil
		},
	}
	cmd.Flags().
		StringVar(&n.Repository, "repository", "", "in which permissions are looked at (default: one of the charter's places)")
	cmd.Flags().StringSliceVar(&n.For, "for", nil, "pull, push, delete (default pull,push)")
	return cmd
}

func (a *App) drawCheck(c wire.RegistryCheck) {
	where := c.Registry
	if c.Repository != "" {
		where += ", in " + c.Repository
	}
	fmt.Fprintf(a.Out, "%s  %s\n\n", a.bold(where), a.dim("at "+clock(c.At)+" UTC"))
	t := a.ledger("step", "", "", "seen")
	right(t, 3)
	for _, s := range c.Steps {
		took := ""
		if s.Micros > 0 && s.Result != "not tried" {
			took = a.dim((time.Duration(s.Micros) * time.Microsecond).Round(100 * time.Microsecond).String())
		}
		t.AppendRow(table.Row{a.bold(s.Name), a.result(s.Result), took, a.wrap(s.Seen, 36)})
		if s.Remedy != "" && s.Result == "fails" {
			t.AppendRow(table.Row{"", "", "", a.dim("→ ") + a.wrap(s.Remedy, 38)})
		}
	}
	t.Render()
}

func (a *App) result(r string) string {
	switch r {
	case "fails":
		return a.ember("✗ fails")
	case "holds":
		return "✓ holds"
	case "absent":
		return a.dim("– absent")
	}
	return a.amber("? " + r)
}

func (a *App) registryDeclare() *cobra.Command {
	var n wire.NewDestination
	cmd := &cobra.Command{
		Use:     "declare REPOSITORY --owner NAME",
		Short:   "Let Dovrak write to a repository that no charter names",
		Example: "  dovrak registry declare forge/scratch/snowpack-model --owner Tormod",
		Args:    args(1, "registry declare REGISTRY/REPOSITORY --owner NAME"),
		RunE: func(cmd *cobra.Command, args []string) error {
			n.Repository = args[0]
			if err := a.client().Declare(cmd.Context(), n); err != nil {
				return err
			}
			return a.print(&n, func() {
				fmt.Fprintf(a.Out, "Dovrak may write to %s; %s answers for it\n", a.bold(n.Repository), n.Owner)
			})
		},
	}
	cmd.Flags().StringVar(&n.Owner, "owner", "", "who answers for it (required)")
	cmd.Flags().StringVar(&n.Tags, "tags", "", "whether its registry lets a tag be overwritten: moving, or fixed (default: not known)")
	return cmd
}

func (a *App) registryUndeclare() *cobra.Command {
	return &cobra.Command{
		Use: "undeclare REPOSITORY", Short: "End that Dovrak may write to a repository that was declared by hand",
		Args: args(1, "registry undeclare REGISTRY/REPOSITORY"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := a.client().Undeclare(cmd.Context(), args[0]); err != nil {
				return err
			}
			return a.print(
				map[string]string{"undeclared": args[0]},
				func() { fmt.Fprintf(a.Out, "Dovrak writes no more to %s\n", args[0]) },
			)
		},
	}
}

func (a *App) registryDestinations() *cobra.Command {
	return &cobra.Command{
		Use: "destinations", Short: "List the repositories that Dovrak may write to", Args: args(0, "registry destinations"),
		RunE: func(cmd *cobra.Command, _ []string) error {
			out, err := a.client().Destinations(cmd.Context())
			if err != nil {
				return err
			}
			return a.print(&out, func() {
				now := time.Now()
				t := a.ledger("repository", "declared by", "answers for it", "there", "public", "tags", "seen")
				for _, d := range out.Items {
					by := "charter, " + d.Environment
					if d.Environment == "" {
						by = d.By
					}
					seen := a.dim("never asked")
					if d.Seen != nil {
						seen = age(*d.Seen, now) + " ago"
					}
					t.AppendRow(table.Row{a.bold(d.Repository), by, d.Owner, a.known(d.There), a.known(d.Public), d.Tags, seen})
				}
				a.list(t, "Dovrak may write nowhere yet: adopt a charter, or dovrak registry declare REPOSITORY --owner NAME", "")
			})
		},
	}
}

func (a *App) known(b *bool) string {
	switch {
	case b == nil:
		return a.dim("not known")
	case *b:
		return "yes"
	}
	return "no"
}
