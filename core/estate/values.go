package estate

import (
	"encoding/json"
	"fmt"
	"strings"
)

// Side is one side of a policy, rulebook rule or party: some groups, or any.
// The zero Side is neither, and covers nothing.
type Side struct {
	Any    bool
	Groups []string
}

// String returns "any", or the groups with commas between.
func (s Side) String() string {
	if s.Any {
		return "any"
	}
	return strings.Join(s.Groups, ", ")
}

// MarshalJSON returns "any" or a list of names.
func (s Side) MarshalJSON() ([]byte, error) { return wordOrList(s.Any, "any", s.Groups) }

// Scope is a list of segments, or all of them. The zero Scope was left out.
type Scope struct {
	All   bool
	Names []string
}

// IsZero reports whether the scope was left out.
func (s Scope) IsZero() bool { return !s.All && s.Names == nil }

// String returns "all", or the names with commas between.
func (s Scope) String() string {
	if s.All {
		return "all"
	}
	return strings.Join(s.Names, ", ")
}

// MarshalJSON returns "all" or a list of names.
func (s Scope) MarshalJSON() ([]byte, error) { return wordOrList(s.All, "all", s.Names) }

// End is one end of an expectation: the internet, or a party.
type End struct {
	Internet bool
	Party
}

// MarshalJSON returns "internet" or the party.
func (e End) MarshalJSON() ([]byte, error) {
	if e.Internet {
		return []byte(`"internet"`), nil
	}
	return json.Marshal(e.Party)
}

// Via says where a route leads: "hub", "internet", "none" or "peer:NAME".
type Via string

// Peer returns the name of the peer that the route leads to, and whether it
// leads to one.
func (v Via) Peer() (string, bool) { return strings.CutPrefix(string(v), "peer:") }

// ParseVia returns the via that s is written as.
func ParseVia(s string) (Via, error) {
	v := Via(s)
	if peer, ok := v.Peer(); ok {
		if err := CheckName(peer); err != nil {
			return "", err
		}
		return v, nil
	}
	switch s {
	case "hub", "internet", "none":
		return v, nil
	}
	return "", fmt.Errorf("%q is not a next hop; write hub, internet, none, or peer:NAME", s)
}

// SubnetRef names a subnet as "network/subnet".
type SubnetRef struct{ Network, Subnet string }

// String returns the reference as it is written in a document.
func (r SubnetRef) String() string { return r.Network + "/" + r.Subnet }

// MarshalText returns the reference as it is written in a document.
func (r SubnetRef) MarshalText() ([]byte, error) { return []byte(r.String()), nil }

// UnmarshalText reads what MarshalText writes.
func (r *SubnetRef) UnmarshalText(b []byte) error {
	network, subnet, ok := strings.Cut(string(b), "/")
	if !ok {
		return fmt.Errorf("%q is not a subnet; write network/subnet", b)
	}
	for _, name := range []string{network, subnet} {
		if err := CheckName(name); err != nil {
			return err
		}
	}
	*r = SubnetRef{network, subnet}
	return nil
}

func wordOrList(all bool, word string, names []string) ([]byte, error) {
	if all {
		return json.Marshal(word)
	}
	if names == nil {
		names = []string{}
	}
	return json.Marshal(names)
}
