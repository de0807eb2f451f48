package access

import (
	"context"
	"crypto/rand"
	"errors"
	"hash/maphash"
	"sync"
	"sync/atomic"

	"github.com/hashicorp/golang-lru/v2"
	"golang.org/x/sync/singleflight"

	"warthesis/internal/access/bearer"
	"warthesis/internal/access/issuers"
	"warthesis/internal/access/ledger"
	"warthesis/internal/access/passwords"
	"warthesis/internal/clock"
	"warthesis/internal/record"
	"warthesis/internal/record/sized"
)

// Access decides about one registry. It is safe for concurrent use.
type Access struct {
	records *record.Store
	clock   clock.Clock
	keys    *bearer.Keyring
	// verified remembers passwords that were right, by a hash under a key of this
	// process, and bearer remembers tokens whose signature was checked.
	verified   *lru.Cache[[32]byte, verifiedPassword]
	bearer     *sized.Cache[uint64, *checkedBearer]
	bearerSeed maphash.Seed
	macKey     [32]byte
	slow       *passwords.Slowdown
	hashers    *passwords.Hashers
	trying     singleflight.Group
	ledger     *ledger.Ledger
	issuers    *issuers.Issuers
	// outgoing returns a context by which issuers are asked.
	outgoing func(context.Context) context.Context
	// companyIssuer is that of the company's login, "" for none.
	companyIssuer atomic.Pointer[string]

	stop  chan struct{}
	ended sync.WaitGroup
}

// cachedCredentials bounds the caches of credentials, in entries.
const cachedCredentials = 8192

// cachedBearerBytes bounds the cache of tokens in bytes, of which each takes about
// checkedBearerBytes and four times its text.
const (
	cachedBearerBytes  = 32 << 20
	checkedBearerBytes = 300
)

// Open returns the access to a registry. folder holds the keys by which tokens are
// signed; they are made where they are missing. outgoing returns a context by which
// the issuers of identities are asked (oauth2.HTTPClient).
func Open(records *record.Store, clk clock.Clock, folder string, outgoing func(context.Context) context.Context) (*Access, error) {
	keys, err := bearer.OpenKeyring(folder, clk)
	if err != nil {
		return nil, err
	}
	verified, err1 := lru.New[[32]byte, verifiedPassword](cachedCredentials)
	bearer := sized.New(cachedBearerBytes, cachedCredentials, func(_ uint64, b *checkedBearer) int { return checkedBearerBytes + 4*len(b.text) })
	slow, err3 := passwords.NewSlowdown(clk)
	stop := make(chan struct{})
	hashers, err4 := passwords.NewHashers(clk, stop)
	if err := errors.Join(err1, err3, err4); err != nil {
		return nil, err
	}
	a := &Access{
		records: records, clock: clk, keys: keys, verified: verified, bearer: bearer, bearerSeed: maphash.MakeSeed(), slow: slow,
		hashers: hashers, ledger: ledger.New(clk), issuers: issuers.New(outgoing), stop: stop, outgoing: outgoing,
	}
	rand.Read(a.macKey[:])
	return a, nil
}

// Close writes what was gathered and ends background work.
func (a *Access) Close() error {
	close(a.stop)
	return a.flush(true)
}

// Flush writes the refusals and uses that are due.
func (a *Access) Flush() error { return a.flush(false) }

// RotateOldKeys lets new tokens be signed by a new key where the last one is old.
func (a *Access) RotateOldKeys() error { return a.keys.Rotate(bearer.KeyAge) }

// RotateKeys lets new tokens be signed by a new key. Those signed by the old one
// stay good until they end.
func (a *Access) RotateKeys(ctx context.Context, c Caller) error {
	if err := a.Admin(c, "rotate the keys"); err != nil {
		return err
	}
	if err := a.keys.Rotate(0); err != nil {
		return err
	}
	return a.Change(ctx, c, c.Event(record.EventKeysRotated), func(*record.Tx) error { return nil })
}

// DropEnded forgets sessions and logins that have ended, a few at a time so that others
// get through: breathe is called between two changes.
func (a *Access) DropEnded(breathe func() error) error {
	for more := true; more; {
		err := a.records.Update(context.Background(), "drop-ended", func(tx *record.Tx) (err error) {
			more, err = tx.DropEnded(tx.Now())
			return err
		})
		if err := errors.Join(err, breathe()); err != nil {
			return err
		}
	}
	return nil
}
