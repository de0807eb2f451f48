package schema

import (
	"context"
	"database/sql"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net/url"
	"os"
	"path"
	"path/filepath"
	"sort"
	"strings"
	"syscall"
	"time"

	"github.com/mattn/go-sqlite3"

	"warthesis/internal/record/pagesum"
	"warthesis/internal/rule"
)

// Migrations are numbered files of written SQL. A released one never changes. A line
// "-- step: WORDS" begins a step, of which the log tells; one whose words end in ", in
// slices of TABLE" is a statement that is run for a slice of the table's IDs at a time,
// behind the first ? and up to the second.
//
//go:embed migrations/*.sql
var migrations embed.FS

const (
	stepMark  = "-- step: "
	sliceMark = ", in slices of "
	// sliceOfIDs is how many IDs one slice has.
	sliceOfIDs = 20_000
	// progressEvery is how often a migration that takes long says how far it is.
	progressEvery = 2 * time.Second
)

// Migrate brings the records to the version of this program. It first copies records
// that have something in them, beside themselves. Each migration is one transaction on
// a connection with foreign keys off, so that rebuilding a table does not cascade into
// others, and ends with a check of all of them: what is cut or fails leaves the
// records as they were.
func Migrate(file string) error {
	names, err := fs.Glob(migrations, "migrations/*.sql")
	if err != nil {
		return err
	}
	sort.Strings(names)
	// Sorting large indexes takes files: they belong beside the records, where there
	// was a look at the space.
	if os.Getenv("SQLITE_TMPDIR") == "" {
		if err := os.Setenv("SQLITE_TMPDIR", filepath.Dir(file)); err != nil {
			return err
		}
		defer os.Unsetenv("SQLITE_TMPDIR")
	}
	if err := begin(file); err != nil {
		return err
	}
	pool := OpenPool(file, "immediate", false, false)
	defer pool.Close()
	ctx := context.Background()
	conn, err := pool.Conn(ctx)
	if err != nil {
		return err
	}
	defer conn.Close()
	var version int
	if err := conn.QueryRowContext(ctx, "PRAGMA user_version").Scan(&version); err != nil {
		return err
	}
	if version > len(names) {
		return fmt.Errorf("they were written by a newer warthesis (version %d, this program knows %d); use that one", version, len(names))
	}
	if version == len(names) {
		return finish(ctx, conn, file)
	}
	if err := conn.Raw(addFunctions); err != nil {
		return err
	}
	if version > 0 {
		if err := copyFirst(ctx, conn, file, version); err != nil {
			return err
		}
	}
	for i := version; i < len(names); i++ {
		m := migration{conn: conn, name: strings.TrimSuffix(path.Base(names[i]), ".sql"), quiet: version == 0}
		if err := m.run(ctx, names[i], i+1); err != nil {
			return fmt.Errorf("migrate by %s: %w", m.name, StorageError(err))
		}
	}
	return finish(ctx, conn, file)
}

// IsNew reports whether a file holds no records: it is missing, empty, or a database in
// which no migration has run.
func IsNew(file string) (bool, error) {
	info, err := os.Stat(file)
	if errors.Is(err, fs.ErrNotExist) || err == nil && info.Size() == 0 {
		return true, nil
	}
	if err != nil {
		return false, err
	}
	pool := OpenPool(file, "deferred", true, false)
	defer pool.Close()
	var version int
	err = pool.QueryRow("PRAGMA user_version").Scan(&version)
	return version == 0 && err == nil, StorageError(err)
}

// begin makes a file for records that do not exist yet, which only its owner may read
// (SQLite gives the files beside it the same mode), with room for a sum in each page.
func begin(file string) error {
	f, err := os.OpenFile(file, os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return err
	}
	info, err := f.Stat()
	if err == nil && info.Size() == 0 {
		err = f.Chmod(0o600)
	}
	if err = errors.Join(err, f.Close()); err != nil || info.Size() > 0 {
		return err
	}
	if err := pagesum.Register(); err != nil {
		return err
	}
	driver := &sqlite3.SQLiteDriver{}
	conn, err := driver.Open("file:" + (&url.URL{Path: file}).EscapedPath() + "?vfs=" + pagesum.Layer)
	if err != nil {
		return err
	}
	made := conn.(*sqlite3.SQLiteConn)
	err = made.SetFileControlInt("main", sqlite3.SQLITE_FCNTL_RESERVE_BYTES, pagesum.Reserved)
	if err == nil {
		_, err = made.Exec("PRAGMA journal_mode = WAL", nil)
	}
	return errors.Join(err, made.Close())
}

