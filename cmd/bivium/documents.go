package main

import (
	"github.com/spf13/cobra"

	"bivium/core/document"
)

func fmtCommand() *cobra.Command {
	var asJSON bool
	c := &cobra.Command{
		Use:   "fmt FILE",
		Short: "Print an estate in canonical form (descriptions are kept, comments are not)",
		Args:  cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			e, _, err := readEstate(c, args[0])
			if err != nil {
				return err
			}
			var text []byte
			if asJSON {
				text, err = document.WriteJSON(e)
			} else {
				text, err = document.Write(e)
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

func schemaCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "schema",
		Short: "Print the JSON Schema of the estate document",
		Args:  cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			text, err := document.Schema()
			if err != nil {
				return err
			}
			_, err = c.OutOrStdout().Write(append(text, '\n'))
			return err
		},
	}
}
