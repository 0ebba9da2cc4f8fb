package app_test

import (
	"context"
	"fmt"
	"log/slog"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bivium/core/document"
	"bivium/core/estate"
	"bivium/core/learning"
	"bivium/core/wiring"
	"bivium/internal/app"
	"bivium/internal/app/lanes"
	"bivium/internal/app/view"
	"bivium/internal/standin"
	"bivium/internal/store"
)

// hills is an estate with three sites whose routers may speak, one of them over IPv6
// too, and a policy that relies on 10.5.0.0/16.
const hills = `
bivium: 1
estate: hills
hubs: [{name: summit, as: 64512, speaker: 127.0.1.1}]
segments: [{name: red, default: allow}]
networks:
  - {name: dale, kind: site, segment: red, subnets: [{name: lan, prefix: 10.1.0.0/24}]}
  - {name: glen, kind: site, segment: red, subnets: [{name: lan, prefix: 10.2.0.0/24}]}
  - {name: moor, kind: site, segment: red, subnets: [{name: lan, prefix: 10.3.0.0/24}]}
attachments:
  - network: dale
    hub: summit
    sessions: [{router: 127.0.2.11, as: 64611, segment: red, may: [10.4.0.0/14, "2001:db8:4::/48"], limit: 50}]
  - network: glen
    hub: summit
    sessions: [{router: 127.0.2.12, as: 64612, segment: red, may: [10.0.0.0/8]}]
  - {network: moor, hub: summit}
groups: [{name: far, prefixes: [10.5.0.0/16]}]
policies:
  - {name: to-far, segments: all, from: any, to: [far], rules: [{services: [any], action: deny}]}
`

// listening is an app on an estate whose hubs listen, at a time that the test sets.
type listening struct {
	*app.App
	t   *testing.T
	mu  sync.Mutex
	now time.Time
}

func listen(t *testing.T, text string) *listening {
	t.Helper()
	l := &listening{t: t, now: time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)}
	s, err := store.Open(t.Context(), filepath.Join(t.TempDir(), "hills.db"))
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, s.Close()) })
	l.App, err = app.Open(t.Context(), app.Config{
		Store: s, Clock: l.clock, Log: slog.New(slog.DiscardHandler),
		First: func() (*estate.Estate, error) { return document.Read([]byte(text)) },
	})
	require.NoError(t, err)
	t.Cleanup(l.Close)
	l.Learn(0)
	return l
}

func (l *listening) clock() time.Time {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.now
}

func (l *listening) wait(d time.Duration) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.now = l.now.Add(d)
}

// router lets a router speak with the hub.
func (l *listening) router(from string, as int) *standin.Router {
	l.t.Helper()
	at, ok := l.Speaker("summit")
	require.True(l.t, ok, "%+v", l.Sessions().Hubs)
	r := &standin.Router{From: netip.MustParseAddr(from), AS: as, HubAS: 64512}
	require.NoError(l.t, r.Dial(context.Background(), at))
	l.t.Cleanup(r.Hang)
	return r
}

func (l *listening) session(router string) app.SessionView {
	all := l.Sessions().Sessions
	i := slices.IndexFunc(all, func(s app.SessionView) bool { return s.Router == router })
	require.GreaterOrEqual(l.t, i, 0)
	return all[i]
}

// until waits for something that comes over a socket; the clock stands still.
func (l *listening) until(what string, f func() bool) {
	l.t.Helper()
	require.Eventually(l.t, f, 30*time.Second, 20*time.Millisecond, "%s: %+v", what, l.Sessions())
}

// settle lets time pass until what was said is taken in, and waits for that.
func (l *listening) settle(what string, f func(map[string]string) bool) {
	l.t.Helper()
	l.wait(11 * time.Second)
	l.until(what, func() bool { return f(l.learned()) })
}

// learned returns the status of each learned prefix.
func (l *listening) learned() map[string]string {
	out := map[string]string{}
	for _, a := range l.Now().Estate.Attachments {
		for _, x := range a.Learned {
			out[x.Prefix.String()] = x.Status
		}
	}
	return out
}

func prefixes(of ...string) []netip.Prefix {
	var out []netip.Prefix
	for _, s := range of {
		out = append(out, netip.MustParsePrefix(s))
	}
	return out
}

