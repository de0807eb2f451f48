package serve

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"syscall"
	"time"

	"warthesis/internal/access"
	"warthesis/internal/access/passwords"
	"warthesis/internal/blob"
	"warthesis/internal/config"
)

// A letter is how somebody on the service's machine lets an admin in while the
// service runs: a file in the folder of keys, which nobody else can write to. The
// service does what it says, and answers with a file beside it.
const (
	letterName = "let-in.json"
	answerName = "let-in-answer.json"
	// letterEvery is how often the service looks for one.
	letterEvery = time.Second
	// letterPatience is how long an answer is waited for.
	letterPatience = 15 * time.Second
)

type letter struct {
	// ID tells an answer from one to another letter.
	ID      string `json:"id"`
	Account string `json:"account,omitempty"`
	Hash    string `json:"hash,omitempty"`
	Refused string `json:"refused,omitempty"`
}

// LetIn gives a registry admin a password, whether a service runs on the data folder
// or not, and reports whether one does. Whoever may write to the folder may.
func LetIn(ctx context.Context, c config.Config, account, password string) (running bool, err error) {
	if err := passwords.CheckPassword(account, password); err != nil {
		return false, err
	}
	if _, err := os.Stat(filepath.Join(c.Data, "warthesis.db")); err != nil {
		return false, fmt.Errorf("%s is no data folder of a registry: %w; name it by --data, or by the file of settings", c.Data, err)
	}
	hash := passwords.NewHash(password)
	home, err := OpenHome(c, RunningClock)
	if errors.Is(err, blob.ErrLocked) {
		return true, sendLetter(ctx, filepath.Join(c.Data, keysFolder), letter{ID: access.MadeUpPassword(), Account: account, Hash: hash})
	}
	if err != nil {
		return false, err
	}
	return false, errors.Join(home.Access.LetIn(ctx, account, hash), home.Close())
}

// sendLetter leaves a letter for the service, and waits for its answer.
func sendLetter(ctx context.Context, folder string, l letter) error {
	ctx, cancel := context.WithTimeout(ctx, letterPatience)
	defer cancel()
	at := filepath.Join(folder, letterName)
	if err := writeLetter(at, l); err != nil {
		return fmt.Errorf("leave word for the service: %w; do it as the user that the service runs as", err)
	}
	tick := time.NewTicker(100 * time.Millisecond)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return errors.Join(fmt.Errorf("the service on %s does not answer; stop it, and try again", filepath.Dir(folder)), os.Remove(at))
		case <-tick.C:
		}
		answer, err := readLetter(filepath.Join(folder, answerName))
		if err != nil || answer.ID != l.ID {
			continue
		}
		if answer.Refused != "" {
			return errors.New(answer.Refused)
		}
		return nil
	}
}

func writeLetter(at string, l letter) error {
	raw, err := json.Marshal(l)
	if err != nil {
		return err
	}
	next := at + ".new"
	if err := os.WriteFile(next, raw, 0o600); err != nil {
		return err
	}
	// What root leaves must be readable for the user that the service runs as.
	if folder, err := os.Stat(filepath.Dir(at)); err == nil && os.Geteuid() == 0 {
		if owner, ok := folder.Sys().(*syscall.Stat_t); ok {
			if err := os.Chown(next, int(owner.Uid), int(owner.Gid)); err != nil {
				return err
			}
		}
	}
	return os.Rename(next, at)
}

// mostLetter is the longest letter in bytes.
const mostLetter = 4 << 10

func readLetter(at string) (l letter, err error) {
	info, err := os.Lstat(at)
	if err != nil {
		return l, err
	}
	if !info.Mode().IsRegular() || info.Size() > mostLetter {
		return l, fmt.Errorf("%s is no file that was left for the service", at)
	}
	raw, err := os.ReadFile(at)
	if err != nil {
		return l, err
	}
	return l, json.Unmarshal(raw, &l)
}

// waitForLetters looks for letters until it is told to stop.
func (s *service) waitForLetters() (stop func()) {
	ended, stopped := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(stopped)
		tick := time.NewTicker(letterEvery)
		defer tick.Stop()
		for {
			select {
			case <-tick.C:
				s.openLetter()
			case <-ended:
				return
			}
		}
	}()
	return func() {
		close(ended)
		<-stopped
	}
}

// openLetter does what a letter says, where there is one, and answers it.
func (s *service) openLetter() {
	folder := filepath.Join(s.config.Data, keysFolder)
	at := filepath.Join(folder, letterName)
	l, err := readLetter(at)
	if errors.Is(err, fs.ErrNotExist) {
		return
	}
	if err == nil {
		err = s.home.Access.LetIn(context.Background(), l.Account, l.Hash)
	}
	answer := letter{ID: l.ID}
	if err != nil {
		answer.Refused = err.Error()
		slog.Error("what was left for the service cannot be done", "file", at, "error", err)
	} else {
		slog.Warn("a registry admin was given a password from this machine", "account", l.Account)
	}
	// Gone first: done twice it would end the logins that came since.
	if err := errors.Join(os.Remove(at), writeLetter(filepath.Join(folder, answerName), answer)); err != nil {
		slog.Error("what was left for the service cannot be answered", "file", at, "error", err)
	}
}
