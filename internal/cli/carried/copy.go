package carried

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"regexp"
	"strings"
	"time"

	"github.com/spf13/pflag"

	"warthesis/internal/cli/site"
	"warthesis/internal/cli/term"
	"warthesis/internal/flow/carry"
	"warthesis/internal/flow/packing"
	"warthesis/internal/rule"
)

// copying is one call of copy, or of what is kept of one.
type copying struct {
	sets                         []string
	preview, without, anew, bare bool
	crowded                      bool
	rate, journal, report, keep  string
	atOnce                       int
	patience                     rule.Span
}

func (k *copying) flags(f *pflag.FlagSet) {
	setFlag(f, &k.sets)
	f.BoolVar(&k.preview, "preview", false, "only look, and move nothing")
	f.BoolVar(&k.without, "without-missing", false, "go on without what its source does not have")
	f.BoolVar(&k.crowded, "without-room", false, "go on though the destination says that it has no room for all of it")
	f.BoolVar(&k.bare, "no-referrers", false, "leave out what refers to the images, as signatures do")
	term.Number(f, &k.atOnce, "at-once", 6, 1, 64, "how many blobs travel at the same time")
	f.StringVar(&k.rate, "rate", "", "how much is copied in a second at most, as in 4MiB")
	term.Span(f, &k.patience, "patience", "how long a registry that does not answer is waited for; 2m where it is left out")
	f.StringVar(&k.journal, "journal", "", "the file by which a copy goes on that stopped; beside the list where it is left out")
	f.BoolVar(&k.anew, "anew", false, "begin anew where an earlier copy stopped: ask again what the tags point to")
	f.StringVar(&k.report, "report", "", "a file that the report is written to, as JSON")
}

func copyCommand() site.Command {
	var k copying
	return site.Command{
		Name: "copy", Group: term.GroupFlow, Short: "Copy what a packing list names to a registry", On: site.OnAny,
		Args: []site.Arg{listArg, {Name: "REGISTRY[/PREFIX]", Place: true}}, Facts: carry.Report{}, Checks: true,
		Long: "Looks first: whether each image is there, by which digest, how much of it is new at the destination, whether it fits, how long it takes. Then it copies,\n" +
			"each layer once, from other repositories there where they have it; and asks the destination for all of it again, by digest, with what refers to\n" +
			"it. What is missing at its source is named before anything moves, and nothing moves then without --without-missing. A copy that stopped, by\n" +
			"whatever, goes on with the same call, and with the digests that it began with. It ends with 1 where anything lacks.",
		Example: "  warthesis copy november.list tarn.larkspur.example\n  warthesis copy november.list localhost:7071/from-headquarters --preview\n" +
			"  warthesis copy november.list tarn.larkspur.example --set version=2.4.1 --rate 4MiB --keep release",
		Flags: func(f *pflag.FlagSet) {
			k.flags(f)
			f.StringVar(&k.keep, "keep", "", "keep this call under a name, to be run again:  copies run NAME")
		},
		Run: func(ctx context.Context, c *site.Call) error {
			if k.keep != "" {
				if err := keepCopy(c, k, c.Args[0], c.Args[1]); err != nil {
					return err
				}
			}
			return k.run(ctx, c, c.Args[0], c.Args[1])
		},
	}
}

// run copies a list to a destination.
func (k *copying) run(ctx context.Context, c *site.Call, listName, destination string) (err error) {
	_, _, items, err := readItems(listName, k.sets)
	if err != nil {
		return err
	}
	if len(items) == 0 {
		return term.Usage("%s names nothing; a list has a reference a line", listName)
	}
	to, err := c.R.ReadPlace(destination)
	if err != nil {
		return err
	}
	journal, err := k.open(c, listName, to)
	if err != nil {
		return err
	}
	complete, speed := false, int64(0)
	defer func() {
		if journal != nil {
			err = errors.Join(err, journal.Close(complete, speed))
		}
	}()
	locked := items
	if journal != nil {
		locked = journal.Lock(items)
	}
	run, err := k.begin(ctx, c, to, journal)
	if err != nil {
		return err
	}
	run.told = newAnnounced(ctx, c, to, run.watch, "copy", baseName(listName), "")
	report, err := run.all(ctx, items, locked)
	report.List, report.Destination = listName, to.String()
	complete, speed = report.Complete, report.Totals.BytesASecond
	if err != nil {
		return err
	}
	if err := k.write(report); err != nil {
		return err
	}
	if err := c.Tell(report, func() { drawCopied(c, report, run) }); err != nil {
		return err
	}
	if report.Totals.Lacks > 0 {
		return fmt.Errorf("%s at %s", lacking(report.Totals.Lacks), to)
	}
	return nil
}

// write writes the report to a file, where that was asked for.
func (k *copying) write(report carry.Report) error {
	if k.report == "" {
		return nil
	}
	raw, err := json.MarshalIndent(report, "", "  ")
	if err == nil {
		err = replaceWhole(k.report, append(raw, '\n'))
	}
	if err != nil {
		return fmt.Errorf("write the report: %w", err)
	}
	return nil
}

