package standin

import (
	"errors"
	"fmt"
	"strconv"
	"strings"
)

// names are the protocols by number.
var names = map[int]string{1: "icmp", 6: "tcp", 17: "udp", 58: "icmpv6"}

// words returns a match in one string, with a separator before the ports.
func (m Match) words(separator string) string {
	word := fmt.Sprintf("protocols%s%d-%d", separator, m.Protocols[0], m.Protocols[1])
	if m.Protocols[0] == m.Protocols[1] {
		word = names[m.Protocols[0]]
		if word == "" {
			word = strconv.Itoa(m.Protocols[0])
		}
		if m.Ports != everything.Ports {
			word += fmt.Sprintf("%s%d-%d", separator, m.Ports[0], m.Ports[1])
		}
	}
	if m.Sources != everything.Sources {
		word += fmt.Sprintf(" from %d-%d", m.Sources[0], m.Sources[1])
	}
	return word
}

// matchIn reads what words returns.
func matchIn(text, separator string) (Match, error) {
	m := everything
	service, from, bounded := strings.Cut(text, " from ")
	if bounded {
		if err := rangeIn(from, &m.Sources); err != nil {
			return m, err
		}
	}
	protocol, ports, _ := strings.Cut(service, separator)
	if protocol == "protocols" {
		return m, rangeIn(ports, &m.Protocols)
	}
	number, known := protocols[protocol]
	if !known {
		n, err := strconv.Atoi(protocol)
		if err != nil {
			return m, fmt.Errorf("match %q: no protocol %q", text, protocol)
		}
		number = n
	}
	m.Protocols = [2]int{number, number}
	if ports == "" {
		return m, nil
	}
	return m, rangeIn(ports, &m.Ports)
}

func rangeIn(text string, r *[2]int) error {
	first, last, two := strings.Cut(text, "-")
	if !two {
		last = first
	}
	var err [2]error
	r[0], err[0] = strconv.Atoi(first)
	r[1], err[1] = strconv.Atoi(last)
	if err := errors.Join(err[:]...); err != nil || r[0] > r[1] || r[0] < 0 || r[1] > 65535 {
		return fmt.Errorf("%q is no range", text)
	}
	return nil
}
