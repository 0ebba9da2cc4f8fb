package main

import (
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"bivium/core/difference"
	"bivium/core/matrix"
	"bivium/core/space"
	"bivium/core/verdict"
	"bivium/internal/app/view"
)

// changeWords is one block of a difference, as --json writes it.
type changeWords struct {
	Kind        string            `json:"kind"`   // opened, closed, hands or other
	Family      difference.Family `json:"family"` // ipv4, ipv6 or both
	From        []string          `json:"from"`
	To          []string          `json:"to"`
	Sources     selectionWords    `json:"sources"`
	Targets     selectionWords    `json:"destinations"`
	Publication string            `json:"publication,omitempty"` // by which flows from the internet come in
	Services    []string          `json:"services"`
	Before      *verdict.Verdict  `json:"before"` // null where there was no such flow
	After       *verdict.Verdict  `json:"after"`
	Witness     *view.FlowWords   `json:"witness"`
}

// selectionWords is a set of endpoints for programs: all of its parts together, or
// everything but them.
type selectionWords struct {
	In       string   `json:"in"`  // the segment, or internet
	But      bool     `json:"but"` // it is everything there but what follows
	Groups   []string `json:"groups"`
	Networks []string `json:"networks"`
	Prefixes []string `json:"prefixes"`
}

func selectionOf(s *difference.Selection) selectionWords {
	out := selectionWords{In: nodeWords(s.Node), But: s.All || s.AllBut, Groups: append([]string{}, s.Groups...), Networks: append([]string{}, s.Networks...), Prefixes: []string{}}
	for _, p := range s.Prefixes {
		out.Prefixes = append(out.Prefixes, p.String())
	}
	return out
}

// The kinds of changes, in the order in which they are printed.
var changeKinds = []struct{ kind, title string }{
	{"opened", "newly passing"},
	{"closed", "no longer passing"},
	{"hands", "still passing, decided by another rule or pool"},
	{"other", "still not passing, for another reason"},
}

func diffCommand() *cobra.Command {
	var asJSON, exitCode bool
	c := &cobra.Command{
		Use:   "diff OLD NEW",
		Short: "Print every flow whose verdict differs between two estates, as exact sets, each with an example flow",
		Args:  cobra.ExactArgs(2),
		RunE: func(c *cobra.Command, args []string) error {
			p := begin(c)
			defer p.end()
			p.at("reading")
			old, _, err := readEstate(c, args[0])
			if err != nil {
				return err
			}
			next, _, err := readEstate(c, args[1])
			if err != nil {
				return err
			}
			p.at("surveying both")
			before, after := matrix.New(verdict.New(old)), matrix.New(verdict.New(next))
			p.at("comparing every flow")
			d := difference.Compare(before, after)
			if asJSON {
				err = printJSON(c, changesOf(before, after, &d))
			} else {
				printDiff(c.OutOrStdout(), before, after, &d)
			}
			if err == nil && exitCode && len(d.Changes) > 0 {
				err = errFails
			}
			return err
		},
	}
	c.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	c.Flags().BoolVar(&exitCode, "exit-code", false, "exit with status 1 if any flow changes")
	return c
}

func passes(v *verdict.Verdict) bool {
	return v != nil && (v.Outcome == verdict.Allowed || v.Outcome == verdict.Inspected)
}

func kindOf(c *difference.Change) string {
	switch before, after := passes(c.Before), passes(c.After); {
	case after && !before:
		return "opened"
	case before && !after:
		return "closed"
	case before:
		return "hands"
	}
	return "other"
}

// witnessOf writes the witness of a block, in the later estate if it is there.
func witnessOf(before, after *matrix.Matrix, c *difference.Change, b *difference.Block) *view.FlowWords {
	flow := b.Witness()
	if c.After == nil {
		return flowOf(before.Judge, &flow)
	}
	return flowOf(after.Judge, &flow)
}

func changesOf(before, after *matrix.Matrix, d *difference.Difference) []changeWords {
	out := []changeWords{}
	for i := range d.Changes {
		c := &d.Changes[i]
		for _, b := range d.Blocks(c) {
			out = append(out, changeWords{
				kindOf(c), b.Family, b.From.Words(), b.To.Words(), selectionOf(&b.From), selectionOf(&b.To), c.Publication,
				words(c.Services), c.Before, c.After, witnessOf(before, after, c, &b),
			})
		}
	}
	return out
}

func printDiff(w io.Writer, before, after *matrix.Matrix, d *difference.Difference) {
	if len(d.Changes) == 0 {
		fmt.Fprintln(w, "No flows change.")
		return
	}
	for _, k := range changeKinds {
		titled := false
		for i := range d.Changes {
			c := &d.Changes[i]
			if kindOf(c) != k.kind {
				continue
			}
			if !titled {
				titled = true
				fmt.Fprintln(w, strings.ToUpper(k.title[:1])+k.title[1:])
			}
			fmt.Fprintf(w, "  %s: %s → %s\n", shortly(c.Services), fared(c.Before), fared(c.After))
			for _, b := range d.Blocks(c) {
				fmt.Fprintf(w, "    %sfrom %s to %s%s\n", familyWords(b.Family), strings.Join(b.From.Folded(), ", "), strings.Join(b.To.Folded(), ", "), listed(" by ", nonEmpty(c.Publication)))
				fmt.Fprintf(w, "      for example %s\n", witnessOf(before, after, c, &b))
			}
		}
	}
}

// familyWords names the family of a block, where it is one alone.
func familyWords(f difference.Family) string {
	return map[difference.Family]string{difference.IPv4: "IPv4 ", difference.IPv6: "IPv6 "}[f]
}

// shortly writes a set of services for people.
func shortly(s space.Services) string {
	words, allBut := s.Short()
	if allBut {
		return "all but " + strings.Join(words, ", ")
	}
	return strings.Join(words, ", ")
}

// fared says how flows fared, and by whom.
func fared(v *verdict.Verdict) string {
	if v == nil {
		return "no such flow"
	}
	s := string(v.Outcome)
	if v.Outcome == verdict.Inspected {
		s += " by " + strings.Join(v.Pools, ", ")
	}
	s += " (" + string(v.Reason)
	if len(v.By) > 0 {
		s += " " + strings.Join(v.By, ", ")
	}
	if v.Contested {
		s += ", contested"
	}
	return s + ")"
}
