package store_test

import (
	"flag"
	"os"
	"testing"
)

// base holds the databases of drawn cases.
var base string

func TestMain(m *testing.M) {
	flag.Parse()
	if f := flag.Lookup("rapid.checks"); f.Value.String() == f.DefValue {
		_ = flag.Set("rapid.checks", "15") // each opens a database
	}
	var err error
	if base, err = os.MkdirTemp("", "bivium-store"); err != nil {
		panic(err)
	}
	code := m.Run()
	_ = os.RemoveAll(base)
	os.Exit(code)
}