// finish gives back the space of tables that are gone, and rewrites a database whose pages
// have no room for sums yet.
func finish(ctx context.Context, conn *sql.Conn, file string) error {
	if err := shrink(ctx, conn, file); err != nil {
		return err
	}
	has, err := hasSums(file)
	if err != nil || has {
		return err
	}
	size, err := sizeOf(file)
	if err != nil {
		return err
	}
	if left, err := freeSpace(file); err != nil || left < 3*size {
		slog.Warn("records: they have no page sums yet, for which they must be rewritten, and the disk has no room for that; a later start does it", "needs_MiB", 3*size>>20, "has_MiB", left>>20)
		return err
	}
	return AddSums(ctx, conn)
}

// AddSums rewrites a database on its only connection, with a new sum in each page.
func AddSums(ctx context.Context, conn *sql.Conn) error {
	err := conn.Raw(func(c any) error {
		return c.(*sqlite3.SQLiteConn).SetFileControlInt("main", sqlite3.SQLITE_FCNTL_RESERVE_BYTES, pagesum.Reserved)
	})
	for _, statement := range []string{"VACUUM", "PRAGMA wal_checkpoint(TRUNCATE)"} {
		if err == nil {
			_, err = conn.ExecContext(ctx, statement)
		}
	}
	if err != nil {
		return fmt.Errorf("rewrite the records with page sums: %w", StorageError(err))
	}
	return nil
}

// hasSums reports whether the pages of a database file have room for sums, by the header
// in the file.
func hasSums(file string) (bool, error) {
	sums, err := pagesum.Open(file)
	if err != nil {
		return false, err
	}
	defer sums.Close()
	return sums.HasSums()
}

// addFunctions gives a connection what migrations ask about tags.
func addFunctions(c any) error {
	var errs []error
	for name, function := range map[string]any{
		"order_key": rule.OrderKey,
		"version_prefix": func(tag string) string {
			prefix, _, _ := rule.SplitVersion(tag)
			return prefix
		},
		"version_key": func(tag string) any {
			if _, v, ok := rule.SplitVersion(tag); ok {
				return v.Key()
			}
			return nil
		},
		"is_release": func(tag string) bool {
			_, v, ok := rule.SplitVersion(tag)
			return ok && v.IsRelease()
		},
	} {
		errs = append(errs, c.(*sqlite3.SQLiteConn).RegisterFunc(name, function, true))
	}
	return errors.Join(errs...)
}

// copyFirst copies the records before they are changed, where the disk has room for
// the copy and for the change.
func copyFirst(ctx context.Context, conn *sql.Conn, file string, version int) error {
	size, err := sizeOf(file)
	if err != nil {
		return err
	}
	// The copy, the change in the write-ahead log, and the tables side by side.
	need := 4 * size
	if left, err := freeSpace(file); err != nil || left < need {
		return errors.Join(err, fmt.Errorf("the records have to be brought to a new version, which takes %d MiB beside them for a copy and the change, and the disk has %d MiB left; make room and start again. Nothing was changed",
			need>>20+1, left>>20))
	}
	// One that is there is of a try before: the records may have gone on since.
	to := fmt.Sprintf("%s.version-%d", file, version)
	slog.Info("records: they are brought to a new version; a copy is made first", "copy", to, "MiB", size>>20)
	// Under another name until it is whole, so that a copy that was cut counts for none.
	part := to + ".part"
	if err := os.Remove(part); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	// SQLite takes an empty file that is there, with its mode.
	if err := os.WriteFile(part, nil, 0o600); err != nil {
		return err
	}
	if _, err := conn.ExecContext(ctx, "VACUUM INTO ?", part); err != nil {
		return errors.Join(fmt.Errorf("copy the records: %w", StorageError(err)), os.Remove(part))
	}
	return errors.Join(syncPath(part), os.Rename(part, to), syncPath(filepath.Dir(to)))
}

// syncPath makes a file or a folder durable.
func syncPath(path string) error {
	f, err := os.Open(path)
	if err != nil {
		return err
	}
	return errors.Join(f.Sync(), f.Close())
}

func sizeOf(file string) (int64, error) {
	var total int64
	for _, part := range []string{file, file + "-wal"} {
		info, err := os.Stat(part)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return 0, err
		}
		total += info.Size()
	}
	return total, nil
}

