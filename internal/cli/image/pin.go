package image

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/aymanbagabas/go-udiff"
	"github.com/spf13/pflag"

	"warthesis/internal/cli/site"
	"warthesis/internal/cli/term"
	"warthesis/internal/given"
	"warthesis/internal/oci"
	"warthesis/internal/peer"
	"warthesis/internal/pin"
)

// States of a reference in a file.
const (
	isPinned   = "pinned"
	isUnpinned = "unpinned"
	isStale    = "stale"
	isSkipped  = "skipped"
	isFailed   = "failed"
)

// pinned is a reference in a file, and what is to be done with it.
type pinned struct {
	File      string `json:"file"`
	Line      int    `json:"line"`
	Reference string `json:"reference"`
	State     string `json:"state"`
	// Pinned is what is written instead.
	Pinned string `json:"pinned,omitempty"`
	// WasMade and Made are when the image says it was built that the pin had, and has.
	WasMade *time.Time `json:"was_made,omitempty"`
	Made    *time.Time `json:"made,omitempty"`
	// Newer are newer versions there, where they were asked for.
	Newer []string `json:"newer,omitempty"`
	Notes []string `json:"notes,omitempty"`

	found pin.Found
}

func pinCommand() site.Command {
	var p pinning
	return site.Command{
		Name: "pin", Group: term.GroupLook, Short: "Write digests into the references that files hold",
		Long: "Finds references to images in build files, compose files and cluster manifests, asks the registries what their tags point to, and shows what it\n" +
			"would write: name:tag@digest. Everything else in a file stays as it is, byte for byte. Of a folder it reads all such files below it. Pins whose\n" +
			"tag has moved are refreshed. With --check it only tells, and ends with 5 where something is unpinned or stale.",
		Example: "  warthesis pin build/\n  warthesis pin --write compose.yaml\n  warthesis pin --check --newer deploy/",
		On:      site.OnAny, Args: []site.Arg{{Name: "FILE|FOLDER", File: true, Many: true}}, Facts: []pinned{}, Checks: true,
		Flags: func(f *pflag.FlagSet) {
			f.BoolVar(&p.write, "write", false, "write the files, and not only show what would be written")
			f.BoolVar(&p.check, "check", false, "write and show nothing, but tell what is unpinned or stale, with exit code 5")
			f.BoolVar(&p.newer, "newer", false, "also tell which newer versions there are")
			f.StringVar(&p.bare, "bare", "", "the registry that names without one mean; without it they are skipped")
		},
		Run: p.run,
	}
}

// pinning is one call of the command.
type pinning struct {
	write, check, newer bool
	bare                string

	c     *site.Call
	peers map[string]*peer.Client
	files map[string][]byte
	all   []pinned
	// unread are files that could not be read as what they are.
	unread bool
}

func (p *pinning) run(ctx context.Context, c *site.Call) error {
	if p.write && p.check {
		return term.Usage("--write and --check say the opposite of each other; leave one out")
	}
	if p.bare != "" {
		if _, err := oci.ParseRegistry(p.bare); err != nil {
			return term.Usage("--bare: %w", err)
		}
	}
	p.c, p.peers, p.files = c, map[string]*peer.Client{}, map[string][]byte{}
	files, err := site.ReferenceFiles(c.Args)
	if err != nil {
		return err
	}
	for _, file := range files {
		if err := p.read(file); err != nil {
			return err
		}
	}
	if err := p.resolve(ctx); err != nil {
		return err
	}
	if p.write {
		if err := p.writeAll(); err != nil {
			return err
		}
	}
	if err := c.Tell(append([]pinned{}, p.all...), p.draw); err != nil {
		return err
	}
	return p.end()
}

// end says how it ends.
func (p *pinning) end() error {
	count := map[string]int{}
	for _, one := range p.all {
		count[one.State]++
	}
	switch {
	case count[isFailed] > 0:
		return fmt.Errorf("%s could not be looked up", term.Count(count[isFailed], "reference", "references"))
	case p.unread:
		return errors.New("not all files could be read")
	case p.check && count[isUnpinned]+count[isStale] > 0:
		return term.NotRight("%s: %d not pinned, %d stale", term.Count(count[isUnpinned]+count[isStale], "reference is not as it should be", "references are not as they should be"), count[isUnpinned], count[isStale])
	}
	return nil
}

func (p *pinning) read(file site.ReferenceFile) error {
	raw, err := given.Read(file.Path, pin.MostBytes)
	var places []pin.Found
	if err == nil {
		places, err = pin.Find(filepath.ToSlash(file.Path), raw)
	}
	if err != nil {
		if file.Named {
			p.unread = true
		}
		p.c.T.Warn("%s is left out: %s", file.Path, term.OneLine(err.Error()))
		return nil
	}
	p.files[file.Path] = raw
	for _, f := range places {
		one := pinned{File: file.Path, Line: f.Line, Reference: f.Text, found: f}
		switch {
		case f.Skip != "":
			one.State, one.Notes = isSkipped, []string{f.Skip}
		case f.Bare && p.bare == "":
			one.State, one.Notes = isSkipped, []string{"it names no registry; which one is meant is told with --bare"}
		case f.Bare:
			one.found.Ref.Registry = p.bare
		}
		p.all = append(p.all, one)
	}
	return nil
}

