package main

import (
	"encoding/csv"
	"fmt"
	"io"
	"strings"
	"text/tabwriter"

	"github.com/spf13/cobra"

	"bivium/core/classes"
	"bivium/core/matrix"
	"bivium/core/parallel"
	"bivium/core/query"
	"bivium/core/verdict"
)

// cellWords is one line of one cell of the matrix.
type cellWords struct {
	From     string            `json:"from"`
	To       string            `json:"to"`
	Services []string          `json:"services"`
	Outcomes []verdict.Outcome `json:"outcomes"` // those of the most flows first
	Reasons  []verdict.Reason  `json:"reasons"`
	Verdicts []verdict.Verdict `json:"verdicts"` // the whole of each, in the same order
}

func matrixCommand() *cobra.Command {
	var by string
	var asJSON, asCSV bool
	c := &cobra.Command{
		Use:   "matrix FILE --by segment|group|network|workload",
		Short: "Print the outcomes of all flows between every pair of segments, groups, networks or workloads",
		Args:  cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			p := begin(c)
			defer p.end()
			s, err := matrixOf(c, p, args[0])
			if err != nil {
				return err
			}
			rows, err := matrixRows(s, by)
			if err != nil {
				return err
			}
			p.at(fmt.Sprintf("computing %d cells", len(rows)*len(rows)))
			switch {
			case asJSON:
				out := []cellWords{}
				eachCell(s, rows, func(w cellWords) { out = append(out, w) })
				return printJSON(c, out)
			case asCSV:
				return writeMatrixCSV(c.OutOrStdout(), s, rows)
			}
			return printMatrix(c.OutOrStdout(), s, rows)
		},
	}
	c.Flags().StringVar(&by, "by", "segment", "segment, group, network or workload")
	c.Flags().BoolVar(&asCSV, "csv", false, "print CSV, one row for each cell and set of services")
	c.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	c.MarkFlagsMutuallyExclusive("csv", "json")
	return c
}

// namedSet is a row and column of the matrix.
type namedSet struct {
	name string
	set  matrix.Set
	node *matrix.Node // that it is, or nil
}

// cell returns the outcomes between two rows.
func (n *namedSet) cell(s *matrix.Matrix, to *namedSet) []matrix.Mark {
	if n.node != nil && to.node != nil {
		return s.Between(*n.node, *to.node)
	}
	return s.Cell(n.set, to.set)
}

// lines returns what happens between two rows, by service.
func (n *namedSet) lines(s *matrix.Matrix, to *namedSet) []query.Line {
	if n.node != nil && to.node != nil {
		return query.Outcomes(s, *n.node, *to.node)
	}
	return query.OutcomesOf(s, n.set, to.set)
}

// maxWorkloads is how many workloads a matrix has rows for.
const maxWorkloads = 2000

// workloadRows returns a row for each workload.
func workloadRows(s *matrix.Matrix) ([]namedSet, error) {
	j := s.Judge
	list := j.Estate.Workloads
	if len(list) > maxWorkloads {
		return nil, fmt.Errorf("--by workload: the estate has %d workloads, more than the limit of %d; use --by group or --by network", len(list), maxWorkloads)
	}
	var rows []namedSet
	for i := range list {
		row := namedSet{name: list[i].Name}
		for _, end := range j.EndsOf(i) {
			if class, ok := query.ClassAt(s, end.Segment, end.Addr); ok {
				row.set = append(row.set, matrix.Member{Class: class, Only: end.Addr})
			}
		}
		rows = append(rows, row)
	}
	return rows, nil
}

