package app

import (
	"fmt"
	"strings"

	"bivium/core/survey"
)

// Board is the outcomes of every pair of rows and columns.
type Board struct {
	Revision int64           `json:"revision"`
	Nodes    []BoardNode     `json:"nodes"`
	Cells    [][]survey.Mark `json:"cells"` // row by row; those of the most flows first
}

// BoardNode is a row, and a column, of the board.
type BoardNode struct {
	ID        string          `json:"id"` // segment, segment/group, segment/- or internet
	Kind      survey.NodeKind `json:"kind"`
	Segment   string          `json:"segment"`
	Group     string          `json:"group"`
	Open      bool            `json:"open"`
	Workloads int             `json:"workloads"`
}

// NodeID returns how a node is written in an address.
func NodeID(n survey.Node) string {
	switch n.Kind {
	case survey.NodeInternet:
		return "internet"
	case survey.NodeGroup:
		return n.Segment + "/" + n.Group
	case survey.NodeRest:
		return n.Segment + "/-"
	}
	return n.Segment
}

// ParseNode returns the node that an ID is written for.
func ParseNode(id string) survey.Node {
	if id == "internet" {
		return survey.Node{Kind: survey.NodeInternet}
	}
	segment, group, sub := strings.Cut(id, "/")
	switch {
	case !sub:
		return survey.Node{Kind: survey.NodeSegment, Segment: segment}
	case group == "-":
		return survey.Node{Kind: survey.NodeRest, Segment: segment}
	}
	return survey.Node{Kind: survey.NodeGroup, Segment: segment, Group: group}
}

// Board returns the board with some segments opened to their groups.
func (s *Snapshot) Board(open []string) *Board {
	isOpen := make(map[string]bool, len(open))
	for _, o := range open {
		isOpen[o] = true
	}
	nodes := s.Survey.Nodes(func(segment string) bool { return isOpen[segment] })
	b := &Board{Revision: s.Revision}
	sets := make([]survey.Set, len(nodes))
	for i, n := range nodes {
		sets[i] = s.Survey.Of(n)
		workloads := map[int]bool{}
		for _, m := range sets[i] {
			for _, w := range s.Survey.Class(m.Class).Workloads {
				workloads[w] = true
			}
		}
		b.Nodes = append(b.Nodes, BoardNode{NodeID(n), n.Kind, n.Segment, n.Group, n.Kind == survey.NodeSegment && isOpen[n.Segment], len(workloads)})
	}
	for _, row := range sets {
		for _, col := range sets {
			b.Cells = append(b.Cells, s.Survey.Cell(row, col))
		}
	}
	return b
}

// Cell is one cell of the board, opened.
type Cell struct {
	Revision int64         `json:"revision"`
	Row      string        `json:"row"`
	Col      string        `json:"col"`
	Marks    []survey.Mark `json:"marks"`
	Lines    []Line        `json:"lines"`
}

// Cell returns a cell of the board service by service.
func (s *Snapshot) Cell(row, col string) (*Cell, error) {
	from, to := s.Survey.Of(ParseNode(row)), s.Survey.Of(ParseNode(col))
	for at, set := range map[string]survey.Set{"row": from, "col": to} {
		if len(set) == 0 {
			return nil, &Problem{at, fmt.Sprintf("the board has no %s %q", at, map[string]string{"row": row, "col": col}[at]), ""}
		}
	}
	c := &Cell{Revision: s.Revision, Row: row, Col: col, Marks: s.Survey.Cell(from, to), Lines: []Line{}}
	for _, l := range s.Survey.Detail(from, to, nil) {
		c.Lines = append(c.Lines, s.line(&l))
	}
	return c, nil
}
