package main

import (
	"crypto/tls"
	"fmt"
	"net"
	"os"
	"strconv"

	"dovrak/secrets"

	"github.com/goccy/go-yaml"
	"github.com/spf13/cobra"
)

// settings say how the service runs: by flags, else by the environment, else by one YAML file, else by default.
type settings struct {
	DatabaseURL    string `yaml:"databaseURL"`
	Listen         string `yaml:"listen"`
	PublicURL      string `yaml:"publicURL"`
	KeyFile        string `yaml:"keyFile"`
	FirstTokenFile string `yaml:"firstTokenFile"`
	TLSCert        string `yaml:"tlsCert"`
	TLSKey         string `yaml:"tlsKey"`
	BehindProxy    bool   `yaml:"behindProxy"`
	LogLevel       string `yaml:"logLevel"`
	BlobsAtOnce    string `yaml:"blobsAtOnce"`
	blobsAtOnce    int    // as a number, when it was checked

	SecretSources map[string]secrets.Source `yaml:"secretSources"` // in the file alone
}

// option ties one setting to its flag and its variable.
type option struct {
	flag, env, fallback, help string
	to                        func(*settings) *string
}

var options = []option{
	{
		"database-url",
		"DOVRAK_DATABASE_URL",
		"",
		"the PostgreSQL database (required)",
		func(s *settings) *string { return &s.DatabaseURL },
	},
	{"listen", "DOVRAK_LISTEN", "127.0.0.1:8620", "address to listen on", func(s *settings) *string { return &s.Listen }},
	{
		"public-url",
		"DOVRAK_PUBLIC_URL",
		"",
		"the address under which browsers reach the service (default: where it listens)",
		func(s *settings) *string { return &s.PublicURL },
	},
	{
		"key-file",
		"DOVRAK_KEY_FILE",
		"dovrak.key",
		"the sealing key; made at the first start",
		func(s *settings) *string { return &s.KeyFile },
	},
	{
		"first-token-file",
		"DOVRAK_FIRST_TOKEN_FILE",
		"",
		"where the first start writes the administrator's token",
		func(s *settings) *string { return &s.FirstTokenFile },
	},
	{"tls-cert", "DOVRAK_TLS_CERT", "", "certificate file, in PEM", func(s *settings) *string { return &s.TLSCert }},
	{"tls-key", "DOVRAK_TLS_KEY", "", "key file of the certificate", func(s *settings) *string { return &s.TLSKey }},
	{
		"blobs-at-once",
		"DOVRAK_BLOBS_AT_ONCE",
		"32",
		"how many blobs this process moves at most, whatever the registries permit",
		func(s *settings) *string { return &s.BlobsAtOnce },
	},
	{"log-level", "DOVRAK_LOG_LEVEL", "info", "debug, info, warn or error", func(s *settings) *string { return &s.LogLevel }},
}

// read gathers the settings and checks them.
func read(cmd *cobra.Command, file string) (settings, error) {
	var s settings
	if file != "" {
		raw, err := os.ReadFile(file)
		if err != nil {
			return s, err
		}
		if err := yaml.UnmarshalWithOptions(raw, &s, yaml.Strict()); err != nil {
			return s, fmt.Errorf("the settings file %s: %w", file, err)
		}
	}
	for _, o := range options {
		to := o.to(&s)
		if v := os.Getenv(o.env); v != "" {
			*to = v
		}
		if f := cmd.Flags().Lookup(o.flag); f.Changed {
			*to = f.Value.String()
		}
		if *to == "" {
			*to = o.fallback
		}
	}
	if f := cmd.Flags().Lookup("behind-proxy"); f.Changed {
		s.BehindProxy = f.Value.String() == "true"
	}
	return s, s.check()
}

func (s *settings) check() error {
	if s.DatabaseURL == "" {
		return fmt.Errorf("no database: set DOVRAK_DATABASE_URL, e.g. postgres://dovrak@localhost/dovrak")
	}
	n, err := strconv.Atoi(s.BlobsAtOnce)
	if s.blobsAtOnce = n; err != nil || n < 1 || n > 1000 {
		return fmt.Errorf("blobs at once: %q is not a number from 1 to 1000", s.BlobsAtOnce)
	}
	host, _, err := net.SplitHostPort(s.Listen)
	if err != nil {
		return fmt.Errorf("cannot listen on %q: write host:port", s.Listen)
	}
	ip := net.ParseIP(host)
	local := host == "localhost" || ip != nil && ip.IsLoopback()
	if !local && s.TLSCert == "" && !s.BehindProxy {
		return fmt.Errorf(
			"listening on %s would carry tokens in the clear: give --tls-cert and --tls-key, or say --behind-proxy if one with TLS stands before it",
			s.Listen,
		)
	}
	if (s.TLSCert == "") != (s.TLSKey == "") {
		return fmt.Errorf("a certificate and its key belong together: give both --tls-cert and --tls-key")
	}
	return nil
}

func (s *settings) tls() (*tls.Config, error) {
	if s.TLSCert == "" {
		return nil, nil
	}
	cert, err := tls.LoadX509KeyPair(s.TLSCert, s.TLSKey)
	return &tls.Config{Certificates: []tls.Certificate{cert}, MinVersion: tls.VersionTLS12}, err
}