func matrixRows(s *matrix.Matrix, by string) ([]namedSet, error) {
	var rows []namedSet
	net := s.Judge.Net
	switch by {
	case "segment", "group":
		for _, n := range query.Nodes(s, func(string) bool { return by == "group" }) {
			if by == "group" && n.Kind == matrix.NodeSegment {
				continue
			}
			name := map[matrix.NodeKind]string{matrix.NodeInternet: "internet", matrix.NodeSegment: n.Segment, matrix.NodeGroup: n.Segment + ":" + n.Group, matrix.NodeRest: n.Segment + ":-"}[n.Kind]
			rows = append(rows, namedSet{name, s.SetOf(n), &n})
		}
	case "network":
		for i := range net.Networks {
			set := query.Where(s, func(c *classes.Class) bool { return c.End.Home.Network == i })
			if len(set) > 0 {
				rows = append(rows, namedSet{net.Networks[i].Name, set, nil})
			}
		}
		rows = append(rows, namedSet{"internet", s.SetOf(matrix.Node{Kind: matrix.NodeInternet}), nil})
	case "workload":
		return workloadRows(s)
	default:
		return nil, fmt.Errorf("--by %s: use segment, group, network or workload", by)
	}
	return rows, nil
}

// eachCell calls f for each service class of each pair that has flows, in order. Pairs are
// looked at on all processors, one row after the other.
func eachCell(s *matrix.Matrix, rows []namedSet, f func(cellWords)) {
	for _, from := range rows {
		lines := make([][]query.Line, len(rows))
		jobs := make([]func(), len(rows))
		for i, to := range rows {
			jobs[i] = func() { lines[i] = from.lines(s, &to) }
		}
		parallel.Run(jobs)
		for i, to := range rows {
			for _, line := range lines[i] {
				w := cellWords{From: from.name, To: to.name, Services: words(line.Services)}
				for _, p := range line.Parts {
					w.Outcomes = append(w.Outcomes, p.Verdict.Outcome)
					w.Reasons = append(w.Reasons, p.Verdict.Reason)
					w.Verdicts = append(w.Verdicts, p.Verdict)
				}
				f(w)
			}
		}
	}
}

func writeMatrixCSV(w io.Writer, s *matrix.Matrix, rows []namedSet) error {
	out := csv.NewWriter(w)
	err := out.Write([]string{"from", "to", "services", "outcomes", "reasons", "by", "pools"})
	eachCell(s, rows, func(c cellWords) {
		if err == nil {
			var by, pools []string
			for _, v := range c.Verdicts {
				by, pools = append(by, strings.Join(v.By, "+")), append(pools, strings.Join(v.Pools, "+"))
			}
			err = out.Write([]string{c.From, c.To, strings.Join(c.Services, ";"), joined(c.Outcomes), joined(c.Reasons), joined(by), joined(pools)})
		}
	})
	out.Flush()
	if err == nil {
		err = out.Error()
	}
	return err
}

func joined[S ~string](list []S) string {
	words := make([]string, len(list))
	for i, s := range list {
		words[i] = string(s)
	}
	return strings.Join(words, ";")
}

// printMatrix prints a table of the outcomes of all services, and under it what
// the letters mean.
func printMatrix(w io.Writer, s *matrix.Matrix, rows []namedSet) error {
	t := tabwriter.NewWriter(w, 2, 0, 2, ' ', 0)
	fmt.Fprint(t, "from \\ to")
	for _, to := range rows {
		fmt.Fprintf(t, "\t%s", to.name)
	}
	fmt.Fprintln(t)
	for _, from := range rows {
		fmt.Fprint(t, from.name)
		for _, to := range rows {
			fmt.Fprintf(t, "\t%s", letters(from.cell(s, &to)))
		}
		fmt.Fprintln(t)
	}
	if err := t.Flush(); err != nil {
		return err
	}
	_, err := fmt.Fprintln(w, "A allowed  I inspected  B blocked  D denied  U unrouted  ? contested  . no flow. The outcome of the most flows comes first; --csv shows outcomes by service.")
	return err
}

func letters(marks []matrix.Mark) string {
	if len(marks) == 0 {
		return "."
	}
	var b strings.Builder
	for _, m := range marks {
		b.WriteString(strings.ToUpper(string(m.Outcome[:1])))
		if m.Contested {
			b.WriteByte('?')
		}
	}
	return b.String()
}
