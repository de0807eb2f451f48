// Package secret keeps secrets that are to be used later: encrypted under a key of this
// registry, so that who reads the records, or a copy of them, has none of them.
package secret

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/rand"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
)

// keyLength is the length of a key in bytes: AES-256.
const keyLength = 32

// ErrUnreadable: what was kept cannot be read with this key.
var ErrUnreadable = errors.New("the secret cannot be read: the registry's key was replaced since it was kept, or the records were changed; give it anew")

// Box encrypts secrets, each bound to what it is of. It is safe for concurrent use.
type Box struct{ aead cipher.AEAD }

// Open reads the key in a file, which it makes where there is none, for this user alone.
func Open(file string) (*Box, error) {
	key, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		key, err = makeKey(file)
	}
	if err != nil {
		return nil, fmt.Errorf("read the key of kept secrets: %w", err)
	}
	if len(key) != keyLength {
		return nil, fmt.Errorf("%s has %d bytes and is no key of %d: put the right one back, or move it away; what was kept under it has to be given anew then", file, len(key), keyLength)
	}
	block, err := aes.NewCipher(key)
	if err != nil {
		return nil, err
	}
	aead, err := cipher.NewGCM(block)
	return &Box{aead}, err
}

// makeKey makes a key that is there whole or not at all.
func makeKey(file string) ([]byte, error) {
	key := make([]byte, keyLength)
	rand.Read(key)
	made, err := os.CreateTemp(filepath.Dir(file), filepath.Base(file)+".*")
	if err != nil {
		return nil, err
	}
	defer os.Remove(made.Name())
	if _, err = made.Write(key); err == nil {
		err = made.Sync()
	}
	if err = errors.Join(err, made.Close()); err != nil {
		return nil, err
	}
	if err := os.Rename(made.Name(), file); err != nil {
		return nil, err
	}
	folder, err := os.Open(filepath.Dir(file))
	if err != nil {
		return nil, err
	}
	defer folder.Close()
	return key, folder.Sync()
}

// Keep encrypts a secret; of says what it is of, and has to be said again to read it. An
// empty secret is kept as nothing.
func (b *Box) Keep(secret []byte, of string) []byte {
	if len(secret) == 0 {
		return nil
	}
	nonce := make([]byte, b.aead.NonceSize())
	rand.Read(nonce)
	return b.aead.Seal(nonce, nonce, secret, []byte(of))
}

// Read returns a secret that was kept. It fails with ErrUnreadable.
func (b *Box) Read(kept []byte, of string) ([]byte, error) {
	if len(kept) == 0 {
		return nil, nil
	}
	size := b.aead.NonceSize()
	if len(kept) < size {
		return nil, ErrUnreadable
	}
	secret, err := b.aead.Open(nil, kept[:size], kept[size:], []byte(of))
	if err != nil {
		return nil, ErrUnreadable
	}
	return secret, nil
}
