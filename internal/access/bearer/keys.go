package bearer

import (
	"crypto/ed25519"
	"crypto/rand"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"sort"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/golang-jwt/jwt/v5"

	"warthesis/internal/clock"
)

// Keyring holds the keys that sign bearer tokens, the newest signing.
type Keyring struct {
	folder string
	clock  clock.Clock

	mu   sync.RWMutex
	keys []signingKey
}

type signingKey struct {
	id      string
	created time.Time
	private ed25519.PrivateKey
}

const (
	// keyAge is the age at which a new key signs in place of the newest.
	KeyAge = 30 * 24 * time.Hour
	// KeyRest is how long a key that signs no more is kept: longer than any token.
	KeyRest = 24 * time.Hour
	keyName = "bearer-"
	keyEnd  = ".pem"
)

// OpenKeyring reads the keys of a folder, which it makes where it is missing.
func OpenKeyring(folder string, clk clock.Clock) (*Keyring, error) {
	k := &Keyring{folder: folder, clock: clk}
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return nil, fmt.Errorf("prepare the folder of keys: %w", err)
	}
	files, err := filepath.Glob(filepath.Join(folder, keyName+"*"+keyEnd))
	if err != nil {
		return nil, err
	}
	for _, file := range files {
		key, err := readKey(file)
		if err != nil {
			return nil, fmt.Errorf("read the key %s: %w; put the right file back, or remove it and everybody logs in anew", file, err)
		}
		k.keys = append(k.keys, key)
	}
	sort.Slice(k.keys, func(i, j int) bool { return k.keys[i].created.Before(k.keys[j].created) })
	return k, k.Rotate(KeyAge)
}

func readKey(file string) (signingKey, error) {
	raw, err := os.ReadFile(file)
	if err != nil {
		return signingKey{}, err
	}
	block, _ := pem.Decode(raw)
	if block == nil {
		return signingKey{}, errors.New("it is no PEM file")
	}
	parsed, err := x509.ParsePKCS8PrivateKey(block.Bytes)
	if err != nil {
		return signingKey{}, err
	}
	private, ok := parsed.(ed25519.PrivateKey)
	if !ok {
		return signingKey{}, errors.New("it is no Ed25519 key")
	}
	id := strings.TrimSuffix(strings.TrimPrefix(filepath.Base(file), keyName), keyEnd)
	created, err := strconv.ParseInt(id, 10, 64)
	return signingKey{id, time.UnixMilli(created), private}, err
}

// Rotate makes a key where the newest is older than age, and lets go of those that
// have rested.
func (k *Keyring) Rotate(age time.Duration) error {
	k.mu.Lock()
	defer k.mu.Unlock()
	now := k.clock.Now()
	if len(k.keys) == 0 || now.Sub(k.keys[len(k.keys)-1].created) >= age {
		key, err := k.make(now)
		if err != nil {
			return fmt.Errorf("make a key: %w", err)
		}
		k.keys = append(k.keys, key)
	}
	for len(k.keys) > 1 && now.Sub(k.keys[1].created) > KeyRest {
		if err := os.Remove(k.file(k.keys[0].id)); err != nil {
			return err
		}
		k.keys = k.keys[1:]
	}
	return nil
}

func (k *Keyring) file(id string) string { return filepath.Join(k.folder, keyName+id+keyEnd) }

func (k *Keyring) make(now time.Time) (signingKey, error) {
	_, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return signingKey{}, err
	}
	raw, err := x509.MarshalPKCS8PrivateKey(private)
	if err != nil {
		return signingKey{}, err
	}
	id := strconv.FormatInt(now.UnixMilli(), 10)
	return signingKey{id, now, private}, writeKey(k.file(id), pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: raw}))
}

// writeKey writes a file whole or not at all, for the owner's eyes alone.
func writeKey(file string, raw []byte) error {
	f, err := os.OpenFile(file+".new", os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	_, err = f.Write(raw)
	if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
		return err
	}
	return os.Rename(file+".new", file)
}

// Sign returns a token that says the claims.
func (k *Keyring) Sign(claims BearerClaims) (string, error) {
	k.mu.RLock()
	defer k.mu.RUnlock()
	key := k.keys[len(k.keys)-1]
	t := jwt.NewWithClaims(jwt.SigningMethodEdDSA, claims)
	t.Header["kid"] = key.id
	return t.SignedString(key.private)
}

// Find returns the key that a token says it was signed by.
func (k *Keyring) Find(t *jwt.Token) (any, error) {
	id, _ := t.Header["kid"].(string)
	k.mu.RLock()
	defer k.mu.RUnlock()
	for _, key := range k.keys {
		if key.id == id {
			return key.private.Public(), nil
		}
	}
	return nil, ErrBearer
}
