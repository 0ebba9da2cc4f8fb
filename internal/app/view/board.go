package view

import (
	"fmt"
	"runtime"
	"slices"
	"strings"

	"bivium/core/matrix"
	"bivium/core/parallel"
	"bivium/core/query"
	"bivium/core/space"
	"bivium/core/verdict"
)

// Board is the rows, and the columns, of the board. Its cells are fetched a
// piece at a time: see Cells.
type Board struct {
	Revision int64       `json:"revision"`
	Nodes    []BoardNode `json:"nodes"`
}

// BoardNode is a row, and a column, of the board.
type BoardNode struct {
	ID        string          `json:"id"` // segment, segment/group, segment/- or internet
	Kind      matrix.NodeKind `json:"kind"`
	Segment   string          `json:"segment"`
	Group     string          `json:"group"`
	Open      bool            `json:"open"`
	Workloads int             `json:"workloads"`
}

// Cells is a piece of the board. There are few different looks of cells, so
// each cell is a number of one.
type Cells struct {
	Revision int64           `json:"revision"`
	Row      int             `json:"row"` // of the first cell
	Col      int             `json:"col"`
	Looks    [][]matrix.Mark `json:"looks"`  // the different cells; outcomes of the most flows first
	Cells    [][]int         `json:"cells"`  // row by row: numbers of looks
	Passes   [][]string      `json:"passes"` // of a small board, by cell: on which services flows are delivered
}

// PieceSize is how many rows and columns a piece of the board has at most.
const PieceSize = 16

// NodeID returns how a node is written in an address.
func NodeID(n matrix.Node) string {
	switch n.Kind {
	case matrix.NodeInternet:
		return "internet"
	case matrix.NodeGroup:
		return n.Segment + "/" + n.Group
	case matrix.NodeRest:
		return n.Segment + "/-"
	}
	return n.Segment
}

// ParseNode returns the node that an ID is written for.
func ParseNode(id string) matrix.Node {
	if id == "internet" {
		return matrix.Node{Kind: matrix.NodeInternet}
	}
	segment, group, sub := strings.Cut(id, "/")
	switch {
	case !sub:
		return matrix.Node{Kind: matrix.NodeSegment, Segment: segment}
	case group == "-":
		return matrix.Node{Kind: matrix.NodeRest, Segment: segment}
	}
	return matrix.Node{Kind: matrix.NodeGroup, Segment: segment, Group: group}
}

// NodesOf returns the rows of the board with some segments opened to their
// groups.
func (s *Snapshot) NodesOf(open []string) []matrix.Node {
	isOpen := make(map[string]bool, len(open))
	for _, o := range open {
		isOpen[o] = true
	}
	return query.Nodes(s.Matrix, func(segment string) bool { return isOpen[segment] })
}

// Board returns the rows and columns of the board with some segments opened.
func (s *Snapshot) Board(open []string) *Board {
	b := &Board{Revision: s.Revision}
	last := make([]int, len(s.Estate.Workloads)) // by workload: the last node that counted it, from 1
	for i, n := range s.NodesOf(open) {
		workloads := 0
		for _, c := range s.Matrix.ClassesOf(n) {
			for _, w := range s.Matrix.Class(c).Workloads {
				if last[w] != i+1 {
					last[w] = i + 1
					workloads++
				}
			}
		}
		b.Nodes = append(b.Nodes, BoardNode{NodeID(n), n.Kind, n.Segment, n.Group, n.Kind == matrix.NodeSegment && slices.Contains(open, n.Segment), workloads})
	}
	return b
}

