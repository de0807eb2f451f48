package term

import (
	"encoding/json"
	"io"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/spf13/cobra"

	"warthesis/internal/oci"
)

// The forms of output.
const (
	OutputTable = "table"
	OutputJSON  = "json"
)

// AddOutput adds the flag that chooses the form of the output.
func AddOutput(c *cobra.Command, output *string) {
	c.Flags().StringVar(output, "output", OutputTable, "form of the output: table for people, json for scripts")
}

// CheckOutput fails where that form is none.
func CheckOutput(output string) error {
	if output != OutputTable && output != OutputJSON {
		return Usage("--output is %q: it is table or json", output)
	}
	return nil
}

// WriteJSON writes a value for scripts.
func WriteJSON(w io.Writer, v any) error {
	encoder := json.NewEncoder(w)
	encoder.SetIndent("", "  ")
	return encoder.Encode(v)
}

// NewTable returns a table as all commands draw it.
func NewTable(t Terminal, titles ...string) table.Writer {
	w := lines{table.NewWriter()}
	w.SetOutputMirror(t.Out)
	style := table.StyleDefault
	style.Box.PaddingLeft = ""
	style.Box.PaddingRight = "   "
	style.Format.Header = text.FormatDefault
	style.Options = table.OptionsNoBordersAndSeparators
	w.SetStyle(style)
	w.SuppressTrailingSpaces()
	header := make(table.Row, len(titles))
	for i, title := range titles {
		header[i] = title
	}
	w.AppendHeader(header)
	return w
}

// lines is a table whose cells are one line each, whoever wrote what stands in them.
type lines struct{ table.Writer }

// AppendRow adds a row.
func (l lines) AppendRow(row table.Row, config ...table.RowConfig) {
	for i, cell := range row {
		if text, is := cell.(string); is {
			row[i] = OneLine(text)
		}
	}
	l.Writer.AppendRow(row, config...)
}

// AlignRight sets columns of numbers to the right.
func AlignRight(w table.Writer, names ...string) {
	configs := make([]table.ColumnConfig, len(names))
	for i, name := range names {
		configs[i] = table.ColumnConfig{Name: name, Align: text.AlignRight, AlignHeader: text.AlignRight}
	}
	w.SetColumnConfigs(configs)
}

// Size writes bytes in binary units.
func Size(bytes int64) string { return humanize.IBytes(uint64(max(0, bytes))) }

// When writes a time as people say it.
func When(t *time.Time) string {
	if t == nil || t.IsZero() {
		return "never"
	}
	return humanize.Time(*t)
}

// shortLength is how many hex digits of a digest tables show.
const shortLength = 12

// Short returns the beginning of a digest, for people.
func Short(d oci.Digest) string {
	hex := d.Encoded()
	return hex[:min(shortLength, len(hex))]
}

// OrDash shows an empty value as a dash.
func OrDash(s string) string {
	if s == "" {
		return "-"
	}
	return s
}
