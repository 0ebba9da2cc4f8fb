package survey

import (
	"flag"
	"os"
	"testing"
)

// TestMain makes the properties hold for more estates than usual: some findings
// and some disagreements are rare. A flag on the command line still wins.
func TestMain(m *testing.M) {
	if err := flag.Set("rapid.checks", "300"); err != nil {
		panic(err)
	}
	flag.Parse()
	os.Exit(m.Run())
}
