package main

import (
	"fmt"

	"github.com/spf13/cobra"

	"bivium/core/document"
	"bivium/core/synth"
)

func generateCommand() *cobra.Command {
	var name string
	var seed uint64
	var asJSON bool
	c := &cobra.Command{
		Use:   "generate --size S|M|L|XL --seed N",
		Short: "Print a synthetic estate (the same size and seed always give the same estate)",
		Args:  cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			size, ok := synth.Sizes[name]
			if !ok {
				return fmt.Errorf("--size %s: write S, M, L or XL", name)
			}
			e := synth.New(fmt.Sprintf("synthetic-%d", seed), size, seed)
			var text []byte
			var err error
			if asJSON {
				text, err = document.WriteJSON(e)
			} else {
				text, err = document.Write(e)
			}
			if err == nil {
				_, err = c.OutOrStdout().Write(text)
			}
			return err
		},
	}
	c.Flags().StringVar(&name, "size", "S", "S, M, L or XL")
	c.Flags().Uint64Var(&seed, "seed", 1, "the seed `N`")
	c.Flags().BoolVar(&asJSON, "json", false, "print JSON, which loads faster than YAML")
	return c
}
