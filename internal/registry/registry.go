// Package registry is the heart: it takes content in, gives it back, and keeps
// names pointing at it, by joining the bytes of blob with what record knows.
//
// It promises that what it acknowledged is durable, that content is given back
// byte for byte, that a stored manifest's blobs and children are there, and that
// content is reached only through a repository that holds it. It knows no
// request and no right: callers ask access before they ask here.
package registry

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"log/slog"
	"sync"
	"time"

	"github.com/hashicorp/golang-lru/v2"

	"warthesis/internal/blob"
	"warthesis/internal/clock"
	"warthesis/internal/oci"
	"warthesis/internal/record"
	"warthesis/internal/registry/reserve"
	"warthesis/internal/registry/tally"
	"warthesis/internal/registry/touches"
)

// Limits bound what callers may send. Zero fields take the defaults.
type Limits struct {
	// ManifestBytes is the largest manifest, in bytes.
	ManifestBytes int64
	// BlobBytes is the largest blob, in bytes.
	BlobBytes int64
	// UploadsPerCaller is how many uploads one account or, without a login, one
	// address may have open at once.
	UploadsPerCaller int
	// UploadIdle is the served time after which an upload that nobody sends to is
	// ended and its bytes removed.
	UploadIdle time.Duration
	// Grace is the served time for which what was touched stays, though nothing needs it.
	Grace time.Duration
	// NewRecords accepts records of another registry than that of the blobs.
	NewRecords bool
}

// The defaults of the limits.
const (
	DefaultBlobBytes        = 256 << 30
	DefaultUploadsPerCaller = 256
	DefaultUploadIdle       = 24 * time.Hour
	DefaultGrace            = 24 * time.Hour
)

func (l Limits) orDefaults() Limits {
	if l.ManifestBytes == 0 {
		l.ManifestBytes = oci.DefaultManifestLimit
	}
	if l.BlobBytes == 0 {
		l.BlobBytes = DefaultBlobBytes
	}
	if l.UploadsPerCaller == 0 {
		l.UploadsPerCaller = DefaultUploadsPerCaller
	}
	if l.UploadIdle == 0 {
		l.UploadIdle = DefaultUploadIdle
	}
	if l.Grace == 0 {
		l.Grace = DefaultGrace
	}
	return l
}

// Registry is one registry's content and names. It is safe for concurrent use.
type Registry struct {
	blobs   *blob.Store
	records *record.Store
	clock   clock.Clock
	limits  Limits
	// raw keeps small manifests in memory: content of a digest never changes.
	raw *lru.Cache[oci.Digest, []byte]
	// checked is when files were last written that were found to be right all the same.
	checked *lru.Cache[blob.Place, time.Time]
	// looked is when, in served time, the files of manifests were last looked at.
	looked *lru.Cache[oci.Digest, time.Duration]
	// unpacked is what content that is here unpacks to: whoever mounts it again and again
	// pays for one reading.
	unpacked *lru.Cache[unpacking, oci.Digest]
	tally    tally.Tally
	touches  *touches.Touches
	right    right
	// reserved is what open uploads are to bring.
	reserved reserve.Book

	mu       sync.Mutex
	sessions map[string]*session
	// open counts the uploads of each caller.
	open map[string]int
}

const (
	// rawCacheEntries times rawCacheLimit bounds the memory of the manifest cache.
	rawCacheEntries = 1024
	rawCacheLimit   = 64 << 10
	checkedEntries  = 1 << 16
)

