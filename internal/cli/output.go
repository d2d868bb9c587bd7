package cli

import (
	"encoding/csv"
	"encoding/json"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
)

// column is a column of a table; numbers stand to the right.
type column struct {
	name   string
	number bool
}

func left(name string) column  { return column{name, false} }
func right(name string) column { return column{name, true} }

// rows is a table under way. Cells are text as people read it; values, if set, are
// what CSV has instead.
type rows struct {
	columns []column
	cells   [][]cell
}

// cell is a value in both its forms.
type cell struct{ text, value string }

func str(s string) cell { return cell{s, s} }

func count(n int64) cell { return cell{grouped(n), strconv.FormatInt(n, 10)} }

func percent(ratio *float64) cell {
	if ratio == nil {
		return cell{"–", ""}
	}
	return cell{strconv.FormatFloat(*ratio*100, 'f', 1, 64) + " %", strconv.FormatFloat(*ratio, 'f', 4, 64)}
}

func bytes(n int64) cell { return cell{size(n), strconv.FormatInt(n, 10)} }

func millis(ms *float64) cell {
	if ms == nil {
		return cell{"–", ""}
	}
	return cell{span(*ms), strconv.FormatFloat(*ms, 'f', 3, 64)}
}

func clock(t time.Time) cell {
	return cell{t.Local().Format("2006-01-02 15:04:05"), t.UTC().Format(time.RFC3339)}
}

func (r *rows) add(cells ...cell) { r.cells = append(r.cells, cells) }

// print writes raw as JSON, or the rows as a table or CSV.
func (a *app) print(raw any, r *rows) error {
	switch a.format {
	case "json":
		return a.json(raw)
	case "csv":
		w := csv.NewWriter(a.out)
		line := make([]string, len(r.columns))
		for i, c := range r.columns {
			line[i] = strings.ReplaceAll(c.name, " ", "_")
		}
		if err := w.Write(line); err != nil {
			return err
		}
		for _, cells := range r.cells {
			for i, c := range cells {
				line[i] = c.value
			}
			if err := w.Write(line); err != nil {
				return err
			}
		}
		w.Flush()
		return w.Error()
	}
	t := table.NewWriter()
	t.SetOutputMirror(a.out)
	style := table.StyleDefault
	style.Options = table.Options{SeparateHeader: false}
	style.Box.PaddingLeft, style.Box.PaddingRight = "", "   "
	style.Format.Header = text.FormatDefault
	t.SetStyle(style)
	header := table.Row{}
	var configs []table.ColumnConfig
	for i, c := range r.columns {
		header = append(header, c.name)
		align := text.AlignLeft
		if c.number {
			align = text.AlignRight
		}
		configs = append(configs, table.ColumnConfig{Number: i + 1, Align: align, AlignHeader: align})
	}
	t.SetColumnConfigs(configs)
	t.AppendHeader(header)
	for _, cells := range r.cells {
		row := table.Row{}
		for _, c := range cells {
			row = append(row, string(harmless([]byte(oneLine.Replace(c.text)), inHex))) // before columns are measured
		}
		t.AppendRow(row)
	}
	t.SuppressTrailingSpaces()
	t.Render()
	return nil
}

// oneLine keeps a name from looking like two rows.
var oneLine = strings.NewReplacer("\n", `\n`, "\t", `\t`)

func (a *app) json(raw any) error {
	e := json.NewEncoder(plainJSON(a.out))
	e.SetIndent("", "  ")
	e.SetEscapeHTML(false)
	return e.Encode(raw)
}

// say writes a line for people; with -o json or csv it is left out.
func (a *app) say(format string, args ...any) {
	if a.format == "table" {
		fmt.Fprintf(a.out, format+"\n", args...)
	}
}

// grouped writes thousands apart, with a thin space as SI does.
func grouped(n int64) string {
	s := strconv.FormatInt(n, 10)
	sign := ""
	if n < 0 {
		sign, s = "-", s[1:]
	}
	for i := len(s) - 3; i > 0; i -= 3 {
		s = s[:i] + "\u2009" + s[i:]
	}
	return sign + s
}

func size(n int64) string {
	switch {
	case n >= 1<<30:
		return significant(float64(n)/(1<<30)) + " GiB"
	case n >= 1<<20:
		return significant(float64(n)/(1<<20)) + " MiB"
	case n >= 1<<10:
		return significant(float64(n)/(1<<10)) + " KiB"
	}
	return strconv.FormatInt(n, 10) + " B"
}

// span writes milliseconds with at most three significant digits, in a unit that fits.
func span(ms float64) string {
	switch {
	case ms >= 3_600_000:
		return significant(ms/3_600_000) + " h"
	case ms >= 60_000:
		return significant(ms/60_000) + " min"
	case ms >= 1000:
		return significant(ms/1000) + " s"
	case ms >= 1 || ms == 0:
		return significant(ms) + " ms"
	}
	return significant(ms*1000) + " µs"
}

func significant(v float64) string {
	switch {
	case v >= 100:
		return strconv.FormatFloat(v, 'f', 0, 64)
	case v >= 10:
		return strconv.FormatFloat(v, 'f', 1, 64)
	}
	return strconv.FormatFloat(v, 'f', 2, 64)
}

func plural(n int64, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return grouped(n) + " " + many
}
