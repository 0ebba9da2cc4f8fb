// Package demo holds the estate of Grayshoal Wind, a made-up company.
package demo

import _ "embed"

// Grayshoal is the document of the demo estate.
//
//go:embed grayshoal.yaml
var Grayshoal []byte
