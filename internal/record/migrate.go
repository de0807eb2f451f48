package record

import (
	"context"
	"database/sql"
	"embed"
	"fmt"
	"io/fs"
	"path"
	"sort"
)

// Migrations are numbered files of written SQL. A released one never changes.
//
//go:embed migrations/*.sql
var migrations embed.FS

// migrate brings the records to the version of this program. Each step is one
// transaction on a connection with foreign keys off, so that rebuilding a table
// does not cascade into others, and ends with a check of all of them.
func migrate(file string) error {
	pool := openPool(file, "immediate", false, false)
	defer pool.Close()
	ctx := context.Background()
	conn, err := pool.Conn(ctx)
	if err != nil {
		return err
	}
	defer conn.Close()
	names, err := fs.Glob(migrations, "migrations/*.sql")
	if err != nil {
		return err
	}
	sort.Strings(names)
	var version int
	if err := conn.QueryRowContext(ctx, "PRAGMA user_version").Scan(&version); err != nil {
		return err
	}
	if version > len(names) {
		return fmt.Errorf("they were written by a newer warthesis (version %d, this program knows %d); use that one", version, len(names))
	}
	for i := version; i < len(names); i++ {
		if err := step(ctx, conn, names[i], i+1); err != nil {
			return fmt.Errorf("migrate by %s: %w", path.Base(names[i]), err)
		}
	}
	return nil
}

func step(ctx context.Context, conn *sql.Conn, name string, version int) error {
	script, err := migrations.ReadFile(name)
	if err != nil {
		return err
	}
	tx, err := conn.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	if _, err := tx.ExecContext(ctx, string(script)); err != nil {
		return err
	}
	rows, err := tx.QueryContext(ctx, "PRAGMA foreign_key_check")
	if err != nil {
		return err
	}
	broken := rows.Next()
	if err := rows.Close(); err != nil {
		return err
	}
	if broken {
		return fmt.Errorf("it leaves rows that refer to missing ones")
	}
	if _, err := tx.ExecContext(ctx, fmt.Sprintf("PRAGMA user_version = %d", version)); err != nil {
		return err
	}
	return tx.Commit()
}
