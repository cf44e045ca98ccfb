// Package store keeps Dovrak's records in PostgreSQL, through GORM; SQL migrations say what the tables are.
//
// [Queries] are all the reads and writes there are. A [Store] has them outside a transaction, a [Tx] inside one,
// together with River's jobs, so that a job is queued in the transaction that decides it. No method asks a registry,
// and no registry is asked while a transaction is open. Time is the database's.
package store

import (
	"context"
	"database/sql"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/pressly/goose/v3"
	"github.com/pressly/goose/v3/lock"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"
	"github.com/riverqueue/river/rivermigrate"
	"gorm.io/driver/postgres"
	"gorm.io/gorm"
	"gorm.io/gorm/logger"
)

//go:embed migrations/*.sql
var migrations embed.FS

// Store is the database.
type Store struct {
	Queries
	Pool *pgxpool.Pool
	sql  *sql.DB
}

// Queries are the reads and writes, in a transaction or outside.
type Queries struct{ g *gorm.DB }

// Tx is a transaction. PGX is the same one, for River.
type Tx struct {
	Queries
	PGX pgx.Tx
}

// Open connects to the database; it waits no longer than ctx.
func Open(ctx context.Context, url string) (*Store, error) {
	cfg, err := pgxpool.ParseConfig(url)
	if err != nil {
		return nil, errors.New(
			"store: this is not the URL of a PostgreSQL database; it is not repeated here, since it may hold a password",
		)
	}
	cfg.MaxConns = max(cfg.MaxConns, 16)
	cfg.ConnConfig.RuntimeParams["application_name"] = "dovrak"
	cfg.ConnConfig.RuntimeParams["idle_in_transaction_session_timeout"] = "15s"
	pool, err := pgxpool.NewWithConfig(ctx, cfg)
	if err != nil {
		return nil, err
	}
	if err := pool.Ping(ctx); err != nil {
		pool.Close()
		return nil, fmt.Errorf("store: the database at %s:%d cannot be reached: %w", cfg.ConnConfig.Host, cfg.ConnConfig.Port, err)
	}
	db := stdlib.OpenDBFromPool(pool)
	g, err := gorm.Open(postgres.New(postgres.Config{Conn: db}), &gorm.Config{
		SkipDefaultTransaction: true, Logger: logger.Discard, TranslateError: true,
	})
	if err != nil {
		return nil, errors.Join(err, db.Close())
	}
	return &Store{Queries{g}, pool, db}, nil
}

// Close gives all connections back.
func (s *Store) Close() error {
	err := s.sql.Close()
	s.Pool.Close()
	return err
}

// Migrate brings the tables up to date. Processes that start together wait for one another.
func (s *Store) Migrate(ctx context.Context) error {
	locker, err := lock.NewPostgresSessionLocker()
	if err != nil {
		return err
	}
	dir, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	p, err := goose.NewProvider(goose.DialectPostgres, s.sql, dir, goose.WithSessionLocker(locker), goose.WithLogger(goose.NopLogger()))
	if err != nil {
		return err
	}
	if _, err := p.Up(ctx); err != nil {
		return err
	}
	return s.migrateQueue(ctx)
}

// migrateQueue makes River's tables, which its own migrator does without a lock.
func (s *Store) migrateQueue(ctx context.Context) error {
	quiet := slog.New(slog.DiscardHandler)
	m, err := rivermigrate.New(riverpgxv5.New(s.Pool), &rivermigrate.Config{Logger: quiet})
	if err != nil {
		return err
	}
	c, err := s.Pool.Acquire(ctx)
	if err != nil {
		return err
	}
	defer c.Release()
	const key = 862000
	if _, err := c.Exec(ctx, "SELECT pg_advisory_lock($1)", key); err != nil {
		return err
	}
	_, err = m.Migrate(ctx, rivermigrate.DirectionUp, nil)
	_, uerr := c.Exec(context.WithoutCancel(ctx), "SELECT pg_advisory_unlock($1)", key)
	return errors.Join(err, uerr)
}

// Tx runs fn in a transaction; an error or a panic rolls it back.
func (s *Store) Tx(ctx context.Context, fn func(tx Tx) error) error {
	c, err := s.sql.Conn(ctx)
	if err != nil {
		return err
	}
	defer c.Close()
	var pc *pgx.Conn
	if err := c.Raw(func(dc any) error { pc = dc.(*stdlib.Conn).Conn(); return nil }); err != nil {
		return err
	}
	return pgx.BeginFunc(ctx, pc, func(tx pgx.Tx) error {
		g := s.g.Session(&gorm.Session{NewDB: true, Context: ctx})
		g.Statement.ConnPool = inTx{c}
		return fn(Tx{Queries{g}, tx})
	})
}

// inTx lets GORM speak on the connection whose transaction pgx owns. It has no BeginTx, and its Commit and Rollback
// refuse, so that GORM itself can only make savepoints.
type inTx struct{ c *sql.Conn }

var errNotYours = errors.New("store: the transaction belongs to pgx")

func (t inTx) PrepareContext(ctx context.Context, q string) (*sql.Stmt, error) {
	return t.c.PrepareContext(ctx, q)
}
func (t inTx) ExecContext(ctx context.Context, q string, args ...any) (sql.Result, error) {
	return t.c.ExecContext(ctx, q, args...)
}
func (t inTx) QueryContext(ctx context.Context, q string, args ...any) (*sql.Rows, error) {
	return t.c.QueryContext(ctx, q, args...)
}
func (t inTx) QueryRowContext(ctx context.Context, q string, args ...any) *sql.Row {
	return t.c.QueryRowContext(ctx, q, args...)
}
func (t inTx) Commit() error   { return errNotYours }
func (t inTx) Rollback() error { return errNotYours }

// NewID makes an id: a UUIDv7, which sorts by the time of its making.
func NewID() uuid.UUID { return uuid.Must(uuid.NewV7()) }

// Now is the database's clock, to the microsecond.
func (q Queries) Now(ctx context.Context) (time.Time, error) {
	var t time.Time
	err := q.g.WithContext(ctx).Raw("SELECT clock_timestamp()").Scan(&t).Error
	return t.UTC(), err
}

// Lock holds a name for the length of the transaction: whoever else locks it waits.
func (t Tx) Lock(ctx context.Context, name string) error {
	_, err := t.PGX.Exec(ctx, "SELECT pg_advisory_xact_lock(hashtextextended($1, 8620))", name)
	return err
}

// first reads one record; none is no error.
func first[T any](g *gorm.DB) (T, bool, error) {
	var rows []T
	err := g.Limit(1).Find(&rows).Error
	if err != nil || len(rows) == 0 {
		var zero T
		return zero, false, err
	}
	return rows[0], true, nil
}
