package upkeep

import (
	"context"
	"encoding/json"
	"errors"
	"slices"
	"strings"
	"time"

	"warthesis/internal/access"
	"warthesis/internal/oci"
	"warthesis/internal/record"
	"warthesis/internal/record/quota"
	"warthesis/internal/record/usage"
	"warthesis/internal/rule/worth"
)

// The bounds of what is told of usage.
const (
	// MostChildren is how many places, images or layers are told one by one.
	MostChildren = 2000
	// mostNamespaces is how many are summed up.
	mostNamespaces = 100_000
	mostSharers    = 50
	mostLines      = 1000
	// mostLooked is how much that images name is looked at in one repository.
	mostLooked = 5_000_000
)

// Usage is how much a place holds.
type Usage struct {
	usage.Sums
	// Quotas are those around the place that have a bound, of what is used.
	Quotas []quota.Use
	// Reserved is what open uploads are to bring to the namespace.
	Reserved int64
	// Held is what counts for the namespace's quota: also what waits.
	Held     int64
	Children []UsageChild
	Shared   []usage.Sharer
	// More tells that there are more children.
	More bool
}

// UsageChild is a place, an image or a layer in a place.
type UsageChild struct {
	usage.Child
	// Tags are those of an image; Digest is that of an image or a layer.
	Names  []oci.Tag
	Digest oci.Digest
	Kind   string

	contents []int64
}

// place returns a place by its numbers, of a repository with that of its namespace.
func (u *Upkeep) place(ctx context.Context, name oci.Name) (record.GrantKey, error) {
	key, err := u.Access.Place(ctx, name)
	if err != nil || key.RepositoryID == 0 {
		return key, err
	}
	in, err := u.Records.View(ctx).LiveRepository(key.RepositoryID)
	if errors.Is(err, record.ErrNotFound) {
		err = oci.Errorf(oci.CodeNameUnknown, "the repository %s was removed a moment ago", name)
	}
	key.NamespaceID = in.NamespaceID
	return key, err
}

// Usage returns how much a place holds, and what is in it: namespaces of the registry,
// repositories of a namespace, images of a repository.
func (u *Upkeep) Usage(ctx context.Context, c access.Caller, place oci.Name) (all Usage, err error) {
	key, missing := u.place(ctx, place)
	if place != "" || c.Nobody() {
		if err := u.MaySeeUsage(ctx, c, place); err != nil {
			return all, err
		}
	}
	if missing != nil {
		return all, missing
	}
	end, err := u.Look(c)
	if err != nil {
		return all, err
	}
	defer end()
	view, seen := u.Records.View(ctx), u.Access.Seen(c).Condition()
	if place == "" {
		return u.registryUsage(ctx, c, view)
	}
	terms := u.Records.Terms(u.Grace)
	if all.Sums, err = view.Usage().Place(key.NamespaceID, key.RepositoryID, usage.Terms{Served: terms.Served, Grace: terms.Grace, Window: terms.Window, Floor: terms.Floor}, seen); err != nil {
		return all, err
	}
	namespace, err := view.Quota().Namespace(key.NamespaceID)
	if err != nil {
		return all, err
	}
	if all.Held = namespace.Used; namespace.Quota > 0 {
		all.Quotas = append(all.Quotas, namespace)
	}
	if all.Shared, err = view.Usage().SharedWith(key.NamespaceID, key.RepositoryID, seen, mostSharers); err != nil {
		return all, err
	}
	if key.RepositoryID != 0 {
		all.Children, err = u.imageUsage(ctx, c, key.RepositoryID)
		if all.More = len(all.Children) > MostChildren; all.More {
			all.Children = all.Children[:MostChildren]
		}
		if repository, failed := view.Quota().Repository(key.RepositoryID); failed == nil && repository.Quota > 0 {
			all.Quotas = append(all.Quotas, repository)
		}
		return all, err
	}
	children, err := view.Usage().Repositories(key.NamespaceID, seen, MostChildren+1)
	all.add(children, "repository")
	return all, err
}

func (u *Usage) add(children []usage.Child, kind string) {
	for _, child := range children[:min(len(children), MostChildren)] {
		u.Children = append(u.Children, UsageChild{Child: child, Kind: kind})
	}
	u.More = len(children) > MostChildren
}

// namespaceUsage tells of namespaces: those with a role on the registry of all, others of
// those to which they may push.
func (u *Upkeep) namespaceUsage(ctx context.Context, c access.Caller, view record.View) ([]usage.Child, error) {
	children, err := view.Usage().Namespaces(u.Access.Seen(c).Condition(), mostNamespaces)
	if !u.Access.SeesRuns(c) {
		children = slices.DeleteFunc(children, func(n usage.Child) bool { return !u.seesUsage(ctx, c, oci.Name(n.Name)) })
	}
	return children, err
}

