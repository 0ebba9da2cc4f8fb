package main

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"bivium/core/edit"
	"bivium/internal/app/drafts"
	"bivium/internal/app/history"
	"bivium/internal/app/view"
	"bivium/internal/client"
	"bivium/internal/wording"
)

// tokenVariable is the environment variable with the token that commands send to a server.
const tokenVariable = "BIVIUM_TOKEN"

// remote is a server that a command asks, as the person of a token.
type remote struct {
	c       *cobra.Command
	address string
}

// addServer adds the flag that names the server.
func (r *remote) addServer(c *cobra.Command) {
	r.c = c
	c.Flags().StringVar(&r.address, "server", "http://127.0.0.1:8420", "the `URL` of the server; the token is read from "+tokenVariable)
}

// send sends a request, and decodes the answer into out unless that is nil.
func (r *remote) send(method, path string, body, out any, header ...string) error {
	token, err := tokenOf()
	if err != nil {
		return err
	}
	return client.New(r.address, token).Send(r.c.Context(), method, path, body, out, header...)
}

// tokenOf returns the token that commands send to a server.
func tokenOf() (string, error) {
	token := os.Getenv(tokenVariable)
	if token == "" {
		return "", fmt.Errorf("there is no token: make one with bivium token, or in the browser at Password and tokens, and put it into %s", tokenVariable)
	}
	return token, nil
}

// where adds the draft that is asked of, if there is one.
func where(q url.Values, draft int64) string {
	if draft > 0 {
		q.Set("draft", strconv.FormatInt(draft, 10))
	}
	return "?" + q.Encode()
}

func askCommand() *cobra.Command {
	var r remote
	var q view.Question
	var draft int64
	var asJSON bool
	c := &cobra.Command{
		Use:   "ask",
		Short: "Ask a server what happens to flows, in the applied estate or in a draft",
		Args:  cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			var answer struct {
				Sentence []wording.Token `json:"sentence"`
				Lines    json.RawMessage `json:"lines"`
			}
			query := url.Values{"from": {q.From}, "to": {q.To}, "on": {q.On}}
			if err := r.send(http.MethodGet, "/api/ask"+where(query, draft), nil, &answer); err != nil {
				return err
			}
			if asJSON {
				return printJSON(c, answer)
			}
			fmt.Fprintln(c.OutOrStdout(), wording.Plain(answer.Sentence))
			return nil
		},
	}
	r.addServer(c)
	c.Flags().StringVar(&q.From, "from", "", "the source: a `NAME` or address")
	c.Flags().StringVar(&q.To, "to", "", "the destination: a `NAME` or address")
	c.Flags().StringVar(&q.On, "on", "any", "the `SERVICE`")
	c.Flags().Int64Var(&draft, "draft", 0, "the number `N` of a draft")
	c.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return c
}

func draftCommand() *cobra.Command {
	c := &cobra.Command{Use: "draft", Short: "List, write and review drafts on a server"}
	c.AddCommand(draftListCommand(), draftAddCommand(), draftShowCommand(), draftSubmitCommand())
	return c
}

func draftListCommand() *cobra.Command {
	var r remote
	c := &cobra.Command{
		Use: "list", Short: "List the drafts, those that changed last first", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			var all struct {
				Drafts []drafts.Summary `json:"drafts"`
			}
			if err := r.send(http.MethodGet, "/api/drafts", nil, &all); err != nil {
				return err
			}
			for _, d := range all.Drafts {
				fmt.Fprintf(c.OutOrStdout(), "%-5d %-24s %-10s %3d steps  %s\n", d.ID, d.Name, d.State, d.Steps, strings.Join(d.Authors, "; "))
			}
			return nil
		},
	}
	r.addServer(c)
	return c
}

func draftAddCommand() *cobra.Command {
	var r remote
	var id int64
	var name, reason, ticket string
	c := &cobra.Command{
		Use:   "add EDIT",
		Short: "Add an edit from a file to a draft, or to a new one, and print its number",
		Args:  cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			text, err := read(c, args[0])
			if err != nil {
				return err
			}
			x, err := edit.Read(text)
			if err != nil {
				return fmt.Errorf("%s cannot be read:\n%w", args[0], err)
			}
			if id == 0 {
				var begun drafts.Summary
				if err := r.send(http.MethodPost, "/api/drafts", map[string]string{"name": name, "reason": reason, "ticket": ticket}, &begun); err != nil {
					return err
				}
				id = begun.ID
			}
			review, err := r.review(id)
			if err != nil {
				return err
			}
			if err := r.send(http.MethodPost, fmt.Sprintf("/api/edit?draft=%d", id), x, nil, "If-Match", fmt.Sprintf(`"%d"`, review.Version)); err != nil {
				return err
			}
			fmt.Fprintln(c.OutOrStdout(), id)
			return nil
		},
	}
	r.addServer(c)
	c.Flags().Int64Var(&id, "draft", 0, "the number `N` of a draft; left out, a new one is begun")
	c.Flags().StringVar(&name, "name", "", "the `NAME` of a new draft")
	c.Flags().StringVar(&reason, "reason", "", "`WHY` it is")
	c.Flags().StringVar(&ticket, "ticket", "", "its `TICKET`")
	return c
}

// review returns everything about a draft.
func (r *remote) review(id int64) (*drafts.Review, error) {
	var out drafts.Review
	return &out, r.send(http.MethodGet, fmt.Sprintf("/api/drafts/%d", id), nil, &out)
}

// draftNumber reads the number of a draft.
func draftNumber(text string) (int64, error) {
	id, err := strconv.ParseInt(text, 10, 64)
	if err != nil || id <= 0 {
		return 0, fmt.Errorf("%q is not the number of a draft; see bivium draft list", text)
	}
	return id, nil
}