// New returns a registry over the bytes and records, which stay the caller's to
// close, after the registry.
func New(blobs *blob.Store, records *record.Store, clk clock.Clock, limits Limits) (*Registry, error) {
	raw, err := lru.New[oci.Digest, []byte](rawCacheEntries)
	if err != nil {
		return nil, err
	}
	checked, err := lru.New[blob.Place, time.Time](checkedEntries)
	if err != nil {
		return nil, err
	}
	looked, err := lru.New[oci.Digest, time.Duration](rawCacheEntries)
	if err != nil {
		return nil, err
	}
	unpacked, err := lru.New[unpacking, oci.Digest](rawCacheEntries)
	if err != nil {
		return nil, err
	}
	r := &Registry{
		unpacked: unpacked,
		blobs:    blobs, records: records, clock: clk, limits: limits.orDefaults(), raw: raw, checked: checked, looked: looked, touches: touches.New(),
		sessions: map[string]*session{}, open: map[string]int{},
	}
	uploads, err := records.View(context.Background()).Quota().Open()
	if err != nil {
		return nil, fmt.Errorf("read the open uploads: %w", err)
	}
	open := make(map[string]bool, len(uploads))
	for _, u := range uploads {
		open[u.ID] = true
		// Nobody asks: it is here already.
		_ = r.reserved.Grow(u.ID, reserve.Entry{NamespaceID: u.NamespaceID, AccountID: u.AccountID, Bytes: u.Offset}, nil)
	}
	if err := r.beginGeneration(r.limits.NewRecords); err != nil {
		return nil, err
	}
	if err := blobs.ClearLeftovers(func(id string) bool { return open[id] }); err != nil {
		return nil, err
	}
	if err := r.ClearErased(context.Background()); err != nil {
		slog.Error("files of erased content could not be deleted; the next sweep tries again", "error", err)
	}
	return r, records.Update(context.Background(), "start", func(tx *record.Tx) error {
		until, err := tx.Unheld().Begin(tx.Served(), r.limits.Grace)
		r.touches.Lost.Store(until)
		return err
	})
}

// Close records the pulls counted so far and the served time, and lets go of open
// uploads, which can be gone on with after the next start.
func (r *Registry) Close() error {
	r.releaseSessions()
	err := errors.Join(r.FlushPulls(), r.FlushTouches(), r.KeepServed(), r.RaiseGeneration(context.Background()))
	if err != nil {
		return err
	}
	return r.records.Update(context.Background(), "stop", func(tx *record.Tx) error { return tx.Unheld().Stop() })
}

// KeepServed records the served time that was reached.
func (r *Registry) KeepServed() error {
	return r.records.Update(context.Background(), "served-time", (*record.Tx).KeepServed)
}

// Caller is who asks for a change, for the logs.
type Caller struct {
	// Account is the account's name, "" where nobody is logged in, AccountID its number.
	Account   string
	AccountID int64
	// Address is the network address, "" for the service itself.
	Address string
	// Request is the request ID.
	Request string
	// Token is the name of the token by which the account came, "" for none.
	Token string
	// Makes is what a push of this caller may make.
	Makes record.Maker
}

type hiddenKey struct{}

// Hide returns a context in which every repository is unknown: for callers who may
// not know which ones there are.
func Hide(ctx context.Context) context.Context { return context.WithValue(ctx, hiddenKey{}, true) }

// Hidden reports whether every repository is unknown in a context.
func Hidden(ctx context.Context) bool { return ctx.Value(hiddenKey{}) != nil }

// find returns a repository by name, or record.ErrNotFound.
func (r *Registry) find(ctx context.Context, name oci.Name) (record.Repository, error) {
	if Hidden(ctx) {
		return record.Repository{}, record.ErrNotFound
	}
	return r.records.Repository(ctx, name)
}

type callerKey struct{}

// WithCaller returns a context that carries who asks.
func WithCaller(ctx context.Context, c Caller) context.Context {
	return context.WithValue(ctx, callerKey{}, c)
}

func callerOf(ctx context.Context) Caller {
	c, _ := ctx.Value(callerKey{}).(Caller)
	return c
}

// CallerIn returns who asks by a context.
func CallerIn(ctx context.Context) Caller { return callerOf(ctx) }

// actor returns the caller as the logs have them.
func actor(ctx context.Context) record.Actor {
	c := callerOf(ctx)
	return record.Actor{Account: c.AccountID, Token: c.Token}
}

// who names the caller for limits.
func (c Caller) who() string {
	if c.Account != "" {
		return "account " + c.Account
	}
	return "address " + c.Address
}

// event starts an event of the caller in a repository.
func event(ctx context.Context, kind record.EventKind, in record.Repository) record.Event {
	c := callerOf(ctx)
	return record.Event{Kind: kind, Account: c.Account, AccountID: c.AccountID, Address: c.Address, Request: c.Request, Token: c.Token}.In(in)
}

// newID returns a random name for an upload or a staged file.
func newID() string {
	var b [16]byte
	rand.Read(b[:])
	return hex.EncodeToString(b[:])
}

// repository returns a repository by name, or CodeNameUnknown.
func (r *Registry) repository(ctx context.Context, name oci.Name) (record.Repository, error) {
	found, err := r.find(ctx, name)
	if errors.Is(err, record.ErrNotFound) {
		return found, oci.Errorf(oci.CodeNameUnknown, "there is no repository %s here", name)
	}
	return found, err
}
