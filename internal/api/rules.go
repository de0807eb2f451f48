package api

import (
	"context"
	"net/http"
	"net/url"
	"time"

	"warthesis/internal/oci"
)

// Seal says why a tag is sealed.
type Seal struct {
	// Rule is absent for a seal by hand.
	Rule   string     `json:"rule,omitempty" doc:"The rule in its own words; absent where somebody sealed the tag by hand"`
	Of     string     `json:"of,omitempty" doc:"Where the rule stands"`
	Number int        `json:"number,omitempty" doc:"Which one it is there, from 1"`
	By     string     `json:"by,omitempty" doc:"Who sealed the tag by hand"`
	At     *time.Time `json:"at,omitempty" doc:"When somebody sealed it"`
	Reason string     `json:"reason,omitempty" doc:"Because of what, as the rule or who sealed it says"`
	Why    string     `json:"why" doc:"All this in a sentence"`
}

// Rule is a rule of a list.
type Rule struct {
	Number  int    `json:"number" doc:"Which one it is in its list, from 1"`
	Words   string `json:"words"`
	Because string `json:"because,omitempty"`
	Line    int    `json:"line" doc:"Where it begins in the words of the list, from 1"`
	Use     string `json:"use,omitempty" doc:"The list whose rules stand here"`
}

// RuleList is a list of rules.
type RuleList struct {
	Kind      string     `json:"kind" enum:"immutability,retention"`
	Place     oci.Name   `json:"place,omitempty" doc:"A namespace or a repository; with no name either, the registry"`
	List      string     `json:"list,omitempty" doc:"The list's own name"`
	Words     string     `json:"words" doc:"The list as it was set, as YAML"`
	Rules     []Rule     `json:"rules" nullable:"false"`
	Reason    string     `json:"reason,omitempty" doc:"Why it was set so"`
	ChangedAt *time.Time `json:"changed_at,omitempty" doc:"Absent where nothing was set"`
	ChangedBy string     `json:"changed_by,omitempty"`
	UsedBy    []string   `json:"used_by" nullable:"false" doc:"The places that use a list with a name, as people say them"`

	Waits        bool          `json:"waits,omitempty" doc:"Whether it does not act yet; of retention rules alone, as all that follows"`
	ActsAt       *time.Time    `json:"acts_at,omitempty" doc:"From when it acts, about; absent where it does not wait"`
	Reaches      int           `json:"reaches,omitempty" doc:"Number of repositories that its rules speak of"`
	Waiting      []RuleWaiting `json:"waiting,omitempty" doc:"The first repositories of which it would take so much that it waits once more"`
	UnknownInUse []string      `json:"unknown_in_use,omitempty" doc:"Lists of what is in use that it asks and that are not there"`
	NextRun      *time.Time    `json:"next_run,omitempty" doc:"When retention rules act next by themselves, about; absent for never"`
}

// RuleLists are the lists that have names.
type RuleLists struct {
	Lists []RuleList `json:"lists" nullable:"false"`
}

// SetRules is a list to be set.
type SetRules struct {
	Words  string `json:"words" maxLength:"65536" doc:"The list, as YAML"`
	Reason string `json:"reason" maxLength:"500" doc:"Why, for the audit log"`
}

// TryRules is a list to be looked at.
type TryRules struct {
	Words      string   `json:"words" maxLength:"65536" doc:"The list, as YAML"`
	Repository oci.Name `json:"repository,omitempty" maxLength:"255" doc:"With a tag: a name to try the list on"`
	Tag        oci.Tag  `json:"tag,omitempty" maxLength:"128"`
}

