package main

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"

	"github.com/spf13/cobra"

	"bivium/core/analysis"
	"bivium/core/difference"
	"bivium/core/document"
	"bivium/core/edit"
	"bivium/core/estate"
	"bivium/core/verdict"
	"bivium/internal/app/view"
	"bivium/internal/wording"
)

// consequence is what an edit would change, as `bivium try` writes it with --json.
type consequence struct {
	Objects      []objectChange           `json:"objects"`
	InUse        *usedWords               `json:"inUse"`  // it deletes what others refer to; nothing else is told then
	Faults       []wording.DescribedFault `json:"faults"` // that it would bring
	Flows        []changeWords            `json:"flows"`
	Expectations []expectationChange      `json:"expectations"` // that break, or hold again

	before, after *analysis.Analysis
	changed       *difference.Difference
}

// objectChange is an object that comes, changes or goes.
type objectChange struct {
	Kind estate.Kind `json:"kind"`
	Name string      `json:"name"`
	What string      `json:"what"`          // new, changed or removed
	Was  string      `json:"was,omitempty"` // its name before, where that was another
}

// usedWords is what refers to a thing, and the edit that deletes it with all of that.
type usedWords struct {
	Thing estate.Ref   `json:"thing"`
	By    []estate.Ref `json:"by"`
	Edit  *edit.Edit   `json:"edit"`
}

// expectationChange is an expectation that holds on one side alone.
type expectationChange struct {
	Name  string `json:"name"`
	Holds bool   `json:"holds"` // after the edit
}

func tryCommand() *cobra.Command {
	var asJSON bool
	c := &cobra.Command{
		Use:   "try ESTATE EDIT",
		Short: "Print what an edit would change in an estate: objects, faults, every flow, expectations",
		Long: "An edit is a file with operations (docs/formats.md). Nothing is written. The exit status is 1 if the edit\n" +
			"would bring a fault, breaks an expectation, or deletes what other objects refer to.",
		Args: cobra.ExactArgs(2),
		RunE: func(c *cobra.Command, args []string) error {
			p := begin(c)
			defer p.end()
			p.at("reading")
			e, x, err := readEdit(c, args)
			if err != nil {
				return err
			}
			r, err := tryEdit(e, x, p)
			if err != nil {
				return fmt.Errorf("%s cannot be applied:\n%w", args[1], err)
			}
			if asJSON {
				err = printJSON(c, r)
			} else {
				err = r.print(c.OutOrStdout())
			}
			if err == nil && !r.fine() {
				err = errFails
			}
			return err
		},
	}
	c.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return c
}

func editCommand() *cobra.Command {
	var asJSON bool
	c := &cobra.Command{
		Use:   "edit ESTATE EDIT",
		Short: "Print an estate as it is after an edit, in canonical form",
		Args:  cobra.ExactArgs(2),
		RunE: func(c *cobra.Command, args []string) error {
			e, x, err := readEdit(c, args)
			if err != nil {
				return err
			}
			r, err := edit.Apply(e, x, nil)
			if err != nil {
				return fmt.Errorf("%s cannot be applied:\n%w", args[1], err)
			}
			var text []byte
			if asJSON {
				text, err = document.WriteJSON(r.Estate)
			} else {
				text, err = document.Write(r.Estate)
			}
			if err != nil {
				return err
			}
			_, err = c.OutOrStdout().Write(text)
			return err
		},
	}
	c.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return c
}

// readEdit returns the estate and the edit of two files.
func readEdit(c *cobra.Command, args []string) (*estate.Estate, *edit.Edit, error) {
	e, _, err := readEstate(c, args[0])
	if err != nil {
		return nil, nil, err
	}
	text, err := read(c, args[1])
	if err != nil {
		return nil, nil, err
	}
	x, err := edit.Read(text)
	if err != nil {
		return nil, nil, fmt.Errorf("%s cannot be read:\n%w", args[1], err)
	}
	return e, x, nil
}

// tryEdit works out what an edit would change.
func tryEdit(e *estate.Estate, x *edit.Edit, p *progress) (*consequence, error) {
	out := &consequence{Objects: []objectChange{}, Faults: []wording.DescribedFault{}, Flows: []changeWords{}, Expectations: []expectationChange{}}
	r, err := edit.Apply(e, x, nil)
	var used *edit.InUse
	switch {
	case errors.As(err, &used):
		out.InUse = &usedWords{used.Thing, used.By, used.Along.Edit}
		return out, nil
	case err != nil:
		return nil, err
	}
	out.tellObjects(e, r)
	p.at("surveying")
	out.before = analysis.New(verdict.New(e))
	p.at("working out the edit")
	var changed difference.Difference
	out.after, changed = out.before.Revise(r.Estate)
	out.changed = &changed
	had := map[string]bool{}
	for _, f := range view.Faults(out.before.Judge) {
		had[f.Identity()] = true
	}
	for _, f := range view.Faults(out.after.Judge) {
		if !had[f.Identity()] {
			out.Faults = append(out.Faults, wording.Fault(&f))
		}
	}
	out.Flows = changesOf(out.before.Matrix, out.after.Matrix, out.changed)
	held := map[string]bool{}
	for _, h := range out.before.Expectations.All() {
		held[h.Expectation.Name] = h.Holds
	}
	for _, h := range out.after.Expectations.All() {
		if was, there := held[h.Expectation.Name]; (!there && !h.Holds) || there && was != h.Holds {
			out.Expectations = append(out.Expectations, expectationChange{h.Expectation.Name, h.Holds})
		}
	}
	return out, nil
}

func (r *consequence) tellObjects(e *estate.Estate, made *edit.Result) {
	for _, c := range document.Changes(e, made.Estate, made.Former()) {
		x := objectChange{Kind: document.KindOf(c.List), Name: c.Key, What: "changed", Was: c.Was}
		switch {
		case c.Moved():
			continue
		case c.Before == nil:
			x.What = "new"
		case c.After == nil:
			x.What = "removed"
		}
		r.Objects = append(r.Objects, x)
	}
}

// fine reports whether the edit brings no fault, breaks no expectation, and can be made.
func (r *consequence) fine() bool {
	for _, x := range r.Expectations {
		if !x.Holds {
			return false
		}
	}
	return r.InUse == nil && len(r.Faults) == 0
}

func (r *consequence) print(w io.Writer) error {
	if u := r.InUse; u != nil {
		fmt.Fprintf(w, "Refused: %s is in use by\n", u.Thing)
		for _, by := range u.By {
			fmt.Fprintf(w, "  %s\n", by)
		}
		text, err := json.MarshalIndent(u.Edit, "", "  ")
		if err != nil {
			return err
		}
		fmt.Fprintf(w, "This edit deletes it with everything that refers to it:\n%s\n", text)
		return nil
	}
	for _, o := range r.Objects {
		fmt.Fprintf(w, "%s %s: %s", o.Kind, o.Name, o.What)
		if o.Was != "" {
			fmt.Fprintf(w, ", renamed from %s", o.Was)
		}
		fmt.Fprintln(w)
	}
	for _, f := range r.Faults {
		fmt.Fprintf(w, "Introduces fault %s at %s: %s\n  how to fix it: %s\n", f.Code, f.Path, f.Message, f.Fix)
	}
	for _, x := range r.Expectations {
		fmt.Fprintf(w, "Expectation %s %s\n", x.Name, map[bool]string{true: "holds again", false: "breaks"}[x.Holds])
	}
	printDiff(w, r.before.Matrix, r.after.Matrix, r.changed)
	return nil
}
