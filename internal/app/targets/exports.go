package targets

import (
	"encoding/json"
	"slices"
	"strings"

	"bivium/core/estate"
	"bivium/core/native"
	"bivium/core/native/config"
	"bivium/internal/drivers/acl"
)

// Text returns what all targets have to hold as text that can be compared line by line.
func (b *Book) Text() string {
	b.translated()
	var out strings.Builder
	b.each(func(t *config.Target) {
		out.WriteString(t.Text())
		out.WriteByte('\n')
	})
	return out.String()
}

// AccessLists returns the lists of all networks as access lists of RFC 8519, in the JSON of
// RFC 7951: two for each list, into what it hangs on and out of it. Match lists of hubs are not
// among them: an access list cannot steer.
func (b *Book) AccessLists() ([]byte, error) {
	return json.MarshalIndent(AccessLists(native.TranslateSingly(b.now.Matrix).Config), "", "  ")
}

// AccessLists returns those of a configuration.
func AccessLists(cfg *config.Config) *acl.Document {
	out := &acl.Document{}
	put := func(name string, rules []config.Rule) {
		out.ACLs.ACL = append(out.ACLs.ACL, acl.Lists(&config.List{On: name, Rules: rules})...)
	}
	for i := range cfg.Networks {
		n := &cfg.Networks[i]
		for k := range n.Lists {
			name := n.Name
			if on := n.Lists[k].On; on != "" {
				name += "/" + on
			}
			put(name, n.Lists[k].Rules)
		}
	}
	for _, a := range cfg.Accounts {
		for _, l := range a.Lists {
			rules := asRules(l.Entries)
			rules = slices.DeleteFunc(rules, func(r config.Rule) bool { return r.Peer == nil }) // those of lists, which have no prefix
			put(a.Name+"/"+l.Name, rules)
		}
	}
	return out
}

// node, link and topology are those of RFC 8345.
type node struct {
	ID     string  `json:"node-id"`
	Points []point `json:"ietf-network-topology:termination-point"`
}

type point struct {
	ID string `json:"tp-id"`
}

type link struct {
	ID     string `json:"link-id"`
	Source struct {
		Node  string `json:"source-node"`
		Point string `json:"source-tp"`
	} `json:"source"`
	Destination struct {
		Node  string `json:"dest-node"`
		Point string `json:"dest-tp"`
	} `json:"destination"`
}

type topology struct {
	ID    string `json:"network-id"`
	Nodes []node `json:"node"`
	Links []link `json:"ietf-network-topology:link"`
}

// Topology returns hubs, networks and the internet, and what joins them, as RFC 8345 models it,
// in the JSON of RFC 7951. Links go one way, so that each connection is two of them.
func Topology(e *estate.Estate) ([]byte, error) {
	t := topology{ID: e.Name}
	at := map[string]int{}
	add := func(id string) {
		if _, known := at[id]; !known {
			at[id] = len(t.Nodes)
			t.Nodes = append(t.Nodes, node{ID: id, Points: []point{}})
		}
	}
	for i := range e.Hubs {
		add("hub/" + e.Hubs[i].Name)
	}
	for i := range e.Networks {
		add("network/" + e.Networks[i].Name)
	}
	join := func(id, a, b string) {
		add(a)
		add(b)
		for _, end := range [2]string{a, b} {
			t.Nodes[at[end]].Points = append(t.Nodes[at[end]].Points, point{id})
		}
		for _, way := range [2][2]string{{a, b}, {b, a}} {
			l := link{ID: id + " from " + way[0]}
			l.Source.Node, l.Source.Point, l.Destination.Node, l.Destination.Point = way[0], id, way[1], id
			t.Links = append(t.Links, l)
		}
	}
	for _, l := range e.Links {
		join("link/"+l.Name, "hub/"+l.Between[0], "hub/"+l.Between[1])
	}
	for i := range e.Attachments {
		join("attachment/"+e.Attachments[i].Name, "network/"+e.Attachments[i].Network, "hub/"+e.Attachments[i].Hub)
	}
	for _, p := range e.Peerings {
		join("peering/"+p.Name, "network/"+p.Between[0], "network/"+p.Between[1])
	}
	for _, x := range e.Exits {
		join("exit/"+x.Name, "hub/"+x.Hub, "internet")
	}
	return json.MarshalIndent(map[string]any{"ietf-network:networks": map[string]any{"network": []topology{t}}}, "", "  ")
}
