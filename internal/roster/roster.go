// Package roster reads and writes lists of nodes as CSV (RFC 4180), to
// announce machines ahead and to keep what is set about them outside. See
// docs/nodes.md for the columns.
//
// It knows the form alone: what a farm makes of a list is not its business.
package roster

import (
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"

	"github.com/dustin/go-humanize"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/hours"
)

// Row is one node of a list.
type Row struct {
	Line     int // in the file, from 1
	Name     string
	Kind     farm.NodeKind
	Settings farm.Settings
}

// Error says where in a list something is wrong.
type Error struct {
	Line   int
	Column string // its name; empty where the whole line is meant
	Err    error
}

// Error names line and column.
func (e *Error) Error() string {
	if e.Column == "" {
		return fmt.Sprintf("line %d: %v", e.Line, e.Err)
	}
	return fmt.Sprintf("line %d, column %s: %v", e.Line, e.Column, e.Err)
}

// Unwrap returns what is wrong.
func (e *Error) Unwrap() error { return e.Err }

// mostRows bounds a list.
const mostRows = 20_000

// column is one column of a list: how a cell is read into a row, and written.
type column struct {
	name  string
	read  func(r *Row, cell string) error
	write func(r Row) string
}

var columns = []column{
	{
		"name", func(r *Row, cell string) error { r.Name = cell; return farm.CheckNodeName(cell) },
		func(r Row) string { return r.Name },
	},
	{"kind", func(r *Row, cell string) error {
		r.Kind = farm.NodeKind(cell)
		if r.Kind != farm.Rack && r.Kind != farm.Desk {
			return fmt.Errorf("a node is a rack or a desk, not %q", cell)
		}
		return nil
	}, func(r Row) string { return string(r.Kind) }},
	{"pools", func(r *Row, cell string) error { r.Settings.Pools = strings.Fields(cell); return nil },
		func(r Row) string { return strings.Join(r.Settings.Pools, " ") }},
	{"traits", func(r *Row, cell string) error { r.Settings.Traits = strings.Fields(cell); return nil },
		func(r Row) string { return strings.Join(r.Settings.Traits, " ") }},
	{
		"cores", func(r *Row, cell string) error { return whole(&r.Settings.Caps.Cores, cell) },
		func(r Row) string { return number(r.Settings.Caps.Cores) },
	},
	{
		"memory", func(r *Row, cell string) error { return amount(&r.Settings.Caps.MemoryBytes, cell) },
		func(r Row) string { return size(r.Settings.Caps.MemoryBytes) },
	},
	{
		"staging", func(r *Row, cell string) error { return amount(&r.Settings.Caps.StagingBytes, cell) },
		func(r Row) string { return size(r.Settings.Caps.StagingBytes) },
	},
	{
		"leases", func(r *Row, cell string) error { return whole(&r.Settings.Caps.Leases, cell) },
		func(r Row) string { return number(r.Settings.Caps.Leases) },
	},
	{
		"spare", func(r *Row, cell string) error { return amount(&r.Settings.Caps.SpareBytes, cell) },
		func(r Row) string { return size(r.Settings.Caps.SpareBytes) },
	},
	{"kept", func(r *Row, cell string) error { r.Settings.Caps.KeptDevices = strings.Fields(cell); return nil },
		func(r Row) string { return strings.Join(r.Settings.Caps.KeptDevices, " ") }},
	{
		"nice", func(r *Row, cell string) error { return whole(&r.Settings.Caps.Nice, cell) },
		func(r Row) string { return number(r.Settings.Caps.Nice) },
	},
	{"hours", func(r *Row, cell string) error {
		if cell == "" || cell == "always" {
			return nil
		}
		week, err := hours.ParseWeek(cell)
		if r.Settings.Hours == nil {
			r.Settings.Hours = &hours.Hours{}
		}
		r.Settings.Hours.Week = week
		return err
	}, func(r Row) string {
		if r.Settings.Hours == nil {
			return ""
		}
		return r.Settings.Hours.Week.String()
	}},
	{"zone", func(r *Row, cell string) error {
		if cell == "" {
			return nil
		}
		if r.Settings.Hours == nil {
			r.Settings.Hours = &hours.Hours{}
		}
		r.Settings.Hours.Zone = cell
		return r.Settings.Hours.Check()
	}, func(r Row) string {
		if r.Settings.Hours == nil {
			return ""
		}
		return r.Settings.Hours.Zone
	}},
	{"exceptions", readExceptions, writeExceptions},
}

// readExceptions reads "2031-12-24 never; 2031-12-25 12:00-24:00".
func readExceptions(r *Row, cell string) error {
	if cell == "" {
		return nil
	}
	if r.Settings.Hours == nil {
		return errors.New("exceptions belong to hours; give hours as well")
	}
	for part := range strings.SplitSeq(cell, ";") {
		date, windows, _ := strings.Cut(strings.TrimSpace(part), " ")
		e := hours.Exception{Windows: []hours.Window{}}
		if err := e.Date.UnmarshalText([]byte(date)); err != nil {
			return err
		}
		if windows != "never" {
			for one := range strings.SplitSeq(windows, ",") {
				w, err := hours.ParseWindow(strings.TrimSpace(one))
				if err != nil {
					return err
				}
				e.Windows = append(e.Windows, w)
			}
		}
		r.Settings.Hours.Exceptions = append(r.Settings.Hours.Exceptions, e)
	}
	return r.Settings.Hours.Check()
}

