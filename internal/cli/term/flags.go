package term

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"warthesis/internal/rule"
)

// once is a flag's value that is given once; given twice, one of the two would go
// without a word. Values that are lists gather.
type once struct {
	pflag.Value
	given bool
}

// Set takes the value.
func (o *once) Set(s string) error {
	if !o.given {
		o.given = true
		return o.Value.Set(s)
	}
	if o.Type() == "list" {
		return o.Value.Set(o.String() + "," + s)
	}
	return errors.New("it is given twice")
}

// IsBoolFlag tells that the value may be left out.
func (o *once) IsBoolFlag() bool { return o.Type() == "bool" }

// OnlyOnce lets each flag that is no list be given once.
func OnlyOnce(flags *pflag.FlagSet) {
	flags.VisitAll(func(f *pflag.Flag) {
		_, gathers := f.Value.(pflag.SliceValue)
		if _, already := f.Value.(*once); !already && !gathers {
			f.Value = &once{Value: f.Value}
		}
	})
}

// ValueOf returns what a flag's value is, below what all flags have in common.
func ValueOf(f *pflag.Flag) pflag.Value {
	if o, is := f.Value.(*once); is {
		return o.Value
	}
	return f.Value
}

// choice is a flag's value that is one of a few words.
type choice struct {
	to    *string
	words []string
}

// Choice adds a flag whose value is one of a few words.
func Choice(f *pflag.FlagSet, to *string, name, value, usage string, words ...string) {
	*to = value
	f.Var(&choice{to, words}, name, usage)
}

// Set takes one of the words.
func (c *choice) Set(s string) error {
	if !slices.Contains(c.words, s) {
		return fmt.Errorf("it is %s", Or(c.words))
	}
	*c.to = s
	return nil
}

// String returns the word.
func (c *choice) String() string {
	if c.to == nil {
		return ""
	}
	return *c.to
}

// Type shows the words in the help.
func (c *choice) Type() string { return strings.Join(c.words, "|") }

// Words returns what the value may be.
func (c *choice) Words() []string { return c.words }

// Or joins words as people list alternatives.
func Or(words []string) string {
	if len(words) < 2 {
		return strings.Join(words, "")
	}
	return strings.Join(words[:len(words)-1], ", ") + " or " + words[len(words)-1]
}

// number is a flag's value that is a whole number within bounds.
type number struct {
	to          *int
	least, most int
}

// Number adds a flag whose value is a whole number from least to most.
func Number(f *pflag.FlagSet, to *int, name string, value, least, most int, usage string) {
	*to = value
	f.Var(&number{to, least, most}, name, usage)
}

// Set takes a number.
func (n *number) Set(s string) error {
	value, err := strconv.Atoi(s)
	if err != nil || value < n.least || value > n.most {
		return fmt.Errorf("it is a whole number from %d to %d", n.least, n.most)
	}
	*n.to = value
	return nil
}

// String returns the number.
func (n *number) String() string {
	if n.to == nil {
		return "0"
	}
	return strconv.Itoa(*n.to)
}

// Type names the kind of value in the help.
func (n *number) Type() string { return "number" }

// span is a flag's value that is a span of time.
type span struct{ to *rule.Span }

// Span adds a flag whose value is a span of time, as in 90s, 12h, 30d or 2w.
func Span(f *pflag.FlagSet, to *rule.Span, name, usage string) { f.Var(&span{to}, name, usage) }

// Set takes a span.
func (s *span) Set(text string) (err error) {
	*s.to, err = rule.ParseSpan(text)
	return err
}

// String returns the span.
func (s *span) String() string {
	if s.to == nil || *s.to == 0 {
		return ""
	}
	return s.to.String()
}

// Type names the kind of value in the help.
func (s *span) Type() string { return "span" }

// texts is a flag's value that may be given several times.
type texts struct{ to *[]string }

// Texts adds a flag that may be given several times.
func Texts(f *pflag.FlagSet, to *[]string, name, usage string) {
	f.Var(&texts{to}, name, usage+"; may be given several times")
}

