package main

import (
	"errors"
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"bivium/core/estate"
	"bivium/core/matrix"
	"bivium/core/native"
	"bivium/core/native/config"
	"bivium/core/native/proof"
	"bivium/core/native/reader"
	"bivium/core/verdict"
	hold "bivium/internal/app/targets"
	"bivium/internal/wording"
)

// errUnproven is returned where the configuration of targets is not what the estate says, or
// cannot be held by them.
var errUnproven = errors.New("the configuration of the targets is not what the estate says")

func nativeCommand() *cobra.Command {
	var target, as string
	var prove, counts bool
	c := &cobra.Command{
		Use:   "native FILE [--target T] [--prove]",
		Short: "Print what hubs, pools, clouds and premises have to hold, and prove that it means the same",
		Long: "Print what each target has to hold so that it means what the estate says: the match list of\n" +
			"each segment, the wiring of each hub, the rulebook of each pool, and the lists and routes of each\n" +
			"network, as its provider has them. The text can be compared line by line.",
		Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			e, _, err := readEstate(c, args[0])
			if err != nil {
				return err
			}
			s := matrix.New(verdict.New(e))
			t := native.Translate(s)
			out := c.OutOrStdout()
			switch {
			case as == "acl":
				err = printJSON(c, hold.AccessLists(native.TranslateSingly(s).Config))
			case as == "topology":
				err = printTopology(out, e)
			case as != "":
				err = fmt.Errorf("--as: there is no form %q; there are acl (RFC 8519) and topology (RFC 8345)", as)
			case prove:
				err = printProof(out, proof.Prove(s, t.Config))
			case counts:
				printCounts(out, t.Config, e.Workloads)
			default:
				err = printTargets(out, t.Config, e.Workloads, target)
			}
			for i := range t.Refused {
				fmt.Fprintln(c.ErrOrStderr(), "refused: "+wording.Refusal(&t.Refused[i])) //nolint:errcheck // there is nowhere else to say so
			}
			if err == nil && len(t.Refused) > 0 {
				err = errUnproven
			}
			return err
		},
	}
	c.Flags().StringVar(&target, "target", "", "one target: segment/NAME, hub/NAME, pool/NAME or network/NAME")
	c.Flags().StringVar(&as, "as", "", "another form: acl for access lists (RFC 8519), topology (RFC 8345)")
	c.Flags().BoolVar(&prove, "prove", false, "read the configuration back, and list every flow that it treats other than intended")
	c.Flags().BoolVar(&counts, "counts", false, "print how many rules each list has, how many it needs at least, and how many it may have")
	return c
}

func printTargets(w io.Writer, c *config.Config, workloads []estate.Workload, only string) (err error) {
	if only == "" {
		c.Each(workloads, func(t config.Target) {
			if err == nil {
				_, err = fmt.Fprintln(w, t.Text())
			}
		})
		return err
	}
	kind, name, _ := strings.Cut(only, "/")
	t, found := c.Target(kind, name, workloads)
	if !found {
		return fmt.Errorf("--target: there is no target %q; it is written kind/name, where the kind is segment, hub, pool or network", only)
	}
	_, err = fmt.Fprintln(w, t.Text())
	return err
}

func printCounts(w io.Writer, c *config.Config, workloads []estate.Workload) {
	c.Each(workloads, func(t config.Target) {
		for _, l := range t.Listings {
			limit := ""
			if l.Limit > 0 {
				limit = fmt.Sprintf(" of %d", l.Limit)
			}
			fmt.Fprintf(w, "%s/%s\t%s\t%d%s\tat least %d\n", t.Kind, t.Name, l.On, l.Len(), limit, l.Bound) //nolint:errcheck // as other output
		}
	})
}

func printProof(w io.Writer, p *proof.Proof) error {
	for _, d := range p.Differences {
		fmt.Fprintf(w, "%s: %s\n", d.Change, wording.NativeDifference(&d)) //nolint:errcheck // as other output
	}
	for _, d := range p.Stricter {
		fmt.Fprintf(w, "stricter: %s, because %s\n", wording.NativeDifference(&d), wording.Blur(d.Blur)) //nolint:errcheck // as other output
	}
	for _, u := range p.Unheld {
		var prefixes []string
		for _, x := range u.Prefixes {
			prefixes = append(prefixes, x.String())
		}
		fmt.Fprintf(w, "stricter: nothing passes to or from %s of network %s, because %s\n", strings.Join(prefixes, ", "), u.Network, wording.Blur(reader.NoWorkload)) //nolint:errcheck // as other output
	}
	switch {
	case p.Incomplete:
		fmt.Fprintln(w, "not all differences are listed: there are too many") //nolint:errcheck // as other output
		return errUnproven
	case len(p.Differences) > 0:
		return errUnproven
	}
	_, err := fmt.Fprintln(w, "proven for all flows")
	return err
}

func printTopology(w io.Writer, e *estate.Estate) error {
	text, err := hold.Topology(e)
	if err == nil {
		_, err = fmt.Fprintln(w, string(text))
	}
	return err
}
