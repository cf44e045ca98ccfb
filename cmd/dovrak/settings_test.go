package main

import (
	"os"
	"path/filepath"
	"reflect"
	"strings"
	"testing"

	"github.com/spf13/cobra"
)

// settingsOf reads settings as serve does, without serving.
func settingsOf(t *testing.T, args ...string) (settings, error) {
	t.Helper()
	var s settings
	cmd := serveCommand()
	cmd.SilenceErrors, cmd.SilenceUsage = true, true
	cmd.RunE = func(cmd *cobra.Command, _ []string) (err error) {
		s, err = read(cmd, cmd.Flag("config").Value.String())
		return err
	}
	cmd.SetArgs(args)
	err := cmd.ExecuteContext(t.Context())
	return s, err
}

// TestSettings come from flags, else from the environment, else from the file, else they are the defaults.
func TestSettings(t *testing.T) {
	file := filepath.Join(t.TempDir(), "dovrak.yaml")
	if err := os.WriteFile(file, []byte("databaseURL: postgres://file\nlisten: 127.0.0.1:1\nkeyFile: file.key\nbehindProxy: true\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	t.Setenv("DOVRAK_DATABASE_URL", "")
	t.Setenv("DOVRAK_LISTEN", "127.0.0.1:2")
	t.Setenv("DOVRAK_KEY_FILE", "env.key")
	s, err := settingsOf(t, "--config", file, "--key-file", "flag.key")
	if err != nil {
		t.Fatal(err)
	}
	want := settings{DatabaseURL: "postgres://file", Listen: "127.0.0.1:2", KeyFile: "flag.key", BehindProxy: true, LogLevel: "info",
		BlobsAtOnce: "32", blobsAtOnce: 32}
	if !reflect.DeepEqual(s, want) {
		t.Errorf("got %+v, want %+v", s, want)
	}
}

func TestSettingsThatAreRefused(t *testing.T) {
	for _, o := range options {
		t.Setenv(o.env, "")
	}
	slip := filepath.Join(t.TempDir(), "slip.yaml")
	if err := os.WriteFile(slip, []byte("databaseURL: postgres://x\nlisen: 127.0.0.1:1\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	db := "--database-url=postgres://x"
	for name, tt := range map[string]struct {
		args []string
		says string // empty: taken
	}{
		"a slip in the file":        {[]string{"--config", slip}, "lisen"},
		"a file that is not there":  {[]string{"--config", slip + ".gone"}, "no such file"},
		"no database":               {nil, "DOVRAK_DATABASE_URL"},
		"everywhere, in the clear":  {[]string{db, "--listen", ":8620"}, "in the clear"},
		"a network, in the clear":   {[]string{db, "--listen", "10.0.0.7:8620"}, "in the clear"},
		"a name, in the clear":      {[]string{db, "--listen", "desk.example:8620"}, "in the clear"},
		"everywhere, behind a door": {[]string{db, "--listen", ":8620", "--behind-proxy"}, ""},
		"loopback":                  {[]string{db, "--listen", "[::1]:8620"}, ""},
		"localhost":                 {[]string{db, "--listen", "localhost:0"}, ""},
		"no port":                   {[]string{db, "--listen", "127.0.0.1"}, "host:port"},
		"half a certificate":        {[]string{db, "--tls-cert", "x.pem"}, "belong together"},
	} {
		_, err := settingsOf(t, tt.args...)
		if tt.says == "" && err != nil || tt.says != "" && (err == nil || !strings.Contains(err.Error(), tt.says)) {
			t.Errorf("%s: %v", name, err)
		}
	}
}
