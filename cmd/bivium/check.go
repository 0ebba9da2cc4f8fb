package main

import (
	"fmt"

	"github.com/spf13/cobra"

	"bivium/core/document"
	"bivium/core/estate"
)

// locatedFault is a fault with its line in the document.
type locatedFault struct {
	Line int `json:"line"`
	estate.Fault
}

func checkCommand() *cobra.Command {
	var asJSON bool
	c := &cobra.Command{
		Use:   "check FILE",
		Short: "Find the faults of an estate; findings and expectations are not built yet",
		Args:  cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			e, text, err := readEstate(c, args[0])
			if err != nil {
				return err
			}
			faults, err := locate(text, estate.Check(e))
			if err != nil {
				return err
			}
			if asJSON {
				err = printJSON(c, map[string]any{"estate": e.Name, "faults": faults, "notBuiltYet": []string{"F3", "findings", "expectations"}})
			} else {
				printFaults(c, args[0], e, faults)
			}
			if err == nil && len(faults) > 0 {
				err = errFails
			}
			return err
		},
	}
	c.Flags().BoolVar(&asJSON, "json", false, "print for programs")
	return c
}

func locate(text []byte, faults []estate.Fault) ([]locatedFault, error) {
	paths := make([]string, len(faults))
	for i := range faults {
		paths[i] = faults[i].Path
	}
	out := make([]locatedFault, len(faults))
	if len(faults) == 0 {
		return out, nil
	}
	lines, err := document.Locate(text, paths)
	for i := range faults {
		out[i] = locatedFault{lines[i], faults[i]}
	}
	return out, err
}

func printFaults(c *cobra.Command, file string, e *estate.Estate, faults []locatedFault) {
	w := c.OutOrStdout()
	for _, f := range faults {
		fmt.Fprintf(w, "%s:%d: %s %s\n    %s\n", file, f.Line, f.Code, f.Message, f.Fix)
	}
	what := "no faults"
	if len(faults) == 1 {
		what = "1 fault"
	} else if len(faults) > 1 {
		what = fmt.Sprintf("%d faults", len(faults))
	}
	fmt.Fprintf(w, "%s: %s in %d networks, %d workloads, %d policies and %d shares\n", e.Name, what, len(e.Networks), len(e.Workloads), len(e.Policies), len(e.Shares))
	fmt.Fprintln(w, "Not looked at yet: forbidden shares (F3), findings, expectations.")
}
