package carried

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/spf13/pflag"

	"warthesis/internal/cli/site"
	"warthesis/internal/cli/term"
	"warthesis/internal/flow/carry"
	"warthesis/internal/flow/packing"
	"warthesis/internal/flow/parcel"
	"warthesis/internal/login"
	"warthesis/internal/oci"
)

// volumeSuffix is what stands behind the name of a volume.
var volumeSuffix = regexp.MustCompile(`\.[0-9]+of[0-9]+$`)

// volumesOf lists the volumes of a parcel that stand beside each other, by the name of the
// parcel.
func volumesOf(name string) []string {
	entries, err := os.ReadDir(filepath.Dir(name))
	if err != nil {
		return nil
	}
	var all []string
	for _, e := range entries {
		if rest, is := strings.CutPrefix(e.Name(), filepath.Base(name)); is && volumeSuffix.MatchString(rest) && volumeSuffix.FindString(rest) == rest {
			all = append(all, filepath.Join(filepath.Dir(name), e.Name()))
		}
	}
	return all
}

// filesOf are the files of a parcel at hand: the one that is named, or the volumes beside each
// other.
func filesOf(name string) ([]string, error) {
	if _, err := os.Stat(name); err == nil {
		return []string{name}, nil
	}
	if all := volumesOf(name); len(all) > 0 {
		return all, nil
	}
	return nil, term.Usage("there is no file %s, and no volume of it as %s.1of2", name, name)
}

// openParcel opens a parcel, or its volumes at hand.
func openParcel(name, kept string) (*parcel.Parcel, error) {
	files, err := filesOf(name)
	if err != nil {
		return nil, err
	}
	return parcel.Open(files, kept)
}

// parcelFacts are what a parcel is.
type parcelFacts struct {
	ID      oci.Digest   `json:"id"`
	Images  int          `json:"images"`
	Blobs   int          `json:"blobs"`
	Bytes   int64        `json:"bytes"`
	Volumes int          `json:"volumes"`
	AtHand  []int        `json:"volumes_at_hand,omitempty"`
	Without *parcel.Base `json:"without,omitempty"`
	// Needs is how many blobs it expects at the other side, NeedsBytes what they have.
	Needs      int      `json:"needs"`
	NeedsBytes int64    `json:"needs_bytes"`
	List       []string `json:"list,omitempty"`
}

func factsOf(h parcel.Header, needs []parcel.Need, p *parcel.Parcel) parcelFacts {
	facts := parcelFacts{ID: h.ID, Images: h.Images, Blobs: h.Blobs, Bytes: h.Bytes, Volumes: h.Volumes, Without: h.Without, Needs: len(needs)}
	for _, need := range needs {
		facts.NeedsBytes += need.Size
	}
	if p != nil {
		facts.AtHand = p.At()
		for _, line := range p.List.Lines {
			facts.List = append(facts.List, line.String())
		}
	}
	return facts
}

func drawParcel(c *site.Call, f parcelFacts) {
	said := fmt.Sprintf("%s, %s in %s", term.Count(f.Images, "image", "images"), term.Size(f.Bytes), term.Count(f.Blobs, "blob", "blobs"))
	if f.Volumes > 1 {
		said += fmt.Sprintf(", %d volumes", f.Volumes)
	}
	c.T.Say("The parcel %s: %s", f.ID.Encoded()[:12], said)
	if f.Without != nil {
		c.T.Say("Packed without %s: it expects %s (%s) of it at the other side", f.Without, term.Count(f.Needs, "blob", "blobs"), term.Size(f.NeedsBytes))
	}
}

var parcelArg = site.Arg{Name: "FILE", File: true}

func showParcel() site.Command {
	return site.Command{
		Name: "show", Short: "Show what is in a parcel", On: site.OnNothing, Args: []site.Arg{parcelArg}, Facts: parcelFacts{}, Checks: true,
		Run: func(_ context.Context, c *site.Call) error {
			p, err := openParcel(c.Args[0], "")
			if err != nil {
				return sayFault(err)
			}
			defer p.Close()
			facts := factsOf(p.Header, p.Needs, p)
			return c.Tell(facts, func() {
				w := c.T.Table("Image", "Digest", "From")
				for _, i := range p.Items {
					w.Row(target(i), term.Short(i.Ref.Digest), i.Ref.Registry)
				}
				w.Draw()
				drawParcel(c, facts)
				if len(p.Missing()) > 0 {
					c.T.Say("At hand: %s of %d", volumesInWords(p.At()), p.Volumes)
				}
			})
		},
	}
}

