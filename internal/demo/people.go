package demo

import (
	"context"
	"fmt"
	"time"

	"warthesis/internal/access"
	"warthesis/internal/oci"
	"warthesis/internal/record"
)

// Password is that of every person of the sample world.
const Password = "sleeper-to-the-coast"

// people are the accounts of the sample world, with their groups.
var people = []struct {
	name, about string
	kind        record.AccountKind
	groups      []string
}{
	{"ines", "Platform engineer", record.Person, []string{"platform"}},
	{"teodor", "Timetable", record.Person, []string{"timetable", "berths", "platform"}},
	{"marit", "Berths", record.Person, []string{"berths", "rolling", "timetable"}},
	{"jun", "Signals", record.Person, []string{"signals"}},
	{"ada", "Auditor", record.Person, nil},
	{"ci-berths", "Builds what sells beds", record.Machine, nil},
	{"ci-timetable", "Builds the journey planner and the boards", record.Machine, nil},
	{"cluster-north", "Runs everything north of the river", record.Machine, nil},
	{"depot-tarn", "Runs at the Tarn depot", record.Machine, nil},
}

var namespaces = []struct {
	name, about string
	open        bool
	group       string
	// owner is "" where the registry admins look after it.
	owner string
}{
	{"base", "Base images that the others build on", true, "platform", ""},
	{"timetable", "The journey planner and the station boards", false, "timetable", "teodor"},
	{"berths", "Selling beds", false, "berths", "marit"},
	{"rolling", "What runs on the trains", false, "rolling", ""},
	{"signals", "What goes to signal boxes", false, "signals", "jun"},
	{"outside", "Copies of what other companies publish", false, "platform", ""},
}

// roles are those that single accounts have; the groups write in their namespaces.
var roles = []struct {
	who   string
	place oci.Name
	role  record.Role
}{
	{"ada", "", record.Reader},
	// It began with too much, as it does: nothing of its own was ever deleted by it.
	{"ci-timetable", "timetable", record.Curator},
	{"ci-berths", "berths", record.Writer},
	{"ci-timetable", "rolling", record.Writer},
	{"cluster-north", "timetable", record.Reader},
	{"cluster-north", "berths", record.Reader},
	{"cluster-north", "signals", record.Reader},
	{"cluster-north", "outside", record.Reader},
	{"depot-tarn", "rolling", record.Reader},
	{"depot-tarn", "signals", record.Reader},
}

var tokens = []struct {
	who, name string
	scopes    []record.Scope
	days      int
}{
	{"ci-berths", "build pipeline", []record.Scope{{Pattern: "berths/*", Actions: []string{"pull", "push"}}}, 365},
	{"ci-timetable", "build pipeline", []record.Scope{{Pattern: "timetable/*", Actions: []string{"pull", "push"}}, {Pattern: "rolling/*", Actions: []string{"pull", "push"}}, {Pattern: "base/*", Actions: []string{"pull"}}}, 365},
	{"cluster-north", "cluster pull secret", []record.Scope{{Pattern: "*", Actions: []string{"pull"}}}, 0},
	{"depot-tarn", "depot", []record.Scope{{Pattern: "rolling/*", Actions: []string{"pull"}}, {Pattern: "signals/*", Actions: []string{"pull"}}}, 180},
	{"marit", "laptop, for the fair", []record.Scope{{Pattern: "berths/seatmap", Actions: []string{"pull"}}}, 14},
}

// settle makes the accounts, namespaces, roles and tokens of the sample world, and
// keeps the secrets by which machines come.
func (h *history) settle(ctx context.Context, a *access.Access, adminPassword string) error {
	if err := a.MakeFirstAdmin(ctx, adminPassword); err != nil {
		return err
	}
	admin, err := a.Password(ctx, "admin", adminPassword, "")
	if err != nil {
		return err
	}
	made := map[string]bool{}
	for _, p := range people {
		account := access.NewAccount{Name: p.name, Kind: p.kind, Description: p.about, Admin: p.name == "ines"}
		if p.kind == record.Person {
			account.Password = Password
		}
		if _, err := a.MakeAccount(ctx, admin, account); err != nil {
			return err
		}
	}
	for _, n := range namespaces {
		about, open := n.about, n.open
		if _, err := a.MakeNamespace(ctx, admin, n.name, access.PlaceChange{Description: &about, Open: &open}); err != nil {
			return err
		}
		if !made[n.group] {
			if _, err := a.MakeGroup(ctx, admin, n.group, fmt.Sprintf("The %s team", n.group), ""); err != nil {
				return err
			}
			made[n.group] = true
		}
		if err := a.GiveRole(ctx, admin, access.Member{Group: n.group}, oci.Name(n.name), record.Writer); err != nil {
			return err
		}
		if n.owner == "" {
			continue
		}
		if err := a.GiveRole(ctx, admin, access.Member{Account: n.owner}, oci.Name(n.name), record.Owner); err != nil {
			return err
		}
	}
	for _, p := range people {
		for _, g := range p.groups {
			if err := a.Join(ctx, admin, g, p.name); err != nil {
				return err
			}
		}
	}
	for _, r := range roles {
		if err := a.GiveRole(ctx, admin, access.Member{Account: r.who}, r.place, r.role); err != nil {
			return err
		}
	}
	for _, t := range tokens {
		_, secret, err := a.MakeToken(ctx, admin, access.NewToken{
			Account: t.who, Kind: record.TokenMade, Name: t.name, Scopes: t.scopes, Life: time.Duration(t.days) * 24 * time.Hour,
		})
		if err != nil {
			return err
		}
		h.secrets[t.who] = secret
	}
	delete(h.secrets, "marit")
	return nil
}
