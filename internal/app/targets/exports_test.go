package targets_test

import (
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bivium/core/document"
	"bivium/core/native"
	"bivium/core/native/config"
	"bivium/core/native/proof"
	"bivium/demo"
	"bivium/internal/app/targets"
	"bivium/internal/app/view"
	"bivium/internal/drivers/acl"
)

func grayshoal(t *testing.T) *view.Snapshot {
	e, err := document.Read(demo.Grayshoal)
	require.NoError(t, err)
	return view.NewSnapshot(e, 1)
}

// TestAccessListsMeanTheSame exports all lists of networks as access lists, reads these back into
// the place of the lists, and proves the whole again.
func TestAccessListsMeanTheSame(t *testing.T) {
	now := grayshoal(t)
	b, err := new(targets.Books).Of(now)
	require.NoError(t, err)
	text, err := b.AccessLists()
	require.NoError(t, err)
	var doc acl.Document
	require.NoError(t, json.Unmarshal(text, &doc))
	read := map[string]*config.List{}
	for i := range doc.ACLs.ACL {
		name, way, _ := strings.Cut(doc.ACLs.ACL[i].Name, ":")
		require.Contains(t, []string{"in", "out"}, way)
		if read[name] == nil {
			read[name] = &config.List{}
		}
		require.NoError(t, doc.ACLs.ACL[i].Read(read[name]))
	}
	cfg := native.Translate(now.Matrix).Config
	replaced := 0
	for i := range cfg.Networks {
		n := &cfg.Networks[i]
		for k := range n.Lists {
			name := n.Name
			if n.Lists[k].On != "" {
				name += "/" + n.Lists[k].On
			}
			require.Contains(t, read, name)
			n.Lists[k].Rules = read[name].Rules
			replaced++
		}
	}
	assert.Greater(t, replaced, 20)
	assert.Empty(t, proof.Prove(now.Matrix, cfg).Differences)
}

// TestTopologyJoinsWhatIsJoined holds the exported topology to the estate: each connection is two
// links, whose ends are nodes that have the point.
func TestTopologyJoinsWhatIsJoined(t *testing.T) {
	now := grayshoal(t)
	text, err := targets.Topology(now.Estate)
	require.NoError(t, err)
	var doc struct {
		Networks struct {
			Network []struct {
				Node []struct {
					ID     string `json:"node-id"`
					Points []struct {
						ID string `json:"tp-id"`
					} `json:"ietf-network-topology:termination-point"`
				} `json:"node"`
				Link []struct {
					ID          string            `json:"link-id"`
					Source      map[string]string `json:"source"`
					Destination map[string]string `json:"destination"`
				} `json:"ietf-network-topology:link"`
			} `json:"network"`
		} `json:"ietf-network:networks"`
	}
	require.NoError(t, json.Unmarshal(text, &doc))
	require.Len(t, doc.Networks.Network, 1)
	points, ids := map[string]bool{}, map[string]bool{}
	for _, n := range doc.Networks.Network[0].Node {
		for _, p := range n.Points {
			points[n.ID+" "+p.ID] = true
		}
	}
	e := now.Estate
	links := doc.Networks.Network[0].Link
	assert.Len(t, links, 2*(len(e.Links)+len(e.Attachments)+len(e.Peerings)+len(e.Exits)))
	for _, l := range links {
		assert.False(t, ids[l.ID], "%s comes twice", l.ID)
		ids[l.ID] = true
		assert.True(t, points[l.Source["source-node"]+" "+l.Source["source-tp"]], l.ID)
		assert.True(t, points[l.Destination["dest-node"]+" "+l.Destination["dest-tp"]], l.ID)
	}
}
