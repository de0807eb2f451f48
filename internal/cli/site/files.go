package site

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"warthesis/internal/cli/term"
	"warthesis/internal/given"
	"warthesis/internal/pin"
)

// mostReferenceFiles bounds the files of one call.
const mostReferenceFiles = 20_000

// ReferenceFile is a file in which references may stand; Named tells that it was named itself.
type ReferenceFile struct {
	Path  string
	Named bool
}

// ReferenceFiles lists the files that are meant, each once: of a folder those that their names
// tell, hidden ones left out.
func ReferenceFiles(args []string) ([]ReferenceFile, error) {
	var files []ReferenceFile
	seen := map[string]bool{}
	add := func(path string, named bool) error {
		if path = filepath.Clean(path); !seen[path] {
			seen[path] = true
			files = append(files, ReferenceFile{path, named})
		}
		if len(files) > mostReferenceFiles {
			return term.Usage("there are more than %d files; name a smaller folder", mostReferenceFiles)
		}
		return nil
	}
	for _, arg := range args {
		info, err := os.Stat(arg)
		if errors.Is(err, fs.ErrNotExist) {
			return nil, term.Usage("there is no file or folder %s", arg)
		}
		if err != nil {
			return nil, err
		}
		if !info.IsDir() {
			if err := add(arg, true); err != nil {
				return nil, err
			}
			continue
		}
		err = filepath.WalkDir(arg, func(path string, entry fs.DirEntry, err error) error {
			switch name := entry.Name(); {
			case err != nil:
				return err
			case entry.IsDir() && path != arg && (strings.HasPrefix(name, ".") || name == "node_modules"):
				return fs.SkipDir
			case entry.Type().IsRegular() && !strings.HasPrefix(name, ".") && (pin.IsBuildFile(name) || pin.IsYAML(name)):
				return add(path, false)
			}
			return nil
		})
		if err != nil {
			return nil, err
		}
	}
	return files, nil
}

// StandardStream stands for standard input in place of a file.
const StandardStream = "-"

// ReadInput reads a file, or standard input, of limit bytes at most.
func ReadInput(name string, limit int64) ([]byte, error) {
	if name != StandardStream {
		raw, err := given.Read(name, limit)
		if errors.Is(err, fs.ErrNotExist) {
			return nil, term.Usage("there is no file %s", name)
		}
		return raw, err
	}
	if term.AsksSomebody() {
		return nil, term.Usage("%s reads standard input, and that is a terminal", StandardStream)
	}
	raw, err := io.ReadAll(io.LimitReader(os.Stdin, limit+1))
	if err == nil && int64(len(raw)) > limit {
		err = fmt.Errorf("what came on standard input is larger than %s", term.Size(limit))
	}
	return raw, err
}
