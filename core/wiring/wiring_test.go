package wiring_test

import (
	"net/netip"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"bivium/core/document"
	"bivium/core/estate"
	"bivium/core/testing/draw"
	"bivium/core/testing/meet"
	"bivium/core/wiring"
)

func written(t require.TestingT, e *estate.Estate) string {
	text, err := document.Write(e)
	require.NoError(t, err)
	return string(text)
}

// TestEditsAndTheirOpposites makes drawn edits, and takes each back by its
// opposite: the estate is what it was, and the one that was edited never changes.
func TestEditsAndTheirOpposites(t *testing.T) {
	wants := meet.Often(1, wiring.Live, wiring.Attach, wiring.Bring, wiring.SetRoute, wiring.Link, wiring.Unlink, wiring.OfferHub, wiring.Filter, wiring.AddHub, wiring.Hear, wiring.Speak, wiring.Show, wiring.Translate)
	meet.Check(t, wants, func(t *rapid.T, met meet.Met) {
		e := rapid.Custom(draw.Estate).Draw(t, "estate")
		for _, n := range e.Networks { // each subnet says its own segment, as after any edit of it
			own, err := wiring.Apply(e, []wiring.Edit{{Op: wiring.Live, Network: n.Name, Subnet: n.Subnets[0].Name, Segment: n.SegmentOf(&n.Subnets[0])}})
			require.NoError(t, err)
			e = own
		}
		before := written(t, e)
		for range 8 {
			do, undo := drawPair(t, e)
			next, err := wiring.Apply(e, do)
			require.Equal(t, before, written(t, e), "an edit leaves what it was made of alone")
			if err != nil {
				require.Nil(t, next)
				continue
			}
			require.NotEqual(t, before, written(t, next), "%v", do)
			back, err := wiring.Apply(next, undo)
			require.NoError(t, err)
			require.Equal(t, before, written(t, back), "%v, and back by %v", do, undo)
			met[string(do[0].Op)]++
		}
	})
}

