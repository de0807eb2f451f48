package record

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"warthesis/internal/record/pagesum"
	"warthesis/internal/record/schema"
)

// Damage is a part of the records that is not as it was written.
type Damage struct {
	// Table and Index are the damaged part, "" where it is not known. Of a damaged table
	// Index is "".
	Table string `json:"table,omitempty"`
	Index string `json:"index,omitempty"`
	// What says what was found.
	What    string    `json:"what"`
	FoundAt time.Time `json:"found_at"`
	// Told is whether the audit log has it.
	Told bool `json:"told,omitempty"`
	// sought is whether a complete check looked for its table.
	sought bool
}

// DamageRemedy says what to do about damaged records.
const DamageRemedy = "Restore the records from a backup, then run: warthesis scrub. If another program wrote to them, start once with --accept-records"

// String is the damage in a sentence.
func (d Damage) String() string {
	switch {
	case d.Index != "":
		return fmt.Sprintf("index %s of table %s: %s", d.Index, d.Table, d.What)
	case d.Table != "":
		return fmt.Sprintf("table %s: %s", d.Table, d.What)
	}
	return d.What
}

// DamagedError: something was refused because the records are damaged.
type DamagedError struct{ Damages []Damage }

func (e *DamagedError) Error() string {
	return fmt.Sprintf("the records are damaged (%s), so nothing is deleted. %s", e.Damages[0], DamageRemedy)
}

// mostDamages bounds the damages that are remembered.
const mostDamages = 100

// integrity is what is known about the damage of the records. It outlives a restart in a
// file beside the records, since damaged records can't be trusted to keep it.
type integrity struct {
	file   string
	pages  *pagesum.File
	counts pagesum.Counter

	mu      sync.Mutex
	known   uint64
	damages []Damage
}

// damageEnd is the end of the name of the file that lists damages.
const damageEnd = ".damaged"

// startBytes is how much of the records a start checks, in bytes.
const startBytes = 256 << 20

// openIntegrity reads what was known before, and checks the first pages. It is called
// before the first connection opens and closed after the last one.
func openIntegrity(path string) (*integrity, error) {
	in := &integrity{file: path + damageEnd}
	raw, err := os.ReadFile(in.file)
	if err == nil {
		if err = json.Unmarshal(raw, &in.damages); err != nil {
			in.damages = []Damage{{What: "the list of damages itself can't be read: " + err.Error()}}
		}
	} else if !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	if in.counts, err = pagesum.CounterOf(path); err != nil {
		return nil, err
	}
	in.known, _ = in.counts.Failures()
	if in.pages, err = pagesum.Open(path); err != nil {
		return nil, err
	}
	read := 0
	wrong, _, err := in.pages.Check(1, mostDamages, func(bytes int) error {
		if read += bytes; read >= startBytes {
			return errEnough
		}
		return nil
	})
	if err != nil && !errors.Is(err, errEnough) && !errors.Is(err, pagesum.ErrNoSums) {
		in.add(Damage{What: err.Error()})
	}
	for _, page := range wrong {
		in.add(pageDamage(page))
	}
	return in, nil
}

var errEnough = errors.New("enough")

func pageDamage(page uint32) Damage {
	return Damage{What: fmt.Sprintf("page %d has other bytes than were written", page)}
}

// add notes damages, each once.
func (in *integrity) add(all ...Damage) {
	in.mu.Lock()
	defer in.mu.Unlock()
	fresh := false
	for _, d := range all {
		if len(in.damages) >= mostDamages || slices.ContainsFunc(in.damages, d.isIn) {
			continue
		}
		if d.FoundAt.IsZero() {
			d.FoundAt = time.Now().UTC()
		}
		fresh = true
		in.damages = append(in.damages, d)
		slog.Error("the records are damaged: sweeps and retention stop; restore the records from a backup", "where", d.String())
	}
	if fresh {
		in.keep()
	}
}

// isIn reports whether another damage tells this one, and perhaps in which table it is.
func (d Damage) isIn(other Damage) bool {
	return d.What == other.What && (d.Table == "" || d.same(other))
}

func (d Damage) same(other Damage) bool {
	return other.Table == d.Table && other.Index == d.Index && other.What == d.What
}

// replace sets what a complete check found.
func (in *integrity) replace(found []Damage) {
	in.mu.Lock()
	had := len(in.damages)
	in.damages = slices.DeleteFunc(in.damages, func(d Damage) bool { return !slices.ContainsFunc(found, d.same) })
	in.mu.Unlock()
	in.add(found...)
	if had > 0 && len(found) == 0 {
		slog.Info("a complete check of the records found no damage: sweeps and retention run again")
		in.mu.Lock()
		defer in.mu.Unlock()
		in.keep()
	}
}

