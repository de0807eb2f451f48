package carried

import (
	"context"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"

	"warthesis/internal/api"
	"warthesis/internal/cli/site"
	"warthesis/internal/cli/term"
)

func arrivalCommands() site.Command {
	return site.Command{
		Name: "arrival", Group: term.GroupFlow, Short: "See what is carried in: copies, parcels and imports",
		Long: "What is carried in by list tells its registry how far it is. While it is open, at most 14 days after it was last heard of, no sweep takes what came and\n" +
			"waits for the rest of its image.",
		Under: []site.Command{listArrivals(), showArrival(), stopArrival()},
	}
}

var arrivalArg = site.Arg{Name: "NUMBER"}

func arrivalPath(c *site.Call) (string, error) {
	if n, err := strconv.ParseInt(c.Args[0], 10, 64); err != nil || n < 1 {
		return "", term.Usage("%q is no number of an arrival; list them with  %s", c.Args[0], c.Self("arrival", "list"))
	}
	return "/api/v1/arrivals/" + c.Args[0], nil
}

func listArrivals() site.Command {
	return site.Command{
		Name: "list", Short: "List what is carried in, that under way first", On: site.OnRegistry, Facts: []api.Arrival{},
		Run: func(ctx context.Context, c *site.Call) error {
			var list api.ArrivalList
			if err := c.Do(ctx, http.MethodGet, "/api/v1/arrivals", nil, nil, &list); err != nil {
				return err
			}
			return c.Tell(list.Arrivals, func() {
				if len(list.Arrivals) == 0 {
					c.T.Say("Nothing is carried in to %s", c.Registry)
					c.T.Hint("To carry something in:  %s", c.Self("copy", "LIST", c.Registry))
					return
				}
				w := c.T.Table("Number", "Kind", "Name", "State", "Images", "Came", "Left", "By", "Last heard of")
				w.Right("Number", "Images", "Came", "Left")
				for _, a := range list.Arrivals {
					w.Row(a.ID, a.Kind, a.Name, a.State, fmt.Sprintf("%d of %d", a.ImagesDone, a.Images), term.Size(a.BytesDone), leftOf(a), a.By, term.When(&a.HeardAt))
				}
				w.Draw()
			})
		},
	}
}

// leftOf says what is left of an arrival, and for how long.
func leftOf(a api.Arrival) string {
	if a.EndedAt != nil {
		return "-"
	}
	said := term.Size(max(0, a.Bytes-a.BytesDone))
	if a.EndsIn != nil {
		said += ", " + span(time.Duration(*a.EndsIn)*time.Second)
	}
	return said
}

func showArrival() site.Command {
	return site.Command{
		Name: "show", Short: "Show what is carried in, with its report", On: site.OnRegistry, Args: []site.Arg{arrivalArg}, Facts: api.Arrival{},
		Run: func(ctx context.Context, c *site.Call) error {
			path, err := arrivalPath(c)
			if err != nil {
				return err
			}
			var a api.Arrival
			if err := c.Do(ctx, http.MethodGet, path, nil, nil, &a); err != nil {
				return err
			}
			return c.Tell(a, func() { drawArrival(c, a) })
		},
	}
}

func drawArrival(c *site.Call, a api.Arrival) {
	held := ""
	if a.HeldFor > 0 {
		held = fmt.Sprintf("about %s, if nothing more is heard", span(time.Duration(a.HeldFor)*time.Second))
	}
	c.T.Fields(a.Kind, a.Name,
		[2]string{"From", a.Source}, [2]string{"By", a.By}, [2]string{"State", a.State}, [2]string{"Says", a.Says}, [2]string{"Began", term.When(&a.BeganAt)},
		[2]string{"Images", fmt.Sprintf("%d of %d", a.ImagesDone, a.Images)}, [2]string{"Came", fmt.Sprintf("%s of %s", term.Size(a.BytesDone), term.Size(a.Bytes))},
		[2]string{"Ended", term.When(a.EndedAt)}, [2]string{"Kept from sweeps", held}, [2]string{"Holds open", heldOpen(a)})
	if a.Report == nil || len(a.Report.Images) == 0 {
		return
	}
	w := c.T.Table("Image", "Digest", "State", "Size", "New there", "Why")
	w.Right("Size", "New there")
	for _, i := range a.Report.Images {
		w.Row(i.Target, term.Short(i.Digest), i.State, term.Size(i.Bytes), term.Size(i.New), term.OrDash(i.Why))
	}
	w.Draw()
}

// heldOpen names the first repositories that an arrival holds open.
func heldOpen(a api.Arrival) string {
	const most = 3
	var names []string
	for at, name := range a.Places {
		if at == most {
			names = append(names, fmt.Sprintf("and %d more", len(a.Places)-most))
			break
		}
		names = append(names, string(name))
	}
	return strings.Join(names, ", ")
}

func stopArrival() site.Command {
	return site.Command{
		Name: "stop", Short: "Wait no longer for what is carried in", On: site.OnRegistry, Args: []site.Arg{arrivalArg}, Facts: api.Arrival{}, Asks: true,
		Long: "Lets a registry wait no longer for the rest of what is carried in: what came and belongs to no image yet goes with a later sweep. Images that are whole stay.",
		Run: func(ctx context.Context, c *site.Call) error {
			path, err := arrivalPath(c)
			if err != nil {
				return err
			}
			var a api.Arrival
			if err := c.Do(ctx, http.MethodGet, path, nil, nil, &a); err != nil {
				return err
			}
			if err := c.Confirm(ctx, fmt.Sprintf("Wait no longer for the %s %s? What came of images that are not whole goes with a later sweep; carried in again it comes back.", a.Kind, a.Name)); err != nil {
				return err
			}
			if err := c.Do(ctx, http.MethodDelete, path, nil, nil, nil); err != nil {
				return err
			}
			return c.Tell(a, func() { c.T.Say("%s waits no longer for %s", c.Registry, a.Name) })
		},
	}
}
