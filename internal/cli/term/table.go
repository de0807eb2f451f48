package term

import (
	"fmt"

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
}

// Table returns a table with titles and no rows.
func (t Terminal) Table(titles ...string) *Table {
	return &Table{t: t, titles: titles, right: map[string]bool{}}
}

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

const (
	// betweenColumns is how many characters stand between two columns.
	betweenColumns = 3
	// leastWidth is how narrow a column is drawn at the least.
	leastWidth = 8
)

// widths returns how wide the columns are drawn, 0 for as wide as they are.
func (b *Table) widths(within int) []int {
	natural := make([]int, len(b.titles))
	for _, row := range append([][]string{b.titles}, b.rows...) {
		for i, cell := range row {
			natural[i] = max(natural[i], text.StringWidth(cell))
		}
	}
	total := betweenColumns * (len(natural) - 1)
	for _, w := range natural {
		total += w
	}
	drawn := make([]int, len(natural))
	for ; within > 0 && total > within; total-- {
		widest := 0
		for i, w := range natural {
			if w > natural[widest] {
				widest = i
			}
		}
		if natural[widest] <= leastWidth {
			break
		}
		natural[widest]--
		drawn[widest] = natural[widest]
	}
	return drawn
}

// Draw writes the table.
func (b *Table) Draw() {
	w := table.NewWriter()
	w.SetOutputMirror(b.t.Out)
	style := table.StyleDefault
	style.Box.PaddingLeft = ""
	style.Box.PaddingRight = "   "
	style.Format.Header = text.FormatDefault
	style.Options = table.OptionsNoBordersAndSeparators
	w.SetStyle(style)
	w.SuppressTrailingSpaces()
	configs := make([]table.ColumnConfig, len(b.titles))
	for i, width := range b.widths(b.t.Width()) {
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
