package company

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/rand"
	"encoding/base64"
	"encoding/json"
	"sync"
	"time"

	"github.com/hashicorp/golang-lru/v2"
)

// seal lets somebody keep for this process what only it can read and make: nothing
// has to be remembered of those who begin something and never end it.
type seal struct{ aead cipher.AEAD }

// newSeal returns a seal under a key of this process.
func newSeal() (*seal, error) {
	key := make([]byte, 32)
	rand.Read(key)
	block, err := aes.NewCipher(key)
	if err != nil {
		return nil, err
	}
	aead, err := cipher.NewGCM(block)
	return &seal{aead}, err
}

func (s *seal) close(v any) (string, error) {
	plain, err := json.Marshal(v)
	if err != nil {
		return "", err
	}
	nonce := make([]byte, s.aead.NonceSize())
	rand.Read(nonce)
	return base64.RawURLEncoding.EncodeToString(s.aead.Seal(nonce, nonce, plain, nil)), nil
}

// open reads what close has made, and reports whether it was that.
func (s *seal) open(sealed string, into any) bool {
	raw, err := base64.RawURLEncoding.DecodeString(sealed)
	if err != nil || len(raw) < s.aead.NonceSize() {
		return false
	}
	plain, err := s.aead.Open(nil, raw[:s.aead.NonceSize()], raw[s.aead.NonceSize():], nil)
	return err == nil && json.Unmarshal(plain, into) == nil
}

// asked remembers, of the last some thousand, what was asked for and when. It is safe
// for concurrent use.
type asked struct {
	mu   sync.Mutex
	last *lru.Cache[string, time.Time]
}

const mostAsked = 1 << 14

func newAsked() (*asked, error) {
	last, err := lru.New[string, time.Time](mostAsked)
	return &asked{last: last}, err
}

// after reports whether something was not asked for within the time, and notes that
// it is now.
func (a *asked) after(what string, within time.Duration) bool {
	a.mu.Lock()
	defer a.mu.Unlock()
	if last, ok := a.last.Get(what); ok && time.Since(last) < within {
		return false
	}
	a.last.Add(what, time.Now())
	return true
}

// once reports whether something was not asked for before.
func (a *asked) once(what string) bool { return a.after(what, loginPatience) }
