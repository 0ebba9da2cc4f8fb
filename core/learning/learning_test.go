package learning_test

import (
	"fmt"
	"math"
	"net/netip"
	"os"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"bivium/core/document"
	"bivium/core/estate"
	"bivium/core/learning"
	"bivium/core/paths"
	"bivium/core/testing/meet"
)

// TestMain draws more than rapid does by itself: some things come up seldom.
func TestMain(m *testing.M) {
	meet.Draws("1500")
	os.Exit(m.Run())
}

var noon = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

func prefix(s string) netip.Prefix { return netip.MustParsePrefix(s) }

// event is something that a session does, at a time.
type event struct {
	at   time.Time
	what string // up, down, announce or withdraw
	on   netip.Prefix
}

// slowly says by L2, L5 and L6 alone, from all that has happened, which prefixes of a
// session count as announced. It also says whether a penalty was so near to where a
// prefix counts again, when something happened, that rounding decides.
func slowly(events []event, now time.Time) (out map[netip.Prefix]bool, narrow bool) {
	type state struct {
		said    bool
		left    time.Time
		damped  bool
		penalty float64
		at      time.Time
	}
	all := map[netip.Prefix]*state{}
	// Penalties shrink by the second here, in small steps, as the clause is written.
	bySecond := math.Exp2(-1.0 / (15 * 60))
	later := func(s *state, t time.Time) {
		for s.at.Before(t) {
			s.at = s.at.Add(time.Second)
			s.penalty *= bySecond
			if s.penalty < 750 {
				s.damped = false
			}
		}
		narrow = narrow || math.Abs(s.penalty-750) < 1e-6
	}
	leave := func(s *state, t time.Time) {
		later(s, t)
		if !s.said {
			return
		}
		s.said = false
		if !s.damped {
			s.left = t
		}
		s.penalty = min(s.penalty+1000, 12000)
		if s.penalty >= 3000 {
			s.damped = true
		}
	}
	for _, e := range events {
		switch e.what {
		case "announce":
			if all[e.on] == nil {
				all[e.on] = &state{at: e.at}
			}
			later(all[e.on], e.at)
			all[e.on].said = true
		case "withdraw":
			if s := all[e.on]; s != nil {
				leave(s, e.at)
			}
		case "down":
			for _, s := range all {
				leave(s, e.at)
			}
		}
	}
	out = map[netip.Prefix]bool{}
	for p, s := range all {
		later(s, now)
		if s.said && !s.damped || !s.left.IsZero() && now.Sub(s.left) < time.Minute {
			out[p] = true
		}
	}
	return out, narrow
}

// TestIntakeCountsWhatTheClausesSay lets a session come, go, announce and withdraw,
// and compares what counts with what the clauses say of all that happened.
func TestIntakeCountsWhatTheClausesSay(t *testing.T) {
	meet.Check(t, meet.Often(1, "damped", "down", "withdraw"), func(t *rapid.T, met meet.Met) {
		in := learning.NewIntake(100)
		now := noon
		up := false
		var events []event
		some := []netip.Prefix{prefix("10.1.0.0/16"), prefix("10.2.0.0/24"), prefix("2001:db8:1::/48")}
		for range rapid.IntRange(1, 60).Draw(t, "events") {
			now = now.Add(time.Duration(rapid.SampledFrom([]int{0, 0, 1, 7, 59, 60, 61, 400, 1800}).Draw(t, "seconds")) * time.Second)
			e := event{now, rapid.SampledFrom([]string{"up", "up", "down", "announce", "announce", "announce", "withdraw", "withdraw", "withdraw"}).Draw(t, "what"), rapid.SampledFrom(some).Draw(t, "prefix")}
			switch {
			case e.what == "up":
				in.Up(now)
				up = true
			case !up: // nothing is heard of a session that is down
				continue
			case e.what == "down":
				in.Down(now)
				up = false
			case e.what == "announce":
				require.True(t, in.Announce(e.on, now))
			default:
				in.Withdraw(e.on, now)
			}
			events = append(events, e)
			want, narrow := slowly(events, now)
			if narrow {
				return
			}
			met[e.what]++
			if !rapid.Bool().Draw(t, "asked") { // what is not asked must come out the same
				continue
			}
			count := 0
			for _, p := range some {
				require.Equal(t, want[p], in.Present(p, now), "%s after %v", p, events)
				if want[p] {
					count++
				}
			}
			f := in.Figures(now)
			require.Equal(t, count, f.Announced)
			require.Equal(t, up, f.Up)
			require.Len(t, in.Damped(now), f.Damped)
			for _, until := range in.Damped(now) {
				met["damped"]++
				require.True(t, until.After(now) && until.Sub(now) <= time.Hour, "damped for %s", until.Sub(now))
			}
		}
	})
}

