package debian

import (
	"bytes"
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"fmt"
	"math/big"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"syscall"
	"time"

	"golang.org/x/crypto/bcrypt"
)

// Registry is the plain open-source registry server from Debian's packages, running on loopback with TLS by a CA of its
// own and basic sign-in.
type Registry struct {
	Address string // https://127.0.0.1:PORT
	CA      []byte // the CA's certificate, in PEM
	cmd     *exec.Cmd
	gone    chan error
	log     bytes.Buffer
}

// RegistryOptions say where content is kept, and who signs in: one name with its secret or, with a Realm, whoever bears a
// token of the issuer.
type RegistryOptions struct {
	Dir          string
	Port         int // 0: a free one
	Name, Secret string
	Realm        string // where tokens are issued
	Issuer       string // its name
	Trusted      []byte // its certificate, in PEM
	Plain        bool   // plain HTTP without sign-in, for measures
}

const registryProgram = "/usr/bin/docker-registry"

// ErrNoRegistry says what to install.
var ErrNoRegistry = errors.New("debian: the registry server is not installed: sudo apt-get install -y docker-registry")

// StartRegistry starts the server and waits until it answers. A directory that was used before keeps its content and its
// CA.
func StartRegistry(ctx context.Context, o RegistryOptions) (*Registry, error) {
	if _, err := os.Stat(registryProgram); err != nil {
		return nil, ErrNoRegistry
	}
	var err error
	if o.Port == 0 {
		if o.Port, err = FreePort(); err != nil {
			return nil, err
		}
	}
	r := &Registry{Address: fmt.Sprintf("https://127.0.0.1:%d", o.Port), gone: make(chan error, 1)}
	if o.Plain {
		r.Address = fmt.Sprintf("http://127.0.0.1:%d", o.Port)
	}
	if r.CA, err = certificates(o.Dir); err != nil {
		return nil, err
	}
	config, err := writeConfig(o)
	if err != nil {
		return nil, err
	}
	r.cmd = exec.Command(registryProgram, "serve", config)
	r.cmd.Stdout, r.cmd.Stderr = &r.log, &r.log
	r.cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	if err := r.cmd.Start(); err != nil {
		return nil, err
	}
	go func() { r.gone <- r.cmd.Wait() }()
	if err := r.wait(ctx); err != nil {
		return nil, errors.Join(err, r.Stop())
	}
	return r, nil
}

// Stop ends the server.
func (r *Registry) Stop() error {
	if err := r.cmd.Process.Kill(); err != nil && !errors.Is(err, os.ErrProcessDone) {
		return err
	}
	<-r.gone
	return nil
}

func (r *Registry) wait(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, 20*time.Second)
	defer cancel()
	pool := x509.NewCertPool()
	pool.AppendCertsFromPEM(r.CA)
	client := http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: pool}}, Timeout: time.Second}
	defer client.CloseIdleConnections()
	tick := time.NewTicker(50 * time.Millisecond)
	defer tick.Stop()
	for {
		if resp, err := client.Get(r.Address + "/v2/"); err == nil {
			return resp.Body.Close()
		}
		select {
		case err := <-r.gone:
			r.gone <- err
			return fmt.Errorf("debian: the registry server ended: %v: %s", err, r.log.String())
		case <-ctx.Done():
			return fmt.Errorf("debian: the registry server did not answer in time: %s", r.log.String())
		case <-tick.C:
		}
	}
}

func writeConfig(o RegistryOptions) (string, error) {
	auth, err := writeAuth(o)
	if err != nil {
		return "", err
	}
	file := filepath.Join(o.Dir, "config.yml")
	config := fmt.Appendf(nil, `version: 0.1
log: {level: error, accesslog: {disabled: true}}
storage:
  filesystem: {rootdirectory: %q}
  delete: {enabled: true}
http:
  addr: 127.0.0.1:%d
`, filepath.Join(o.Dir, "content"), o.Port)
	if !o.Plain {
		config = fmt.Appendf(config, "  tls: {certificate: %q, key: %q}\nauth:\n  %s\n",
			filepath.Join(o.Dir, "server.pem"), filepath.Join(o.Dir, "server.key"), auth)
	}
	return file, os.WriteFile(file, config, 0o600)
}

// writeAuth writes what the server signs people in by, and gives the line of its configuration.
func writeAuth(o RegistryOptions) (string, error) {
	if o.Realm != "" {
		bundle := filepath.Join(o.Dir, "issuer.pem")
		line := fmt.Sprintf("token: {realm: %q, service: plain, issuer: %q, rootcertbundle: %q}", o.Realm, o.Issuer, bundle)
		return line, os.WriteFile(bundle, o.Trusted, 0o600)
	}
	hash, err := bcrypt.GenerateFromPassword([]byte(o.Secret), bcrypt.MinCost)
	if err != nil {
		return "", err
	}
	users := filepath.Join(o.Dir, "users")
	return fmt.Sprintf("htpasswd: {realm: plain, path: %q}", users), os.WriteFile(users, fmt.Appendf(nil, "%s:%s\n", o.Name, hash), 0o600)
}

// certificates gives the CA's certificate, and makes it and the server's if they are not there.
func certificates(dir string) ([]byte, error) {
	file := filepath.Join(dir, "ca.pem")
	raw, err := os.ReadFile(file)
	if !errors.Is(err, os.ErrNotExist) {
		return raw, err
	}
	if raw, err = writeCertificates(dir); err != nil {
		return nil, err
	}
	return raw, os.WriteFile(file, raw, 0o644)
}

// writeCertificates makes a CA and a server's certificate for loopback, and gives the CA's.
func writeCertificates(dir string) ([]byte, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	now := time.Now()
	ca := &x509.Certificate{
		SerialNumber:          big.NewInt(1),
		Subject:               pkix.Name{CommonName: "Skarvind test CA"},
		NotBefore:             now.Add(-time.Hour),
		NotAfter:              now.Add(5 * 365 * 24 * time.Hour),
		IsCA:                  true,
		BasicConstraintsValid: true,
		KeyUsage:              x509.KeyUsageCertSign,
	}
	caKey, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	caDER, err := x509.CreateCertificate(rand.Reader, ca, ca, &caKey.PublicKey, caKey)
	if err != nil {
		return nil, err
	}
	server := &x509.Certificate{
		SerialNumber: big.NewInt(2),
		Subject:      pkix.Name{CommonName: "127.0.0.1"},
		NotBefore:    ca.NotBefore,
		NotAfter:     ca.NotAfter,
		IPAddresses:  []net.IP{net.IPv4(127, 0, 0, 1)},
		ExtKeyUsage:  []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth},
	}
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	der, err := x509.CreateCertificate(rand.Reader, server, ca, &key.PublicKey, caKey)
	if err != nil {
		return nil, err
	}
	keyDER, err := x509.MarshalECPrivateKey(key)
	if err != nil {
		return nil, err
	}
	err = errors.Join(
		writePEM(filepath.Join(dir, "server.pem"), "CERTIFICATE", der),
		writePEM(filepath.Join(dir, "server.key"), "EC PRIVATE KEY", keyDER),
	)
	return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: caDER}), err
}

func writePEM(file, kind string, der []byte) error {
	return os.WriteFile(file, pem.EncodeToMemory(&pem.Block{Type: kind, Bytes: der}), 0o600)
}
