// Package pgtest gives each test a database of its own, on one PostgreSQL a test binary.
package pgtest

import (
	"context"
	"fmt"
	"os"
	"sync/atomic"
	"testing"
	"time"

	"dovrak/standin/debian"
	"dovrak/store"

	"github.com/jackc/pgx/v5"
)

var (
	cluster *debian.Postgres
	made    atomic.Int64
)

const template = "dovrak_template"

// Run is m.Run for a package whose tests need a database.
func Run(m *testing.M) int {
	code, err := run(m)
	if err != nil {
		fmt.Fprintln(os.Stderr, "pgtest:", err)
		return 1
	}
	return code
}

func run(m *testing.M) (code int, err error) {
	ctx := context.Background()
	home, err := os.MkdirTemp(os.Getenv("DOVRAK_TEST_DIR"), "pg-*")
	if err != nil {
		return 1, err
	}
	defer os.RemoveAll(home)
	if err := os.Chmod(home, 0o711); err != nil {
		return 1, err
	}
	if cluster, err = debian.StartPostgres(ctx, debian.PostgresOptions{Dir: home, Fast: true}); err != nil {
		return 1, err
	}
	defer func() {
		if serr := cluster.Stop(ctx); err == nil {
			err = serr
		}
	}()
	if err := makeTemplate(ctx); err != nil {
		return 1, err
	}
	return m.Run(), nil
}

// makeTemplate makes the database that others are copied from: migrated, and left by everyone.
func makeTemplate(ctx context.Context) error {
	if err := admin(ctx, "CREATE DATABASE "+template); err != nil {
		return err
	}
	s, err := store.Open(ctx, cluster.URL(template))
	if err != nil {
		return err
	}
	if err := s.Migrate(ctx); err != nil {
		return err
	}
	return s.Close()
}

func admin(ctx context.Context, sql string) error {
	c, err := pgx.Connect(ctx, cluster.URL("postgres"))
	if err != nil {
		return err
	}
	defer c.Close(ctx)
	_, err = c.Exec(ctx, sql)
	return err
}

// URL makes a database with all tables and nothing in them; it goes with the test.
func URL(t testing.TB) string {
	t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), 30*time.Second)
	defer cancel()
	name := fmt.Sprintf("dovrak_%d", made.Add(1))
	if err := admin(ctx, "CREATE DATABASE "+name+" TEMPLATE "+template+" STRATEGY file_copy"); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if err := admin(context.Background(), "DROP DATABASE "+name+" WITH (FORCE)"); err != nil {
			t.Error(err)
		}
	})
	return cluster.URL(name)
}

// Open gives a store on a database of its own.
func Open(t testing.TB) *store.Store {
	t.Helper()
	s, err := store.Open(t.Context(), URL(t))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if err := s.Close(); err != nil {
			t.Error(err)
		}
	})
	return s
}