// Cells returns a piece of the board that begins at a row and a column; less
// than PieceSize rows and columns where the board ends.
func (s *Snapshot) Cells(open []string, row, col int) (*Cells, error) {
	nodes := s.NodesOf(open)
	for at, n := range map[string]int{"row": row, "col": col} {
		if n < 0 || n >= len(nodes) {
			return nil, &Problem{At: at, Message: fmt.Sprintf("the board has no %s %d", at, n), Fix: fmt.Sprintf("it has %d", len(nodes))}
		}
	}
	rows, cols := nodes[row:min(row+PieceSize, len(nodes))], nodes[col:min(col+PieceSize, len(nodes))]
	marks := make([][][]matrix.Mark, len(rows))
	var wait parallel.Group
	slots := make(chan struct{}, runtime.GOMAXPROCS(0))
	for i := range rows {
		marks[i] = make([][]matrix.Mark, len(cols))
		wait.Go(func() {
			slots <- struct{}{}
			defer func() { <-slots }()
			for k := range cols {
				marks[i][k] = s.Matrix.Between(rows[i], cols[k])
			}
		})
	}
	wait.Wait()
	out := &Cells{Revision: s.Revision, Row: row, Col: col, Looks: [][]matrix.Mark{}, Passes: [][]string{}}
	if len(nodes) <= mostWorded {
		out.Passes = s.passes(rows, cols)
	}
	known := map[string]int{}
	for _, line := range marks {
		numbers := make([]int, len(line))
		for k, m := range line {
			key := fmt.Sprint(m)
			at, ok := known[key]
			if !ok {
				at = len(out.Looks)
				known[key] = at
				out.Looks = append(out.Looks, append([]matrix.Mark{}, m...))
			}
			numbers[k] = at
		}
		out.Cells = append(out.Cells, numbers)
	}
	return out, nil
}

// mostWorded is of how many rows a board may be, so that its cells have room for words.
const mostWorded = 8

// mostServiceNames is how many services a cell names before it counts the others.
const mostServiceNames = 3

// passes returns, for each cell, the services on which some flow is delivered; "" for none.
// Cost: the outcomes of each cell.
func (s *Snapshot) passes(rows, cols []matrix.Node) [][]string {
	out := make([][]string, len(rows))
	for i, row := range rows {
		out[i] = make([]string, len(cols))
		for k, col := range cols {
			var boxes []space.Box
			for _, l := range query.Outcomes(s.Matrix, row, col) {
				if slices.ContainsFunc(l.Parts, func(p query.Part) bool {
					return p.Verdict.Outcome == verdict.Allowed || p.Verdict.Outcome == verdict.Inspected
				}) {
					boxes = append(boxes, l.Services.Boxes()...)
				}
			}
			if len(boxes) > 0 {
				out[i][k] = s.short(space.Of(boxes))
			}
		}
	}
	return out
}

// short returns a set of services in few words: the named services that it has, and what is
// left beside them.
func (s *Snapshot) short(set space.Services) string {
	switch missing, allBut := set.Short(); {
	case allBut && len(missing) == 0:
		return "any service"
	case allBut && len(missing) <= mostServiceNames:
		return "all but " + strings.Join(missing, ", ")
	case set.Count() > space.Everything().Count()/2:
		return "most services"
	}
	var names []string
	for i := range s.Index.named {
		v := &s.Index.named[i]
		if !v.set.Empty() && v.set.Intersect(set).Equal(v.set) {
			names = append(names, v.name)
			set = set.Intersect(v.set.Complement())
		}
	}
	names = append(names, set.Words()...)
	if more := len(names) - mostServiceNames; more > 0 {
		names = append(names[:mostServiceNames], fmt.Sprintf("+%d", more))
	}
	return strings.Join(names, ", ")
}

// Cell is one cell of the board, opened.
type Cell struct {
	Revision int64         `json:"revision"`
	Row      string        `json:"row"`
	Col      string        `json:"col"`
	Marks    []matrix.Mark `json:"marks"`
	Lines    []Line        `json:"lines"`
}

// Cell returns a cell of the board service by service.
func (s *Snapshot) Cell(row, col string) (*Cell, error) {
	from, to := s.Matrix.SetOf(ParseNode(row)), s.Matrix.SetOf(ParseNode(col))
	for at, set := range map[string]matrix.Set{"row": from, "col": to} {
		if len(set) == 0 {
			return nil, &Problem{At: at, Message: fmt.Sprintf("the board has no %s %q", at, map[string]string{"row": row, "col": col}[at]), Fix: ""}
		}
	}
	c := &Cell{Revision: s.Revision, Row: row, Col: col, Marks: s.Matrix.Between(ParseNode(row), ParseNode(col)), Lines: []Line{}}
	for _, l := range query.Detail(s.Matrix, from, to, nil, maxParts) {
		c.Lines = append(c.Lines, s.line(&l))
	}
	return c, nil
}
