package applying_test

import (
	"flag"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"bivium/core/edit"
	"bivium/core/estate"
	"bivium/core/findings"
	"bivium/core/matrix"
	"bivium/core/native"
	"bivium/core/testing/draw"
	"bivium/core/verdict"
	"bivium/internal/app/applying"
	"bivium/internal/standin"
)

var written = flag.Int("written", 12, "how many drawn estates are written over the interfaces of their targets")

// TestDrawnEstatesAreWritten writes drawn estates to targets that hold nothing, each over its own
// interface, and sends a packet of each class of flows: it does what the estate says. First is one
// whose premises have entries for types of ICMP.
func TestDrawnEstatesAreWritten(t *testing.T) {
	estates := rapid.Custom(func(t *rapid.T) *estate.Estate {
		return draw.Faultless(t, func(e *estate.Estate) []estate.Fault {
			return append(estate.Check(e), findings.ShareFaults(verdict.New(e))...)
		})
	})
	sent, wrote := 0, 0
	for seed := 247; wrote < *written; seed++ {
		e := allUp(estates.Example(seed))
		if len(estate.Check(e)) > 0 || len(native.Translate(matrix.New(verdict.New(e))).Refused) > 0 {
			continue
		}
		wrote++
		t.Run(fmt.Sprint("seed ", seed), func(t *testing.T) {
			o := startWorld(t, worldOf(e), e, 0)
			for _, a := range e.Accounts {
				o.syncs(a.Name)
			}
			_, err := o.writer.Begin(t.Context(), applying.Order{Cause: applying.CauseDrift, PutRight: true})
			require.NoError(t, err)
			if len(native.Translate(o.app.Now().Matrix).Refused) > 0 { // since accounts were read
				require.Eventually(t, func() bool {
					s := o.state()
					return s.State == applying.StatePartly && s.Plan == 0
				}, time.Minute, 20*time.Millisecond, "what fits is in force, and it is said that the rest is not")
				return
			}
			o.settles()
			_, _, changed := o.drift()
			assert.Empty(t, changed)
			round, err := o.sender.Round(t.Context(), o.app.Now(), "", 0, "tester")
			require.NoError(t, err)
			if round.Wrong > 0 {
				assert.Fail(t, "packets did something else", "%d of %d: %+v", round.Wrong, round.Sent, round.Results[0])
			}
			sent += round.Sent
		})
	}
	assert.Greater(t, sent, 90**written)
}

// allUp returns an estate of which everything works, and every network has an account that is
// written to.
func allUp(e *estate.Estate) *estate.Estate {
	for i := range e.Accounts {
		e.Accounts[i].Observed = false
	}
	for i := range e.Networks {
		if n := &e.Networks[i]; n.Account == "" {
			n.Account = "own"
		}
	}
	for i := range e.Attachments {
		a := &e.Attachments[i]
		a.State, a.Sessions = "up", nil
		a.Learned = slices.DeleteFunc(a.Learned, func(l estate.Learned) bool { return l.Status == "withdrawn" }) // the world has no such hosts
	}
	for i := range e.Links {
		e.Links[i].State = "up"
	}
	for i := range e.Exits {
		e.Exits[i].State = "up"
	}
	for i := range e.Pools {
		for k := range e.Pools[i].Firewalls {
			e.Pools[i].Firewalls[k].State = "healthy"
		}
	}
	for i := range e.Hubs {
		e.Hubs[i].AS, e.Hubs[i].Speaker = 0, ""
	}
	return e
}

// worldOf returns a world that has what the accounts of an estate have, with routes and peerings, and
// no list. Names there are written otherwise.
func worldOf(e *estate.Estate) *standin.World {
	w := &standin.World{}
	for _, a := range e.Accounts {
		x := &standin.Account{Name: a.Name, Provider: a.Provider, Key: "key-" + a.Name, Secret: "secret-" + a.Name, Rate: 10_000}
		for i := range e.Networks {
			n := &e.Networks[i]
			if n.Account != a.Name {
				continue
			}
			held := &standin.Network{ID: "id-" + n.Name, Name: strings.ToUpper(n.Name), Kind: n.Kind, Region: n.Region, Uplink: "up"}
			for _, s := range n.Subnets {
				held.Subnets = append(held.Subnets, standin.Subnet{Name: strings.ToUpper(s.Name), Prefix: s.Prefix})
			}
			for _, r := range n.Routes {
				held.Table = append(held.Table, standin.Entry{To: r.To, Via: strings.Replace(string(r.Via), "peer:", "peer:id-", 1)})
			}
			for _, p := range e.Peerings {
				for k, name := range p.Between {
					if other := p.Between[1-k]; name == n.Name {
						held.Peers = append(held.Peers, "id-"+other)
						if p.OffersHub == other {
							held.Offered = append(held.Offered, "id-"+other)
						}
					}
				}
			}
			x.Networks = append(x.Networks, held)
			for k := range e.Workloads {
				if m := &e.Workloads[k]; m.Network == n.Name {
					x.Machines = append(x.Machines, &standin.Machine{ID: "id-" + m.Name, Name: m.Name, Network: held.ID, Addresses: m.Addresses})
				}
			}
		}
		w.Add(x)
	}
	return w
}

// TestAnObservedAccountsOwnListsAreNamed observes an account that was written before, and changes what
// its network may get: a packet meets what the account holds, and the result says whose lists those are.
func TestAnObservedAccountsOwnListsAreNamed(t *testing.T) {
	o := startOutside(t)
	o.putsRight()
	o.makes(edit.Put, estate.KindAccount, "cirra-north", `{"name": "cirra-north", "provider": "cirra", "observed": true}`)
	o.edits("more", "turbine", "collectors", "historian", true)
	o.settles()
	r, err := o.sender.Try(t.Context(), o.app.Now(), "collector-1", "historian-1", "tcp/9123", 0, "")
	require.NoError(t, err)
	assert.False(t, r.Delivered)
	assert.False(t, r.Agrees)
	assert.Equal(t, "account cirra-north is only observed, and its own lists stop the packet", r.Why)
}
