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

// RegistryOptions say where content is kept, and who signs in.
type RegistryOptions struct {
	Dir          string
	Name, Secret string
}

const registryProgram = "/usr/bin/docker-registry"

// ErrNoRegistry says what to install.
var ErrNoRegistry = errors.New("debian: the registry server is not installed: sudo apt-get install -y docker-registry")

// StartRegistry starts the server on a free port and waits until it answers.
func StartRegistry(ctx context.Context, o RegistryOptions) (*Registry, error) {
	if _, err := os.Stat(registryProgram); err != nil {
		return nil, ErrNoRegistry
	}
	port, err := FreePort()
	if err != nil {
		return nil, err
	}
	r := &Registry{Address: fmt.Sprintf("https://127.0.0.1:%d", port), gone: make(chan error, 1)}
	if r.CA, err = writeCertificates(o.Dir); err != nil {
		return nil, err
	}
	config, err := writeConfig(o, port)
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

func writeConfig(o RegistryOptions, port int) (string, error) {
	hash, err := bcrypt.GenerateFromPassword([]byte(o.Secret), bcrypt.MinCost)
	if err != nil {
		return "", err
	}
	users := filepath.Join(o.Dir, "users")
	if err := os.WriteFile(users, fmt.Appendf(nil, "%s:%s\n", o.Name, hash), 0o600); err != nil {
		return "", err
	}
	file := filepath.Join(o.Dir, "config.yml")
	return file, os.WriteFile(file, fmt.Appendf(nil, `version: 0.1
log: {level: error, accesslog: {disabled: true}}
storage:
  filesystem: {rootdirectory: %q}
  delete: {enabled: true}
http:
  addr: 127.0.0.1:%d
  tls: {certificate: %q, key: %q}
auth:
  htpasswd: {realm: plain, path: %q}
`, filepath.Join(o.Dir, "content"), port, filepath.Join(o.Dir, "server.pem"), filepath.Join(o.Dir, "server.key"), users), 0o600)
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
		NotAfter:              now.Add(90 * 24 * time.Hour),
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