func (l *listening) outcome(from, to string) string {
	l.t.Helper()
	a, err := l.Now().Ask(view.Question{From: from, To: to, On: "tcp/443"})
	require.NoError(l.t, err)
	return string(a.Trace.Verdict.Outcome) + " " + string(a.Trace.Verdict.Reason)
}

// TestRoutersAreHeard holds real sessions over loopback: what a site may announce
// is accepted, the rest waits; what it withdraws leaves, unless something relies on
// it; and a site that flaps or floods hurts nobody.
func TestRoutersAreHeard(t *testing.T) {
	l := listen(t, hills)
	dale, glen := l.router("127.0.2.11", 64611), l.router("127.0.2.12", 64612)
	l.until("both are up", func() bool {
		return l.session("127.0.2.11").State == "up" && l.session("127.0.2.12").State == "up"
	})
	require.NoError(t, dale.Announce(prefixes("10.4.0.0/24", "10.5.0.0/24", "10.99.0.0/24", "2001:db8:4:1::/64")...))
	l.until("dale is heard", func() bool { return l.session("127.0.2.11").Announced == 4 })
	l.settle("what it may is accepted", func(is map[string]string) bool { return is["10.4.0.0/24"] == "accepted" })
	assert.Equal(t, map[string]string{"10.4.0.0/24": "accepted", "10.5.0.0/24": "accepted", "10.99.0.0/24": "waiting", "2001:db8:4:1::/64": "accepted"}, l.learned())
	assert.Equal(t, "allowed default", l.outcome("red:10.3.0.7", "10.4.0.9"))
	assert.Equal(t, "denied policy", l.outcome("red:10.3.0.7", "10.5.0.9"))

	// Another site may announce anything of 10.0.0.0/8, but not what is another's.
	require.NoError(t, glen.Announce(prefixes("10.4.0.0/25", "10.3.0.128/25", "10.60.0.0/16")...))
	l.until("glen is heard", func() bool { return l.session("127.0.2.12").Announced == 3 })
	l.settle("what overlaps waits", func(is map[string]string) bool { return is["10.60.0.0/16"] == "accepted" })
	assert.Equal(t, "waiting", l.learned()["10.4.0.0/25"])
	assert.Equal(t, "waiting", l.learned()["10.3.0.128/25"])
	history, err := l.Store.History(t.Context(), "attachments", "dale-summit", 20)
	require.NoError(t, err)
	assert.Equal(t, "routers", history[0].Actor)
	last, err := l.Last(t.Context(), l.Now())
	require.NoError(t, err)
	assert.Contains(t, last.Why, "routers announced this")
	_, err = l.Undo(t.Context(), l.Now().Revision, "demo")
	assert.ErrorContains(t, err, "no edit to undo")

	// What is withdrawn has a minute. Then it leaves, and what a policy relies on stays
	// visible: its addresses are nobody else's, and lead nowhere.
	require.NoError(t, dale.Withdraw(prefixes("10.4.0.0/24", "10.5.0.0/24")...))
	l.until("the withdrawal is heard", func() bool {
		l.wait(time.Second)
		return l.session("127.0.2.11").Announced < 4
	})
	l.settle("it leaves", func(is map[string]string) bool { return is["10.4.0.0/24"] == "" })
	assert.Equal(t, "withdrawn", l.learned()["10.5.0.0/24"])
	assert.Equal(t, "unrouted no-path", l.outcome("red:10.3.0.7", "10.5.0.9"))
	routes, err := lanes.NetworkRoutes(l.Now(), "dale", "")
	require.NoError(t, err)
	assert.Equal(t, []view.Thing{{Kind: "policy", Name: "to-far"}}, routes.Waiting[0].Relied)
	l.settle("the place that became free goes to who waits for it", func(is map[string]string) bool { return is["10.4.0.0/25"] == "accepted" })

	// It comes back with the next announcement, and a person may forget it.
	require.NoError(t, dale.Announce(prefixes("10.5.0.0/24")...))
	l.settle("it is back", func(is map[string]string) bool { return is["10.5.0.0/24"] == "accepted" })

	// A prefix that comes and goes is left out, and said to be.
	here := true
	l.until("it is damped", func() bool {
		if here = !here; here {
			require.NoError(t, dale.Announce(prefixes("10.5.0.0/24")...))
		} else {
			require.NoError(t, dale.Withdraw(prefixes("10.5.0.0/24")...))
		}
		return here && len(l.session("127.0.2.11").Damped) == 1
	})
	l.wait(learning.Hold)
	l.settle("it counts as gone", func(is map[string]string) bool { return is["10.5.0.0/24"] == "withdrawn" })
	l.wait(time.Hour)
	l.settle("and comes back when it was quiet", func(is map[string]string) bool { return is["10.5.0.0/24"] == "accepted" })

	// A flood is left out beyond the limit; far beyond it ends the session.
	require.NoError(t, dale.Announce(standin.Flood(netip.MustParsePrefix("172.20.0.0/24"), 120)...))
	l.until("the flood is left out", func() bool { s := l.session("127.0.2.11"); return s.Announced == 50 && s.Over > 0 })
	require.NoError(t, dale.Announce(standin.Flood(netip.MustParsePrefix("172.24.0.0/24"), 400)...))
	l.until("the session is ended", func() bool { return l.session("127.0.2.11").State == "down" })
	assert.Contains(t, l.session("127.0.2.11").Why, "too many prefixes")
	assert.Equal(t, "up", l.session("127.0.2.12").State, "another session does not suffer")
	l.settle("nothing was lost at once", func(is map[string]string) bool { return is["10.5.0.0/24"] == "accepted" })
}

