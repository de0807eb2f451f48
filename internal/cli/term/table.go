package term

import (
	"fmt"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
)

// Table is a table as all commands draw it: one line a row where it goes to a file,
// and within the terminal's width where people look at it.
type Table struct {
	t      Terminal
	titles []string
	right  map[string]bool
	rows   [][]string
	// whole tells that what is in it is there to be copied, and no line is cut.
	whole bool
}

// Table returns a table with titles and no rows.
func (t Terminal) Table(titles ...string) *Table {
	return &Table{t: t, titles: titles, right: map[string]bool{}}
}

// Whole lets lines run on over the terminal's width.
func (b *Table) Whole() { b.whole = true }

// Right sets columns of numbers to the right.
func (b *Table) Right(titles ...string) {
	for _, title := range titles {
		b.right[title] = true
	}
}

// Row adds a row. What somebody wrote into a cell stays one line.
func (b *Table) Row(cells ...any) {
	row := make([]string, len(cells))
	for i, cell := range cells {
		row[i] = OneLine(fmt.Sprint(cell))
	}
	b.rows = append(b.rows, row)
}

// How many blanks stand between two columns, where there is room and where there is not.
const (
	wideGap   = 3
	narrowGap = 2
)

// column is how wide a column is, and how narrow it gets without a word cut in two.
type column struct{ is, words int }

// columns measures the columns.
func (b *Table) columns() []column {
	all := make([]column, len(b.titles))
	for _, row := range append([][]string{b.titles}, b.rows...) {
		for i, cell := range row {
			all[i].is = max(all[i].is, text.StringWidth(cell))
			for word := range strings.FieldsSeq(cell) {
				all[i].words = max(all[i].words, text.StringWidth(word))
			}
		}
	}
	return all
}

// fit returns how wide the columns are drawn, 0 for as wide as they are, and the gap
// between them. The widest give way first, and words are cut last of all.
func (b *Table) fit(within int) (drawn []int, gap int) {
	all := b.columns()
	drawn = make([]int, len(all))
	total := 0
	for _, c := range all {
		total += c.is
	}
	if gap = wideGap; within == 0 || b.whole || total+gap*(len(all)-1) <= within {
		return drawn, gap
	}
	gap = narrowGap
	for total += gap * (len(all) - 1); total > within; total-- {
		widest := -1
		for i, c := range all {
			if c.is > c.words && (widest < 0 || c.is > all[widest].is) {
				widest = i
			}
		}
		if widest < 0 {
			for i, c := range all {
				if widest < 0 || c.is > all[widest].is {
					widest = i
				}
			}
		}
		if all[widest].is < wideGap {
			break
		}
		all[widest].is--
		drawn[widest] = all[widest].is
	}
	return drawn, gap
}

// Draw writes the table.
func (b *Table) Draw() {
	w := table.NewWriter()
	w.SetOutputMirror(b.t.Out)
	style := table.StyleDefault
	style.Box.PaddingLeft = ""
	widths, gap := b.fit(b.t.Width())
	style.Box.PaddingRight = strings.Repeat(" ", gap)
	style.Format.Header = text.FormatDefault
	style.Options = table.OptionsNoBordersAndSeparators
	w.SetStyle(style)
	w.SuppressTrailingSpaces()
	configs := make([]table.ColumnConfig, len(b.titles))
	for i, width := range widths {
		configs[i] = table.ColumnConfig{Number: i + 1, WidthMax: width, WidthMaxEnforcer: text.WrapSoft}
		if b.right[b.titles[i]] {
			configs[i].Align, configs[i].AlignHeader = text.AlignRight, text.AlignRight
		}
	}
	w.SetColumnConfigs(configs)
	w.AppendHeader(asRow(b.titles))
	for _, row := range b.rows {
		w.AppendRow(asRow(row))
	}
	w.Render()
}

func asRow(cells []string) table.Row {
	row := make(table.Row, len(cells))
	for i, cell := range cells {
		row[i] = cell
	}
	return row
}

// Fields draws what is known of one thing, a line each; what is empty is left out.
func (t Terminal) Fields(title, name string, fields ...[2]string) {
	w := t.Table(title, name)
	for _, field := range fields {
		if field[1] != "" {
			w.Row(field[0], field[1])
		}
	}
	w.Draw()
}
