package sweep

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strconv"
	"time"

	"github.com/dustin/go-humanize"
	"golang.org/x/time/rate"

	"warthesis/internal/oci"
	"warthesis/internal/record"
	"warthesis/internal/record/hurts"
	"warthesis/internal/record/unheld"
	"warthesis/internal/work"
)

const (
	// scrubs is how many scrubs read all files once.
	scrubs = 28
	// readAtLeast is how fast a scrub may read at least, in bytes per second, where nobody
	// set a bound.
	readAtLeast = 32 << 20
	// notedAtOnce is how many files that were right one change notes, and notedEvery how
	// long it is put off at most.
	notedAtOnce = 200
	notedEvery  = time.Second
)

// ScrubReport is what came of a scrub.
type ScrubReport struct {
	Files int64 `json:"files"`
	Bytes int64 `json:"bytes"`
	// Missing, Short, Rotten and Unreadable are the damaged files that it found.
	Missing int64 `json:"missing"`
	Short   int64 `json:"short"`
	Rotten  int64 `json:"rotten"`
	// Unreadable are those that can't be read at all.
	Unreadable int64 `json:"unreadable"`
	// Records are the damages of the records that it found.
	Records []string `json:"records,omitempty"`
	// Digests are the first of them.
	Digests []oci.Digest `json:"digests"`
	Seconds float64      `json:"seconds"`
}

// mostHurtTold is how many hurt digests a report has.
const mostHurtTold = 100

// scrubbing is a scrub that goes.
type scrubbing struct {
	*Sweeper
	ctx    context.Context
	g      *work.Going
	pace   *rate.Limiter
	report ScrubReport
	right  []unheld.Right
	noted  time.Time
	began  time.Time
}

func (s *Sweeper) scrub(ctx context.Context, g *work.Going) error {
	o, err := readOptions(g.Options())
	if err != nil {
		return err
	}
	whole, err := s.records.View(ctx).Unheld().Bytes()
	if err != nil {
		return err
	}
	perSecond := s.settings.ScrubBytesPerSecond
	if perSecond == 0 {
		perSecond = max(readAtLeast, 2*int64(float64(whole.Bytes)/s.settings.ScrubWithin.Seconds()))
	}
	// A burst takes any one piece.
	c := &scrubbing{Sweeper: s, ctx: ctx, g: g, pace: rate.NewLimiter(rate.Limit(perSecond), max(int(min(perSecond, 1<<30)), 1<<20)), noted: time.Now(), began: time.Now()}
	if before := g.Facts(); before != "" {
		if err := json.Unmarshal([]byte(before), &c.report); err != nil {
			return err
		}
	}
	namespace, repository := g.PlaceID()
	if o.Digest == "" && namespace == 0 && repository == 0 {
		if err := c.checkRecords(o.All); err != nil {
			return err
		}
	}
	switch {
	case o.Digest != "":
		err = c.image(repository, oci.Digest(o.Digest))
	case namespace != 0 || repository != 0:
		err = c.place(namespace, repository)
	default:
		err = c.everything(o.All, whole.Bytes)
	}
	err = errors.Join(err, c.note())
	c.tell()
	return err
}

// checkRecords checks the records: all of them where everything is read or damage is known,
// and else the part of them that is due.
func (c *scrubbing) checkRecords(all bool) error {
	part := -1
	if !all && len(c.records.Damages()) == 0 {
		part = int(c.clock.Served()/(c.settings.ScrubWithin/scrubs)) % record.CheckParts
	}
	c.g.Step("checking the records", "bytes", 0)
	found, err := c.records.CheckIntegrity(c.ctx, part, func(bytes int) error {
		c.g.Did(int64(bytes))
		return errors.Join(wait(c.ctx, c.pace, int64(bytes)), c.g.Breathe())
	})
	c.report.Records = nil
	for _, d := range found[:min(len(found), mostHurtTold)] {
		c.report.Records = append(c.report.Records, d.String())
	}
	return err
}

func (c *scrubbing) image(repository int64, digest oci.Digest) error {
	files, err := c.records.View(c.ctx).Unheld().OfImage(repository, digest)
	if err != nil {
		return err
	}
	var bytes int64
	for _, f := range files {
		bytes += f.Size
	}
	c.g.Step("reading", "bytes", bytes)
	for _, f := range files {
		if err := c.read(f); err != nil {
			return err
		}
	}
	return nil
}

// readAtOnce is how many files are asked for at a time.
const readAtOnce = 500

