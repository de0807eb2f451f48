package demo

import (
	"context"
	"time"

	"warthesis/internal/access"
	"warthesis/internal/access/upkeep"
	"warthesis/internal/oci"
	"warthesis/internal/record"
)

// addresses are the places from which accounts come (RFC 5737).
var addresses = map[string]string{
	"ines": "192.0.2.11", "teodor": "192.0.2.12", "marit": "192.0.2.13", "jun": "192.0.2.14", "ada": "192.0.2.15",
	"ci-berths": "198.51.100.21", "ci-timetable": "198.51.100.22", "cluster-north": "198.51.100.31", "depot-tarn": "203.0.113.8",
}

// loginLife is how long the logins of people last.
const loginLife = 90 * 24 * time.Hour

// office is what people do besides pushing and pulling: they log in, look after their
// namespaces, help each other out, and are refused now and then.
func (h *history) office() {
	for i, who := range []string{"ines", "teodor", "marit", "jun", "ada"} {
		// At the beginning, and anew before that login ends.
		for _, when := range []float64{0.5, 61} {
			h.do(day(when+float64(i)/10, 8), who, h.logIn)
		}
	}
	change := func(namespace string, change access.PlaceChange) func(context.Context, *upkeep.Upkeep, access.Caller) error {
		return func(ctx context.Context, u *upkeep.Upkeep, c access.Caller) error {
			return u.Access.ChangeNamespace(ctx, c, namespace, change)
		}
	}
	label := func(team string) access.PlaceChange { return access.PlaceChange{Labels: &record.Labels{"team": team}} }
	h.do(day(33, 10), "teodor", change("timetable", label("timetable")))
	h.do(day(41, 14), "marit", change("berths", label("berths")))
	h.do(day(52, 9), "jun", change("signals", label("signals")))
	h.do(day(66, 11), "teodor", func(ctx context.Context, u *upkeep.Upkeep, c access.Caller) error {
		return u.Access.GiveRole(ctx, c, access.Member{Account: "depot-tarn"}, "timetable/board", record.Reader)
	})

	// By the groups that they are in: what is shown at the fair.
	for _, fair := range []struct {
		who string
		of  oci.Name
	}{{"teodor", "berths/checkout"}, {"marit", "timetable/board"}} {
		for _, a := range applications {
			if a.name == fair.of {
				n := len(a.versions)
				made, err := a.build(h.shared, a.versions[n-1], baseAt(n-1, n))
				h.push(day(84, 15), fair.who, a.name, made, err, "fair")
			}
		}
	}
	os, err := buildBase(h.shared, "os", baseVersions[len(baseVersions)-1])
	h.push(day(82, 13), "teodor", "base/os", os, err, "fair")

	// The auditor looks, and some want what is not theirs.
	for i, name := range []oci.Name{"signals/relay", "berths/pricing", "rolling/brakes-model"} {
		h.acts = append(h.acts, act{at: day(86, 10+i), who: "ada", name: name, action: access.Pull})
	}
	for _, no := range []struct {
		at     time.Duration
		who    string
		name   oci.Name
		action access.Action
	}{
		{day(71, 12), "ci-timetable", "berths/seatmap", access.Push}, {day(79, 16), "marit", "timetable/planner", access.Delete},
		{day(85, 9), "ada", "base/os", access.Push}, {day(87, 4), "depot-tarn", "timetable/planner", access.Pull},
	} {
		h.acts = append(h.acts, act{at: no.at, who: no.who, name: no.name, action: no.action, refused: true})
	}
}

// do lets somebody do what takes a right that is asked where it is done.
func (h *history) do(at time.Duration, who string, office func(context.Context, *upkeep.Upkeep, access.Caller) error) {
	h.acts = append(h.acts, act{at: at, who: who, office: office})
}

// logIn gives somebody a login on the laptop, in place of the one before.
func (h *history) logIn(ctx context.Context, u *upkeep.Upkeep, c access.Caller) error {
	a := u.Access
	if err := a.SignOut(ctx, c); err != nil {
		return err
	}
	name := c.Account.Name
	proved, err := a.As(ctx, name)
	if err != nil {
		return err
	}
	proved.Address = addresses[name]
	_, secret, err := a.NewLogin(ctx, proved, "login on "+name+"-laptop", loginLife)
	h.secrets[name] = secret
	return err
}