func draftShowCommand() *cobra.Command {
	var r remote
	var asJSON bool
	c := &cobra.Command{
		Use:   "show N",
		Short: "Print what a draft changes, and who must approve it",
		Long:  "The exit status is 1 if the draft cannot be applied yet.",
		Args:  cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			id, err := draftNumber(args[0])
			if err != nil {
				return err
			}
			d, err := r.review(id)
			if err != nil {
				return err
			}
			if asJSON {
				err = printJSON(c, d)
			} else {
				printReview(c.OutOrStdout(), d)
			}
			if err == nil && d.CanApply != "" {
				err = errFails
			}
			return err
		},
	}
	r.addServer(c)
	c.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return c
}

func printReview(out io.Writer, d *drafts.Review) {
	fmt.Fprintf(out, "draft %d, %s: %s\n", d.ID, d.Name, d.State)
	for _, o := range d.Objects {
		what := "changed"
		switch {
		case o.Before == "":
			what = "new"
		case o.After == "":
			what = "deleted"
		}
		fmt.Fprintf(out, "  %s %s: %s\n", o.Kind, o.Name, what)
	}
	if e := d.Consequence.Effect; e != nil {
		for _, f := range e.Flows {
			fmt.Fprintf(out, "  %s to %s, for example %s to %s on %s: %s\n", f.From, f.To, f.Witness.Source, f.Witness.Destination, f.Witness.On, wording.Plain(f.Will))
		}
		for _, x := range e.Expectations {
			fmt.Fprintf(out, "  expectation %s: %s, now %s\n", x.Name, x.Before, x.After)
		}
	}
	for _, f := range d.Conflicts {
		fmt.Fprintf(out, "  conflict: %s\n", f.Why)
	}
	for _, a := range d.Asked {
		state := "waits for " + strings.Join(a.Owners, ", ")
		if a.Approved != nil {
			state = "approved by " + a.Approved.Person
		}
		fmt.Fprintf(out, "  segment %s: %s\n", a.Segment, state)
	}
	if d.CanApply != "" {
		fmt.Fprintf(out, "it cannot be applied yet: %s\n", d.CanApply)
	}
}

func draftSubmitCommand() *cobra.Command {
	var r remote
	c := &cobra.Command{
		Use: "submit N", Short: "Submit a draft for review", Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			id, err := draftNumber(args[0])
			if err != nil {
				return err
			}
			var d drafts.Review
			if err := r.send(http.MethodPost, fmt.Sprintf("/api/drafts/%d/state", id), map[string]string{"state": "review"}, &d); err != nil {
				return err
			}
			printReview(c.OutOrStdout(), &d)
			return nil
		},
	}
	r.addServer(c)
	return c
}

func applyCommand() *cobra.Command {
	var r remote
	var emergency string
	var staged, wait bool
	c := &cobra.Command{
		Use:   "apply N",
		Short: "Apply a draft on a server",
		Args:  cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			id, err := draftNumber(args[0])
			if err != nil {
				return err
			}
			d, err := r.review(id)
			if err != nil {
				return err
			}
			body := map[string]any{}
			if staged {
				body["staged"] = true
			}
			if emergency != "" {
				body["emergency"] = emergency
			}
			if err := r.send(http.MethodPost, fmt.Sprintf("/api/drafts/%d/application", id), body, &d, "If-Match", fmt.Sprintf(`"%d"`, d.Version)); err != nil {
				return err
			}
			fmt.Fprintf(c.OutOrStdout(), "draft %s is applied as revision %d\n", d.Name, d.Revision)
			if wait {
				return r.follow(c.OutOrStdout())
			}
			return nil
		},
	}
	r.addServer(c)
	c.Flags().BoolVar(&staged, "staged", false, "send test packets after each step of writing, and go back if one does not come out as predicted")
	c.Flags().BoolVar(&wait, "wait", false, "wait until every target holds it, and print how far it is")
	c.Flags().StringVar(&emergency, "emergency", "", "`WHY` it cannot wait for the approvals that it needs")
	return c
}

func blameCommand() *cobra.Command {
	var r remote
	var q view.Question
	var asJSON bool
	c := &cobra.Command{
		Use:   "blame",
		Short: "Ask a server since when a flow has its outcome, and who changed it",
		Args:  cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			var b history.Blame
			query := url.Values{"from": {q.From}, "to": {q.To}, "on": {q.On}}
			if err := r.send(http.MethodGet, "/api/blame?"+query.Encode(), nil, &b); err != nil {
				return err
			}
			if asJSON {
				return printJSON(c, b)
			}
			out := c.OutOrStdout()
			fmt.Fprintln(out, wording.Plain(b.Now))
			for _, s := range b.Since {
				name := s.What
				if s.Note != nil {
					name = "draft " + s.Note.Name + ", written by " + strings.Join(s.Note.Authors, "; ")
				}
				fmt.Fprintf(out, "since %s, revision %d by %s: %s\n  before: %s\n", s.At.Local().Format(time.DateTime), s.Number, s.Actor, name, wording.Plain(s.Was))
			}
			if len(b.Since) == 0 {
				fmt.Fprintf(out, "as long as the history goes back, to revision %d\n", b.Looked)
			}
			return nil
		},
	}
	r.addServer(c)
	c.Flags().StringVar(&q.From, "from", "", "the source: a `NAME` or address")
	c.Flags().StringVar(&q.To, "to", "", "the destination: a `NAME` or address")
	c.Flags().StringVar(&q.On, "on", "", "the `SERVICE`, as one protocol and port")
	c.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return c
}
