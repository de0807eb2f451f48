package upkeep

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"warthesis/internal/access"
	"warthesis/internal/oci"
	"warthesis/internal/record"
	"warthesis/internal/record/inuse"
	"warthesis/internal/rule"
)

// The bounds of what is said of a list of what is in use.
const (
	// LeastFresh and MostFresh bound for how long one refreshing is good.
	LeastFresh = time.Minute
	MostFresh  = 366 * 24 * time.Hour
	// UsuallyFresh is for how long where nobody says.
	UsuallyFresh = 3 * 24 * time.Hour
	mostAbout    = 500
)

// InUseList is a list of what is in use, as lists show it.
type InUseList struct {
	inuse.List
	Keeper string
	// Count is how many references it has now.
	Count int
	Stale bool
}

func noInUse(name string) error {
	return oci.Errorf(oci.CodeNameUnknown, "there is no list %.70s of what is in use here; a registry admin makes one", name)
}

// InUseLists returns the lists of what is in use, for whoever writes rules that name them,
// and for those who keep one.
func (u *Upkeep) InUseLists(ctx context.Context, c access.Caller) (shown []InUseList, err error) {
	may := u.seesRules(ctx, c, At{})
	view := u.Records.View(ctx)
	all, err := view.InUse().All()
	for _, list := range all {
		if !may && (c.Nobody() || list.KeeperID != c.Account.ID) {
			continue
		}
		one, failed := u.inUseList(view, list)
		if failed != nil {
			return nil, failed
		}
		shown = append(shown, one)
	}
	if len(shown) == 0 && err == nil {
		err = u.MaySeeRules(ctx, c, At{})
	}
	return shown, err
}

func (u *Upkeep) inUseList(view record.View, list inuse.List) (InUseList, error) {
	count, err := view.InUse().Count(list.ID)
	keeper, _ := u.Records.Rights().Account(list.KeeperID)
	return InUseList{List: list, Keeper: keeper.Name, Count: count, Stale: list.StaleServed() <= int64(u.Clock.Served())}, err
}

// MakeInUse makes a list of what is in use, or changes who keeps it and for how long it is
// fresh; it takes an admin. The keeper is an account, "" for admins alone.
func (u *Upkeep) MakeInUse(ctx context.Context, c access.Caller, list inuse.List, keeper string) error {
	if err := u.Access.Admin(c, "make lists of what is in use"); err != nil {
		return err
	}
	if err := rule.CheckListName(list.Name); err != nil {
		return oci.Errorf(oci.CodeQueryInvalid, "%s", err)
	}
	if list.FreshFor == 0 {
		list.FreshFor = UsuallyFresh
	}
	if list.FreshFor < LeastFresh || list.FreshFor > MostFresh {
		return oci.Errorf(oci.CodeQueryInvalid, "one refreshing is good for %s to %s", rule.Span(LeastFresh), rule.Span(MostFresh))
	}
	if utf8.RuneCountInString(list.Description) > mostAbout {
		return oci.Errorf(oci.CodeQueryInvalid, "a description has at most %d characters", mostAbout)
	}
	list.MadeAt = record.StampOf(u.Clock.Now())
	e := c.Event(record.EventInUseMade)
	e.Subject = "in-use list " + list.Name
	e.Detail = fmt.Sprintf("fresh for %s, kept by %s", rule.Span(list.FreshFor), orAdmins(keeper))
	err := u.Access.Change(ctx, c, e, func(tx *record.Tx) error {
		if keeper != "" {
			account, err := tx.Account(keeper)
			if errors.Is(err, record.ErrNotFound) {
				err = oci.Errorf(oci.CodeQueryInvalid, "there is no account %s to keep the list", keeper)
			}
			if err != nil {
				return err
			}
			list.KeeperID = account.ID
		}
		return tx.InUse().Make(list)
	})
	if errors.Is(err, inuse.ErrMost) {
		err = oci.Errorf(oci.CodeQueryInvalid, "there are %d lists of what is in use, which is the most", inuse.MostLists)
	}
	return err
}

func orAdmins(keeper string) string {
	if keeper == "" {
		return "admins"
	}
	return keeper
}