// TestAFloodIsLeftOut announces more than a session may bring: what was there first
// stays, the rest is counted, and comes in where there is room.
func TestAFloodIsLeftOut(t *testing.T) {
	in := learning.NewIntake(10)
	in.Up(noon)
	for i := range 500 {
		in.Announce(prefix(fmt.Sprintf("10.%d.%d.0/24", i/200, i%200)), noon)
	}
	f := in.Figures(noon)
	assert.Equal(t, 10, f.Announced)
	assert.Equal(t, 40, f.Over, "what is remembered of a flood is bounded too")
	assert.True(t, in.Present(prefix("10.0.9.0/24"), noon))
	assert.False(t, in.Present(prefix("10.0.10.0/24"), noon))
	in.Withdraw(prefix("10.0.9.0/24"), noon)
	assert.Equal(t, 10, in.Figures(noon.Add(time.Second)).Announced, "it has a minute to come back")
	later := noon.Add(40 * time.Minute)
	assert.Equal(t, 10, in.Figures(later).Announced, "another has its place")
	assert.False(t, in.Present(prefix("10.0.9.0/24"), later))
	in.SetLimit(20, later)
	assert.Equal(t, 20, in.Figures(later).Announced)
}

const world = `
bivium: 1
estate: hills
hubs: [{name: top, as: 64512, speaker: 127.0.1.1}]
segments: [{name: red}, {name: blue}]
networks:
  - {name: site, kind: site, segment: red, subnets: [{name: lan, prefix: 10.1.0.0/24}]}
  - {name: other, kind: site, segment: red, subnets: [{name: lan, prefix: 10.2.0.0/24}]}
attachments:
  - network: site
    hub: top
    sessions: [{router: 127.0.2.1, as: 64601, segment: red, may: [10.0.0.0/12]}]
  - {network: other, hub: top, static: [{prefix: 10.3.0.0/16, segment: red}]}
groups:
  - {name: far, prefixes: [10.5.0.0/16]}
  - {name: unused, prefixes: [10.6.0.0/16]}
policies:
  - {name: p, segments: all, from: any, to: [far], rules: [{services: [any], action: allow}]}
`

