package main

import (
	"encoding/json"
	"fmt"
	"io"
	"os"
	"time"

	"github.com/spf13/cobra"

	"bivium/core/document"
	"bivium/core/estate"
	"bivium/core/limits"
	"bivium/core/matrix"
	"bivium/core/verdict"
)

// read returns the content of a file, of standard input for "-", or what a server exports.
func read(c *cobra.Command, file string) ([]byte, error) {
	if file == "-" {
		return io.ReadAll(io.LimitReader(c.InOrStdin(), limits.DocumentBytes+1))
	}
	if isServer(file) {
		return download(c, file)
	}
	return os.ReadFile(file)
}

// readEstate returns the estate of a document, with its text.
func readEstate(c *cobra.Command, file string) (*estate.Estate, []byte, error) {
	text, err := read(c, file)
	if err != nil {
		return nil, nil, err
	}
	collectLess(uint64(len(text))*estatePerText, commandPercent)
	e, err := document.Read(text)
	if err != nil {
		return nil, nil, fmt.Errorf("%s cannot be read:\n%w", file, err)
	}
	return estate.AsOf(e, time.Now().Format(estate.DayFormat)), text, nil
}

func printJSON(c *cobra.Command, v any) error {
	encoder := json.NewEncoder(c.OutOrStdout())
	encoder.SetIndent("", "  ")
	return encoder.Encode(v)
}

// matrixOf returns the matrix of a document's estate, and tells how far it is.
func matrixOf(c *cobra.Command, p *progress, file string) (*matrix.Matrix, error) {
	p.at("reading")
	e, _, err := readEstate(c, file)
	if err != nil {
		return nil, err
	}
	p.at("surveying")
	return matrix.New(verdict.New(e)), nil
}