// changed returns a file as it was and as it is to be.
func (p *pinning) changed(file string) (was, is []byte) {
	var changes []pin.Change
	for _, one := range p.all {
		if one.File == file && one.Pinned != "" {
			changes = append(changes, pin.Change{Found: one.found, To: one.Pinned})
		}
	}
	was = p.files[file]
	return was, pin.Write(was, changes)
}

// changedFiles lists the files that are to be written.
func (p *pinning) changedFiles() []string {
	var files []string
	for _, one := range p.all {
		if one.Pinned != "" && !slices.Contains(files, one.File) {
			files = append(files, one.File)
		}
	}
	return files
}

func (p *pinning) writeAll() error {
	for _, file := range p.changedFiles() {
		was, is := p.changed(file)
		if err := replaceFile(file, was, is); err != nil {
			return fmt.Errorf("write %s: %w", file, err)
		}
	}
	return nil
}

// replaceFile gives a file other content, which is there whole or not at all; one that was
// changed since it was read stays.
func replaceFile(file string, was, is []byte) error {
	file, err := filepath.EvalSymlinks(file)
	if err != nil {
		return err
	}
	now, err := given.Read(file, pin.MostBytes)
	if err != nil {
		return err
	}
	if !bytes.Equal(now, was) {
		return errors.New("it was changed by somebody else meanwhile; it stays as it is, run this again")
	}
	info, err := os.Stat(file)
	if err != nil {
		return err
	}
	f, err := os.CreateTemp(filepath.Dir(file), ".pin-*")
	if err != nil {
		return err
	}
	_, err = f.Write(is)
	err = errors.Join(err, f.Chmod(info.Mode().Perm()), f.Sync(), f.Close())
	if err == nil {
		err = os.Rename(f.Name(), file)
	}
	if err != nil {
		return errors.Join(err, os.Remove(f.Name()))
	}
	return nil
}

func (p *pinning) draw() {
	if len(p.all) == 0 {
		p.c.T.Say("No reference to an image was found")
		return
	}
	if !p.check && !p.write {
		for _, file := range p.changedFiles() {
			was, is := p.changed(file)
			p.drawDiff(file, was, is)
		}
	}
	count := map[string]int{}
	for _, one := range p.all {
		count[one.State]++
		if said := one.say(p); said != "" {
			p.c.T.Say("%s:%d: %s", one.File, one.Line, said)
		}
	}
	verb := "would be"
	if p.write {
		verb = "were"
	}
	said := fmt.Sprintf("%s: %d pinned", term.Count(len(p.all), "reference", "references"), count[isPinned])
	for _, part := range []struct{ state, words string }{{isUnpinned, verb + " pinned"}, {isStale, verb + " refreshed"}, {isSkipped, "skipped"}, {isFailed, "failed"}} {
		words := part.words
		if p.check && (part.state == isUnpinned || part.state == isStale) {
			words = part.state
		}
		if n := count[part.state]; n > 0 {
			said += fmt.Sprintf(", %d %s", n, words)
		}
	}
	p.c.T.Say("%s", said)
	if !p.write && !p.check && len(p.changedFiles()) > 0 {
		p.c.T.Hint("Nothing was written; --write writes")
	}
}

// drawDiff shows what a file would have otherwise: to a program exactly, to people without
// the marks of line ends.
func (p *pinning) drawDiff(file string, was, is []byte) {
	diff := udiff.Unified(file, file, string(was), string(is))
	if p.c.T.IsWatched() {
		p.c.T.Say("%s", strings.TrimRight(strings.ReplaceAll(diff, "\r\n", "\n"), "\n"))
		return
	}
	// A failed write is remembered by the terminal.
	_, _ = p.c.T.Exactly().Write([]byte(diff))
}

// say says what there is to say of a reference, "" for nothing.
func (one pinned) say(p *pinning) string {
	var parts []string
	switch one.State {
	case isStale:
		_, to, _ := strings.Cut(one.Pinned, "@")
		parts = append(parts, fmt.Sprintf("%s moved from %s (%s) to %s (%s)", tagged(one.found.Ref), term.Short(one.found.Ref.Digest), ageOf(one.WasMade), term.Short(oci.Digest(to)), ageOf(one.Made)))
	case isUnpinned:
		if p.check {
			parts = append(parts, one.Reference+" is not pinned")
		}
	case isSkipped, isFailed:
		parts = append(parts, one.Reference+" "+one.State)
	}
	parts = append(parts, one.Notes...)
	if len(one.Newer) > 0 {
		parts = append(parts, fmt.Sprintf("newer than %s: %s", tagged(one.found.Ref).Tag, strings.Join(one.Newer, ", ")))
	}
	if len(parts) == len(one.Notes) && len(parts) > 0 || one.State == isPinned && len(parts) > 0 {
		parts = append([]string{one.Reference}, parts...)
	}
	return strings.Join(parts, "; ")
}

func ageOf(t *time.Time) string {
	if t == nil {
		return "age unknown"
	}
	return "built " + term.When(t)
}
