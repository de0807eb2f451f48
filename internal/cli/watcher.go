package cli

import (
	"fmt"
	"io"
	"sync"

	"github.com/vbauerster/mpb/v8"
	"github.com/vbauerster/mpb/v8/decor"

	"warthesis/internal/oci"
	"warthesis/internal/peer"
)

// watcher shows how a transfer fares: bars where a person watches, one line for
// each finished part elsewhere, nothing beside JSON.
type watcher struct {
	lines io.Writer
	bars  *mpb.Progress

	mu      sync.Mutex
	parts   map[oci.Digest]*watched
	moved   tally
	skipped tally
}

type watched struct {
	what string
	bar  *mpb.Bar
	end  string
}

type tally struct {
	count int
	bytes int64
}

func newWatcher(t terminal, output string) *watcher {
	w := &watcher{lines: t.err, parts: map[oci.Digest]*watched{}}
	switch {
	case output == outputJSON:
		w.lines = io.Discard
	case isTerminal(t.err):
		w.lines = io.Discard
		w.bars = mpb.New(mpb.WithOutput(unwrap(t.err)), mpb.WithWidth(40))
	}
	return w
}

func isBlob(what string) bool { return what != "manifest" && what != "index" }

// Begin shows a new part.
func (w *watcher) Begin(what string, d oci.Descriptor) {
	w.mu.Lock()
	defer w.mu.Unlock()
	p := &watched{what: what}
	w.parts[d.Digest] = p
	if w.bars == nil || !isBlob(what) {
		return
	}
	p.bar = w.bars.New(d.Size, mpb.BarStyle().Lbound(" ").Filler("━").Tip("━").Padding("─").Rbound(" "),
		mpb.PrependDecorators(decor.Name(fmt.Sprintf("%-9s%s", what, short(d.Digest)))),
		mpb.AppendDecorators(
			decor.Any(func(decor.Statistics) string { return fmt.Sprintf("%9s  ", size(d.Size)) }),
			decor.Any(func(decor.Statistics) string { return w.outcome(p) }),
		),
	)
}

func (w *watcher) outcome(p *watched) string {
	w.mu.Lock()
	defer w.mu.Unlock()
	return p.end
}

// Move lets the part's bar grow.
func (w *watcher) Move(d oci.Descriptor, bytes int64) {
	if bar := w.bar(d); bar != nil {
		bar.IncrInt64(bytes)
	}
}

func (w *watcher) bar(d oci.Descriptor) *mpb.Bar {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.parts[d.Digest].bar
}

// End shows how the part ended.
func (w *watcher) End(d oci.Descriptor, outcome peer.Outcome) {
	w.mu.Lock()
	p := w.parts[d.Digest]
	p.end = string(outcome)
	if isBlob(p.what) {
		count := &w.moved
		if outcome == peer.AlreadyThere || outcome == peer.Mounted {
			count = &w.skipped
		}
		count.count++
		count.bytes += d.Size
	}
	fmt.Fprintf(w.lines, "%-9s%s  %9s  %s\n", p.what, short(d.Digest), size(d.Size), outcome)
	w.mu.Unlock()
	if p.bar == nil {
		return
	}
	// A bar ends when it is full; one of nothing never fills, and is told.
	p.bar.SetCurrent(d.Size)
	p.bar.SetTotal(-1, true)
}

// stop ends the drawing; bars of parts that did not end stay as they are.
func (w *watcher) stop() {
	if w.bars == nil {
		return
	}
	for _, bar := range w.unfinished() {
		bar.Abort(false)
	}
	w.bars.Wait()
}

func (w *watcher) unfinished() []*mpb.Bar {
	w.mu.Lock()
	defer w.mu.Unlock()
	var bars []*mpb.Bar
	for _, p := range w.parts {
		if p.bar != nil && p.end == "" {
			bars = append(bars, p.bar)
		}
	}
	return bars
}