// keep writes the damages into their file. The caller holds the mutex.
func (in *integrity) keep() {
	err := os.Remove(in.file)
	if errors.Is(err, fs.ErrNotExist) {
		err = nil
	}
	if len(in.damages) > 0 {
		// Plain fields always marshal.
		raw, _ := json.Marshal(in.damages)
		if err = os.WriteFile(in.file+".new", raw, 0o600); err == nil {
			err = os.Rename(in.file+".new", in.file)
		}
	}
	if err != nil {
		slog.Error("the damages of the records could not be noted for the next start", "error", err)
	}
}

// look notes the pages that questions have met since the last look.
func (in *integrity) look() []Damage {
	count, page := in.counts.Failures()
	in.mu.Lock()
	fresh := count > in.known
	in.known = max(count, in.known)
	in.mu.Unlock()
	if fresh {
		in.add(pageDamage(page))
	}
	in.mu.Lock()
	defer in.mu.Unlock()
	return slices.Clone(in.damages)
}

// Damages returns the damages of the records that are known; it is cheap. A question that
// met a damaged page is followed by one here.
func (s *Store) Damages() []Damage { return s.integrity.look() }

// Sound fails with *DamagedError where the records are known to be damaged. Whoever deletes
// for good asks before and after the questions that decide about it.
func (s *Store) Sound() error {
	if all := s.Damages(); len(all) > 0 {
		return &DamagedError{all}
	}
	return nil
}

// ReportDamage notes that two ways to the same answer disagree.
func (s *Store) ReportDamage(d Damage) { s.integrity.add(d) }

// CheckParts is into how many parts the complete check of tables is cut.
const CheckParts = 28

// CheckIntegrity checks the sums of all pages and, table by table, that each index has what its
// table has: of the tables of one part, from 0 to CheckParts-1, or of all with a part below
// zero. Only a complete check that finds nothing ends known damage. between is called
// often, and ends it by an error. A table is read on one snapshot.
func (s *Store) CheckIntegrity(ctx context.Context, part int, between func(bytes int) error) ([]Damage, error) {
	var found []Damage
	for from := uint32(1); from != 0; {
		wrong, next, err := s.integrity.pages.Check(from, mostDamages, between)
		if errors.Is(err, pagesum.ErrNoSums) {
			break
		}
		if err != nil {
			return nil, err
		}
		for _, page := range wrong {
			found = append(found, pageDamage(page))
		}
		from = next
		if len(found) >= mostDamages {
			break
		}
	}
	// Its pages are read from the file: other connections may remember sound ones.
	pool := schema.OpenPool(s.path, "deferred", true, false)
	defer pool.Close()
	pool.SetMaxOpenConns(1)
	tables, err := tablesOf(ctx, pool)
	if err != nil {
		return s.checked(part, found, err)
	}
	wrong := len(found) > 0
	for i, t := range tables {
		// Where a page is wrong, it is worth knowing in what.
		if part >= 0 && i%CheckParts != part && !wrong {
			continue
		}
		some, err := s.checkTable(ctx, pool, t)
		if err = errors.Join(err, between(0)); err != nil {
			return s.checked(part, append(found, some...), err)
		}
		found = append(found, some...)
	}
	return s.checked(part, found, nil)
}

// checked notes what a check found. An error that says that the records are damaged is a
// finding.
func (s *Store) checked(part int, found []Damage, err error) ([]Damage, error) {
	if schema.IsDamage(err) {
		found, err = append(found, Damage{What: err.Error()}), nil
	}
	// A page whose table is known is told once, with the table.
	all := found
	found = slices.DeleteFunc(slices.Clone(found), func(d Damage) bool {
		return d.Table == "" && slices.ContainsFunc(all, func(o Damage) bool { return o.Table != "" && d.isIn(o) })
	})
	if part < 0 && err == nil {
		s.integrity.replace(found)
	} else {
		s.integrity.add(found...)
	}
	return found, err
}

// checkedTable is a table with its indexes.
type checkedTable struct {
	name    string
	indexes []string
}

