package image

import (
	"context"
	"net/http"

	"warthesis/internal/api"
	"warthesis/internal/cli/site"
	"warthesis/internal/cli/term"
)

func reservationCommands() site.Command {
	return site.Command{
		Name: "reservation", Group: term.GroupImages, Short: "List and release reserved tag names",
		Under: []site.Command{listReservations(), releaseReservation()},
	}
}

func listReservations() site.Command {
	return site.Command{
		Name: "list", Short: "List the tag names that are reserved in a repository", On: site.OnRepository, Facts: []api.Reservation{},
		Long: "Lists the names that next --hold reserved for an account: nobody else can use them until the reservation ends. It takes an owner, who\n" +
			"can release a name.",
		Example: "  warthesis reservation list localhost:7070/timetable/planner",
		Run: func(ctx context.Context, c *site.Call) error {
			var all []api.Reservation
			for after := ""; ; {
				var page api.ReservationList
				if err := c.Do(ctx, http.MethodGet, "/api/v1/reservations", api.Given(map[string]string{"repository": string(c.Place.Name), "after": after}), nil, &page); err != nil {
					return err
				}
				all = append(all, page.Reservations...)
				if after = string(page.Next); after == "" {
					break
				}
			}
			if all == nil {
				all = []api.Reservation{}
			}
			return c.Tell(all, func() {
				if len(all) == 0 {
					c.T.Say("No reserved tag names. Reserve the next version with:  %s", c.Self("next", c.Place.String(), "--hold"))
					return
				}
				w := c.T.Table("Tag", "Account", "Ends")
				for _, r := range all {
					w.Row(r.Tag, r.By, term.When(&r.Until))
				}
				w.Draw()
			})
		},
	}
}

func releaseReservation() site.Command {
	return site.Command{
		Name: "release", Short: "Release a tag name that is reserved", On: site.OnImage, Facts: api.Reservation{},
		Long:    "Ends the reservation of a tag name, so that anybody who may push can use it. It takes an owner.",
		Example: "  warthesis reservation release localhost:7070/timetable/planner:2.5.0",
		Run: func(ctx context.Context, c *site.Call) error {
			tag, err := ofTag(c.Image)
			if err != nil {
				return err
			}
			if err := c.Do(ctx, http.MethodDelete, "/api/v1/reservations", api.Given(map[string]string{"repository": string(c.Place.Name), "tag": string(tag)}), nil, nil); err != nil {
				return err
			}
			return c.Tell(api.Reservation{Tag: tag}, func() { c.T.Say("Released tag name %s", tag) })
		},
	}
}
