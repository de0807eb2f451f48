package record

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"runtime/debug"
	"sync"
	"sync/atomic"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"gorm.io/driver/sqlite"
	"gorm.io/gorm"
	"gorm.io/gorm/logger"

	"warthesis/internal/clock"
	"warthesis/internal/record/feed"
	"warthesis/internal/record/held"
	"warthesis/internal/record/keeping"
	"warthesis/internal/record/rulelists"
	"warthesis/internal/record/schema"
	"warthesis/internal/record/seals"
	"warthesis/internal/record/stamp"
	"warthesis/internal/record/turns"
)

// readers is how many connections read beside the writer.
const readers = 8

// Store is the records of one data folder. It is safe for concurrent use.
type Store struct {
	clock clock.Clock
	// path is the file of the records, integrity what is known about its damage.
	path      string
	integrity *integrity
	read      *gorm.DB
	write     *gorm.DB
	// plan is the connection on which sweeps plan, in tables of its own.
	plan   *gorm.DB
	cache  *cache
	rights atomic.Pointer[Rights]
	feed   *feed.Feed[Event]
	held   held.Times
	// sealing and keeping are the rules that were read, rules the versions of all lists.
	sealing *seals.Compiled
	keeping *keeping.Compiled
	rules   rulelists.Versions
	queue   *turns.Queue[func(*Tx) error]
	ended   sync.WaitGroup
}

// Open opens the records, makes or migrates them as needed, and starts the
// writer. start returns the clock to use, given the served time that earlier runs
// reached. The caller holds the lock of the data folder, and closes the store.
func Open(path string, start func(before time.Duration) clock.Clock) (*Store, error) {
	if err := schema.Migrate(path); err != nil {
		return nil, fmt.Errorf("open the records: %w", schema.StorageError(err))
	}
	in, err := openIntegrity(path)
	if err != nil {
		return nil, fmt.Errorf("open the records: %w", err)
	}
	s := &Store{
		path: path, integrity: in,
		cache: newCache(), feed: feed.New[Event](), held: held.New(), sealing: seals.NewCompiled(), keeping: keeping.NewCompiled(),
		queue: turns.NewQueue[func(*Tx) error](),
	}
	if s.write, err = connect(path, "immediate", false, 1, in); err != nil {
		return nil, errors.Join(fmt.Errorf("open the records: %w", err), in.pages.Close())
	}
	if s.read, err = connect(path, "deferred", true, readers, in); err != nil {
		return nil, errors.Join(fmt.Errorf("open the records: %w", err), closeDB(s.write), in.pages.Close())
	}
	if s.plan, err = connect(path, "deferred", false, 1, in); err != nil {
		return nil, errors.Join(fmt.Errorf("open the records: %w", err), closeDB(s.read), closeDB(s.write), in.pages.Close())
	}
	before, err := s.load()
	if err != nil {
		return nil, errors.Join(fmt.Errorf("open the records: %w", schema.StorageError(err)), closeDB(s.plan), closeDB(s.read), closeDB(s.write), in.pages.Close())
	}
	s.clock = start(before)
	s.ended.Go(s.writeLoop)
	return s, nil
}

// load reads what is kept in memory, and returns the served time that was reached.
func (s *Store) load() (before time.Duration, err error) {
	if before, err = s.servedBefore(); err != nil {
		return 0, err
	}
	rights, err := loadRights(s.read)
	if err != nil {
		return 0, err
	}
	s.rights.Store(rights)
	return before, s.rules.Begin(s.read)
}

// Close lets queued work finish, stops the writer and closes the connections.
func (s *Store) Close() error {
	s.queue.Close()
	s.ended.Wait()
	s.feed.Close()
	// The pages last: closing any descriptor of the file gives up the locks on it.
	return errors.Join(closeDB(s.plan), closeDB(s.read), closeDB(s.write), s.integrity.pages.Close())
}

// Clock is the clock by which changes are timed.
func (s *Store) Clock() clock.Clock { return s.clock }

// Metrics are the figures of the records.
func (s *Store) Metrics() []prometheus.Collector { return s.held.Metrics() }

// Ready answers whether the records can be read.
func (s *Store) Ready(ctx context.Context) error {
	// It must be scanned: a SELECT that is only executed keeps its row, and with it
	// a read transaction, until the connection closes.
	var one int
	return s.read.WithContext(ctx).Raw("SELECT 1 FROM meta LIMIT 1").Scan(&one).Error
}

func closeDB(db *gorm.DB) error {
	pool, err := db.DB()
	if err != nil {
		return err
	}
	return pool.Close()
}

func connect(path, txLock string, queryOnly bool, connections int, in *integrity) (*gorm.DB, error) {
	pool := schema.OpenPool(path, txLock, queryOnly, true)
	pool.SetMaxOpenConns(connections)
	pool.SetMaxIdleConns(connections)
	db, err := gorm.Open(&sqlite.Dialector{Conn: pool}, &gorm.Config{
		SkipDefaultTransaction: true,
		PrepareStmt:            true,
		Logger:                 damageLogger{logger.Discard, in},
	})
	if err != nil {
		return nil, errors.Join(err, pool.Close())
	}
	return db, nil
}

