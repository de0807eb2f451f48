package carried

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strings"

	"github.com/spf13/pflag"
	"golang.org/x/time/rate"

	"warthesis/internal/cli/site"
	"warthesis/internal/cli/term"
	"warthesis/internal/flow/carry"
	"warthesis/internal/flow/parcel"
	"warthesis/internal/oci"
	"warthesis/internal/rule"
)

func parcelCommands() site.Command {
	return site.Command{
		Name: "parcel", Group: term.GroupFlow, Short: "Carry images by hand to a place without a network",
		Long: "A parcel is one file, an OCI image layout in a tar, with the packing list that it was packed by. It may hold only what an earlier one did not, and may be\n" +
			"cut into volumes that fit on a drive each. The same content makes the same bytes.",
		Under: []site.Command{packParcel(), checkParcel(), showParcel(), unloadParcel()},
	}
}

// packed is what packing says.
type packed struct {
	Files []string `json:"files"`
	parcelFacts
	Report carry.Report `json:"report"`
}

// packing is one call of parcel pack.
type packingParcel struct {
	copying
	withouts string
	volumes  string
}

func packParcel() site.Command {
	var k packingParcel
	return site.Command{
		Name: "pack", Short: "Pack what a packing list names into a parcel", On: site.OnAny, Args: []site.Arg{listArg, {Name: "FILE", File: true}}, Facts: packed{}, Checks: true,
		Long: "Looks first, as copy does: what is missing at its source is named before anything is packed. With --without it leaves out what the other side has: what an\n" +
			"earlier parcel brought, what another list names, or what a registry has. With --volumes it writes FILE.1of3 and so on, each of which can be checked\n" +
			"and unloaded by itself. A run that stopped goes on with the same call.",
		Example: "  warthesis parcel pack november.list november.parcel\n  warthesis parcel pack november.list november.parcel --without october.parcel --volumes 4GiB",
		Flags: func(f *pflag.FlagSet) {
			setFlag(f, &k.sets)
			f.StringVar(&k.withouts, "without", "", "leave out what is at the other side: an earlier parcel, a packing list, or a registry")
			f.StringVar(&k.volumes, "volumes", "", "cut it into volumes of that size at most, as in 4GiB")
			f.BoolVar(&k.without, "without-missing", false, "go on without what its source does not have")
			f.BoolVar(&k.bare, "no-referrers", false, "leave out what refers to the images, as signatures do")
			term.Number(f, &k.atOnce, "at-once", 6, 1, 64, "how many blobs travel at the same time")
			f.StringVar(&k.rate, "rate", "", "how much is read in a second at most, as in 4MiB")
			term.Span(f, &k.patience, "patience", "how long a registry that does not answer is waited for; 2m where it is left out")
		},
		Run: k.run,
	}
}

func (k *packingParcel) run(ctx context.Context, c *site.Call) error {
	listName, name := c.Args[0], c.Args[1]
	_, _, items, err := readItems(listName, k.sets)
	if err != nil {
		return err
	}
	var size rule.Size
	if k.volumes != "" {
		if size, err = rule.ParseSize(k.volumes); err != nil || size <= 0 {
			return term.Usage("--volumes: %q is no size; write it as in 4GiB", k.volumes)
		}
	}
	o, err := k.options(c)
	if err != nil {
		return err
	}
	without, place, places, err := k.base(ctx, c, o)
	if err != nil {
		return err
	}
	o.To = place
	watch := newCopyWatch(c, nil)
	o.Watch = watch
	carrier := carry.New(o)
	watch.begin("looking", len(items), 0)
	plan, err := carrier.Look(ctx, items)
	watch.end()
	if err != nil {
		return err
	}
	if err := k.refuse(c, plan); err != nil {
		return err
	}
	arranged, err := parcel.Arrange(ctx, carrier, plan, without, places, int64(size))
	if err != nil {
		return err
	}
	watch.begin("packing", plan.Count(carry.Absent), arranged.Header.Bytes)
	files, err := arranged.Write(ctx, name, k.atOnce)
	watch.end()
	if err != nil {
		return fmt.Errorf("%w; run it again, and it goes on", err)
	}
	for _, i := range plan.Images {
		if i.State == carry.Absent {
			i.State = carry.Copied
		}
	}
	report := plan.Report()
	report.List, report.Destination, report.Complete = listName, name, report.Totals.Lacks == 0
	facts := packed{files, factsOf(arranged.Header, arranged.Needs, nil), report}
	if err := c.Tell(facts, func() {
		for _, f := range files {
			info, err := os.Stat(f)
			if err == nil {
				c.T.Say("%s  %s", f, term.Size(info.Size()))
			}
		}
		drawParcel(c, facts.parcelFacts)
		c.T.Hint("At the other side:  %s", c.Self("parcel", "unload", name, "REGISTRY"))
	}); err != nil {
		return err
	}
	if report.Totals.Lacks > 0 {
		return fmt.Errorf("%s in the parcel", lacking(report.Totals.Lacks))
	}
	return nil
}

