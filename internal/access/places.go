package access

import (
	"errors"
	"time"
	"unicode/utf8"

	"warthesis/internal/oci"
	"warthesis/internal/record"
	"warthesis/internal/rule"
)

// PlaceChange is what is to be changed of a namespace or a repository; nil fields stay.
type PlaceChange struct {
	Description *string
	Labels      *record.Labels
	// Open is for namespaces, Visibility for repositories.
	Open           *bool
	Visibility     *record.Visibility
	PushMakes      *record.Role
	NewDescription *string
	NewLabels      *record.Labels
	LogPulls       *bool
	// RestoreWindow is that of a namespace, in served time; 0 is as the registry has it.
	RestoreWindow *time.Duration
	// Rename is another name.
	Rename *string
	// OverSeals is the reason of an admin who renames although tags are sealed.
	OverSeals string
}

const (
	mostDescription = 2000
	mostLabels      = 64
	mostLabel       = 256
	mostReason      = 500
)

func (p PlaceChange) check(a *Access) error {
	for _, d := range []*string{p.Description, p.NewDescription} {
		if d != nil && utf8.RuneCountInString(*d) > mostDescription {
			return oci.Errorf(oci.CodeQueryInvalid, "the description has %d characters; at most %d are allowed", utf8.RuneCountInString(*d), mostDescription)
		}
	}
	for _, labels := range []*record.Labels{p.Labels, p.NewLabels} {
		if labels == nil {
			continue
		}
		if len(*labels) > mostLabels {
			return oci.Errorf(oci.CodeQueryInvalid, "there are %d labels, at most %d may be", len(*labels), mostLabels)
		}
		for name, value := range *labels {
			if name == "" || utf8.RuneCountInString(name) > mostLabel || utf8.RuneCountInString(value) > mostLabel {
				return oci.Errorf(oci.CodeQueryInvalid, "the label %.40q is empty, or it or its value has more than %d characters", name, mostLabel)
			}
		}
	}
	if p.RestoreWindow != nil && *p.RestoreWindow != 0 {
		if err := a.checkWindow(*p.RestoreWindow); err != nil {
			return err
		}
	}
	if p.PushMakes != nil && *p.PushMakes != record.NoRole && p.PushMakes.Rank() < record.Writer.Rank() {
		return oci.Errorf(oci.CodeQueryInvalid, "%q cannot be who makes repositories by pushing: it is writer, curator, owner or nobody", *p.PushMakes)
	}
	return nil
}

// set lays a value over another, where there is one, and notes what it was.
func set[T any, C any](target *T, value *T, column C, columns *[]C, what string, said *[]string) {
	if value != nil {
		*target = *value
		*columns = append(*columns, column)
		*said = append(*said, what)
	}
}

// onNamespace lays the change over a namespace, and says which columns and what.
func (p PlaceChange) onNamespace(n *record.Namespace) (columns []record.NamespaceColumn, said []string) {
	set(&n.Description, p.Description, record.NamespaceDescription, &columns, "description", &said)
	set(&n.Labels, p.Labels, record.NamespaceLabels, &columns, "labels", &said)
	set(&n.PushMakes, p.PushMakes, record.NamespacePushMakes, &columns, "who makes repositories by pushing", &said)
	set(&n.NewDescription, p.NewDescription, record.NamespaceNewDescription, &columns, "description of new repositories", &said)
	set(&n.NewLabels, p.NewLabels, record.NamespaceNewLabels, &columns, "labels of new repositories", &said)
	set(&n.LogPulls, p.LogPulls, record.NamespaceLogPulls, &columns, "whether pulls are logged", &said)
	if p.RestoreWindow != nil {
		set(&n.RestoreWindow, p.RestoreWindow, record.NamespaceRestoreWindow, &columns, "restore window "+sayWindow(*p.RestoreWindow), &said)
	}
	if p.Open != nil {
		set(&n.Open, p.Open, record.NamespaceOpen, &columns, map[bool]string{true: "open to everybody", false: "closed to all but members"}[*p.Open], &said)
	}
	return columns, said
}

// onRepository lays the change over a repository, and says which columns and what.
func (p PlaceChange) onRepository(r *record.Repository) (columns []record.RepositoryColumn, said []string) {
	set(&r.Description, p.Description, record.RepositoryDescription, &columns, "description", &said)
	set(&r.Labels, p.Labels, record.RepositoryLabels, &columns, "labels", &said)
	if p.Visibility != nil {
		set(&r.Visibility, p.Visibility, record.RepositoryVisibility, &columns, map[record.Visibility]string{
			record.VisibilityOpen: "open to everybody", record.VisibilityClosed: "closed to all but members", record.VisibilityInherited: "open or closed as the namespace is",
		}[*p.Visibility], &said)
	}
	return columns, said
}

// goneMeanwhile says that a place went between the question and the change.
func goneMeanwhile(what, name string, err error) error {
	if errors.Is(err, record.ErrNotFound) {
		return oci.Errorf(oci.CodeNameUnknown, "the %s %s was removed a moment ago", what, name)
	}
	return err
}

// MostRestoreWindow is the longest restore window.
const MostRestoreWindow = 366 * 24 * time.Hour

func (a *Access) checkWindow(window time.Duration) error {
	least := record.LeastWindow
	if a.Settings().ShortWindows {
		least = time.Second
	}
	if window < least || window > MostRestoreWindow {
		return oci.Errorf(oci.CodeQueryInvalid, "a restore window of %s cannot be: it has %s to %s", rule.Span(window), rule.Span(least), rule.Span(MostRestoreWindow))
	}
	return nil
}

func sayWindow(window time.Duration) string {
	return map[bool]string{true: "as the registry has it", false: rule.Span(window).String()}[window == 0]
}
