// Package flowfile reads flow files, CSV with one flow a row, and writes them
// back with a verdict beside each (RFC 4180, line ends LF).
package flowfile

import (
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"bivium/core/estate"
	"bivium/core/verdict"
)

// Columns are the columns that verdicts add, in order.
var Columns = []string{"outcome", "intended", "pools", "reason", "by", "contested"}

// Table is a flow file that has been read: its header and rows, verbatim, and
// the flow of each row.
type Table struct {
	Header []string
	Rows   [][]string
	Flows  []verdict.Flow
}

// Error is a row that cannot be read.
type Error struct {
	Line   int
	Column string
	Err    error
}

// Error returns "line 7, column source: what is wrong".
func (e *Error) Error() string {
	if e.Column == "" {
		return fmt.Sprintf("line %d: %v", e.Line, e.Err)
	}
	return fmt.Sprintf("line %d, column %s: %v", e.Line, e.Column, e.Err)
}

// Unwrap returns the cause.
func (e *Error) Unwrap() error { return e.Err }

// Read returns the table that r holds. segments are the names that may stand in
// the column segment, beside "internet". The first row that cannot be read
// ends it with an *Error.
func Read(r io.Reader, segments []string) (*Table, error) {
	reader := csv.NewReader(r)
	c, err := readHeader(reader, segments)
	if err != nil {
		return nil, err
	}
	t := &Table{Header: c.header}
	err = c.rows(reader, 0, func(row []string, f *verdict.Flow) error {
		t.Rows = append(t.Rows, row)
		t.Flows = append(t.Flows, *f)
		return nil
	})
	if err != nil {
		return nil, err
	}
	return t, nil
}

// Each calls do with each flow that r holds, one after the other, until it returns an error;
// see Read.
func Each(r io.Reader, segments []string, do func(f *verdict.Flow) error) error {
	reader := csv.NewReader(r)
	c, err := readHeader(reader, segments)
	if err != nil {
		return err
	}
	reader.ReuseRecord = true
	return c.rows(reader, 0, func(_ []string, f *verdict.Flow) error { return do(f) })
}

// columns are where the parts of a flow stand in a row.
type columns struct {
	header   []string
	places   [7]int // of the parts, in the order of parts; -1 where there is none
	segments map[string]bool
}

// parts are the columns that a flow is read from. Only the first four must be there.
var parts = [7]string{"segment", "source", "destination", "protocol", "sport", "dport", "publication"}

// readHeader reads the first row.
func readHeader(reader *csv.Reader, segments []string) (*columns, error) {
	header, err := reader.Read()
	if errors.Is(err, io.EOF) {
		return nil, &Error{Line: 1, Err: errors.New("the file is empty; its first line must name the columns")}
	}
	if err != nil {
		return nil, syntax(err, 0)
	}
	c := &columns{header: slices.Clone(header), segments: map[string]bool{verdict.Internet: true}}
	for _, s := range segments {
		c.segments[s] = true
	}
	for i, name := range header {
		if slices.Contains(header[:i], name) {
			return nil, &Error{Line: 1, Column: name, Err: errors.New("the column appears twice")}
		}
	}
	for i, name := range parts {
		c.places[i] = slices.Index(header, name)
		if c.places[i] < 0 && i < 4 {
			return nil, &Error{Line: 1, Column: name, Err: errors.New("the column is missing")}
		}
	}
	return c, nil
}

// rows calls do with each row that is left, of a file in which as many lines come before those
// of the reader.
func (c *columns) rows(reader *csv.Reader, before int, do func(row []string, f *verdict.Flow) error) error {
	for {
		row, err := reader.Read()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return syntax(err, before)
		}
		f, column, err := c.flow(row)
		if err != nil {
			line, _ := reader.FieldPos(0)
			return &Error{before + line, column, err}
		}
		if err = do(row, &f); err != nil {
			return err
		}
	}
}

func syntax(err error, before int) error {
	var p *csv.ParseError
	if errors.As(err, &p) {
		return &Error{Line: before + p.Line, Err: p.Err}
	}
	return err
}

// flow returns the flow of a row, or the column that cannot be read.
func (c *columns) flow(row []string) (verdict.Flow, string, error) {
	get := func(part int) string {
		if i := c.places[part]; i >= 0 {
			return row[i]
		}
		return ""
	}
	f := verdict.Flow{Segment: get(0), Publication: get(6)}
	if !c.segments[f.Segment] {
		return f, parts[0], fmt.Errorf("unknown segment %q", f.Segment)
	}
	var err error
	if f.Source, err = address(get(1)); err != nil {
		return f, parts[1], err
	}
	if f.Destination, err = address(get(2)); err != nil {
		return f, parts[2], err
	}
	if f.Protocol, err = estate.ParseProtocol(get(3)); err != nil {
		return f, parts[3], err
	}
	if f.SourcePort, err = port(get(4)); err != nil {
		return f, parts[4], err
	}
	if f.Port, err = port(get(5)); err != nil {
		return f, parts[5], err
	}
	return f, "", nil
}

func address(s string) (netip.Addr, error) {
	a, err := netip.ParseAddr(s)
	if err != nil || a.Zone() != "" {
		return a, fmt.Errorf("%q is not an address", s)
	}
	return a.Unmap(), nil
}

func port(s string) (uint16, error) {
	if s == "" {
		return 0, nil
	}
	n, err := strconv.ParseUint(s, 10, 16)
	if err != nil {
		return 0, fmt.Errorf("%q is not a port from 0 to 65535", s)
	}
	return uint16(n), nil
}

// Write writes the table with the columns of the verdicts added, one verdict a
// row.
func (t *Table) Write(w io.Writer, verdicts []verdict.Verdict) error {
	out := csv.NewWriter(w)
	if err := out.Write(slices.Concat(t.Header, Columns)); err != nil {
		return err
	}
	for i, row := range t.Rows {
		if err := out.Write(slices.Concat(row, fields(&verdicts[i]))); err != nil {
			return err
		}
	}
	out.Flush()
	return out.Error()
}

func fields(v *verdict.Verdict) []string {
	return []string{
		string(v.Outcome), string(v.Intended), strings.Join(v.Pools, ";"), string(v.Reason),
		strings.Join(v.By, ";"), strconv.FormatBool(v.Contested),
	}
}
