package main

import (
	"fmt"
	"net/url"
	"strings"

	"github.com/spf13/cobra"

	"bivium/core/limits"
	"bivium/internal/client"
)

// fromServer lets a command take its first estate from a server in place of a file: the applied one,
// or that of a draft.
func fromServer(c *cobra.Command) *cobra.Command {
	var address string
	var draft int64
	c.Flags().StringVar(&address, "server", "", "the `URL` of a server whose estate is taken in place of the first file; the token is read from "+tokenVariable)
	c.Flags().Int64Var(&draft, "draft", 0, "the number `N` of a draft of that server")
	count, work := c.Args, c.RunE
	with := func(args []string) ([]string, error) {
		switch {
		case address == "" && draft != 0:
			return nil, fmt.Errorf("--draft is one of a server; name that with --server")
		case address == "":
			return args, nil
		case !isServer(address):
			return nil, fmt.Errorf("--server %s: the address of a server begins with http:// or https://", address)
		}
		return append([]string{strings.TrimSuffix(address, "/") + "/api/export" + where(url.Values{}, draft)}, args...), nil
	}
	c.Args = func(c *cobra.Command, args []string) error {
		args, err := with(args)
		if err != nil {
			return err
		}
		return count(c, args)
	}
	c.RunE = func(c *cobra.Command, args []string) error {
		args, err := with(args)
		if err != nil {
			return err
		}
		return work(c, args)
	}
	return c
}

func isServer(file string) bool {
	return strings.HasPrefix(file, "http://") || strings.HasPrefix(file, "https://")
}

// download returns the document that a server exports.
func download(c *cobra.Command, address string) ([]byte, error) {
	token, err := tokenOf()
	if err != nil {
		return nil, err
	}
	return client.New(address, token).Download(c.Context(), address, limits.DocumentBytes)
}
