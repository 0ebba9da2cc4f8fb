package main

import (
	"bytes"
	"fmt"

	"github.com/spf13/cobra"

	"bivium/core/flowfile"
	"bivium/core/survey"
	"bivium/core/verdict"
)

// flowVerdict is one row of the verdicts as JSON: the fields of the CSV form,
// and the path.
type flowVerdict struct {
	verdict.FlowView
	verdict.Verdict
	Path verdict.PathView `json:"path"`
}

// manyFlows is the number of flows from which on it pays to survey the estate
// first, and look each flow up.
const manyFlows = 20_000

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
			text, err := read(c, flows)
			if err != nil {
				return err
			}
			judge := verdict.New(e)
			table, err := flowfile.Read(bytes.NewReader(text), judge.Net().Segments)
			if err != nil {
				return fmt.Errorf("%s: %w", flows, err)
			}
			if asJSON {
				out := make([]flowVerdict, len(table.Flows))
				for i, f := range table.Flows {
					t := judge.Trace(f)
					out[i] = flowVerdict{t.Flow, t.Verdict, t.Path}
				}
				return printJSON(c, out)
			}
			verdicts := make([]verdict.Verdict, len(table.Flows))
			tell := func(f *verdict.Flow) verdict.Verdict { return judge.Judge(*f) }
			if len(table.Flows) > manyFlows {
				tell = survey.New(judge).Tell
			}
			for i := range table.Flows {
				verdicts[i] = tell(&table.Flows[i])
			}
			return table.Write(c.OutOrStdout(), verdicts)
		},
	}
	c.Flags().StringVar(&flows, "flows", "", "the flow `FILE`, CSV; - for standard input")
	c.Flags().BoolVar(&asJSON, "json", false, "print for programs, with the path of each flow")
	if err := c.MarkFlagRequired("flows"); err != nil {
		panic(err)
	}
	return c
}