func (c *scrubbing) place(namespace, repository int64) error {
	c.g.Step("reading", "bytes", 0)
	// A point that is not there is 0.
	at, _ := strconv.ParseInt(c.g.Point(), 10, 64)
	for {
		files, err := c.records.View(c.ctx).Unheld().InPlace(namespace, repository, at, readAtOnce)
		if err != nil || len(files) == 0 {
			return err
		}
		for _, f := range files {
			if err := c.read(f); err != nil {
				return err
			}
			at = f.ContentID
			if err := c.g.Keep(strconv.FormatInt(at, 10)); err != nil {
				return err
			}
		}
	}
}

// everything reads what was read least lately: all that was not read since the scrub
// began, or the part of it that is one scrub's.
func (c *scrubbing) everything(all bool, bytes int64) error {
	began, err := strconv.ParseInt(c.g.Point(), 10, 64)
	if err != nil {
		began = int64(c.clock.Served())
		if err := c.g.Keep(strconv.FormatInt(began, 10)); err != nil {
			return err
		}
	}
	share := bytes
	if !all {
		share = (bytes + scrubs - 1) / scrubs
	}
	// What comes due before the next scrub is read in any case.
	due := began - int64(c.settings.ScrubWithin) + 2*int64(c.settings.ScrubWithin)/scrubs
	comes, err := c.records.View(c.ctx).Unheld().DueBytes(due)
	if err != nil {
		return err
	}
	c.g.Step("reading", "bytes", max(share, comes))
	var at unheld.Reading
	at.ReadServed = -1
	for read := c.report.Bytes; ; {
		files, err := c.records.View(c.ctx).Unheld().ToRead(began, at, readAtOnce)
		if err != nil || len(files) == 0 {
			return err
		}
		for _, f := range files {
			if !all && read >= share && f.ReadServed >= due {
				return nil
			}
			if err := c.read(f); err != nil {
				return err
			}
			read += f.Size
			at = f
		}
	}
}

// read reads one file, as fast as it may.
func (c *scrubbing) read(f unheld.Reading) error {
	checked, err := c.registry.CheckContent(c.ctx, f, func(bytes int) error {
		c.g.Did(int64(bytes))
		return errors.Join(wait(c.ctx, c.pace, int64(bytes)), c.g.Breathe())
	})
	if err != nil {
		return err
	}
	c.report.Files, c.report.Bytes = c.report.Files+1, c.report.Bytes+checked.Bytes
	switch checked.What {
	case "":
		c.right = append(c.right, unheld.Right{ContentID: f.ContentID, Place: f.Place, ChangedAt: int64(record.StampOf(checked.ChangedAt))})
	case hurts.Missing:
		c.report.Missing++
	case hurts.Short:
		c.report.Short++
	case hurts.Rotten:
		c.report.Rotten++
	case hurts.Unreadable:
		c.report.Unreadable++
	}
	if checked.What != "" && len(c.report.Digests) < mostHurtTold {
		c.report.Digests = append(c.report.Digests, f.Digest)
	}
	if len(c.right) >= notedAtOnce || time.Since(c.noted) > notedEvery {
		return c.note()
	}
	return nil
}

// note records which files were right.
func (c *scrubbing) note() error {
	c.noted = time.Now()
	c.g.SetFacts(c.facts())
	if len(c.right) == 0 {
		return nil
	}
	right := c.right
	c.right = nil
	_, err := c.records.UpdateQuietly(context.WithoutCancel(c.ctx), "scrub", func(tx *record.Tx) error {
		return tx.Unheld().WereRead(right, int64(tx.Now()), tx.Served())
	})
	return err
}

func (c *scrubbing) facts() string {
	now := c.report
	now.Seconds += time.Since(c.began).Seconds()
	// Plain fields always marshal.
	raw, _ := json.Marshal(now)
	return string(raw)
}

func (c *scrubbing) tell() {
	c.g.SetFacts(c.facts())
	said := fmt.Sprintf("%s read, %s", count(c.report.Files, "file", "files"), humanize.IBytes(uint64(c.report.Bytes)))
	if n := len(c.report.Records); n > 0 {
		said += fmt.Sprintf("; the records are damaged (%s)", c.report.Records[0])
	}
	hurt := c.report.Missing + c.report.Short + c.report.Rotten + c.report.Unreadable
	if hurt == 0 {
		said += ", all as it should be"
		// What was found before has no file to read; a count that fails is left out.
		if before, err := c.records.View(context.WithoutCancel(c.ctx)).Hurts().Count(); err == nil && before > 0 {
			said += "; " + count(before, "file is hurt still", "files are hurt still")
		}
		c.g.Report(said)
		return
	}
	c.g.Report(fmt.Sprintf("%s; %s hurt: %d missing, %d of another size, %d with other bytes, %d unreadable", said, count(hurt, "file is", "files are"), c.report.Missing, c.report.Short, c.report.Rotten, c.report.Unreadable))
}
