package records

import (
	"context"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/jackc/tern/v2/migrate"
)

//go:embed migrations/*.sql
var migrations embed.FS

//go:embed additions.sql
var additions string

// Database is a connection to the database. Safe for concurrent use.
type Database struct {
	pool *pgxpool.Pool
}

// ErrNotFound is returned for a row that does not exist.
var ErrNotFound = errors.New("not found")

// Open connects to a database and brings its tables up to date. Nodes that start at
// the same time wait for each other: migrations run under an advisory lock.
func Open(ctx context.Context, url string) (*Database, error) {
	config, err := pgxpool.ParseConfig(url)
	if err != nil {
		return nil, fmt.Errorf("reading the database's address: %w", err)
	}
	config.MaxConns = max(config.MaxConns, 12)
	config.ConnConfig.ConnectTimeout = 5 * time.Second
	if config.ConnConfig.RuntimeParams["application_name"] == "" {
		config.ConnConfig.RuntimeParams["application_name"] = "gerastic"
	}
	pool, err := pgxpool.NewWithConfig(ctx, config)
	if err != nil {
		return nil, fmt.Errorf("connecting to the database: %w", err)
	}
	r := &Database{pool: pool}
	if err := r.migrate(ctx); err != nil {
		pool.Close()
		return nil, err
	}
	return r, nil
}

func (r *Database) migrate(ctx context.Context) error {
	conn, err := r.pool.Acquire(ctx)
	if err != nil {
		return fmt.Errorf("connecting to the database: %w", err)
	}
	defer conn.Release()
	files, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	m, err := migrate.NewMigrator(ctx, conn.Conn(), "public.gerastic_schema")
	if err != nil {
		return fmt.Errorf("preparing the database's tables: %w", err)
	}
	if err := m.LoadMigrations(files); err != nil {
		return err
	}
	// Migrations only add, so that a program and the one before it share a database: what a
	// newer one has added does not concern this one.
	if at, err := m.GetCurrentVersion(ctx); err == nil && int(at) > len(m.Migrations) {
		return nil
	}
	if err = m.Migrate(ctx); err == nil {
		err = add(ctx, conn.Conn())
	}
	if err != nil {
		return fmt.Errorf("bringing the database's tables up to date: %w", err)
	}
	return nil
}

// add makes the additions, unless they are there; nodes that start at the same time wait for
// each other.
func add(ctx context.Context, conn *pgx.Conn) error {
	const there = `select to_regclass('public.size') is not null` // the last of them
	return pgx.BeginFunc(ctx, conn, func(tx pgx.Tx) error {
		var done bool
		if err := tx.QueryRow(ctx, there).Scan(&done); err != nil || done {
			return err
		}
		if _, err := tx.Exec(ctx, `select pg_advisory_xact_lock(hashtextextended('gerastic additions', 0))`); err != nil {
			return err
		}
		_, err := tx.Exec(ctx, additions)
		return err
	})
}

// Ping reports whether the database answers.
func (r *Database) Ping(ctx context.Context) error { return r.pool.Ping(ctx) }

// Close ends all connections.
func (r *Database) Close() { r.pool.Close() }

// one turns pgx's missing row into ErrNotFound.
func one(err error) error {
	if errors.Is(err, pgx.ErrNoRows) {
		return ErrNotFound
	}
	return err
}

// Refused tells an error that the database answered with from one of reaching it.
func Refused(err error) bool {
	var answer *pgconn.PgError
	return errors.As(err, &answer)
}