// options are what packing and copying share of how sources are read.
func (k *copying) options(c *site.Call) (o carry.Options, err error) {
	c.R.Patience = waited
	if k.patience != 0 {
		c.R.Patience = k.patience.Duration()
	}
	o = carry.Options{NoReferrers: k.bare, AtOnce: k.atOnce}
	if k.rate != "" {
		size, err := rule.ParseSize(k.rate)
		if err != nil || size <= 0 {
			return o, term.Usage("--rate: %q is no size; write it as in 4MiB", k.rate)
		}
		o.Limit = rate.NewLimiter(rate.Limit(size), int(min(size, 64<<10)))
	}
	from := sources(c.R)
	o.From = func(registry string) (carry.From, error) { return from(registry) }
	return o, nil
}

// refuse names what is missing at its source.
func (k *copying) refuse(c *site.Call, plan *carry.Plan) error {
	lacks := plan.Count(carry.Missing, carry.Failed)
	if lacks == 0 {
		return nil
	}
	for _, i := range plan.Images {
		if i.Lacks() {
			c.T.Warn("%s", sayLacks(i.Item.Ref.String(), i.Err.Error(), i.Instead))
		}
	}
	if k.without {
		return nil
	}
	return fmt.Errorf("%s cannot be had from where the list says; nothing was packed. Mend the list, or go on without with --without-missing", term.Count(lacks, "image", "images"))
}

// base reads what the parcel is packed without: a parcel, a packing list, or a registry.
func (k *packingParcel) base(ctx context.Context, c *site.Call, o carry.Options) (*parcel.Base, parcel.Place, map[oci.Digest][]oci.Name, error) {
	none := parcel.Place{}
	if k.withouts == "" {
		return nil, none, nil, nil
	}
	if _, err := os.Stat(k.withouts); err != nil && len(volumesOf(k.withouts)) == 0 {
		return k.registryBase(c)
	}
	held := func(places map[oci.Digest][]oci.Name) parcel.Place {
		return parcel.Place{Has: func(_ context.Context, _ oci.Name, d oci.Descriptor) (bool, error) {
			return len(places[d.Digest]) > 0, nil
		}}
	}
	p, err := openParcel(k.withouts, "")
	if err == nil {
		defer p.Close()
		places, err := p.Places(ctx)
		return &parcel.Base{Kind: "parcel", Name: baseName(k.withouts), ID: p.ID}, held(places), places, err
	}
	if !errors.Is(err, parcel.ErrNoParcel) {
		return nil, none, nil, err
	}
	list, err := readList(k.withouts)
	if err != nil {
		return nil, none, nil, fmt.Errorf("--without: it is no parcel, and no packing list: %w", err)
	}
	items, err := list.Items(nil)
	if err != nil {
		return nil, none, nil, fmt.Errorf("--without: %s: %w", k.withouts, err)
	}
	o.To = none
	carrier := carry.New(o)
	plan, err := carrier.Look(ctx, items)
	if err != nil {
		return nil, none, nil, err
	}
	for _, i := range plan.Images {
		if i.Lacks() {
			c.T.Warn("what the other side has of %s cannot be told, and is packed: %s", i.Item.Ref, term.OneLine(i.Err.Error()))
		}
	}
	places := parcel.PlacesOf(carrier, plan, nil)
	return &parcel.Base{Kind: "list", Name: baseName(k.withouts)}, held(places), places, nil
}

func (k *packingParcel) registryBase(c *site.Call) (*parcel.Base, parcel.Place, map[oci.Digest][]oci.Name, error) {
	to, err := c.R.ReadPlace(k.withouts)
	if err != nil {
		return nil, parcel.Place{}, nil, fmt.Errorf("--without: there is no file %s, and it is no registry: %w", k.withouts, err)
	}
	client, err := c.R.Peer(to.Registry)
	if err != nil {
		return nil, parcel.Place{}, nil, err
	}
	has := func(ctx context.Context, name oci.Name, d oci.Descriptor) (bool, error) {
		return client.HasBlob(ctx, name.Below(to.Name), d)
	}
	return &parcel.Base{Kind: "registry", Name: to.String()}, parcel.Place{Has: has}, nil, nil
}

func baseName(path string) string { return path[strings.LastIndexAny(path, "/\\")+1:] }
