package rights

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"time"

	"github.com/spf13/pflag"

	"warthesis/internal/api"
	"warthesis/internal/cli/site"
	"warthesis/internal/cli/term"
	"warthesis/internal/rule"
)

// mostLines is how many lines of the audit log one table shows.
const mostLines = 1000

func auditCommand() site.Command {
	var account, kind, verdict string
	var from, until rule.Span
	var limit int
	return site.Command{
		Name: "audit", Group: term.GroupRights, Short: "Read the audit log: who did what, and what was refused",
		Example: "  warthesis audit localhost:7070 --verdict refused\n  warthesis audit localhost:7070/berths --from 30d --output json > berths.jsonl",
		On:      site.OnWhere, Facts: api.Line{}, Lines: true, Values: ofAccounts,
		Flags: func(f *pflag.FlagSet) {
			f.StringVar(&account, "account", "", "only what this account did or tried")
			f.StringVar(&kind, "kind", "", "only this kind, such as tag-moved or role-granted")
			term.Choice(f, &verdict, "verdict", "", "only what was done, or what was refused", "done", "refused")
			term.Span(f, &from, "from", "not older than this, such as 24h or 30d")
			term.Span(f, &until, "until", "not younger than this, such as 7d")
			term.Number(f, &limit, "limit", 50, 1, mostLines, "how many lines; with --output json all, unless it is given")
		},
		Run: func(ctx context.Context, c *site.Call) error {
			query := api.Given(map[string]string{"account": account, "kind": kind, "verdict": verdict, "from": before(from), "until": before(until)})
			switch {
			case c.Place.IsNamespace():
				query.Set("namespace", string(c.Place.Name))
			case c.Place.Name != "":
				query.Set("repository", string(c.Place.Name))
			}
			if c.JSON() && !c.Given("limit") {
				return exportLines(ctx, c, query)
			}
			query.Set("limit", strconv.Itoa(limit))
			var list api.LineList
			if err := c.Do(ctx, http.MethodGet, "/api/v1/audit", query, nil, &list); err != nil {
				return err
			}
			if c.JSON() {
				encoder := json.NewEncoder(c.T.Out)
				for _, line := range list.Lines {
					if err := encoder.Encode(line); err != nil {
						return err
					}
				}
				return nil
			}
			drawLines(c, list)
			return nil
		},
	}
}

// before writes the moment that lies a span back, "" for none.
func before(span rule.Span) string {
	if span == 0 {
		return ""
	}
	return time.Now().Add(-span.Duration()).UTC().Format(time.RFC3339)
}

func exportLines(ctx context.Context, c *site.Call, query url.Values) error {
	answer, err := c.Send(ctx, http.MethodGet, "/api/v1/audit/lines", query, nil)
	if err != nil {
		return err
	}
	_, err = io.Copy(c.T.Out, answer.Body)
	return errors.Join(err, answer.Body.Close())
}

func drawLines(c *site.Call, list api.LineList) {
	if len(list.Lines) == 0 {
		c.T.Say("No such lines")
		return
	}
	w := c.T.Table("When", "Who", "What", "On", "Detail")
	for _, line := range list.Lines {
		w.Row(line.At.Local().Format(time.DateTime), sayWho(line), line.Kind, sayOn(line), line.Detail)
	}
	w.Draw()
	if list.Next != 0 {
		c.T.Hint("\nThere are older lines: --limit shows up to %d; all of them, as JSON lines: --output json", mostLines)
	}
}

func sayWho(line api.Line) string {
	name := line.Account
	if name == "" {
		name = "nobody"
	}
	if line.Token != "" {
		name += " (" + line.Token + ")"
	}
	if line.Address != "" {
		name += " from " + line.Address
	}
	return name
}

func sayOn(line api.Line) string {
	switch {
	case line.Repository == "":
		return line.Subject
	case line.Tag != "":
		return fmt.Sprintf("%s:%s", line.Repository, line.Tag)
	case line.Digest != "":
		return fmt.Sprintf("%s@%s", line.Repository, term.Short(line.Digest))
	}
	return string(line.Repository)
}