// RemoveInUse removes a list of what is in use; it takes an admin. Rules that name it keep
// all of their pattern from then on.
func (u *Upkeep) RemoveInUse(ctx context.Context, c access.Caller, name, reason string) error {
	if err := u.Access.Admin(c, "remove lists of what is in use"); err != nil {
		return err
	}
	if err := access.CheckReason(reason, true); err != nil {
		return err
	}
	e := c.Event(record.EventInUseRemoved)
	e.Subject, e.Detail = "in-use list "+name, reason
	err := u.Access.Change(ctx, c, e, func(tx *record.Tx) error {
		list, err := tx.InUse().Get(name)
		if err != nil {
			return err
		}
		return tx.InUse().Remove(list.ID)
	})
	if errors.Is(err, inuse.ErrNone) {
		err = noInUse(name)
	}
	return err
}

// InUseRefreshed is what a refreshing changed.
type InUseRefreshed struct{ Now, Came, Left int }

// RefreshInUse sets what is in use by a list, as its keeper or an admin: references with or
// without a host, of which hosts are this registry's, and digests alone. A list that would
// be empty or half as long as before is refused unless shrink says so. It fails with
// oci.CodeQueryInvalid.
func (u *Upkeep) RefreshInUse(ctx context.Context, c access.Caller, name string, references []string, hosts []string, shrink bool) (r InUseRefreshed, err error) {
	// Somebody may refresh it at the same time: the last one counts.
	for range 5 {
		r, err = u.refreshInUse(ctx, c, name, references, hosts, shrink)
		if !errors.Is(err, inuse.ErrChanged) {
			return r, err
		}
	}
	return r, oci.Errorf(oci.CodeInUse, "others refresh the list %s all the time; nothing was changed", name)
}

func (u *Upkeep) refreshInUse(ctx context.Context, c access.Caller, name string, references []string, hosts []string, shrink bool) (r InUseRefreshed, err error) {
	lists := u.Records.View(ctx).InUse()
	list, missing := lists.Get(name)
	if missing != nil && !errors.Is(missing, inuse.ErrNone) {
		return r, missing
	}
	if !c.Account.Admin && (missing != nil || c.Nobody() || list.KeeperID != c.Account.ID) {
		return r, u.Access.Denied(c, "in-use", "%s may not refresh the list %.70s of what is in use: that takes the account that keeps it, or a registry admin", c.Who(), name)
	}
	if !c.Whole() && c.Account.Admin {
		if err := u.Access.Admin(c, "refresh lists of what is in use"); err != nil {
			return r, err
		}
	}
	if missing != nil {
		return r, noInUse(name)
	}
	entries, err := readInUse(references, hosts)
	if err != nil {
		return r, err
	}
	served := int64(u.Clock.Served())
	there, err := lists.Entries(list.ID, served)
	if err != nil {
		return r, err
	}
	change := inuse.Change{Seen: list}
	now, was := map[inuse.Entry]bool{}, map[inuse.Entry]bool{}
	for _, e := range entries {
		now[e] = true
	}
	for _, e := range there {
		if e.LeftServed == 0 {
			was[e] = true
			if !now[e] {
				change.Left = append(change.Left, e)
			}
		}
	}
	for _, e := range entries {
		if !was[e] {
			change.Came = append(change.Came, e)
		}
	}
	if r = (InUseRefreshed{len(now), len(change.Came), len(change.Left)}); !shrink {
		if err := notLess(name, len(was), r.Now); err != nil {
			return r, err
		}
	}
	e := c.Event(record.EventInUseRefreshed)
	e.Subject = "in-use list " + name
	e.Detail = fmt.Sprintf("%d references: %d came, %d left", r.Now, r.Came, r.Left)
	do := func(tx *record.Tx) error {
		return tx.InUse().Refresh(change, tx.Now(), tx.Served(), c.Account.ID)
	}
	if r.Came+r.Left > 0 || list.RefreshedAt == 0 {
		err = u.Access.Change(ctx, c, e, do)
	} else {
		// That all is as it was is no line of the log: machines say so every few minutes.
		err = u.Records.Update(ctx, "in-use", func(tx *record.Tx) error { return errors.Join(access.StillMay(tx, c), do(tx)) })
	}
	if errors.Is(err, inuse.ErrTooMany) {
		err = oci.Errorf(oci.CodeQueryInvalid, "the list %s would have more than %d references, with those that left it within 30 days", name, inuse.MostEntries)
	}
	return r, err
}

