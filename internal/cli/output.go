package cli

import (
	"encoding/json"
	"fmt"
	"io"
	"os"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/spf13/cobra"
	"golang.org/x/term"

	"warthesis/internal/oci"
)

// The forms of output.
const (
	outputTable = "table"
	outputJSON  = "json"
)

func addOutput(c *cobra.Command, output *string) {
	c.Flags().StringVar(output, "output", outputTable, "form of the output: table for people, json for scripts")
}

func checkOutput(output string) error {
	if output != outputTable && output != outputJSON {
		return usage("--output is %q: it is table or json", output)
	}
	return nil
}

func writeJSON(w io.Writer, v any) error {
	encoder := json.NewEncoder(w)
	encoder.SetIndent("", "  ")
	return encoder.Encode(v)
}

// newTable returns a table as all commands draw it.
func newTable(t terminal, titles ...string) table.Writer {
	w := lines{table.NewWriter()}
	w.SetOutputMirror(t.out)
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
			row[i] = oneLine(text)
		}
	}
	l.Writer.AppendRow(row, config...)
}

// alignRight sets columns of numbers to the right.
func alignRight(w table.Writer, names ...string) {
	configs := make([]table.ColumnConfig, len(names))
	for i, name := range names {
		configs[i] = table.ColumnConfig{Name: name, Align: text.AlignRight, AlignHeader: text.AlignRight}
	}
	w.SetColumnConfigs(configs)
}

// size writes bytes in binary units.
func size(bytes int64) string { return humanize.IBytes(uint64(max(0, bytes))) }

// when writes a time as people say it.
func when(t *time.Time) string {
	if t == nil || t.IsZero() {
		return "never"
	}
	return humanize.Time(*t)
}

// shortLength is how many hex digits of a digest tables show.
const shortLength = 12

func short(d oci.Digest) string {
	hex := d.Encoded()
	return hex[:min(shortLength, len(hex))]
}

// unwrap returns what is behind a writer for people.
func unwrap(w io.Writer) io.Writer {
	if v, ok := w.(*visible); ok {
		return v.to
	}
	return w
}

// exactly returns where bytes are written as they are: not to a terminal, which would
// obey them.
func (t terminal) exactly() io.Writer {
	if isTerminal(t.out) {
		return t.out
	}
	return unwrap(t.out)
}

// isTerminal reports whether a person watches.
func isTerminal(w io.Writer) bool {
	f, ok := unwrap(w).(*os.File)
	return ok && term.IsTerminal(int(f.Fd()))
}

// transferReport is what push and pull print for scripts.
type transferReport struct {
	Digest       oci.Digest `json:"digest"`
	MediaType    string     `json:"media_type"`
	References   []string   `json:"references"`
	MovedBlobs   int        `json:"moved_blobs"`
	MovedBytes   int64      `json:"moved_bytes"`
	SkippedBlobs int        `json:"skipped_blobs"`
	SkippedBytes int64      `json:"skipped_bytes"`
}

// reportTransfer says what moved, and the names to copy.
func reportTransfer(t terminal, output, verb string, w *watcher, d oci.Descriptor, refs []oci.Reference) error {
	report := transferReport{
		Digest: d.Digest, MediaType: d.MediaType,
		MovedBlobs: w.moved.count, MovedBytes: w.moved.bytes, SkippedBlobs: w.skipped.count, SkippedBytes: w.skipped.bytes,
	}
	for _, ref := range refs {
		report.References = append(report.References, ref.WithDigest(d.Digest).String())
	}
	if output == outputJSON {
		return writeJSON(t.out, report)
	}
	fmt.Fprintf(t.out, "%s %s: %s moved (%s), %s already there (%s)\n", verb, refs[0],
		blobs(report.MovedBlobs), size(report.MovedBytes), blobs(report.SkippedBlobs), size(report.SkippedBytes))
	fmt.Fprintf(t.out, "Digest:    %s\n", report.Digest)
	for _, ref := range report.References {
		fmt.Fprintf(t.out, "Reference: %s\n", ref)
	}
	return nil
}

func blobs(n int) string {
	if n == 1 {
		return "1 blob"
	}
	return fmt.Sprintf("%d blobs", n)
}
