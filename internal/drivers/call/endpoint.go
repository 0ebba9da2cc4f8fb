package call

import (
	"fmt"
	"net"
	"net/netip"
	"net/url"
	"strings"
	"syscall"
)

// CheckEndpoint returns the address of an interface, or why nothing may be sent
// there: it must be https, or http on this machine, and be nothing but scheme, host
// and port; paths are the driver's to write. Where the name leads is checked again
// when it is dialled (see guard).
func CheckEndpoint(text string) (*url.URL, error) {
	u, err := url.Parse(text)
	switch {
	case err != nil || u.Host == "":
		return nil, fmt.Errorf("%q is not an API address; write https://HOST or https://HOST:PORT", text)
	case u.User != nil:
		return nil, fmt.Errorf("the address contains a credential; enter it in its own field")
	case u.Opaque != "" || strings.Trim(u.Path, "/") != "" || u.RawQuery != "" || u.ForceQuery || u.Fragment != "" || strings.Contains(text, "#"):
		return nil, fmt.Errorf("the address must end after host and port; write %s://%s", u.Scheme, u.Host)
	case u.Scheme == "https":
	case u.Scheme == "http":
		if ip, err := netip.ParseAddr(u.Hostname()); !strings.EqualFold(u.Hostname(), "localhost") && (err != nil || !ip.IsLoopback()) {
			return nil, fmt.Errorf("the credential would be sent to %s unencrypted; use https", u.Host)
		}
	default:
		return nil, fmt.Errorf("the address must start with https://, not %q", u.Scheme)
	}
	if ip, err := netip.ParseAddr(u.Hostname()); err == nil {
		if err := checkAddr(ip); err != nil {
			return nil, err
		}
	}
	return &url.URL{Scheme: u.Scheme, Host: strings.ToLower(u.Host)}, nil
}

// checkAddr refuses addresses at which no provider is: those of the link, where
// machines keep credentials of their own, and those of nobody or of many.
func checkAddr(a netip.Addr) error {
	a = a.Unmap()
	if a.IsLinkLocalUnicast() || a.IsMulticast() || a.IsUnspecified() {
		return fmt.Errorf("%s is not allowed as a provider address", a)
	}
	return nil
}

// guard refuses to dial what checkAddr refuses, whatever name it goes by.
func guard(_, address string, _ syscall.RawConn) error {
	host, _, err := net.SplitHostPort(address)
	if err != nil {
		return err
	}
	a, err := netip.ParseAddr(host)
	if err != nil {
		return err
	}
	return checkAddr(a)
}
