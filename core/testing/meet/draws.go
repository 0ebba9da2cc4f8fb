package meet

import "flag"

// Draws lets properties of a package be tried as many times, unless -rapid.checks says
// otherwise. It belongs into TestMain.
func Draws(checks string) {
	flag.Parse()
	if f := flag.Lookup("rapid.checks"); f.Value.String() == f.DefValue {
		_ = flag.Set("rapid.checks", checks) // it is a number
	}
}