func freeSpace(file string) (int64, error) {
	var disk syscall.Statfs_t
	if err := syscall.Statfs(filepath.Dir(file), &disk); err != nil {
		return 0, err
	}
	return int64(disk.Bavail) * disk.Bsize, nil
}

// migration is one step from a version to the next.
type migration struct {
	conn *sql.Conn
	name string
	// quiet is for records that are new.
	quiet bool
	told  time.Time
}

// say tells how far the migration is, at most every two seconds unless it must.
func (m *migration) say(step string, values ...any) {
	if m.quiet || len(values) > 0 && time.Since(m.told) < progressEvery {
		return
	}
	m.told = time.Now()
	slog.Info("records: migrating", append([]any{"by", m.name, "step", step}, values...)...)
}

func (m *migration) run(ctx context.Context, file string, version int) error {
	script, err := migrations.ReadFile(file)
	if err != nil {
		return err
	}
	tx, err := m.conn.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	pieces := strings.Split("\n"+string(script), "\n"+stepMark)
	if _, err := tx.ExecContext(ctx, pieces[0]); err != nil {
		return err
	}
	for i, piece := range pieces[1:] {
		words, statements, _ := strings.Cut(piece, "\n")
		step := fmt.Sprintf("%d of %d, %s", i+1, len(pieces)-1, words)
		m.say(step)
		if _, table, sliced := strings.Cut(words, sliceMark); sliced {
			err = m.slices(ctx, tx, step, table, statements)
		} else {
			_, err = tx.ExecContext(ctx, statements)
		}
		if err != nil {
			return fmt.Errorf("step %s: %w", step, err)
		}
	}
	if err := checkReferences(ctx, tx); err != nil {
		return err
	}
	if !m.quiet {
		if _, err := tx.ExecContext(ctx, "INSERT INTO meta (key, value) VALUES (?, 'due') ON CONFLICT DO NOTHING", shrinkKey); err != nil {
			return err
		}
	}
	if _, err := tx.ExecContext(ctx, fmt.Sprintf("PRAGMA user_version = %d", version)); err != nil {
		return err
	}
	return tx.Commit()
}

func (m *migration) slices(ctx context.Context, tx *sql.Tx, step, table, statement string) error {
	var last int64
	if err := tx.QueryRowContext(ctx, "SELECT coalesce(max(id), 0) FROM "+table).Scan(&last); err != nil {
		return err
	}
	for after := int64(0); after < last; after += sliceOfIDs {
		if _, err := tx.ExecContext(ctx, statement, after, after+sliceOfIDs); err != nil {
			return err
		}
		m.say(step, "done", min(last, after+sliceOfIDs), "of", last)
	}
	return nil
}

func checkReferences(ctx context.Context, tx *sql.Tx) error {
	rows, err := tx.QueryContext(ctx, "PRAGMA foreign_key_check")
	if err != nil {
		return err
	}
	broken := rows.Next()
	if err := errors.Join(rows.Err(), rows.Close()); err != nil {
		return err
	}
	if broken {
		return errors.New("it leaves rows that refer to missing ones")
	}
	return nil
}

// shrinkKey notes that a migration has left the space of tables that are gone.
const shrinkKey = "shrink"

// shrink gives back what tables of before took, where that is due and there is room to
// do so; a start that was cut in it leaves it to the next. It is no loss where it
// fails: the space is used again.
func shrink(ctx context.Context, conn *sql.Conn, file string) error {
	var due int
	if err := conn.QueryRowContext(ctx, "SELECT count(*) FROM meta WHERE key = ?", shrinkKey).Scan(&due); err != nil || due == 0 {
		return err
	}
	before, err := sizeOf(file)
	if err != nil {
		return err
	}
	if left, err := freeSpace(file); err != nil || left < 3*before {
		return err
	}
	slog.Info("records: migrated; what the tables of before took is given back", "MiB", before>>20)
	if _, err := conn.ExecContext(ctx, "VACUUM"); err != nil {
		slog.Warn("records: the space of before could not be given back, and is used again instead", "error", err)
		return nil
	}
	if _, err := conn.ExecContext(ctx, "DELETE FROM meta WHERE key = ?", shrinkKey); err != nil {
		return err
	}
	_, err = conn.ExecContext(ctx, "PRAGMA wal_checkpoint(TRUNCATE)")
	return err
}
