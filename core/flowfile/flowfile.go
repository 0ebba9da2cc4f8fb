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
	header, err := reader.Read()
	if errors.Is(err, io.EOF) {
		return nil, &Error{Line: 1, Err: errors.New("the file is empty; the first line names the columns")}
	}
	if err != nil {
		return nil, syntax(err)
	}
	t := &Table{Header: header}
	columns := map[string]int{}
	for i, name := range header {
		if _, twice := columns[name]; twice {
			return nil, &Error{Line: 1, Column: name, Err: errors.New("the column stands twice")}
		}
		columns[name] = i
	}
	for _, name := range []string{"segment", "source", "destination", "protocol"} {
		if _, ok := columns[name]; !ok {
			return nil, &Error{Line: 1, Column: name, Err: errors.New("the column is missing")}
		}
	}
	known := map[string]bool{verdict.Internet: true}
	for _, s := range segments {
		known[s] = true
	}
	for {
		row, err := reader.Read()
		if errors.Is(err, io.EOF) {
			return t, nil
		}
		if err != nil {
			return nil, syntax(err)
		}
		line, _ := reader.FieldPos(0)
		f, column, err := flowOf(row, columns, known)
		if err != nil {
			return nil, &Error{line, column, err}
		}
		t.Rows = append(t.Rows, row)
		t.Flows = append(t.Flows, f)
	}
}

func syntax(err error) error {
	var p *csv.ParseError
	if errors.As(err, &p) {
		return &Error{Line: p.Line, Err: p.Err}
	}
	return err
}

// flowOf returns the flow of a row, or the column that cannot be read.
func flowOf(row []string, columns map[string]int, segments map[string]bool) (verdict.Flow, string, error) {
	get := func(name string) string {
		if i, ok := columns[name]; ok {
			return row[i]
		}
		return ""
	}
	f := verdict.Flow{Segment: get("segment"), Publication: get("publication")}
	if !segments[f.Segment] {
		return f, "segment", fmt.Errorf("there is no segment %q", f.Segment)
	}
	var err error
	if f.Source, err = address(get("source")); err != nil {
		return f, "source", err
	}
	if f.Destination, err = address(get("destination")); err != nil {
		return f, "destination", err
	}
	if f.Protocol, err = estate.ParseProtocol(get("protocol")); err != nil {
		return f, "protocol", err
	}
	if f.SourcePort, err = port(get("sport")); err != nil {
		return f, "sport", err
	}
	if f.Port, err = port(get("dport")); err != nil {
		return f, "dport", err
	}
	return f, "", nil
}

func address(s string) (netip.Addr, error) {
	a, err := netip.ParseAddr(s)
	if err != nil || a.Zone() != "" {
		return a, fmt.Errorf("%q is no address", s)
	}
	return a.Unmap(), nil
}

func port(s string) (uint16, error) {
	if s == "" {
		return 0, nil
	}
	n, err := strconv.ParseUint(s, 10, 16)
	if err != nil {
		return 0, fmt.Errorf("%q is no port from 0 to 65535", s)
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
