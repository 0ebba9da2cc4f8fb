package estate

import (
	"fmt"
	"net/netip"
)

// CheckAddr returns nil if an estate may hold an address: it is valid, has no zone, and is
// not IPv4 written as IPv6, which would be another address in every comparison.
func CheckAddr(a netip.Addr) error {
	switch {
	case !a.IsValid():
		return fmt.Errorf("the address is missing; write one like 10.1.0.7 or 2001:db8::7")
	case a.Zone() != "":
		return fmt.Errorf("the address %s has a zone, which is not allowed here; write %s", a, a.WithZone(""))
	case a.Is4In6():
		return fmt.Errorf("%s is IPv4 written as IPv6; write %s", a, a.Unmap())
	}
	return nil
}

// CheckPrefix returns nil if an estate may hold a prefix: its address may be held, and it
// has no host bits.
func CheckPrefix(p netip.Prefix) error {
	switch {
	case !p.IsValid():
		return fmt.Errorf("the prefix is missing; write one like 10.1.0.0/24 or 2001:db8::/32")
	case p.Masked() != p:
		return fmt.Errorf("the prefix %s has host bits; did you mean %s?", p, p.Masked())
	}
	return CheckAddr(p.Addr())
}
