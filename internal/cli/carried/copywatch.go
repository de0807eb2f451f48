package carried

import (
	"fmt"
	"sync"
	"time"

	"warthesis/internal/cli/site"
	"warthesis/internal/cli/term"
	"warthesis/internal/flow/carry"
)

// copyWatch shows how a copy fares: a line that is drawn again and again where somebody
// watches, a line for each image elsewhere, nothing beside JSON.
type copyWatch struct {
	c       *site.Call
	journal *carry.Journal
	line    *term.Line

	mu sync.Mutex
	// doing is what goes on, of how many references and bytes.
	doing        string
	of, done     int
	bytes, moved int64
	began        time.Time
	// took is how long bytes moved for, in all.
	took    time.Duration
	shown   time.Time
	watched bool
}

func newCopyWatch(c *site.Call, journal *carry.Journal) *copyWatch {
	return &copyWatch{c: c, journal: journal, line: c.T.Line(c.JSON()), watched: c.T.IsWatched()}
}

func (w *copyWatch) begin(doing string, of int, bytes int64) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.doing, w.of, w.done, w.bytes, w.began = doing, of, 0, bytes, time.Now()
}

func (w *copyWatch) end() {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.bytes > 0 {
		w.took += time.Since(w.began)
	}
	w.line.End()
}

// rate is how many bytes a second went.
func (w *copyWatch) rate() int64 {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.took < 100*time.Millisecond || w.moved == 0 {
		return 0
	}
	return int64(float64(w.moved) / w.took.Seconds())
}

// stands is how many images have come through, how many bytes went, and how many a second.
func (w *copyWatch) stands() (done, moved, rate int64) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if took := w.took + time.Since(w.began); w.moved > 0 && took > 0 {
		rate = int64(float64(w.moved) / took.Seconds())
	}
	return int64(w.done), w.moved, rate
}

// Looked is told of references that were looked at.
func (w *copyWatch) Looked(n int) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.done += n
	w.show()
}

// Moved is told of bytes that went.
func (w *copyWatch) Moved(bytes int64) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.moved += bytes
	w.show()
}

// Passed is told of bytes that need not go.
func (w *copyWatch) Passed(int64) {}

// Ended is told of an image that came through, or failed.
func (w *copyWatch) Ended(i *carry.Image) {
	if w.journal != nil {
		w.journal.Ended(i)
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	if i.State != carry.There && i.State != carry.Missing {
		w.done++
	}
	w.show()
	if w.c.JSON() || w.watched || i.State == carry.There || i.State == carry.Missing {
		return
	}
	said := fmt.Sprintf("%s %s", i.State, i.Target())
	if i.Err != nil {
		said += ": " + term.OneLine(i.Err.Error())
	}
	w.c.T.Say("%s", said)
}

// show draws the line, now and then. The mutex is held.
func (w *copyWatch) show() {
	const often = 100 * time.Millisecond
	if now := time.Now(); now.Sub(w.shown) < often {
		return
	} else {
		w.shown = now
	}
	if w.bytes == 0 {
		w.line.Show("%s: %d of %d", w.doing, w.done, w.of)
		return
	}
	left := ""
	if took := time.Since(w.began); took > time.Second && w.moved > 0 {
		speed := float64(w.moved) / took.Seconds()
		left = fmt.Sprintf(", %s/s, about %s left", term.Size(int64(speed)), span(time.Duration(float64(max(0, w.bytes-w.moved))/speed*float64(time.Second))))
	}
	w.line.Show("%s: %d of %d images, %s of %s%s", w.doing, w.done, w.of, term.Size(w.moved), term.Size(w.bytes), left)
}

// span says how long something is, in its two largest units.
func span(d time.Duration) string {
	switch {
	case d < time.Minute:
		return fmt.Sprintf("%d s", max(1, int(d.Seconds())))
	case d < time.Hour:
		return fmt.Sprintf("%d min", int(d.Minutes()+0.5))
	}
	return fmt.Sprintf("%d h %02d min", int(d.Hours()), int(d.Minutes())%60)
}
