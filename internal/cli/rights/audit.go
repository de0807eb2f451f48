package rights

import (
	"fmt"
	"io"
	"net/url"
	"strconv"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"warthesis/internal/api"
	"warthesis/internal/cli/site"
	"warthesis/internal/cli/term"
)

func addAudit(root *cobra.Command, t term.Terminal, r *site.Remote) {
	var filter struct{ account, namespace, repository, kind, verdict, since string }
	var output string
	var limit int
	command := &cobra.Command{
		Use: "audit [REGISTRY]", GroupID: term.GroupRights, Short: "Read the audit log: who did what, and what was refused",
		Example: "  warthesis audit localhost:7070 --verdict refused\n  warthesis audit localhost:7070 --namespace berths --output json > berths.jsonl",
		Args:    cobra.MaximumNArgs(1),
		RunE: r.At(func(c *cobra.Command, at site.Site, rest []string) error {
			if err := term.CheckOutput(output); err != nil {
				return err
			}
			query := url.Values{}
			for key, value := range map[string]string{"account": filter.account, "namespace": filter.namespace,
				"repository": filter.repository, "kind": filter.kind, "verdict": filter.verdict} {
				if value != "" {
					query.Set(key, value)
				}
			}
			if filter.since != "" {
				span, err := time.ParseDuration(filter.since)
				if err != nil {
					return term.Usage("--since is %q: write a span such as 24h", filter.since)
				}
				query.Set("from", time.Now().Add(-span).UTC().Format(time.RFC3339))
			}
			if output == term.OutputJSON {
				answer, err := at.Send(c.Context(), "GET", "/api/v1/audit/lines", query, nil)
				if err != nil {
					return err
				}
				defer answer.Body.Close()
				_, err = io.Copy(t.Out, answer.Body)
				return err
			}
			query.Set("limit", strconv.Itoa(limit))
			var list api.LineList
			if err := at.Do(c.Context(), "GET", "/api/v1/audit", query, nil, &list); err != nil {
				return err
			}
			w := term.NewTable(t, "When", "Who", "What", "On", "Detail")
			for _, line := range list.Lines {
				w.AppendRow(table.Row{line.At.Local().Format(time.DateTime), sayWho(line), line.Kind, sayOn(line), line.Detail})
			}
			w.Render()
			if list.Next != 0 {
				fmt.Fprintf(t.Out, "\nThere are older lines. All of them, as JSON lines: --output json\n")
			}
			return nil
		}),
	}
	f := command.Flags()
	f.StringVar(&filter.account, "account", "", "only what this account did or tried")
	f.StringVar(&filter.namespace, "namespace", "", "only in this namespace")
	f.StringVar(&filter.repository, "repository", "", "only in this repository")
	f.StringVar(&filter.kind, "kind", "", "only this kind, such as tag-moved or role-granted")
	f.StringVar(&filter.verdict, "verdict", "", "done or refused")
	f.StringVar(&filter.since, "since", "", "not older than this, such as 24h")
	f.IntVar(&limit, "limit", 50, "how many lines of the table, at most 1000")
	term.AddOutput(command, &output)
	root.AddCommand(command)
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
