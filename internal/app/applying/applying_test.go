package applying_test

import (
	"context"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bivium/core/document"
	"bivium/core/edit"
	"bivium/core/estate"
	"bivium/demo"
	"bivium/internal/app"
	"bivium/internal/app/applying"
	"bivium/internal/app/history"
	"bivium/internal/app/packets"
	"bivium/internal/app/targets"
	"bivium/internal/drivers"
	"bivium/internal/drivers/call"
	"bivium/internal/drivers/providers"
	"bivium/internal/people"
	"bivium/internal/standin"
	"bivium/internal/store"
	"bivium/internal/vault"
)

// outside is the demo's world, and a Bivium beside it that can crash.
type outside struct {
	t       *testing.T
	world   *standin.World
	running *standin.Running
	file    string
	first   *estate.Estate // nil for the demo's

	app    *app.App
	store  *store.Store
	stage  applying.Stage
	writer *applying.Service
	sender *packets.Service
	cancel context.CancelFunc
}

func startOutside(t *testing.T) *outside { return startOutsideAt(t, 0) }

// startOutsideAt lets targets answer at ports from one on, or at any free ones.
func startOutsideAt(t *testing.T, first int) *outside {
	world, err := standin.Read(demo.World)
	require.NoError(t, err)
	return startWorld(t, world, nil, first)
}

// startWorld begins with an estate beside a world; nil for the demo's.
func startWorld(t *testing.T, world *standin.World, e *estate.Estate, first int) *outside {
	running, err := world.Serve(t.Context(), first)
	require.NoError(t, err)
	o := &outside{t: t, world: world, running: running, file: filepath.Join(t.TempDir(), "a.db"), first: e}
	t.Cleanup(func() { assert.NoError(t, o.running.Close()) })
	o.opens(true)
	t.Cleanup(o.crashes)
	return o
}

// opens starts Bivium on what is stored.
func (o *outside) opens(connect bool) {
	o.t.Helper()
	var ctx context.Context
	ctx, o.cancel = context.WithCancel(context.Background())
	var err error
	o.store, err = store.Open(ctx, o.file)
	require.NoError(o.t, err)
	v, err := vault.Open(o.file + ".key")
	require.NoError(o.t, err)
	log := slog.New(slog.NewTextHandler(o.t.Output(), nil))
	o.app, err = app.Open(ctx, app.Config{
		Store: o.store, Clock: time.Now, Vault: v, Log: log, First: func() (*estate.Estate, error) {
			if o.first != nil {
				return o.first, nil
			}
			return document.Read(demo.Grayshoal)
		},
		Dial: func(provider string, a drivers.Access) (drivers.Driver, error) {
			return providers.Open(provider, a, func(c *call.Client) { c.Pause, c.Tries = time.Millisecond, 2 })
		},
	})
	require.NoError(o.t, err)
	register, err := people.Open(ctx, o.store, v, time.Now)
	require.NoError(o.t, err)
	if connect {
		require.NoError(o.t, o.app.ConnectHubs(ctx, o.running.Hubs, o.running.HubToken()))
		for name, c := range o.world.Credentials() {
			_, err := o.app.Connect(ctx, app.Connection{Name: name, Provider: c[0], Endpoint: o.running.Endpoints[c[0]], Account: name, Key: c[1], Secret: c[2]}, "test")
			require.NoError(o.t, err)
		}
	}
	books := &targets.Books{}
	o.sender = packets.New(o.app, o.store, books, time.Now, func(context.Context) string { return "" })
	o.writer = applying.New(applying.Config{App: o.app, Store: o.store, Books: books, Audit: register.Audit(), Log: log, Clock: time.Now, BackOff: 5 * time.Millisecond,
		Stage: o.stage, AsOf: history.New(o.app, register, nil).At})
	require.NoError(o.t, o.writer.Start(ctx))
}

// crashes ends Bivium in the middle of whatever it does.
func (o *outside) crashes() {
	o.cancel()
	o.app.Close()
	require.NoError(o.t, o.store.Close())
}

func (o *outside) state() *applying.Status {
	s, err := o.writer.Status(context.Background())
	require.NoError(o.t, err)
	return s
}

// settles waits until targets hold what they should.
func (o *outside) settles() {
	o.t.Helper()
	tester := people.System("tester")
	var last time.Time
	settled := func() bool {
		s := o.state()
		if s.State == store.PlanAsks && s.Plan > 0 {
			o.writer.Steer(context.Background(), tester, s.Plan, applying.Start) //nolint:errcheck // it is tried again
		}
		if s.State == applying.StatePartly && s.Plan > 0 && time.Since(last) > time.Second {
			last = time.Now() // what was refused is tried again, or planned again
			if o.writer.Steer(context.Background(), tester, s.Plan, applying.Retry) != nil {
				o.writer.Begin(context.Background(), applying.Order{Cause: applying.CauseEdit}) //nolint:errcheck // it is tried again
			}
		}
		return s.State == applying.StateInForce && s.Revision == o.app.Now().Revision
	}
	for end := time.Now().Add(60 * time.Second); !settled(); time.Sleep(20 * time.Millisecond) {
		require.True(o.t, time.Now().Before(end), "%+v", o.state())
	}
}