// Set adds a value.
func (t *texts) Set(s string) error {
	*t.to = append(*t.to, s)
	return nil
}

// String is empty: there is no default.
func (t *texts) String() string { return "" }

// Type names the kind of value in the help.
func (t *texts) Type() string { return "string..." }

// Append, Replace and GetSlice tell that values gather.
func (t *texts) Append(s string) error { return t.Set(s) }

// Replace takes values in place of those there were.
func (t *texts) Replace(all []string) error {
	*t.to = all
	return nil
}

// GetSlice returns the values.
func (t *texts) GetSlice() []string { return *t.to }

// FlagError says in a sentence what is wrong with a flag.
func FlagError(c *cobra.Command, err error) error {
	var value *pflag.InvalidValueError
	var unknown *pflag.NotExistError
	var bare *pflag.ValueRequiredError
	said := ""
	switch {
	case errors.As(err, &value):
		why := errors.Unwrap(value).Error()
		switch ValueOf(value.GetFlag()).Type() {
		case "bool":
			if !strings.HasPrefix(why, "it is") {
				why = "it is true or false"
			}
		case "int", "int64":
			why = "it is a whole number"
		}
		said = fmt.Sprintf("--%s is %q: %s", value.GetFlag().Name, value.GetValue(), why)
		switch {
		case strings.HasPrefix(why, strconv.Quote(value.GetValue())):
			said = fmt.Sprintf("--%s: %s", value.GetFlag().Name, why)
		case why == "it is given twice":
			said = fmt.Sprintf("--%s is given twice", value.GetFlag().Name)
		}
	case errors.As(err, &unknown):
		said = fmt.Sprintf("there is no flag --%s here%s", unknown.GetSpecifiedName(), meant(unknown.GetSpecifiedName(), "--", flagNames(c)))
	case errors.As(err, &bare):
		said = fmt.Sprintf("--%s needs a value", bare.GetFlag().Name)
	default:
		said = err.Error()
	}
	return Usage("%s (see %s --help)", said, c.CommandPath())
}

func flagNames(c *cobra.Command) []string {
	var names []string
	c.Flags().VisitAll(func(f *pflag.Flag) { names = append(names, f.Name) })
	return names
}

// meant names what is nearly what was written, "" where nothing is.
func meant(written, before string, names []string) string {
	var near []string
	for _, name := range names {
		if distance(written, name) <= max(1, len(written)/3) || len(written) > 2 && strings.HasPrefix(name, written) {
			near = append(near, before+name)
		}
	}
	if len(near) == 0 {
		return ""
	}
	return "; is " + Or(near) + " meant?"
}

// distance is how many letters have to be changed, added or left out.
func distance(a, b string) int {
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := range len(a) {
		diagonal := row[0]
		row[0] = i + 1
		for j := range len(b) {
			next := min(row[j+1], row[j]) + 1
			if a[i] == b[j] {
				next = min(next, diagonal)
			} else {
				next = min(next, diagonal+1)
			}
			diagonal, row[j+1] = row[j+1], next
		}
	}
	return row[len(b)]
}

// otherWords are what people write for the verbs of our commands.
var otherWords = map[string]string{
	"create": "make", "new": "make", "add": "make", "set": "change", "update": "change", "edit": "change", "get": "show", "info": "show",
	"ls": "list", "mv": "rename", "rm": "remove", "delete": "remove", "del": "remove", "undelete": "restore", "revoke": "remove",
}

// NoCommand is the wrong use of a command that is not there.
func NoCommand(parent *cobra.Command, word string) error {
	var names []string
	for _, c := range parent.Commands() {
		if !c.Hidden {
			names = append(names, c.Name())
		}
	}
	near := meant(word, "", names)
	if other := otherWords[word]; slices.Contains(names, other) {
		near = "; is " + other + " meant?"
	}
	return Usage("there is no command %q%s; %s --help lists them", strings.TrimPrefix(parent.CommandPath()+" "+word, "warthesis "), near, parent.CommandPath())
}
