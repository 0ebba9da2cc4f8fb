package main

import (
	"cmp"
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"bivium/core/estate"
	"bivium/internal/app"
	"bivium/internal/app/view"
)

func suggestCommand() *cobra.Command {
	var asJSON bool
	var finding string
	q := &app.SuggestionQuestion{}
	c := &cobra.Command{
		Use:   "suggest FILE (--from SEG:ADDRESS --to ADDRESS --service tcp/443 --want allowed | --finding CODE)",
		Short: "Print the edits that would give a flow another outcome, or remove findings, those with the fewest side effects first",
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
			if finding != "" {
				return printFixes(c, s, finding, asJSON)
			}
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
	c.Flags().StringVar(&finding, "finding", "", "instead of a flow: a `FINDING`, by its code, such as unreached-rule, or its key")
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
		other := "other "
		if s.Mark == nil { // no flow was asked about
			other = ""
		}
		if s.Others == "0" {
			fmt.Fprintf(w, "   no %sflows change\n", other)
		} else {
			fmt.Fprintf(w, "   %s %spairs of addresses change outcome\n", cmp.Or(s.Others, "over a million million"), other)
		}
		if len(s.Left) > 0 {
			fmt.Fprintf(w, "   the finding stays for %s\n", leftWords(s.Left))
		}
		if s.Brings > 0 {
			fmt.Fprintf(w, "   other findings come: %d\n", s.Brings)
		}
		for _, x := range s.Expectations {
			if x.After == view.Breaks {
				fmt.Fprintf(w, "   expectation %s breaks\n", x.Name)
			}
		}
	}
}

// leftWords names the first of what a finding stays for, and counts the rest.
func leftWords(left []view.Thing) string {
	const most = 4
	if left[0].Kind == string(estate.KindPolicy) { // of a guardrail
		return "other flows"
	}
	var names []string
	for _, x := range left[:min(len(left), most)] {
		names = append(names, x.Name)
	}
	text := strings.Join(names, ", ")
	if len(left) > most {
		text += fmt.Sprintf(" and %d more", len(left)-most)
	}
	return text
}

// findingFixes is a finding with the edits that would remove it.
type findingFixes struct {
	Key     string            `json:"key"`
	Message string            `json:"message"`
	Fixes   []*app.Suggestion `json:"fixes"`
}

// printFixes prints the edits that would remove each finding of a code, or that of a key.
func printFixes(c *cobra.Command, s *view.Snapshot, finding string, asJSON bool) error {
	list := []findingFixes{}
	for _, x := range s.Issues().Findings {
		if x.Code != finding && x.Key != finding {
			continue
		}
		f := findingFixes{x.Key, x.Message, []*app.Suggestion{}}
		if err := app.Fixes(c.Context(), s, x.Key, func(fix *app.Suggestion) error {
			f.Fixes = append(f.Fixes, fix)
			return nil
		}); err != nil {
			return err
		}
		app.SortSuggestions(f.Fixes)
		list = append(list, f)
	}
	switch {
	case len(list) == 0:
		return fmt.Errorf("the estate has no finding %s; bivium check lists those that there are", finding)
	case asJSON:
		return printJSON(c, list)
	}
	for _, f := range list {
		fmt.Fprintf(c.OutOrStdout(), "%s (%s)\n", f.Message, f.Key)
		printSuggestions(c.OutOrStdout(), f.Fixes)
	}
	return nil
}