// registryUsage tells of the registry what namespaceUsage does.
func (u *Upkeep) registryUsage(ctx context.Context, c access.Caller, view record.View) (all Usage, err error) {
	children, err := u.namespaceUsage(ctx, c, view)
	if err != nil {
		return all, err
	}
	all.add(children, "namespace")
	for _, child := range children {
		all.Seen, all.Waiting, all.Own = all.Seen+child.Seen, all.Waiting+child.Waiting, all.Own+child.Own
		all.Images, all.Tags = all.Images+child.Images, all.Tags+child.Tags
	}
	if u.Access.SeesRuns(c) {
		all.Quotas, err = view.Quota().All(mostQuotas)
		return all, err
	}
	if account, failed := view.Quota().Account(c.Account.ID); failed == nil && account.Quota > 0 {
		all.Quotas = append(all.Quotas, account)
	}
	return all, nil
}

// ImageUsage returns how much an image of a repository holds, by a tag or its digest.
func (u *Upkeep) ImageUsage(ctx context.Context, c access.Caller, name oci.Name, target string) (all Usage, err error) {
	key, missing := u.place(ctx, name)
	if err := u.MaySeeUsage(ctx, c, name); err != nil {
		return all, err
	}
	if missing == nil && key.RepositoryID == 0 {
		missing = oci.Errorf(oci.CodeQueryInvalid, "%s is no repository, and has no images", name)
	}
	if missing != nil {
		return all, missing
	}
	end, err := u.Look(c)
	if err != nil {
		return all, err
	}
	defer end()
	images, err := u.imageUsage(ctx, c, key.RepositoryID)
	if err != nil {
		return all, err
	}
	at := slices.IndexFunc(images, func(i UsageChild) bool {
		return string(i.Digest) == target || slices.Contains(i.Names, oci.Tag(target))
	})
	if at < 0 {
		return all, oci.Errorf(oci.CodeManifestUnknown, "the repository %s has no image %s that stands for itself: a part of an index is counted with that", name, target)
	}
	all.Sums, all.Children = images[at].Sums, images[at:at+1]
	all.Shared, err = u.Records.View(ctx).Usage().ContentsSharedWith(key.RepositoryID, images[at].contents, u.Access.Seen(c).Condition(), mostSharers)
	return all, err
}

// imageUsage tells what each image of a repository holds, that with the most own bytes first:
// of an index all that its children need as well.
func (u *Upkeep) imageUsage(ctx context.Context, c access.Caller, repository int64) (shown []UsageChild, err error) {
	var all *worth.Repository
	var edges []usage.Edge
	seen := u.Access.Seen(c).Condition()
	err = u.Records.Snapshot(ctx, func(view record.View) error {
		place, err := loadable(view, repository)
		if err != nil {
			return err
		}
		if all, err = view.Keeping().Load(place, nil); err != nil {
			return err
		}
		edges, err = view.Usage().Edges(repository, seen)
		return err
	})
	if err != nil {
		return nil, err
	}
	named := map[int64][]usage.Edge{}
	for _, e := range edges {
		named[e.ManifestID] = append(named[e.ManifestID], e)
	}
	roots := all.Roots()
	contents, images := make([]map[int64]usage.Edge, len(roots)), make([]int, len(roots))
	holders := map[int64]int{}
	looked := 0
	for i, root := range roots {
		contents[i] = map[int64]usage.Edge{}
		closure := all.Closure(root)
		images[i] = len(closure)
		for _, m := range closure {
			for _, e := range named[all.Images[m].ID] {
				contents[i][e.ContentID] = e
			}
		}
		for id := range contents[i] {
			holders[id]++
		}
		if looked += len(contents[i]); looked > mostLooked {
			return nil, oci.Errorf(oci.CodeQueryInvalid, "the images of the repository share so much that they are not told one by one")
		}
	}
	for i, root := range roots {
		child := UsageChild{Kind: "image", Digest: all.Images[root].Digest, Names: all.NamesOf(root)}
		for id, e := range contents[i] {
			child.contents = append(child.contents, id)
			if child.Seen += e.Size; holders[id] == 1 && !e.Elsewhere {
				child.Own += e.Size
			}
		}
		child.Child.Tags, child.Images = int64(len(child.Names)), int64(images[i])
		shown = append(shown, child)
	}
	slices.SortFunc(shown, func(a, b UsageChild) int {
		if a.Own != b.Own {
			return int(min(1, max(-1, b.Own-a.Own)))
		}
		return strings.Compare(string(a.Digest), string(b.Digest))
	})
	return shown, nil
}