func target(i packing.Item) string {
	if i.Tag != "" {
		return string(i.Name) + ":" + string(i.Tag)
	}
	return string(i.Name)
}

func volumesInWords(all []int) string {
	var words []string
	for _, n := range all {
		words = append(words, fmt.Sprint(n))
	}
	if len(words) == 1 {
		return "volume " + words[0]
	}
	return "volumes " + strings.Join(words, ", ")
}

// sayFault makes a fault of a parcel what a check found.
func sayFault(err error) error {
	var fault parcel.Fault
	if errors.As(err, &fault) {
		return term.NotRight("%w", err)
	}
	return err
}

// openAny opens a parcel, or an image layout of anybody's make.
func openAny(name, kept string, as oci.Name) (*parcel.Parcel, *parcel.Layout, error) {
	p, err := openParcel(name, kept)
	if !errors.Is(err, parcel.ErrNoParcel) && !isFolder(name) {
		return p, nil, sayFault(err)
	}
	l, err := parcel.OpenLayout(name, as)
	if err != nil && !errors.Is(err, oci.CodeQueryInvalid) && !errors.Is(err, fs.ErrPermission) {
		err = term.NotRight("%w", err)
	}
	return nil, l, err
}

func isFolder(name string) bool {
	info, err := os.Stat(name)
	return err == nil && info.IsDir()
}

// unloading is one call of parcel unload.
type unloading struct {
	copying
	as string
}

func unloadParcel() site.Command {
	var u unloading
	return site.Command{
		Name: "unload", Short: "Unload a parcel, or an image layout in a tar, into a registry", On: site.OnAny,
		Args: []site.Arg{parcelArg, {Name: "REGISTRY[/PREFIX]", Place: true}}, Facts: carry.Report{}, Checks: true,
		Long: "Checks all of it first, and then sends what the registry lacks; nothing shows there before it is whole. Of a parcel in volumes, FILE is one of them, or the\n" +
			"name of all that stand beside each other; the volumes may come one after the other, in any order, from one drive after the other. What was packed\n" +
			"without an earlier parcel wants that one unloaded before. To unload it twice is no error.",
		Example: "  warthesis parcel unload november.parcel localhost:7070\n  warthesis parcel unload /mnt/drive/november.parcel.1of3 localhost:7070\n" +
			"  warthesis parcel unload planner.tar localhost:7070 --as timetable/planner",
		Flags: func(f *pflag.FlagSet) {
			f.StringVar(&u.as, "as", "", "the repository of what an image layout calls by a tag alone, or not at all")
			f.BoolVar(&u.crowded, "without-room", false, "go on though the registry says that it has no room for all of it")
			f.BoolVar(&u.preview, "preview", false, "only look, and move nothing")
			term.Number(f, &u.atOnce, "at-once", 6, 1, 64, "how many blobs travel at the same time")
			f.StringVar(&u.rate, "rate", "", "how much is sent in a second at most, as in 4MiB")
			term.Span(f, &u.patience, "patience", "how long a registry that does not answer is waited for; 2m where it is left out")
			f.StringVar(&u.report, "report", "", "a file that the report is written to, as JSON")
		},
		Run: u.run,
	}
}

// keptFolder is where the pieces of blobs wait that are cut between volumes.
func keptFolder() (string, error) {
	hosts, err := login.OpenHosts(os.Getenv)
	if err != nil {
		return "", err
	}
	return filepath.Join(hosts.Folder(), "pieces"), nil
}

