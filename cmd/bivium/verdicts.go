package main

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"sync"
	"sync/atomic"

	"github.com/spf13/cobra"

	"bivium/core/flowfile"
	"bivium/core/matrix"
	"bivium/core/query"
	"bivium/core/trace"
	"bivium/core/verdict"
	"bivium/internal/wording"
)

// flowVerdict is one row of the verdicts as JSON: the fields of the CSV form,
// and the path.
type flowVerdict struct {
	trace.FlowView
	verdict.Verdict
	Path trace.PathView `json:"path"`
}

// manyFlows is the number of flows from which on it pays to survey the estate
// first, and look each flow up; a row of them takes flowBytes about.
const (
	manyFlows = 20_000
	flowBytes = 64
)

func verdictsCommand() *cobra.Command {
	var flows string
	var asJSON bool
	c := &cobra.Command{
		Use:   "verdicts FILE --flows FLOWS.csv",
		Short: "Print the verdict on each flow of a file, as CSV",
		Args:  cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			e, _, err := readEstate(c, args[0])
			if err != nil {
				return err
			}
			in, err := opened(c, flows)
			if err != nil {
				return err
			}
			defer in.Close()
			judge := verdict.New(e)
			if asJSON {
				err = tracesJSON(in, c.OutOrStdout(), judge)
			} else {
				err = flowfile.Judge(in, c.OutOrStdout(), judge.Net.Segments, teller(judge, in))
			}
			var row *flowfile.Error
			if errors.As(err, &row) {
				return fmt.Errorf("%s: %w", flows, err)
			}
			return err
		},
	}
	c.Flags().StringVar(&flows, "flows", "", "the flow `FILE`, CSV; - for standard input")
	c.Flags().BoolVar(&asJSON, "json", false, "print JSON, with the path of each flow")
	if err := c.MarkFlagRequired("flows"); err != nil {
		panic(err)
	}
	return c
}

// opened returns a file, or standard input for "-".
func opened(c *cobra.Command, file string) (io.ReadCloser, error) {
	if file == "-" {
		return io.NopCloser(c.InOrStdin()), nil
	}
	return os.Open(file)
}

// teller returns what tells the verdict on a flow: the judge, until there are many, and what
// the survey of its estate knows from then on.
func teller(judge *verdict.Judge, in io.Reader) func(*verdict.Flow) verdict.Verdict {
	many := sync.OnceValue(func() *matrix.Matrix { return matrix.New(judge) })
	var told atomic.Int64
	if f, ok := in.(*os.File); ok {
		if info, err := f.Stat(); err == nil && info.Size() > manyFlows*flowBytes {
			s := many()
			return func(f *verdict.Flow) verdict.Verdict { return query.Tell(s, f) }
		}
	}
	return func(f *verdict.Flow) verdict.Verdict {
		if told.Load() > manyFlows || told.Add(1) > manyFlows {
			return query.Tell(many(), f)
		}
		return judge.Judge(*f)
	}
}

// tracesJSON prints the verdict and path of each flow of a file.
func tracesJSON(in io.Reader, out io.Writer, judge *verdict.Judge) error {
	between := "[\n  "
	err := flowfile.Each(in, judge.Net.Segments, func(f *verdict.Flow) error {
		t := trace.Of(judge, *f)
		wording.Explain(&t)
		text, err := json.MarshalIndent(flowVerdict{t.Flow, t.Verdict, t.Path}, "  ", "  ")
		if err == nil {
			_, err = out.Write(append([]byte(between), text...))
		}
		between = ",\n  "
		return err
	})
	if err != nil {
		return err
	}
	if between == "[\n  " {
		_, err = io.WriteString(out, "[]\n")
	} else {
		_, err = io.WriteString(out, "\n]\n")
	}
	return err
}
