package term

import (
	"fmt"
	"io"
	"sync"

	"github.com/vbauerster/mpb/v8"
	"github.com/vbauerster/mpb/v8/decor"

	"warthesis/internal/oci"
	"warthesis/internal/peer"
)

// Watcher shows how a transfer fares: bars where a person watches, one line for
// each finished part elsewhere, nothing beside JSON.
type Watcher struct {
	lines io.Writer
	bars  *mpb.Progress

	mu      sync.Mutex
	parts   map[oci.Digest]*watched
	Moved   tally
	Skipped tally
}

type watched struct {
	what string
	bar  *mpb.Bar
	end  string
}

type tally struct {
	Count int
	Bytes int64
}

// NewWatcher returns a watcher that shows progress, unless the output is for scripts.
func NewWatcher(t Terminal, quiet bool) *Watcher {
	w := &Watcher{lines: t.Err, parts: map[oci.Digest]*watched{}}
	switch {
	case quiet:
		w.lines = io.Discard
	case t.draws():
		w.lines = io.Discard
		w.bars = mpb.New(mpb.WithOutput(Unwrap(t.Err)), mpb.WithWidth(40))
	}
	return w
}

func isBlob(what string) bool { return what != "manifest" && what != "index" }

// Begin shows a new part.
func (w *Watcher) Begin(what string, d oci.Descriptor) {
	w.mu.Lock()
	defer w.mu.Unlock()
	p := &watched{what: what}
	w.parts[d.Digest] = p
	if w.bars == nil || !isBlob(what) {
		return
	}
	p.bar = w.bars.New(d.Size, mpb.BarStyle().Lbound(" ").Filler("━").Tip("━").Padding("─").Rbound(" "),
		mpb.PrependDecorators(decor.Name(fmt.Sprintf("%-9s%s", what, Short(d.Digest)))),
		mpb.AppendDecorators(
			decor.Any(func(decor.Statistics) string { return fmt.Sprintf("%9s  ", Size(d.Size)) }),
			decor.Any(func(decor.Statistics) string { return w.outcome(p) }),
		),
	)
}

func (w *Watcher) outcome(p *watched) string {
	w.mu.Lock()
	defer w.mu.Unlock()
	return p.end
}

// Move lets the part's bar grow.
func (w *Watcher) Move(d oci.Descriptor, bytes int64) {
	if bar := w.bar(d); bar != nil {
		bar.IncrInt64(bytes)
	}
}

func (w *Watcher) bar(d oci.Descriptor) *mpb.Bar {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.parts[d.Digest].bar
}

// End shows how the part ended.
func (w *Watcher) End(d oci.Descriptor, outcome peer.Outcome) {
	w.mu.Lock()
	p := w.parts[d.Digest]
	p.end = string(outcome)
	if isBlob(p.what) {
		count := &w.Moved
		if outcome == peer.AlreadyThere || outcome == peer.Mounted {
			count = &w.Skipped
		}
		count.Count++
		count.Bytes += d.Size
	}
	fmt.Fprintf(w.lines, "%-9s%s  %9s  %s\n", p.what, Short(d.Digest), Size(d.Size), outcome)
	w.mu.Unlock()
	if p.bar == nil {
		return
	}
	// A bar ends when it is full; one of nothing never fills, and is told.
	p.bar.SetCurrent(d.Size)
	p.bar.SetTotal(-1, true)
}

// Stop ends the drawing; bars of parts that did not end stay as they are.
func (w *Watcher) Stop() {
	if w.bars == nil {
		return
	}
	for _, bar := range w.unfinished() {
		bar.Abort(false)
	}
	w.bars.Wait()
}

func (w *Watcher) unfinished() []*mpb.Bar {
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