// holdsWhatItShould reads everything: nothing is left to be written, and packets do what is predicted.
func (o *outside) holdsWhatItShould() {
	o.t.Helper()
	ctx := context.Background()
	left, err := o.writer.Preview(ctx, applying.Order{Cause: applying.CauseDrift, PutRight: true})
	require.NoError(o.t, err)
	for _, w := range left.Writes {
		assert.Failf(o.t, "something is left to be written", "%s %s +%v -%v", w.Step, w.Title, w.Added, w.Removed)
	}
	round, err := o.sender.Round(ctx, o.app.Now(), "", 0, "tester")
	require.NoError(o.t, err)
	require.Greater(o.t, round.Sent, 1000)
	if round.Wrong > 0 {
		assert.Fail(o.t, "packets did something else", "%d: %+v", round.Wrong, round.Results[0])
	}
}

// comings are policies that come and go: each lets one group of a segment reach another.
var comings = [][4]string{
	{"a", "market", "traders", "price-databases"}, {"b", "office", "name-servers", "directory-servers"}, {"c", "turbine", "collectors", "historian"}, {"d", "contractor", "blade-crews", "blade-crews"},
}

// edits puts a policy into the estate, or takes it out.
func (o *outside) edits(name, segment, from, to string, put bool) {
	o.t.Helper()
	operation := edit.Operation{Op: edit.Delete, Kind: estate.KindPolicy, Name: name}
	if put {
		value, err := document.ValueOf(fmt.Appendf(nil, `{"name": %q, "segments": [%q], "from": [%q], "to": [%q], "rules": [{"services": ["tcp/9123"], "action": "allow"}]}`, name, segment, from, to))
		require.NoError(o.t, err)
		operation = edit.Operation{Op: edit.Put, Kind: estate.KindPolicy, Object: value, Base: edit.Absent}
	} else {
		operation.Base = edit.BaseOf(o.app.Now().Estate, estate.Ref{Kind: estate.KindPolicy, Name: name})
	}
	_, err := o.app.Make(context.Background(), &app.Edit{Edit: edit.Edit{Operations: []edit.Operation{operation}}, Seen: o.app.Now().Revision}, "tester")
	require.NoError(o.t, err)
}

// TestEverythingIsWritten begins with targets that hold next to nothing: put right, they hold all
// that the estate asks of them, and one packet of each class does what is predicted.
func TestEverythingIsWritten(t *testing.T) {
	o := startOutside(t)
	require.Equal(t, applying.StateInForce, o.state().State, "what is there is taken for granted until somebody asks")
	p, err := o.writer.Begin(t.Context(), applying.Order{Cause: applying.CauseDrift, PutRight: true})
	require.NoError(t, err)
	require.Greater(t, len(p.Writes), 40)
	require.Eventually(t, func() bool {
		p, err = o.writer.Plan(t.Context(), p.ID)
		require.NoError(t, err)
		return p.State == store.PlanDone
	}, 60*time.Second, 20*time.Millisecond)
	o.holdsWhatItShould()
}

// TestWhateverHappensMeanwhile edits the estate while targets do not answer, answer late or by
// halves, write a list in part, acknowledge and forget, or refuse, and while Bivium crashes: in the end all of it is in
// force, and nothing else.
func TestWhateverHappensMeanwhile(t *testing.T) {
	o := startOutside(t)
	_, err := o.writer.Begin(t.Context(), applying.Order{Cause: applying.CauseDrift, PutRight: true})
	require.NoError(t, err)
	o.settles()
	seed := rand.Uint64()
	t.Logf("seed %d", seed)
	r := rand.New(rand.NewPCG(seed, 1))
	there := map[string]bool{}
	accounts := []string{"velum-central", "cirra-north", "stratok-south", "grayshoal-own"}
	for range 12 {
		for range r.IntN(3) {
			f := standin.Fault{Kind: []string{"gone", "half", "torn", "lost", "refused", "wrong", "slow"}[r.IntN(7)], After: r.IntN(20), Times: 1 + r.IntN(6), Wait: r.IntN(20)}
			require.NoError(t, o.world.Fail(accounts[r.IntN(len(accounts))], f))
		}
		for range 1 + r.IntN(2) {
			x := comings[r.IntN(len(comings))]
			there[x[0]] = !there[x[0]]
			o.edits(x[0], x[1], x[2], x[3], there[x[0]])
		}
		if r.IntN(2) == 0 {
			time.Sleep(time.Duration(r.IntN(700)) * time.Millisecond)
			o.crashes()
			o.opens(false)
		}
		if r.IntN(3) == 0 {
			o.settles()
		}
	}
	for _, a := range accounts {
		require.NoError(t, o.world.Fail(a, standin.Fault{Kind: "none"}))
	}
	o.settles()
	o.holdsWhatItShould()
}