func writeExceptions(r Row) string {
	if r.Settings.Hours == nil {
		return ""
	}
	var parts []string
	for _, e := range r.Settings.Hours.Exceptions {
		var windows []string
		for _, w := range e.Windows {
			windows = append(windows, w.String())
		}
		if len(windows) == 0 {
			windows = []string{"never"}
		}
		parts = append(parts, e.Date.String()+" "+strings.Join(windows, ","))
	}
	return strings.Join(parts, "; ")
}

func whole(to *int, cell string) error {
	if cell == "" {
		return nil
	}
	n, err := strconv.Atoi(cell)
	if err != nil {
		return fmt.Errorf("%q is not a whole number", cell)
	}
	*to = n
	return nil
}

func amount(to *int64, cell string) error {
	if cell == "" {
		return nil
	}
	n, err := humanize.ParseBytes(cell)
	if err != nil || n > 1<<60 {
		return fmt.Errorf("%q is not an amount; write it like 48GiB", cell)
	}
	*to = int64(n)
	return nil
}

func number(n int) string {
	if n == 0 {
		return ""
	}
	return strconv.Itoa(n)
}

// size writes an amount so that it is read again as the same.
func size(n int64) string {
	switch {
	case n == 0:
		return ""
	case n%(1<<30) == 0:
		return fmt.Sprintf("%dGiB", n>>30)
	case n%(1<<20) == 0:
		return fmt.Sprintf("%dMiB", n>>20)
	}
	return fmt.Sprintf("%dB", n)
}

// Read reads a list. The first line names the columns, in any order; name is
// needed, and kind is rack where it is left out. All rows are checked; the
// errors are those of the first twenty, each an *Error, joined.
func Read(from io.Reader) ([]Row, error) {
	lines := csv.NewReader(from)
	lines.TrimLeadingSpace = true
	lines.ReuseRecord = true
	header, err := lines.Read()
	if errors.Is(err, io.EOF) {
		return nil, &Error{1, "", errors.New("the file is empty; its first line names the columns")}
	}
	if err != nil {
		return nil, syntax(err)
	}
	order, err := readHeader(slices.Clone(header))
	if err != nil {
		return nil, err
	}
	var rows []Row
	var wrong []error
	seen := map[string]int{}
	for len(wrong) < 20 {
		cells, err := lines.Read()
		if errors.Is(err, io.EOF) {
			return rows, errors.Join(wrong...)
		}
		if err != nil {
			return nil, errors.Join(append(wrong, syntax(err))...)
		}
		line, _ := lines.FieldPos(0)
		if len(rows) == mostRows {
			return nil, &Error{line, "", fmt.Errorf("a list has at most %d nodes", mostRows)}
		}
		row, err := readRow(line, order, cells)
		if err == nil && seen[row.Name] > 0 {
			err = &Error{line, "name", fmt.Errorf("%s is already on line %d", row.Name, seen[row.Name])}
		}
		if err != nil {
			wrong = append(wrong, err)
			continue
		}
		seen[row.Name] = line
		rows = append(rows, row)
	}
	return nil, errors.Join(wrong...)
}

func syntax(err error) error {
	var p *csv.ParseError
	if !errors.As(err, &p) {
		return fmt.Errorf("reading the list: %w", err)
	}
	if errors.Is(p.Err, csv.ErrFieldCount) {
		return &Error{p.Line, "", errors.New("it has a different number of cells from the first line")}
	}
	return &Error{p.Line, "", fmt.Errorf("at character %d: %w", p.Column, p.Err)}
}

func readHeader(cells []string) ([]column, error) {
	var order []column
	var names []string
	for _, c := range columns {
		names = append(names, c.name)
	}
	for i, cell := range cells {
		cell = strings.ToLower(strings.TrimSpace(strings.TrimPrefix(cell, "\ufeff"))) // of a table programme
		at := slices.Index(names, cell)
		if at < 0 {
			return nil, &Error{
				1, "", fmt.Errorf("there is no column %q; there are %s", cell, strings.Join(names, ", ")),
			}
		}
		if slices.Contains(cells[:i], cell) {
			return nil, &Error{1, cell, errors.New("it is named twice")}
		}
		cells[i] = cell
		order = append(order, columns[at])
	}
	if !slices.Contains(cells, "name") {
		return nil, &Error{1, "", errors.New("the column name is missing")}
	}
	return order, nil
}

func readRow(line int, order []column, cells []string) (Row, error) {
	row := Row{Line: line, Kind: farm.Rack}
	// Hours come before what belongs to them, whatever the order in the file.
	for _, c := range columns {
		at := slices.IndexFunc(order, func(o column) bool { return o.name == c.name })
		if at < 0 {
			continue
		}
		cell := strings.TrimSpace(cells[at])
		if c.name == "kind" && cell == "" {
			continue
		}
		if err := c.read(&row, cell); err != nil {
			return row, &Error{line, c.name, err}
		}
	}
	if field, err := row.Settings.Check(); err != nil {
		return row, &Error{line, field, err}
	}
	row.Settings.Tidy()
	return row, nil
}

// Write writes a list that Read reads as the same.
func Write(to io.Writer, rows []Row) error {
	w := csv.NewWriter(to)
	var cells []string
	for _, c := range columns {
		cells = append(cells, c.name)
	}
	err := w.Write(cells)
	for _, r := range rows {
		for i, c := range columns {
			cells[i] = c.write(r)
		}
		err = errors.Join(err, w.Write(cells))
	}
	w.Flush()
	if err = errors.Join(err, w.Error()); err != nil {
		return fmt.Errorf("writing the list of nodes: %w", err)
	}
	return nil
}