func tablesOf(ctx context.Context, pool *sql.DB) (tables []checkedTable, err error) {
	rows, err := pool.QueryContext(ctx, "SELECT type, name, tbl_name FROM sqlite_schema WHERE type IN ('table', 'index') AND rootpage <> 0 ORDER BY tbl_name, type DESC, name")
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var kind, name, of string
		if err := rows.Scan(&kind, &name, &of); err != nil {
			return nil, err
		}
		if len(tables) == 0 || tables[len(tables)-1].name != of {
			tables = append(tables, checkedTable{name: of})
		}
		if kind == "index" {
			last := &tables[len(tables)-1]
			last.indexes = append(last.indexes, name)
		}
	}
	return tables, rows.Err()
}

// checkTable compares a table with its indexes, and notes which of them has a page whose
// sum is wrong.
func (s *Store) checkTable(ctx context.Context, pool *sql.DB, t checkedTable) (found []Damage, err error) {
	walk := func(index, how string) error {
		before, _ := s.integrity.counts.Failures()
		var n int64
		err := pool.QueryRowContext(ctx, "SELECT count(*) FROM "+quoted(t.name)+how).Scan(&n)
		after, page := s.integrity.counts.Failures()
		if after > before {
			found = append(found, Damage{Table: t.name, Index: index, What: pageDamage(page).What})
		}
		if schema.IsDamage(err) {
			found, err = append(found, Damage{Table: t.name, Index: index, What: err.Error()}), nil
		}
		// An index of some rows alone cannot be walked for all of them.
		if err != nil && strings.Contains(err.Error(), "no query solution") {
			err = nil
		}
		return err
	}
	if err := walk("", " NOT INDEXED"); err != nil {
		return found, err
	}
	for _, index := range t.indexes {
		if err := walk(index, " INDEXED BY "+quoted(index)); err != nil {
			return found, err
		}
	}
	before, _ := s.integrity.counts.Failures()
	compared, err := s.compare(ctx, pool, t)
	found = append(found, compared...)
	if after, page := s.integrity.counts.Failures(); after > before && len(found) == 0 {
		found = append(found, Damage{Table: t.name, What: pageDamage(page).What})
	}
	return found, err
}

// compare checks that the indexes of a table have what the table has.
func (s *Store) compare(ctx context.Context, pool *sql.DB, t checkedTable) (found []Damage, err error) {
	rows, err := pool.QueryContext(ctx, "PRAGMA integrity_check("+quoted(t.name)+")")
	if err == nil {
		defer rows.Close()
		for rows.Next() {
			var said string
			if err := rows.Scan(&said); err != nil {
				return found, err
			}
			if said != "ok" && len(found) < mostDamages {
				found = append(found, Damage{Table: t.name, Index: indexIn(t, said), What: strings.ReplaceAll(strings.TrimPrefix(said, "*** in database main ***\n"), "\n", "; ")})
			}
		}
		err = rows.Err()
	}
	if schema.IsDamage(err) {
		found, err = append(found, Damage{Table: t.name, What: err.Error()}), nil
	}
	return found, err
}

func quoted(name string) string { return `"` + strings.ReplaceAll(name, `"`, `""`) + `"` }

// indexIn returns the index that a finding of SQLite names, "" for none.
func indexIn(t checkedTable, said string) string {
	for _, index := range t.indexes {
		if slices.Contains(strings.Fields(said), index) {
			return index
		}
	}
	return ""
}

// Accept takes the records as they are, after another program wrote to them: where every
// index has what its table has, it gives all pages new sums and forgets what was known of
// damage. It fails with *DamagedError. Nothing else has the records open.
func Accept(ctx context.Context, path string) error {
	in, err := openIntegrity(path)
	if err != nil {
		return err
	}
	pool := schema.OpenPool(path, "immediate", false, false)
	pool.SetMaxOpenConns(1)
	err = accept(ctx, &Store{path: path, integrity: in}, pool)
	return errors.Join(err, pool.Close(), in.pages.Close())
}

func accept(ctx context.Context, s *Store, pool *sql.DB) error {
	tables, err := tablesOf(ctx, pool)
	if err != nil {
		return schema.StorageError(err)
	}
	for _, t := range tables {
		found, err := s.compare(ctx, pool, t)
		if err == nil && len(found) > 0 {
			err = &DamagedError{found}
		}
		if err != nil {
			return err
		}
	}
	conn, err := pool.Conn(ctx)
	if err != nil {
		return err
	}
	if err = errors.Join(schema.AddSums(ctx, conn), conn.Close()); err == nil {
		s.integrity.replace(nil)
	}
	return err
}

// IsNew reports whether a file holds no records yet.
func IsNew(path string) (bool, error) { return schema.IsNew(path) }