// Growth returns the samples of a place of the last days.
func (u *Upkeep) Growth(ctx context.Context, c access.Caller, place oci.Name, days int64) ([]usage.Sample, error) {
	key, missing := u.place(ctx, place)
	if err := u.MaySeeUsage(ctx, c, place); err != nil {
		return nil, err
	}
	if missing != nil {
		return nil, missing
	}
	return u.Records.View(ctx).Usage().Growth(key.NamespaceID, key.RepositoryID, usage.DayOf(u.Clock.Now())-days)
}

// Traffic returns what went in and out of a namespace or of the registry in the last days.
func (u *Upkeep) Traffic(ctx context.Context, c access.Caller, place oci.Name, by string, days int64) ([]usage.Line, error) {
	if strings.Contains(string(place), "/") {
		return nil, oci.Errorf(oci.CodeQueryInvalid, "what goes in and out is counted by namespace and by account, not by repository; name %s", place.Namespace())
	}
	key, missing := u.place(ctx, place)
	if err := u.MaySeeUsage(ctx, c, place); err != nil {
		return nil, err
	}
	if missing != nil {
		return nil, missing
	}
	// Who pulls is for those who say who may.
	if by == usage.ByAccount && !u.Access.SeesRuns(c) {
		if v, err := u.Access.Verdict(ctx, c, place+"/", access.Manage); err != nil || !v.Allowed {
			return nil, errors.Join(err, oci.Errorf(oci.CodeDenied, "%s may not see which accounts pull from %s: that takes an owner there, or a role on the registry", c.Who(), place))
		}
	}
	return u.Records.View(ctx).Usage().Traffic(by, key.NamespaceID, usage.DayOf(u.Clock.Now())-days+1, u.Access.Seen(c).Condition(), mostLines)
}

// LabelSum is how much all places hold that have a value of a label.
type LabelSum struct {
	Value string
	usage.Sums
	Places int
	// Out is what went out of the namespaces within 30 days, in bytes.
	Out int64
}

// ByLabel sums up how much the namespaces hold, by the value of one of their labels; those
// without it have the value "".
func (u *Upkeep) ByLabel(ctx context.Context, c access.Caller, label string) ([]LabelSum, error) {
	if c.Nobody() {
		return nil, u.Access.AsLoggedIn(c)
	}
	end, err := u.Look(c)
	if err != nil {
		return nil, err
	}
	defer end()
	children, err := u.namespaceUsage(ctx, c, u.Records.View(ctx))
	if err != nil {
		return nil, err
	}
	out, err := u.Outgoing(ctx, c)
	if err != nil {
		return nil, err
	}
	sums := map[string]*LabelSum{}
	for _, child := range children {
		var labels map[string]string
		if child.Labels != "" {
			if err := json.Unmarshal([]byte(child.Labels), &labels); err != nil {
				return nil, err
			}
		}
		value := labels[label]
		sum := sums[value]
		if sum == nil {
			sum = &LabelSum{Value: value}
			sums[value] = sum
		}
		sum.Places++
		sum.Seen, sum.Own, sum.Waiting = sum.Seen+child.Seen, sum.Own+child.Own, sum.Waiting+child.Waiting
		sum.Images, sum.Tags, sum.Out = sum.Images+child.Images, sum.Tags+child.Tags, sum.Out+out[child.ID]
	}
	shown := make([]LabelSum, 0, len(sums))
	for _, sum := range sums {
		shown = append(shown, *sum)
	}
	slices.SortFunc(shown, func(a, b LabelSum) int { return strings.Compare(a.Value, b.Value) })
	return shown, nil
}

// outDays is over how many days what goes out is summed up for its cost.
const outDays = 30

// Outgoing returns how many bytes went out of each namespace that is seen within 30 days.
func (u *Upkeep) Outgoing(ctx context.Context, c access.Caller) (map[int64]int64, error) {
	since := usage.DayOf(u.Clock.Now().Add(-outDays*24*time.Hour)) + 1
	lines, err := u.Records.View(ctx).Usage().Traffic(usage.ByNamespace, 0, since, u.Access.Seen(c).Condition(), mostNamespaces)
	out := make(map[int64]int64, len(lines))
	for _, line := range lines {
		out[line.NamespaceID] = line.BytesOut
	}
	return out, err
}