// TestSessionsFollowTheEstate edits who may speak: sessions begin, change and end
// with the edits, and a hub that cannot listen says why.
func TestSessionsFollowTheEstate(t *testing.T) {
	l := listen(t, hills)
	rewire := func(edits ...wiring.Edit) {
		t.Helper()
		_, err := makeOf(t, l.App, edits...)
		require.NoError(t, err)
	}
	moor := wiring.Edit{Op: wiring.Hear, Network: "moor", Hub: "summit", Router: netip.MustParseAddr("127.0.2.13"), AS: 64613, Segment: "red", May: prefixes("10.30.0.0/16")}
	r := &standin.Router{From: moor.Router, AS: moor.AS, HubAS: 64512, Announces: prefixes("10.30.1.0/24", "10.31.1.0/24")}
	at, _ := l.Speaker("summit")
	require.NoError(t, r.Dial(context.Background(), at))
	t.Cleanup(r.Hang)
	rewire(moor)
	l.until("a stranger is let in once it is named", func() bool { return l.session("127.0.2.13").Announced == 2 })
	l.settle("it is accepted", func(is map[string]string) bool { return is["10.30.1.0/24"] == "accepted" })
	assert.Equal(t, "waiting", l.learned()["10.31.1.0/24"])
	moor.May = prefixes("10.30.0.0/15")
	rewire(moor)
	l.settle("what waited is accepted once it may be", func(is map[string]string) bool { return is["10.31.1.0/24"] == "accepted" })
	rewire(wiring.Edit{Op: wiring.Quiet, Network: "moor", Hub: "summit", Router: moor.Router})
	assert.Len(t, l.Sessions().Sessions, 2)
	l.wait(time.Hour)
	assert.Equal(t, "accepted", l.learned()["10.31.1.0/24"], "what was learned without a session stays as it is")
	rewire(wiring.Edit{Op: wiring.Forget, Network: "moor", Hub: "summit", Prefix: prefixes("10.31.1.0/24")[0], Segment: "red"})
	assert.NotContains(t, l.learned(), "10.31.1.0/24")

	_, err := makeOf(t, l.App, wiring.Edit{Op: wiring.Hear, Network: "moor", Hub: "summit", Router: netip.MustParseAddr("127.0.2.12"), AS: 1, Segment: "red"})
	assert.ErrorContains(t, err, "already has a session at hub summit, on glen")
	rewire(wiring.Edit{Op: wiring.Speak, Name: "summit", AS: 64512, Speaker: "192.0.2.1"})
	l.until("a hub that cannot listen says why", func() bool { h := l.Sessions().Hubs[0]; return !h.Listens && h.Why != "" })
	assert.Contains(t, l.session("127.0.2.12").Why, "cannot listen on 192.0.2.1")
	rewire(wiring.Edit{Op: wiring.Speak, Name: "summit", AS: 64512, Speaker: "127.0.1.1"})
	l.until("and listens where it can", func() bool { return l.Sessions().Hubs[0].Listens })
}

