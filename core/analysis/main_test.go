package analysis

import (
	"os"
	"testing"

	"bivium/core/testing/meet"
)

// TestMain makes the properties hold for more estates than usual: some findings
// and some disagreements are rare. A flag on the command line still wins.
func TestMain(m *testing.M) {
	meet.Draws("300")
	os.Exit(m.Run())
}