// Tx is one change of the records. All that it does is committed together or not
// at all. It is used by one goroutine, and only until the change returns; it must
// not wait for files or the network.
type Tx struct {
	View
	store   *Store
	forget  []func(*cache)
	events  []Event
	touched touched
	edits   []edit
}

// View reads the records: at one moment where it belongs to a change, otherwise
// each answer is as new as the last commit.
type View struct {
	db      *gorm.DB
	sealing *seals.Compiled
	keeping *keeping.Compiled
	rules   rulelists.Seen
}

// View returns the records for reading.
func (s *Store) View(ctx context.Context) View {
	return View{s.read.WithContext(ctx), s.sealing, s.keeping, s.rules.Readers()}
}

// Now returns the wall time of the change.
func (tx *Tx) Now() Stamp { return StampOf(tx.store.clock.Now()) }

// Served returns the served time of the change.
func (tx *Tx) Served() int64 { return int64(tx.store.clock.Served()) }

// Update runs a change of a kind, a short fixed word for the figures, and returns once
// it is durable. Changes that wait at the
// same time are committed together, each on its own: one that fails leaves the
// others be. An error of the change is returned as it is.
func (s *Store) Update(ctx context.Context, kind string, change func(*Tx) error) error {
	return s.queue.Ask(&turns.Turn[func(*Tx) error]{Ctx: ctx, Kind: kind, Change: change})
}

// UpdateQuietly is Update for work that nobody waits for: it goes when the writer has
// nothing else to do, and tells who waited for it all the same.
func (s *Store) UpdateQuietly(ctx context.Context, kind string, change func(*Tx) error) (turns.Waited, error) {
	t := &turns.Turn[func(*Tx) error]{Ctx: ctx, Kind: kind, Change: change, Quiet: true}
	err := s.queue.Ask(t)
	return t.Waited, err
}

// groupLimit bounds how many changes share one transaction.
const groupLimit = 128

func (s *Store) writeLoop() {
	for jobs := s.queue.Next(groupLimit); len(jobs) > 0; jobs = s.queue.Next(groupLimit) {
		s.commit(jobs)
	}
}

// commit runs the jobs in one transaction, each behind a savepoint of its own,
// and answers them after the caches have followed.
func (s *Store) commit(jobs []*turns.Turn[func(*Tx) error]) {
	began := time.Now()
	results := make([]error, len(jobs))
	changes := make([]*Tx, len(jobs))
	var changed time.Time
	err := s.write.Transaction(func(db *gorm.DB) error {
		defer func() { changed = time.Now() }()
		for i, j := range jobs {
			changes[i] = &Tx{View: View{db, s.sealing, s.keeping, s.rules.Changes()}, store: s}
			results[i] = changes[i].attempt(j)
			if errors.Is(results[i], errSavepoint) {
				return results[i]
			}
		}
		return nil
	})
	if !changed.IsZero() {
		s.held.Commit(changed)
	}
	if err != nil {
		slog.Error("records: a transaction failed", "error", err, "changes", len(jobs))
		for i := range results {
			results[i] = fmt.Errorf("commit to the records: %w", schema.StorageError(err))
		}
	} else {
		s.follow(changes, results)
	}
	s.rules.Follow(s.read)
	if jobs[0].Quiet {
		jobs[0].Waited = s.queue.Waiting(began)
		s.held.Waited(jobs[0].Waited)
	}
	for i, j := range jobs {
		j.Answer(results[i])
	}
}

// follow lets caches and listeners know what was committed.
func (s *Store) follow(changes []*Tx, results []error) {
	var events []Event
	var edits []edit
	s.cache.change(func(c *cache) {
		for i, tx := range changes {
			if results[i] != nil {
				continue
			}
			for _, forget := range tx.forget {
				forget(c)
			}
			events = append(events, tx.events...)
			edits = append(edits, tx.edits...)
		}
		s.followRights(edits)
	})
	s.feed.Send(events)
}

var errSavepoint = errors.New("savepoint")

// attempt runs one job behind a savepoint. A panic in a change is an error of
// that change alone.
func (tx *Tx) attempt(j *turns.Turn[func(*Tx) error]) (err error) {
	if err := j.Ctx.Err(); err != nil {
		return err
	}
	defer tx.store.held.Change(j.Kind, time.Now())
	if err := tx.db.Exec("SAVEPOINT change").Error; err != nil {
		return fmt.Errorf("%w: %w", errSavepoint, err)
	}
	defer func() {
		if r := recover(); r != nil {
			slog.Error("a change of the records panicked", "kind", j.Kind, "panic", r, "stack", string(debug.Stack()))
			err = fmt.Errorf("a change of the records panicked: %v", r)
		}
		step := "RELEASE change"
		if err != nil {
			step = "ROLLBACK TO change"
		}
		if undo := tx.db.Exec(step).Error; undo != nil {
			// A full disk has ended the whole transaction: what is told is why.
			err = fmt.Errorf("%w: %w", errSavepoint, cmp.Or(err, undo))
		}
	}()
	if err := j.Change(tx); err != nil {
		return schema.StorageError(err)
	}
	tx.edits, err = tx.editsOf()
	return err
}

// Stamp is a point of wall time as it is stored: nanoseconds since 1970, 0 for never.
type Stamp = stamp.Stamp

// StampOf returns the stamp of a time.
func StampOf(t time.Time) Stamp { return stamp.Of(t) }
