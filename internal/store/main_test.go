package store_test

import (
	"os"
	"testing"

	"bivium/core/testing/meet"
)

// base holds the databases of drawn cases.
var base string

func TestMain(m *testing.M) {
	meet.Draws("15") // each opens a database
	var err error
	if base, err = os.MkdirTemp("", "bivium-store"); err != nil {
		panic(err)
	}
	code := m.Run()
	_ = os.RemoveAll(base)
	os.Exit(code)
}