// notLess refuses a list that lost half of what it had, which is more often a mistake than
// meant.
func notLess(name string, was, now int) error {
	switch {
	case now == 0:
		return oci.Errorf(oci.CodeQueryInvalid, "nothing would be in use by the list %s; if that is so, say that it may shrink", name)
	case 2*now <= was:
		return oci.Errorf(oci.CodeQueryInvalid, "the list %s would have %d references, and had %d; if that is so, say that it may shrink", name, now, was)
	}
	return nil
}

// readInUse reads references, each once.
func readInUse(references, hosts []string) ([]inuse.Entry, error) {
	if len(references) > inuse.MostEntries {
		return nil, oci.Errorf(oci.CodeQueryInvalid, "a list of what is in use has at most %d references, and this one %d", inuse.MostEntries, len(references))
	}
	seen := make(map[inuse.Entry]bool, len(references))
	var all []inuse.Entry
	for i, text := range references {
		e, err := readUsed(text, hosts)
		if err != nil {
			return nil, oci.Errorf(oci.CodeQueryInvalid, "reference %d is none: %s", i+1, err)
		}
		if !seen[e] {
			seen[e] = true
			all = append(all, e)
		}
	}
	slices.SortFunc(all, func(a, b inuse.Entry) int {
		return strings.Compare(a.Host+a.Repository+string(a.Tag)+string(a.Digest), b.Host+b.Repository+string(b.Tag)+string(b.Digest))
	})
	return all, nil
}

// readUsed reads one reference; without a host it is of this registry.
func readUsed(text string, hosts []string) (e inuse.Entry, err error) {
	if !strings.Contains(text, "/") && strings.Contains(text, ":") {
		if e.Digest, err = oci.ParseDigest(text); err == nil {
			return e, nil
		}
	}
	const here = "here.invalid"
	ref, err := oci.ParseReference(text)
	if err != nil {
		// Without a host it is one of this registry.
		var again error
		if ref, again = oci.ParseReference(here + "/" + text); again != nil {
			return e, err
		}
	}
	if e = (inuse.Entry{Host: ref.Registry, Repository: string(ref.Name), Tag: ref.Tag, Digest: ref.Digest}); e.Digest != "" {
		e.Tag = ""
	} else if e.Tag == "" {
		e.Tag = "latest"
	}
	if e.Host == here || slices.ContainsFunc(hosts, func(host string) bool { return strings.EqualFold(host, e.Host) }) {
		e.Host = ""
	}
	return e, nil
}

// InUseShown is a list with what is in it.
type InUseShown struct {
	InUseList
	Entries []inuse.Shown
	More    bool
}

// InUse returns a list with references behind one, at most limit: for those with a role on
// the registry and its keeper all, for others who write rules those of repositories that they
// may see. With absent only those that are not held here.
func (u *Upkeep) InUse(ctx context.Context, c access.Caller, name string, absent bool, after inuse.Entry, limit int) (shown InUseShown, err error) {
	view := u.Records.View(ctx)
	list, missing := view.InUse().Get(name)
	if missing != nil && !errors.Is(missing, inuse.ErrNone) {
		return shown, missing
	}
	all := missing == nil && !c.Nobody() && list.KeeperID == c.Account.ID
	if !all {
		if err := u.MaySeeRules(ctx, c, At{}); err != nil {
			return shown, err
		}
		all = u.Access.SeesRuns(c)
	}
	if missing != nil {
		return shown, noInUse(name)
	}
	if shown.InUseList, err = u.inUseList(view, list); err != nil {
		return shown, err
	}
	shown.Entries, err = view.InUse().Show(list.ID, int64(u.Clock.Served()), inuse.Filter{All: all, Seen: u.Access.Seen(c).Condition(), Absent: absent, After: after, Limit: limit + 1})
	if len(shown.Entries) > limit {
		shown.Entries, shown.More = shown.Entries[:limit], true
	}
	return shown, err
}