func lacking(n int) string { return term.Count(n, "image lacks", "images lack") }

// unsafe is what does not belong into the name of a file.
var unsafe = regexp.MustCompile(`[^A-Za-z0-9.-]+`)

// open opens the journal; a preview has none.
func (k *copying) open(c *site.Call, listName string, to site.Place) (*carry.Journal, error) {
	at := k.journal
	if at == "" {
		at = listName + "." + unsafe.ReplaceAllString(to.String(), "_") + ".journal"
		if listName == site.StandardStream {
			at = "packing-list." + unsafe.ReplaceAllString(to.String(), "_") + ".journal"
		}
	}
	if _, err := os.Stat(at); k.preview && err != nil {
		return nil, nil
	}
	journal, err := carry.OpenJournal(at, to.String(), k.anew && !k.preview)
	if err != nil {
		return nil, err
	}
	if journal.GoesOn() && !c.JSON() && !k.preview {
		c.T.Warn("Going on with the copy of %s, which had come to %s; --anew asks again what the tags point to", journal.Began().Local().Format("2006-01-02 15:04"), term.Count(journal.Done(), "image", "images"))
	}
	return journal, nil
}

// running is a copy under way.
type running struct {
	k       *copying
	c       *site.Call
	to      site.Place
	o       carry.Options
	carrier *carry.Carrier
	journal *carry.Journal
	watch   *copyWatch
	told    *announced
	// rate is what was measured before.
	rate int64
}

// waited is how long a registry that does not answer is waited for, where nothing is said.
const waited = 2 * time.Minute

func (k *copying) begin(ctx context.Context, c *site.Call, to site.Place, journal *carry.Journal) (*running, error) {
	o, err := k.options(c)
	if err != nil {
		return nil, err
	}
	client, err := c.R.Peer(to.Registry)
	if err != nil {
		return nil, err
	}
	o.To, o.Prefix = client, to.Name
	// One that does not answer now may do so in a moment: then it is asked just before a tag moves.
	o.Conditions, _ = client.HasDigests(ctx)
	run := &running{k: k, c: c, to: to, o: o, journal: journal}
	run.watch = newCopyWatch(c, journal)
	run.o.Watch = run.watch
	run.carrier = carry.New(run.o)
	return run, nil
}

// from lets a run read from something else than registries.
func (r *running) from(source carry.From, called string) {
	r.o.From = func(string) (carry.From, error) { return source, nil }
	r.o.Called = called
	r.carrier = carry.New(r.o)
}

// all looks, copies and asks again.
func (r *running) all(ctx context.Context, items, locked []packing.Item) (carry.Report, error) {
	began := time.Now().UTC().Truncate(time.Second)
	r.watch.begin("looking", len(items), 0)
	plan, err := r.carrier.Look(ctx, locked)
	r.watch.end()
	if err != nil {
		return carry.Report{}, r.stopped(err)
	}
	done := func(p *carry.Plan) carry.Report {
		report := p.Report()
		report.Began, report.Ended = began, time.Now().UTC().Truncate(time.Second)
		report.Totals.BytesASecond = r.watch.rate()
		if r.journal != nil && r.journal.GoesOn() {
			since := r.journal.Began()
			report.GoesOn = &since
		}
		return report
	}
	if r.journal != nil && !r.k.preview {
		if err := r.journal.Looked(items, plan); err != nil {
			return carry.Report{}, err
		}
	}
	err = r.look(ctx, plan)
	if err == nil {
		err = r.room(ctx, plan)
	}
	if err != nil || r.k.preview {
		return done(plan), err
	}
	err = r.move(ctx, plan, "copying")
	report := done(plan)
	report.Complete = err == nil && report.Totals.Lacks == 0
	r.told.end(ctx, report, plan, err)
	return report, err
}

// move copies what a plan says, and asks for all of it again.
func (r *running) move(ctx context.Context, plan *carry.Plan, doing string) error {
	r.told.begin(ctx, plan)
	r.watch.begin(doing, plan.Count(carry.Absent, carry.Moves), plan.New)
	err := r.carrier.Copy(ctx, plan)
	r.watch.end()
	if err == nil {
		r.watch.begin("asking again", 0, 0)
		err = r.carrier.Verify(ctx, plan)
		r.watch.end()
	}
	if err != nil {
		return r.stopped(err)
	}
	return nil
}

// room refuses to go on where the destination says that it has no room.
func (r *running) room(ctx context.Context, plan *carry.Plan) error {
	crowded := r.told.ask(ctx, plan)
	for _, said := range crowded {
		r.c.T.Warn("%s", term.OneLine(said))
	}
	if len(crowded) > 0 && !r.k.crowded && !r.k.preview {
		return fmt.Errorf("it does not fit at %s; nothing was moved. Make room there, or go on with what fits with --without-room", r.to)
	}
	return nil
}

