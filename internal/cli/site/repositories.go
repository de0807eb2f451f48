package site

import (
	"context"
	"fmt"
	"net/http"

	"warthesis/internal/api"
	"warthesis/internal/cli/term"
)

// ListRepositories prints the repositories of the registry or the namespace that a
// call is about.
func ListRepositories(ctx context.Context, c *Call, page api.List) error {
	namespace := string(c.Place.Name)
	all, err := EveryPage(page, func(page api.List) ([]api.Repository, string, error) {
		query := page.Query()
		if namespace != "" {
			query.Set("namespace", namespace)
		}
		var list api.RepositoryList
		err := c.Do(ctx, http.MethodGet, "/api/v1/repositories", query, nil, &list)
		return list.Repositories, list.Next, err
	})
	if err == nil && len(all) == 0 && namespace != "" {
		// An empty namespace is told from none.
		err = c.Do(ctx, http.MethodGet, "/api/v1/namespaces/"+namespace, nil, nil, &api.Namespace{})
	}
	if err == nil && len(all) == 0 && c.Secret == "" && page.Contains == "" {
		// What anybody may pull would be listed: there is none of it.
		var me api.Me
		if me, err = c.Me(ctx); err == nil && me.Account == "" {
			err = c.NotLoggedIn
		}
	}
	if err != nil {
		return err
	}
	return c.Tell(all, func() {
		if len(all) == 0 {
			c.T.Say("No repositories%s in %s", Matching(page), c.Place)
			c.T.Hint("A push makes one, where you may push:  %s", c.Self("push", "IMAGE", c.Registry+"/"+orWord(namespace, "NAMESPACE")+"/NAME:TAG"))
			return
		}
		w := c.T.Table("Repository", "Tags", "Size", "Pushed", "Pulled", "Pulls")
		w.Right("Tags", "Size", "Pulls")
		for _, r := range all {
			w.Row(r.Name, r.Tags, term.Size(r.Size), term.When(&r.PushedAt), term.When(r.PulledAt), r.Pulls)
		}
		w.Draw()
	})
}

func orWord(s, word string) string {
	if s == "" {
		return word
	}
	return s
}

// Matching says by what a list was narrowed, with a blank before it; "" for by nothing.
func Matching(page api.List) string {
	said := ""
	if page.Contains != "" {
		said = fmt.Sprintf(" with %q in the name", page.Contains)
	}
	if page.Prefix != "" {
		said += fmt.Sprintf(" that begins with %q", page.Prefix)
	}
	if page.Pattern != "" {
		said += fmt.Sprintf(" that %s means", page.Pattern)
	}
	return said
}