// drawPair draws an edit, and the edits that take it back.
func drawPair(t *rapid.T, e *estate.Estate) (do, undo []wiring.Edit) {
	n := rapid.SampledFrom(e.Networks).Draw(t, "network")
	hub := rapid.SampledFrom(e.Hubs).Draw(t, "hub").Name
	if len(e.Attachments) > 0 && rapid.Bool().Draw(t, "attached") {
		a := rapid.SampledFrom(e.Attachments).Draw(t, "attachment")
		n, hub = e.Networks[slices.IndexFunc(e.Networks, func(n estate.Network) bool { return n.Name == a.Network })], a.Hub
	}
	other := rapid.SampledFrom(e.Hubs).Draw(t, "other").Name
	segment := rapid.SampledFrom(e.Segments).Draw(t, "segment").Name
	p := netip.MustParsePrefix("198.18.7.0/24")
	var linked *estate.Link
	for i := range e.Links {
		if b := e.Links[i].Between; b == [2]string{hub, other} || b == [2]string{other, hub} {
			linked = &e.Links[i]
		}
	}
	var attached *estate.Attachment
	twice := false
	for i := range e.Attachments {
		if a := &e.Attachments[i]; a.Network == n.Name && a.Hub == hub {
			attached, twice = a, attached != nil
		}
	}
	for _, a := range e.Peerings {
		if a.OffersHub == "" && a.Between[0] == n.Name {
			x := wiring.Edit{Op: wiring.OfferHub, Network: n.Name, Other: a.Between[1]}
			back := x
			back.Op = wiring.RefuseHub
			return []wiring.Edit{x}, []wiring.Edit{back}
		}
	}
	if attached != nil && !twice && rapid.IntRange(0, 4).Draw(t, "filter") == 0 {
		x := wiring.Edit{Op: wiring.Filter, Network: n.Name, Hub: hub, Accepts: []netip.Prefix{p}}
		back := wiring.Edit{Op: wiring.Filter, Network: n.Name, Hub: hub, Accepts: attached.Accepts, Announces: attached.Announces}
		return []wiring.Edit{x}, []wiring.Edit{back}
	}
	if attached != nil && !twice && rapid.IntRange(0, 6).Draw(t, "translate") == 0 {
		x := wiring.Edit{Op: wiring.Translate, Network: n.Name, Hub: hub, Segment: segment, Prefix: p, Outside: netip.MustParsePrefix("198.19.9.0/24")}
		back := x
		back.Op = wiring.Untranslate
		return []wiring.Edit{x}, []wiring.Edit{back}
	}
	if attached != nil && !twice && rapid.IntRange(0, 4).Draw(t, "hear") == 0 {
		x := wiring.Edit{Op: wiring.Hear, Network: n.Name, Hub: hub, Router: netip.MustParseAddr("127.9.9.9"), AS: 65001, Segment: segment, May: []netip.Prefix{p}}
		return []wiring.Edit{x}, []wiring.Edit{{Op: wiring.Quiet, Network: n.Name, Hub: hub, Router: x.Router}}
	}
	if len(e.Shares) > 0 && rapid.IntRange(0, 6).Draw(t, "show") == 0 {
		s := rapid.SampledFrom(e.Shares).Draw(t, "share")
		x := wiring.Edit{Op: wiring.Show, Name: s.Name, Segment: segment, Prefix: p, Outside: netip.MustParsePrefix("198.19.7.0/24")}
		return []wiring.Edit{x}, []wiring.Edit{{Op: wiring.Unshow, Name: s.Name, Segment: segment, Prefix: p}}
	}
	if rapid.IntRange(0, 8).Draw(t, "speak") == 0 {
		return []wiring.Edit{{Op: wiring.Speak, Name: hub, AS: 64512, Speaker: "127.0.1.9"}}, []wiring.Edit{{Op: wiring.Speak, Name: hub}}
	}
	plain := attached != nil && !twice && attached.State == "up" && attached.Description == "" &&
		attached.Accepts == nil && attached.Announces == nil && len(attached.Static)+len(attached.Learned)+len(attached.Translate) == 0
	if plain && rapid.Bool().Draw(t, "detach") {
		return []wiring.Edit{{Op: wiring.Detach, Network: n.Name, Hub: hub}}, []wiring.Edit{{Op: wiring.Attach, Network: n.Name, Hub: hub, Cost: attached.Cost, Uplink: attached.Uplink}}
	}
	if rapid.IntRange(0, 5).Draw(t, "new") == 0 {
		return []wiring.Edit{{Op: wiring.AddHub, Name: "brand-new", Region: "east"}, {Op: wiring.AddSegment, Name: "brand-new"}},
			[]wiring.Edit{{Op: wiring.DropSegment, Name: "brand-new"}, {Op: wiring.DropHub, Name: "brand-new"}}
	}
	op := rapid.IntRange(0, 4).Draw(t, "op")
	if twice { // an edit of one of two
		op = 0
	}
	switch op {
	case 0:
		x := wiring.Edit{Op: wiring.SetRoute, Network: n.Name, Prefix: p, Via: "none"}
		return []wiring.Edit{x}, []wiring.Edit{{Op: wiring.DropRoute, Network: n.Name, Prefix: p}}
	case 1:
		if linked != nil && len(linked.Segments) == 0 && linked.State == "up" && linked.Description == "" {
			return []wiring.Edit{{Op: wiring.Unlink, Hub: hub, Other: other}}, []wiring.Edit{{Op: wiring.Link, Hub: linked.Between[0], Other: linked.Between[1], Cost: linked.Cost}}
		}
		if linked != nil {
			return []wiring.Edit{{Op: wiring.Link, Hub: hub, Other: other, Cost: 77}}, []wiring.Edit{{Op: wiring.Link, Hub: hub, Other: other, Cost: linked.Cost}}
		}
		return []wiring.Edit{{Op: wiring.Link, Hub: hub, Other: other, Cost: 77}}, []wiring.Edit{{Op: wiring.Unlink, Hub: other, Other: hub}}
	case 2:
		x := wiring.Edit{Op: wiring.Bring, Network: n.Name, Hub: hub, Prefix: p, Segment: segment}
		back := x
		back.Op = wiring.Withdraw
		return []wiring.Edit{x}, []wiring.Edit{back}
	case 3:
		s := n.Subnets[0]
		if s.Segment == segment {
			segment = ""
		}
		return []wiring.Edit{{Op: wiring.Live, Network: n.Name, Subnet: s.Name, Segment: segment}}, []wiring.Edit{{Op: wiring.Live, Network: n.Name, Subnet: s.Name, Segment: s.Segment}}
	}
	attach := wiring.Edit{Op: wiring.Attach, Network: n.Name, Hub: hub, Cost: 3}
	if attached != nil {
		attach.Cost = attached.Cost
		dearer := attach
		dearer.Cost++
		return []wiring.Edit{dearer}, []wiring.Edit{attach}
	}
	return []wiring.Edit{attach}, []wiring.Edit{{Op: wiring.Detach, Network: n.Name, Hub: hub}}
}