const bird = "/usr/sbin/bird"

// TestAnotherRouterIsUnderstood lets a router of another make speak.
func TestAnotherRouterIsUnderstood(t *testing.T) {
	if _, err := os.Stat(bird); err != nil {
		t.Fatalf("%s is missing: make router", bird)
	}
	l := listen(t, hills)
	at, ok := l.Speaker("summit")
	require.True(t, ok)
	dir := t.TempDir()
	config := fmt.Sprintf(`
router id 127.0.2.11;
protocol device {}
protocol static v4 { ipv4; route 10.4.0.0/24 blackhole; route 10.5.7.0/24 blackhole; route 192.168.0.0/16 blackhole; }
protocol static v6 { ipv6; route 2001:db8:4:7::/64 blackhole; }
protocol bgp summit {
  local 127.0.2.11 as 64611;
  neighbor %s port %d as 64512;
  multihop; strict bind on; connect retry time 1; connect delay time 1;
  ipv4 { import none; export all; next hop self; };
  ipv6 { import none; export all; next hop address 2001:db8::1; };
}
`, at.Addr(), at.Port())
	file := filepath.Join(dir, "bird.conf")
	require.NoError(t, os.WriteFile(file, []byte(config), 0o600))
	run := exec.Command(bird, "-f", "-c", file, "-s", filepath.Join(dir, "control"), "-P", filepath.Join(dir, "pid"))
	run.Stdout, run.Stderr = os.Stdout, os.Stderr
	require.NoError(t, run.Start())
	end := sync.OnceFunc(func() {
		assert.NoError(t, run.Process.Signal(os.Interrupt))
		_ = run.Wait() // it was told to end
	})
	t.Cleanup(end)
	l.until("it is heard", func() bool { return l.session("127.0.2.11").Announced == 4 })
	l.settle("what it may is accepted", func(is map[string]string) bool { return is["10.4.0.0/24"] == "accepted" })
	assert.Equal(t, map[string]string{"10.4.0.0/24": "accepted", "10.5.7.0/24": "accepted", "192.168.0.0/16": "waiting", "2001:db8:4:7::/64": "accepted"}, l.learned())
	end()
	l.until("it has ended", func() bool { return l.session("127.0.2.11").State == "down" })
	l.wait(learning.Hold)
	l.settle("what it announced leaves", func(is map[string]string) bool { return is["10.4.0.0/24"] == "" })
	assert.Equal(t, map[string]string{"10.5.7.0/24": "withdrawn"}, l.learned(), "but for what a policy speaks of")
}

// TestAnOddRouterHurtsNobody lets a configured router announce what an estate cannot hold,
// beside what it can: the first is left out and counted, and the database opens again.
func TestAnOddRouterHurtsNobody(t *testing.T) {
	l := listen(t, hills)
	glen := l.router("127.0.2.12", 64612)
	l.until("it is up", func() bool { return l.session("127.0.2.12").State == "up" })
	require.NoError(t, glen.Announce(prefixes("::ffff:10.77.0.0/112", "0.0.0.0/0", "::/0", "255.255.255.255/32", "10.9.0.0/24")...))
	l.until("it is heard", func() bool { return l.session("127.0.2.12").Announced == 4 })
	assert.Equal(t, 1, l.session("127.0.2.12").Unfit)
	l.settle("what it may is accepted", func(is map[string]string) bool { return is["10.9.0.0/24"] == "accepted" })
	assert.Equal(t, "waiting", l.learned()["0.0.0.0/0"])
	e, revision, aside, err := l.Store.Get(t.Context())
	require.NoError(t, err)
	assert.Empty(t, aside)
	assert.Equal(t, l.Now().Revision, revision)
	assert.Equal(t, document.Split(l.Now().Estate), document.Split(e))
}