// TestSettlingKeepsTheClauses settles what a session says, step by step, and holds
// each list of prefixes to L1 to L3.
func TestSettlingKeepsTheClauses(t *testing.T) {
	base, err := document.Read([]byte(world))
	require.NoError(t, err)
	require.Empty(t, estate.Check(base))
	some := []netip.Prefix{
		prefix("10.4.0.0/24"), prefix("10.5.0.0/24"), prefix("10.5.0.0/25"), prefix("10.6.0.0/24"), // may
		prefix("10.2.0.0/25"), prefix("10.0.0.0/13"), prefix("10.3.7.0/24"), // may, and overlap
		prefix("10.77.0.0/24"), prefix("2001:db8::/48"), // may not
	}
	clash := map[netip.Prefix]bool{some[4]: true, some[5]: true, some[6]: true}
	relied := map[netip.Prefix]bool{some[1]: true, some[2]: true, some[5]: true}
	wants := meet.Often(1, " to accepted", " to waiting", "waiting to ", "accepted to ", "accepted to withdrawn", "withdrawn to accepted")
	meet.Check(t, wants, func(t *rapid.T, met meet.Met) {
		e := *base
		e.Attachments = slices.Clone(base.Attachments)
		a := &e.Attachments[0]
		in := learning.NewIntake(100)
		now := noon
		in.Up(now)
		blue := estate.Learned{Prefix: prefix("10.99.0.0/24"), Segment: "blue", Status: "accepted"}
		a.Learned = []estate.Learned{blue}
		for range rapid.IntRange(1, 12).Draw(t, "steps") {
			p := rapid.SampledFrom(some).Draw(t, "prefix")
			switch rapid.IntRange(0, 4).Draw(t, "step") {
			case 0, 1:
				in.Announce(p, now)
			case 2:
				in.Withdraw(p, now)
			case 3: // a person decides
				if i := slices.IndexFunc(a.Learned, func(l estate.Learned) bool { return l.Prefix == p && l.Status == "waiting" }); i >= 0 {
					a.Learned = slices.Clone(a.Learned)
					a.Learned[i].Status = "refused"
				}
			}
			now = now.Add(time.Duration(rapid.SampledFrom([]int{1, 30, 61, 3600}).Draw(t, "seconds")) * time.Second)
			was := map[netip.Prefix]string{}
			for _, l := range a.Learned {
				was[l.Prefix] = l.Status
			}
			voices := []learning.Voice{{Session: &a.Sessions[0], Intake: in}}
			before := slices.Clone(a.Learned)
			next, tally := learning.Settle(a.Learned, voices, now, learning.Lay(&e, paths.New(&e))("site"))
			require.Equal(t, before, a.Learned, "the list that it was given stays")
			again, none := learning.Settle(next, voices, now, learning.Lay(&e, paths.New(&e))("site"))
			require.Equal(t, next, again)
			require.Zero(t, none, "settling again changes nothing")
			require.Contains(t, next, blue, "another segment's stay as they are")
			is := map[netip.Prefix]string{}
			for _, l := range next {
				require.NotContains(t, is, l.Prefix, "each stands once")
				is[l.Prefix] = l.Status
			}
			changed := 0
			for _, p := range some {
				want := expected(in, p, was[p], clash[p], relied[p], now)
				require.Equal(t, want, is[p], "%s was %q at %s", p, was[p], now.Sub(noon))
				if is[p] != was[p] {
					changed++
					met[was[p]+" to "+is[p]]++
				}
			}
			require.Equal(t, changed, tally.Accepted+tally.Waiting+tally.Withdrawn+tally.Left+tally.Back)
			a.Learned = next
			require.Empty(t, estate.CheckWiring(&e), "nothing that is taken in by itself is a fault")
		}
	})
}

// expected is what L1 and L2 make of a prefix.
func expected(in *learning.Intake, p netip.Prefix, was string, clash, relied bool, now time.Time) string {
	may := prefix("10.0.0.0/12").Contains(p.Addr()) && p.Bits() >= 12
	gone := !in.Present(p, now) && in.Knows(now)
	switch {
	case in.Present(p, now) && (was == "" || was == "waiting"):
		if may && !clash {
			return "accepted"
		}
		return "waiting"
	case in.Present(p, now) && was == "withdrawn":
		return "accepted"
	case gone && was == "waiting", gone && was == "accepted" && !relied:
		return ""
	case gone && was == "accepted":
		return "withdrawn"
	}
	return was
}

// TestASessionThatHasNotSpokenTakesNothingAway starts anew beside accepted prefixes:
// none leaves before the session was up for a minute.
func TestASessionThatHasNotSpokenTakesNothingAway(t *testing.T) {
	e, err := document.Read([]byte(world))
	require.NoError(t, err)
	a := &e.Attachments[0]
	a.Learned = []estate.Learned{{Prefix: prefix("10.4.0.0/24"), Segment: "red", Status: "accepted"}}
	in := learning.NewIntake(10)
	settle := func(at time.Time) []estate.Learned {
		next, _ := learning.Settle(a.Learned, []learning.Voice{{Session: &a.Sessions[0], Intake: in}}, at, learning.Lay(e, paths.New(e))("site"))
		return next
	}
	assert.Len(t, settle(noon.Add(24*time.Hour)), 1, "it has never come up")
	in.Up(noon)
	assert.Len(t, settle(noon.Add(59*time.Second)), 1)
	assert.Empty(t, settle(noon.Add(61*time.Second)), "it had the time to say what it has")
}
