package schema

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"errors"
	"fmt"
	"net/url"
	"strconv"

	"github.com/mattn/go-sqlite3"

	"warthesis/internal/oci"
	"warthesis/internal/record/pagesum"
)

// journalLimit is the size in bytes to which a write-ahead log that has grown is cut back.
const journalLimit = 64 << 20

// connector opens connections and reads the settings back on each: the driver's
// defaults are weaker than what is promised here, and a PRAGMA that is run once
// is lost when the pool replaces a connection.
type connector struct {
	driver *sqlite3.SQLiteDriver
	dsn    string
	want   map[string]string
}

// Connect opens one and reads its settings back.
func (c *connector) Connect(context.Context) (driver.Conn, error) {
	if err := pagesum.Register(); err != nil {
		return nil, err
	}
	conn, err := c.driver.Open(c.dsn)
	if err != nil {
		return nil, err
	}
	for pragma, want := range c.want {
		if err := expect(conn.(*sqlite3.SQLiteConn), pragma, want); err != nil {
			conn.Close()
			return nil, err
		}
	}
	return conn, nil
}

// Driver is the driver behind it.
func (c *connector) Driver() driver.Driver { return c.driver }

func expect(conn *sqlite3.SQLiteConn, pragma, want string) error {
	rows, err := conn.Query("PRAGMA "+pragma, nil)
	if err != nil {
		return err
	}
	defer rows.Close()
	row := make([]driver.Value, 1)
	if err := rows.Next(row); err != nil {
		return err
	}
	if got := fmt.Sprint(row[0]); got != want {
		return fmt.Errorf("the database does not take the setting %s=%s (it answers %s)", pragma, want, got)
	}
	return nil
}

// OpenPool returns connections to a file of records. txLock is "immediate" for the
// writer and "deferred" for readers. A connection that does not take its settings is
// refused.
func OpenPool(path, txLock string, queryOnly, foreignKeys bool) *sql.DB {
	flag := func(on bool) string {
		if on {
			return "1"
		}
		return "0"
	}
	settings := url.Values{
		"_journal_mode": {"WAL"}, "_synchronous": {"FULL"}, "_busy_timeout": {"10000"},
		"_txlock": {txLock}, "_query_only": {flag(queryOnly)}, "_foreign_keys": {flag(foreignKeys)},
		"_cache_size": {"-16384"}, "vfs": {pagesum.Layer},
	}
	return sql.OpenDB(&connector{
		driver: &sqlite3.SQLiteDriver{ConnectHook: func(conn *sqlite3.SQLiteConn) error {
			_, err := conn.Exec("PRAGMA journal_size_limit="+strconv.Itoa(journalLimit), nil)
			return err
		}},
		dsn: "file:" + (&url.URL{Path: path}).EscapedPath() + "?" + settings.Encode(),
		want: map[string]string{
			"journal_mode": "wal", "synchronous": "2", "query_only": flag(queryOnly), "foreign_keys": flag(foreignKeys),
			"journal_size_limit": strconv.Itoa(journalLimit),
		},
	})
}

// StorageError gives a full disk and damaged records their kinds.
func StorageError(err error) error {
	var fault sqlite3.Error
	switch {
	case !errors.As(err, &fault):
	case fault.Code == sqlite3.ErrFull:
		return oci.Errorf(oci.CodeStorageFull, "the registry's disk is full; ask whoever runs the registry to make room")
	case IsDamage(err):
		return oci.Errorf(oci.CodeStorageFault, "the registry's records are damaged (%s); ask an admin to restore them from a backup", fault.Error())
	}
	return err
}

// IsDamage reports whether SQLite found a database file malformed.
func IsDamage(err error) bool {
	var fault sqlite3.Error
	return errors.As(err, &fault) && (fault.Code == sqlite3.ErrCorrupt || fault.Code == sqlite3.ErrNotADB)
}