// RulePreview is what a list would do.
type RulePreview struct {
	Reaches      int             `json:"reaches" doc:"Number of repositories that its rules speak of"`
	Repositories []oci.Name      `json:"repositories" nullable:"false" doc:"The first of them"`
	Tags         int             `json:"tags" doc:"Number of tags that were looked at"`
	Sealed       int             `json:"sealed" doc:"Number of them that would be sealed"`
	NewlySealed  int             `json:"newly_sealed" doc:"Number of them that are not sealed now"`
	Freed        int             `json:"freed" doc:"Number of tags that are sealed now and would not be"`
	Seals        []PreviewedSeal `json:"seals" nullable:"false" doc:"The first of those that would be sealed newly"`
	Frees        []PreviewedSeal `json:"frees" nullable:"false" doc:"The first of those that would be free"`
	Refused      int             `json:"refused" doc:"Number of moves and removals of the last 30 days that it would have refused"`
	Refusals     []Refusal       `json:"refusals" nullable:"false" doc:"The last of them"`
	More         bool            `json:"more" doc:"Whether there is more than was looked at"`
	// Tried is absent where no name was given.
	Tried *RuleExplanation `json:"tried,omitempty" doc:"Which rule would decide of the name that was given"`
}

// PreviewedSeal is a tag that a list would seal or free.
type PreviewedSeal struct {
	Repository oci.Name   `json:"repository"`
	Tag        oci.Tag    `json:"tag"`
	Digest     oci.Digest `json:"digest"`
	Why        string     `json:"why"`
}

// Refusal is what a list would have refused.
type Refusal struct {
	Repository oci.Name  `json:"repository"`
	Tag        oci.Tag   `json:"tag"`
	Act        string    `json:"act" enum:"move,remove"`
	At         time.Time `json:"at"`
	By         string    `json:"by,omitempty"`
	Why        string    `json:"why"`
}

// RuleAnswer is one rule as it was asked of a tag.
type RuleAnswer struct {
	Of      string `json:"of" doc:"Where the rule stands"`
	Number  int    `json:"number"`
	Words   string `json:"words"`
	Because string `json:"because,omitempty"`
	Decides bool   `json:"decides"`
	WhyNot  string `json:"why_not,omitempty" doc:"Why it does not decide"`
}

// RuleExplanation says which rule decides of a tag, and why the others do not.
type RuleExplanation struct {
	Repository oci.Name     `json:"repository"`
	Tag        oci.Tag      `json:"tag"`
	There      bool         `json:"there" doc:"Whether there is such a tag; where there is none, one can be made whatever rules say"`
	Digest     oci.Digest   `json:"digest,omitempty"`
	Seal       *Seal        `json:"seal,omitempty" doc:"Absent where it is not sealed"`
	Answers    []RuleAnswer `json:"answers" nullable:"false" doc:"The rules in the order in which they are asked"`
	Hidden     int          `json:"hidden" doc:"Number of rules that do not decide, of lists that the caller may not see; 0 to who may not push there"`
}

// SealChange seals or unseals a tag by hand.
type SealChange struct {
	Tag    oci.Tag `json:"tag" maxLength:"128"`
	Seal   bool    `json:"seal" doc:"Whether to seal it, or to take the seal away"`
	Reason string  `json:"reason" maxLength:"500" doc:"Why, for the tag and the audit log"`
}

// Rules returns a list of rules.
func (c *Client) Rules(ctx context.Context, at url.Values) (RuleList, error) {
	var list RuleList
	return list, c.get(ctx, "/api/v1/rules", at, &list)
}

// SetRules sets a list of rules.
func (c *Client) SetRules(ctx context.Context, at url.Values, set SetRules) error {
	return c.Do(ctx, http.MethodPut, "/api/v1/rules", at, set, nil)
}

// TryRules returns what a list would do.
func (c *Client) TryRules(ctx context.Context, at url.Values, words string) (RulePreview, error) {
	var p RulePreview
	return p, c.Do(ctx, http.MethodPost, "/api/v1/rules/preview", at, TryRules{Words: words}, &p)
}

// ExplainRules says which rule decides of a tag.
func (c *Client) ExplainRules(ctx context.Context, name oci.Name, tag oci.Tag) (RuleExplanation, error) {
	var e RuleExplanation
	return e, c.get(ctx, "/api/v1/rules/explain", url.Values{"repository": {string(name)}, "tag": {string(tag)}}, &e)
}

// ChangeSeal seals or unseals a tag by hand.
func (c *Client) ChangeSeal(ctx context.Context, name oci.Name, change SealChange) error {
	return c.Do(ctx, http.MethodPost, "/api/v1/seal", url.Values{"repository": {string(name)}}, change, nil)
}