// stopped says how what stopped goes on.
func (r *running) stopped(err error) error {
	if errors.Is(err, context.Canceled) {
		return fmt.Errorf("the copy was stopped; run it again, and it goes on: %w", err)
	}
	return fmt.Errorf("the copy stopped; run it again when that is mended, and it goes on: %w", err)
}

// look shows what was found, and refuses to go on where something is missing.
func (r *running) look(ctx context.Context, plan *carry.Plan) error {
	const worthMeasuring = 8 << 20
	if r.journal != nil {
		r.rate = r.journal.Rate()
	}
	if r.rate == 0 && plan.New >= worthMeasuring {
		r.rate = r.carrier.Measure(ctx, plan)
	}
	if !r.c.JSON() {
		r.draw(plan)
	}
	lacks := plan.Count(carry.Missing, carry.Failed)
	if lacks > 0 && !r.k.without && !r.k.preview {
		if r.c.JSON() {
			if err := term.WriteJSON(r.c.T.Out, plan.Report()); err != nil {
				return err
			}
		}
		anew := ""
		if r.journal != nil && r.journal.GoesOn() {
			anew = "; what its tags point to by now is taken with --anew"
		}
		return fmt.Errorf("%s cannot be had from where the list says; nothing was moved. Mend the list, or go on without with --without-missing%s", term.Count(lacks, "image", "images"), anew)
	}
	return nil
}

// draw shows the table of a look.
func (r *running) draw(plan *carry.Plan) {
	w := r.c.T.Table("Image", "Digest", "At the destination", "Size", "New there")
	w.Right("Size", "New there")
	for _, i := range plan.Images {
		state := string(i.State)
		if i.State == carry.Moves {
			state = fmt.Sprintf("tag moves from %s", term.Short(i.Was))
		}
		if i.Lacks() {
			w.Row(i.Item.Ref.String(), "-", state, "-", "-")
			continue
		}
		w.Row(r.shown(i), term.Short(i.Root.Digest), state, term.Size(i.Bytes), term.Size(i.New))
	}
	w.Draw()
	for _, i := range plan.Images {
		if i.Lacks() {
			r.c.T.Say("%s", sayLacks(i.Item.Ref.String(), i.Err.Error(), i.Instead))
		}
	}
	said := fmt.Sprintf("%s: %d new there, %d with a tag that moves, %d there already", term.Count(len(plan.Images), "image", "images"), plan.Count(carry.Absent), plan.Count(carry.Moves), plan.Count(carry.There))
	if n := plan.Count(carry.Missing); n > 0 {
		said += fmt.Sprintf(", %d missing at the source", n)
	}
	if n := plan.Count(carry.Failed); n > 0 {
		said += fmt.Sprintf(", %d that cannot be read", n)
	}
	r.c.T.Say("%s. Of %s in %s, %s in %s are new at %s%s.", said, term.Size(plan.Bytes), term.Count(plan.Blobs, "blob", "blobs"), term.Size(plan.New), term.Count(plan.NewBlobs, "blob", "blobs"), r.to, r.takes(plan))
}

// takes says how long it takes.
func (r *running) takes(plan *carry.Plan) string {
	if r.rate == 0 || plan.New == 0 {
		return ""
	}
	return fmt.Sprintf(", about %s at %s/s", span(time.Duration(float64(plan.New)/float64(r.rate)*float64(time.Second))), term.Size(r.rate))
}

// shown is an image with its name at the destination, where that is another.
func (r *running) shown(i *carry.Image) string {
	if r.o.Called != "" {
		return i.Target()
	}
	text := i.Item.Ref.Repository().String() + ":" + string(i.Item.Ref.Tag)
	if i.Item.Ref.Tag == "" {
		text = i.Item.Ref.String()
	}
	if i.Item.Renamed {
		text += " -> " + i.Target()
	}
	return text
}

func sayLacks(source, why string, instead []string) string {
	said := source + ": " + term.OneLine(why)
	if len(instead) > 0 {
		said += "; there are " + strings.Join(instead, ", ")
	}
	return said
}

func drawCopied(c *site.Call, report carry.Report, r *running) {
	t := report.Totals
	if r.k.preview {
		c.T.Hint("Nothing was moved. To copy it:  the same without --preview")
		return
	}
	if t.Lacks > 0 {
		w := c.T.Table("Lacks", "Why")
		for _, i := range report.Images {
			if i.State == carry.Failed || i.State == carry.Missing {
				w.Row(i.Source, i.Why)
			}
		}
		w.Draw()
	}
	said := fmt.Sprintf("%s copied, %d there already", term.Count(t.Copied, "image", "images"), t.There)
	if t.Lacks > 0 {
		said += fmt.Sprintf(", %d lacking", t.Lacks)
	}
	said += fmt.Sprintf("; %s moved", term.Size(t.Sent))
	if t.BytesASecond > 0 {
		said += fmt.Sprintf(" at %s/s", term.Size(t.BytesASecond))
	}
	if report.Complete {
		said += ". All of it was asked for again at " + report.Destination + ", and is there by digest"
	}
	c.T.Say("%s", said+".")
}
