// Package little has one estate that is small enough to be worked out by hand: that of the
// glossary of core/matrix, with a hub, a second network and a firewall. Examples use it.
package little

import (
	"bivium/core/document"
	"bivium/core/estate"
)

// Text is the document of the estate.
const Text = `
bivium: 1
estate: little
hubs: [{name: h}]
segments: [{name: s, default: deny}]
networks:
  - {name: west, kind: cloud, segment: s, subnets: [{name: hosts, prefix: 10.0.0.0/29}]}
  - {name: east, kind: cloud, segment: s, subnets: [{name: hosts, prefix: 10.0.1.0/29}]}
attachments:
  - {network: west, hub: h}
  - {network: east, hub: h}
workloads:
  - {name: client-1, network: west, addresses: [10.0.0.1], labels: {app: client}}
  - {name: client-2, network: west, addresses: [10.0.0.2], labels: {app: client}}
  - {name: server-1, network: east, addresses: [10.0.1.5], labels: {app: server}}
groups:
  - {name: a, match: app=client}
  - {name: b, match: app=server}
pools:
  - {name: wall, firewalls: [{name: wall-1, hub: h}]}
policies:
  - name: p
    segments: [s]
    from: [a]
    to: [b]
    rules:
      - {services: [tcp/443], action: allow}
      - {services: [tcp/22], action: inspect, pool: wall}
expectations:
  - {name: clients-reach-servers, from: {segment: s, groups: [a]}, to: {segment: s, groups: [b]}, services: [tcp/443], expect: allowed}
`

// Estate returns the estate.
func Estate() *estate.Estate {
	e, err := document.Read([]byte(Text))
	if err != nil {
		panic(err)
	}
	return e
}
