package estate

import "fmt"

// MaxName is the length of the longest name, in characters.
const MaxName = 63

var reserved = map[string]bool{
	"any": true, "all": true, "internet": true, "none": true, "hub": true,
	"tcp": true, "udp": true, "icmp": true, "icmpv6": true, "proto": true,
}

// CheckName returns nil if s may name a thing: 1–63 characters of a-z, 0-9, dot and dash
// that start with a letter, and no reserved word. Else the error says why not.
func CheckName(s string) error {
	switch {
	case s == "":
		return fmt.Errorf("a name is empty; use 1 to %d characters of a-z, 0-9, dot and dash", MaxName)
	case len(s) > MaxName:
		return fmt.Errorf("the name %.20q… has %d characters; the limit is %d", s, len(s), MaxName)
	case s[0] < 'a' || s[0] > 'z':
		return fmt.Errorf("the name %q does not start with a lower-case letter; start it with a-z", s)
	case reserved[s]:
		return fmt.Errorf("%q is a reserved word and cannot be a name; choose another", s)
	}
	for i := range len(s) {
		c := s[i]
		if (c < 'a' || c > 'z') && (c < '0' || c > '9') && c != '-' && c != '.' {
			return fmt.Errorf("the name %q contains %q; names consist of a-z, 0-9, dot and dash", s, string(c))
		}
	}
	return nil
}

// Kind is the sort of a thing, as the document's lists call it in the singular.
type Kind string

// The kinds of things that bear names, or can be pointed to.
const (
	KindAccount     Kind = "account"
	KindMapping     Kind = "mapping"
	KindHub         Kind = "hub"
	KindLink        Kind = "link"
	KindSegment     Kind = "segment"
	KindNetwork     Kind = "network"
	KindSubnet      Kind = "subnet"
	KindAttachment  Kind = "attachment"
	KindPeering     Kind = "peering"
	KindExit        Kind = "exit"
	KindPublication Kind = "publication"
	KindWorkload    Kind = "workload"
	KindService     Kind = "service"
	KindGroup       Kind = "group"
	KindPool        Kind = "pool"
	KindFirewall    Kind = "firewall"
	KindRulebook    Kind = "rulebook"
	KindPolicy      Kind = "policy"
	KindShare       Kind = "share"
	KindExpectation Kind = "expectation"
)

// Ref points to a thing.
type Ref struct {
	Kind Kind   `json:"kind"`
	Name string `json:"name"`
}

// String returns the kind and the name.
func (r Ref) String() string { return string(r.Kind) + " " + r.Name }