func (u *unloading) run(ctx context.Context, c *site.Call) error {
	name := c.Args[0]
	to, err := c.R.ReadPlace(c.Args[1])
	if err != nil {
		return err
	}
	as := oci.Name("")
	if u.as != "" {
		if as, err = oci.ParseName(u.as); err != nil {
			return term.Usage("--as: %w", err)
		}
	}
	kept, err := keptFolder()
	if err != nil {
		return err
	}
	p, l, err := openAny(name, kept, as)
	if err != nil {
		return err
	}
	line := c.T.Line(c.JSON())
	line.Show("checking %s", name)
	var from carry.From
	var items []packing.Item
	if p != nil {
		defer p.Close()
		from, items = p, p.Items
		err = errors.Join(p.Check(), p.Complete(ctx))
	} else {
		defer l.Close()
		from, items = l, l.Items
		_, err = checkLayout(ctx, l)
	}
	line.End()
	if err != nil {
		return fmt.Errorf("%w. Nothing was sent", sayFault(err))
	}
	run, err := u.begin(ctx, c, to, nil)
	if err != nil {
		return err
	}
	run.from(from, name)
	began := time.Now().UTC().Truncate(time.Second)
	id := ""
	if p != nil {
		id = p.ID.String()
	}
	run.told = newAnnounced(ctx, c, to, run.watch, "parcel", volumeSuffix.ReplaceAllString(baseName(name), ""), id)
	plan, err := run.unload(ctx, p, items)
	if plan == nil {
		return err
	}
	report := plan.Report()
	report.List, report.Destination, report.Began, report.Ended = name, to.String(), began, time.Now().UTC().Truncate(time.Second)
	report.Totals.BytesASecond = run.watch.rate()
	waiting := plan.Count(carry.Waiting)
	report.Complete = err == nil && report.Totals.Lacks == 0 && waiting == 0 && !u.preview
	run.told.end(ctx, report, plan, err)
	if err != nil {
		return err
	}
	switch {
	case p != nil && waiting > 0:
		if _, err := p.Keep(kept); err != nil {
			return err
		}
	case p != nil && report.Complete:
		if err := p.Drop(kept); err != nil {
			return err
		}
	}
	if err := u.write(report); err != nil {
		return err
	}
	if err := c.Tell(report, func() { u.draw(c, run, p, plan, report) }); err != nil {
		return err
	}
	if report.Totals.Lacks > 0 {
		return fmt.Errorf("%s at %s", lacking(report.Totals.Lacks), to)
	}
	return nil
}

// unload looks and copies.
func (r *running) unload(ctx context.Context, p *parcel.Parcel, items []packing.Item) (*carry.Plan, error) {
	r.watch.begin("looking", len(items), 0)
	plan, err := r.carrier.Look(ctx, items)
	r.watch.end()
	if err != nil {
		return nil, err
	}
	for _, i := range plan.Images {
		if i.Lacks() {
			return nil, i.Err
		}
	}
	if p != nil {
		if err := lacksBase(r, p, plan); err != nil {
			return nil, err
		}
	}
	if !r.c.JSON() {
		r.draw(plan)
	}
	if r.k.preview {
		return plan, nil
	}
	if err := r.room(ctx, plan); err != nil {
		return nil, err
	}
	return plan, r.move(ctx, plan, "unloading")
}

// lacksBase fails where the destination lacks what a parcel was packed without.
func lacksBase(r *running, p *parcel.Parcel, plan *carry.Plan) error {
	lacks := r.carrier.Lacks(plan)
	lacks = slices.DeleteFunc(lacks, func(l carry.Lack) bool { return len(p.Elsewhere(l.Descriptor)) == 0 })
	if len(lacks) == 0 {
		return nil
	}
	const most = 5
	var bytes int64
	var named []string
	for at, l := range lacks {
		bytes += l.Size
		if at < most {
			named = append(named, fmt.Sprintf("%s of %s", term.Short(l.Digest), l.Of.Target()))
		}
	}
	said := strings.Join(named, ", ")
	if more := len(lacks) - most; more > 0 {
		said += fmt.Sprintf(" and %d more", more)
	}
	base := "something else"
	if p.Without != nil {
		base = p.Without.String()
	}
	return term.NotRight("the parcel was packed without %s, and %s lacks %s (%s) of what that brought: %s. Unload that one first; nothing was sent", base, r.to, term.Count(len(lacks), "blob", "blobs"), term.Size(bytes), said)
}

func (u *unloading) draw(c *site.Call, run *running, p *parcel.Parcel, plan *carry.Plan, report carry.Report) {
	if waiting := plan.Count(carry.Waiting); waiting > 0 {
		var awaited []oci.Descriptor
		for _, i := range plan.Images {
			awaited = append(awaited, i.Awaits...)
		}
		c.T.Say("%s still for %s of %d; nothing of them shows before", term.Count(waiting, "image waits", "images wait"), volumesInWords(p.VolumesOf(awaited)), p.Volumes)
		c.T.Say("%s sent so far", term.Size(report.Totals.Sent))
		return
	}
	drawCopied(c, report, run)
}
