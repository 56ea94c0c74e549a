package cli

import (
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/mattn/go-runewidth"
	"golang.org/x/term"
)

// paint says how states look in a terminal: a glyph, so that colour is never
// alone, and a colour of the 256, near the console's.
var paint = map[string]struct {
	glyph  string
	colour int
}{
	"rendering": {
		"◧", 74,
	},
	"done": {"●", 36}, "queued": {"○", 246}, "ready": {"□", 246}, "held": {"‖", 179}, "waiting": {"◌", 246},
	"done with gaps": {
		"◑", 185,
	},
	"failed": {"✕", 209}, "parked": {"▣", 209}, "cancelled": {"–", 242}, "silent": {"┄", 242},
	"away": {"╶", 242},
	"draining": {
		"▽", 179,
	},
	"passed": {"●", 36}, "suspect": {"◈", 185}, "off duty": {"☾", 242}, "to do": {"·", 246}, "verifying": {"◍", 153},
	"delivering": {"◍", 153}, "dealt": {"·", 246}, "skipped": {"▢", 242},
}

// table prints aligned columns with a header.
type table struct {
	w      io.Writer
	colour bool
	right  map[int]bool
	rows   [][]string
}

func newTable(w io.Writer, header ...string) *table {
	t := &table{w: w, colour: colours(w), right: map[int]bool{}}
	for i, h := range header {
		if name, ok := strings.CutPrefix(h, ">"); ok { // right-aligned
			t.right[i], header[i] = true, name
		}
	}
	t.rows = append(t.rows, header)
	return t
}

func (t *table) add(cells ...string) {
	for i, cell := range cells { // before it is measured
		cells[i] = visible(cell)
	}
	t.rows = append(t.rows, cells)
}

// state is a cell with glyph and word of a state.
func state(word string) string {
	if p, ok := paint[word]; ok {
		return p.glyph + " " + word
	}
	return word
}

// leastLast is how narrow the last column may be before it stands below its row.
const leastLast = 28

func (t *table) print() {
	widths := make([]int, len(t.rows[0]))
	for _, row := range t.rows {
		for i, cell := range row {
			widths[i] = max(widths[i], runewidth.StringWidth(cell))
		}
	}
	last := len(widths) - 1
	before := 2 * last // columns before the last one
	for _, w := range widths[:last] {
		before += w
	}
	room := columns(t.w)
	wrap := room > 0 && before+widths[last] > room && !t.right[last]
	below := wrap && room-before < leastLast // then the last column stands below its row
	for n, row := range t.rows {
		var line strings.Builder
		var more []string // lines of the last cell that follow
		if wrap && n > 0 {
			indent, width := before, room-before
			if below {
				indent, width = 4, max(20, room-4)
			}
			parts := wrapWords(row[last], width)
			row = slices.Clone(row)
			row[last] = ""
			if !below && len(parts) > 0 {
				row[last], parts = parts[0], parts[1:]
			}
			for _, p := range parts {
				if p != "" {
					more = append(more, strings.Repeat(" ", indent)+p)
				}
			}
		}
		for i, cell := range row {
			fill := strings.Repeat(" ", widths[i]-runewidth.StringWidth(cell))
			text := t.tint(cell, n == 0)
			switch {
			case t.right[i]:
				line.WriteString(fill + text)
			case i == len(row)-1:
				line.WriteString(text)
			default:
				line.WriteString(text + fill)
			}
			if i < len(row)-1 {
				line.WriteString("  ")
			}
		}
		fmt.Fprintln(t.w, strings.TrimRight(line.String(), " "))
		for _, m := range more {
			fmt.Fprintln(t.w, m)
		}
	}
}

// wrapWords breaks a text between its words into lines of the given width; a
// longer word has a line of its own.
func wrapWords(text string, width int) []string {
	var out []string
	line := ""
	for _, word := range strings.Fields(text) {
		if line != "" && runewidth.StringWidth(line)+1+runewidth.StringWidth(word) > width {
			out, line = append(out, line), ""
		}
		if line != "" {
			line += " "
		}
		line += word
	}
	return append(out, line)
}

// columns is how wide the terminal is to which a writer leads, and 0 where it
// leads elsewhere: then nothing is broken or cut.
func columns(w io.Writer) int {
	if s, ok := w.(screen); ok {
		w = s.to
	}
	f, ok := w.(*os.File)
	if !ok || !term.IsTerminal(int(f.Fd())) {
		return 0
	}
	wide, _, err := term.GetSize(int(f.Fd()))
	if err != nil {
		return 0
	}
	return wide
}

// fit shortens a text to a number of columns, but only where a person looks.
func (a *app) fit(text string, most int) string {
	if columns(a.out) == 0 {
		return text
	}
	return clip(text, most)
}

func (t *table) tint(cell string, header bool) string {
	if !t.colour {
		return cell
	}
	if header {
		return sgr + "2m" + cell + sgr + "0m"
	}
	glyph, word, ok := strings.Cut(cell, " ")
	if p, known := paint[word]; ok && known && p.glyph == glyph {
		return fmt.Sprintf(sgr+"38;5;%dm%s"+sgr+"0m", p.colour, cell)
	}
	return cell
}

// duration prints like 1h04m, 12m30s or 8s.
func duration(d time.Duration) string {
	d = d.Round(time.Second)
	switch {
	case d < 0:
		return "0s"
	case d < time.Minute:
		return fmt.Sprintf("%ds", int(d.Seconds()))
	case d < time.Hour:
		return fmt.Sprintf("%dm%02ds", int(d.Minutes()), int(d.Seconds())%60)
	}
	return fmt.Sprintf("%dh%02dm", int(d.Hours()), int(d.Minutes())%60)
}

// clock prints a time of day; with the weekday when it is not today, and with the
// date, or the year, where the weekday could be another week's.
func clock(t, now time.Time) string {
	t = t.Local()
	if y, m, d := t.Date(); func() bool { ny, nm, nd := now.Local().Date(); return y == ny && m == nm && d == nd }() {
		return t.Format("15:04:05")
	}
	switch {
	case t.Sub(now).Abs() < 6*24*time.Hour:
		return t.Format("Mon 15:04")
	case t.Year() == now.Local().Year():
		return t.Format("2 Jan 15:04")
	}
	return t.Format("2 Jan 2006")
}

// size prints bytes in binary units.
func size(n int64) string {
	units := []string{"B", "KiB", "MiB", "GiB", "TiB"}
	v, u := float64(n), 0
	for v >= 1024 && u < len(units)-1 {
		v /= 1024
		u++
	}
	if u == 0 {
		return fmt.Sprintf("%d B", n)
	}
	return fmt.Sprintf("%.1f %s", v, units[u])
}

// clip shortens a text to a number of columns.
func clip(text string, columns int) string { return runewidth.Truncate(text, columns, "…") }

// times prints how often something happened.
func times(n int) string {
	if n == 1 {
		return "once"
	}
	return fmt.Sprintf("%d times", n)
}