func TestAnEditOfWhatIsNotThereSaysWhatAndWhere(t *testing.T) {
	e := &estate.Estate{
		Version: 1, Name: "small", Hubs: []estate.Hub{{Name: "h"}}, Segments: []estate.Segment{{Name: "s"}},
		Networks: []estate.Network{{Name: "n", Subnets: []estate.Subnet{{Name: "x", Prefix: netip.MustParsePrefix("10.0.0.0/24")}}}},
	}
	good := wiring.Edit{Op: wiring.Live, Network: "n", Subnet: "x", Segment: "s"}
	for _, c := range []struct {
		edit wiring.Edit
		key  string
	}{
		{wiring.Edit{Op: "conjure"}, "op"},
		{wiring.Edit{Op: wiring.Live, Network: "nobody", Segment: "s"}, "network"},
		{wiring.Edit{Op: wiring.Live, Network: "n", Segment: "nowhere"}, "segment"},
		{wiring.Edit{Op: wiring.Live, Network: "n", Subnet: "y", Segment: "s"}, "subnet"},
		{wiring.Edit{Op: wiring.Attach, Network: "n", Hub: "k"}, "hub"},
		{wiring.Edit{Op: wiring.Attach, Network: "n", Hub: "h", Cost: -1}, "cost"},
		{wiring.Edit{Op: wiring.AddHub, Name: "h"}, "name"},
		{wiring.Edit{Op: wiring.AddSegment, Name: "No Name"}, "name"},
		{wiring.Edit{Op: wiring.DropSegment, Name: "t"}, "name"},
		{wiring.Edit{Op: wiring.Detach, Network: "n", Hub: "h"}, "hub"},
		{wiring.Edit{Op: wiring.SetRoute, Network: "n", Prefix: netip.MustParsePrefix("10.0.0.1/8"), Via: "hub"}, "prefix"},
		{wiring.Edit{Op: wiring.SetRoute, Network: "n", Prefix: netip.MustParsePrefix("10.0.0.0/8"), Via: "elsewhere"}, "via"},
		{wiring.Edit{Op: wiring.Link, Hub: "h", Other: "h", Cost: 1}, "other"},
		{wiring.Edit{Op: wiring.Unlink, Hub: "h", Other: "k"}, "other"},
		{wiring.Edit{Op: wiring.OfferHub, Network: "n", Other: "m"}, "other"},
		{wiring.Edit{Op: wiring.OpenExit, Name: "out", Hub: "h"}, "segments"},
	} {
		_, err := wiring.Apply(e, []wiring.Edit{good, c.edit})
		var wrong *wiring.Error
		require.ErrorAs(t, err, &wrong, "%v", c.edit)
		assert.Equal(t, c.key, wrong.Key, "%v", c.edit)
		assert.Equal(t, 1, wrong.At)
		assert.NotEmpty(t, wrong.Fix)
	}
}

// TestANetworkMayBeAttachedToAHubTwice edits what one of two attachments has, and is
// refused what would reach either.
func TestANetworkMayBeAttachedToAHubTwice(t *testing.T) {
	p, q := netip.MustParsePrefix("10.9.0.0/16"), netip.MustParsePrefix("10.8.0.0/16")
	e := &estate.Estate{
		Version: estate.Version, Hubs: []estate.Hub{{Name: "ridge"}}, Segments: []estate.Segment{{Name: "ops", Default: estate.Deny}}, Networks: []estate.Network{{Name: "site", Kind: "site"}},
		Attachments: []estate.Attachment{
			{Network: "site", Hub: "ridge", Cost: 1, State: "up", Static: []estate.Static{{Prefix: q, Segment: "ops"}}},
			{Network: "site", Hub: "ridge", Cost: 9, State: "up", Learned: []estate.Learned{{Prefix: p, Segment: "ops", Status: "waiting"}}},
		},
	}
	before := written(t, e)
	at := func(x wiring.Edit) wiring.Edit {
		x.Network, x.Hub, x.Segment = "site", "ridge", "ops"
		return x
	}
	next, err := wiring.Apply(e, []wiring.Edit{at(wiring.Edit{Op: wiring.Learn, Prefix: p, Status: "accepted"}), at(wiring.Edit{Op: wiring.Withdraw, Prefix: q})})
	require.NoError(t, err)
	assert.Equal(t, "accepted", next.Attachments[1].Learned[0].Status)
	assert.Empty(t, next.Attachments[0].Static)
	assert.Equal(t, before, written(t, e))
	for _, x := range []wiring.Edit{{Op: wiring.Attach, Cost: 5}, {Op: wiring.Filter, Accepts: []netip.Prefix{p}}, {Op: wiring.Bring, Prefix: p}} {
		_, err := wiring.Apply(e, []wiring.Edit{at(x)})
		assert.ErrorContains(t, err, "network site has several attachments at ridge", "%s", x.Op)
	}
	next, err = wiring.Apply(e, []wiring.Edit{at(wiring.Edit{Op: wiring.Detach}), at(wiring.Edit{Op: wiring.Attach, Cost: 5})})
	require.NoError(t, err)
	assert.Equal(t, []estate.Attachment{{Name: "site-ridge", Network: "site", Hub: "ridge", Cost: 5, State: "up"}}, next.Attachments)
}
