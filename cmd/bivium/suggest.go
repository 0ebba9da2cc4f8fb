package main

import (
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"bivium/internal/app"
	"bivium/internal/app/view"
)

func suggestCommand() *cobra.Command {
	var asJSON bool
	q := &app.SuggestionQuestion{}
	c := &cobra.Command{
		Use:   "suggest FILE --from SEG:ADDRESS --to ADDRESS --service tcp/443 --want allowed",
		Short: "Print the edits that would give a flow another outcome, those with the fewest side effects first",
		Args:  cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			p := begin(c)
			defer p.end()
			p.at("reading")
			e, _, err := readEstate(c, args[0])
			if err != nil {
				return err
			}
			p.at("surveying")
			s := view.NewSnapshot(e, 0)
			p.at("trying edits")
			list := []*app.Suggestion{}
			if err := app.Suggest(c.Context(), s, q, func(x *app.Suggestion) error {
				list = append(list, x)
				return nil
			}); err != nil {
				return err
			}
			app.SortSuggestions(list)
			if asJSON {
				err = printJSON(c, list)
			} else {
				printSuggestions(c.OutOrStdout(), list)
			}
			if err == nil && len(list) == 0 {
				err = errFails
			}
			return err
		},
	}
	c.Flags().StringVar(&q.From, "from", "", "source: `SEG:ADDRESS`, internet:ADDRESS, or a workload")
	c.Flags().StringVar(&q.To, "to", "", "destination: an `ADDRESS` or a workload")
	c.Flags().StringVar(&q.On, "service", "", "the `SERVICE`: a name or a term")
	c.Flags().StringVar(&q.Want, "want", "", "the `OUTCOME` that is asked for: allowed, inspected or denied")
	c.Flags().StringVar(&q.Pool, "pool", "", "with inspected: the `POOL` that inspects; left out for any")
	c.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return c
}

func printSuggestions(w io.Writer, list []*app.Suggestion) {
	if len(list) == 0 {
		fmt.Fprintln(w, "No edit was found.")
		return
	}
	for i, s := range list {
		fmt.Fprintf(w, "%d. %s\n", i+1, strings.Join(s.Words, "\n   "))
		if s.Others == "0" {
			fmt.Fprintln(w, "   no other flows change")
		} else {
			fmt.Fprintf(w, "   %s other pairs of addresses change outcome\n", s.Others)
		}
		for _, x := range s.Expectations {
			if x.After == view.Breaks {
				fmt.Fprintf(w, "   expectation %s breaks\n", x.Name)
			}
		}
	}
}
