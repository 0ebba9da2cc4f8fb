package applying_test

import (
	"bufio"
	"flag"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bivium/core/estate"
	"bivium/core/verdict"
	"bivium/internal/app/applying"
	"bivium/internal/app/view"
	"bivium/internal/standin"
)

var kills = flag.Int("kills", 20, "how often TestKilledWhileApplying kills Bivium, and every other time targets as well")

// victim is where TestVictim finds what it opens; without it there is nothing to do.
const victim = "BIVIUM_VICTIM"

// TestVictim is Bivium in a process of its own, which TestKilledWhileApplying starts: it edits and
// writes until it is killed. By itself it tests nothing.
func TestVictim(t *testing.T) {
	file := os.Getenv(victim)
	if file == "" {
		return
	}
	o := &outside{t: t, file: file}
	o.opens(false)
	fmt.Println("begins")
	for {
		x := comings[rand.IntN(len(comings))]
		put := !slices.ContainsFunc(o.app.Now().Estate.Policies, func(p estate.Policy) bool { return p.Name == x[0] })
		o.edits(x[0], x[1], x[2], x[3], put)
		time.Sleep(time.Duration(rand.IntN(120)) * time.Millisecond)
	}
}

// TestKilledWhileApplying kills Bivium (SIGKILL) at random moments of writing, and targets as well,
// and opens it again: each time it goes on, and in the end what is in force is what the estate says.
// All the while packets are sent: none passes that neither estate lets pass, nor past a pool that
// both lead it through. make soak does that 200 times.
func TestKilledWhileApplying(t *testing.T) {
	first := freePorts(t)
	o := startOutsideAt(t, first)
	for _, x := range comings { // all of them there: what is denied now is denied whatever comes and goes
		o.edits(x[0], x[1], x[2], x[3], true)
	}
	with := o.app.Now()
	for _, x := range comings {
		o.edits(x[0], x[1], x[2], x[3], false)
	}
	o.putsRight()
	probes := probesOf(o.app.Now(), with)
	require.Greater(t, len(probes), 500)
	o.crashes()
	watch := o.sends(probes)
	for round := range *kills {
		child := exec.Command(os.Args[0], "-test.run", "^TestVictim$")
		child.Env = append(os.Environ(), victim+"="+o.file)
		out, err := child.StdoutPipe()
		require.NoError(t, err)
		require.NoError(t, child.Start())
		line, err := bufio.NewReader(out).ReadString('\n')
		require.NoError(t, err)
		require.Equal(t, "begins\n", line)
		go io.Copy(io.Discard, out) //nolint:errcheck // it is not read
		if round%2 == 1 {
			time.Sleep(time.Duration(rand.IntN(200)) * time.Millisecond)
			require.NoError(t, o.running.Close())
		}
		time.Sleep(time.Duration(rand.IntN(400)) * time.Millisecond)
		require.NoError(t, child.Process.Kill())
		_ = child.Wait()
		if round%2 == 1 {
			o.running, err = o.world.Serve(t.Context(), first)
			require.NoError(t, err)
		}
		o.opens(false)
		o.settles()
		o.holdsWhatItShould()
		if t.Failed() {
			t.Fatalf("after round %d", round)
		}
		if round < *kills-1 {
			o.crashes()
		}
	}
	rounds := watch()
	assert.Greater(t, rounds, *kills)
}

// freePorts returns the first of some ports that are free.
func freePorts(t *testing.T) int {
	for range 50 {
		first, free := 20_000+rand.IntN(10_000), true
		for port := first; port < first+6; port++ {
			l, err := new(net.ListenConfig).Listen(t.Context(), "tcp", fmt.Sprintf("127.0.0.1:%d", port))
			if free = free && err == nil; err == nil {
				require.NoError(t, l.Close())
			}
		}
		if free {
			return first
		}
	}
	t.Fatal("no ports are free")
	return 0
}

// putsRight leads targets to what the estate says.
func (o *outside) putsRight() {
	o.t.Helper()
	o.settles()
	_, err := o.writer.Begin(o.t.Context(), applying.Order{Cause: applying.CauseDrift, PutRight: true})
	require.NoError(o.t, err)
	o.settles()
}

// probe is a packet, and what never happens to it.
type probe struct {
	packet standin.Packet
	never  bool     // it is not let through
	pools  []string // that it passes where it is let through
}

// probesOf returns a packet for each two workloads and some services that two estates agree on.
func probesOf(a, b *view.Snapshot) []probe {
	var out []probe
	from := map[string]netip.Addr{}
	for i := range a.Estate.Workloads {
		for _, end := range a.Judge.EndsOf(i) {
			from[a.Judge.Net.Segments[end.Segment]+" "+end.Addr.String()] = end.Addr
		}
	}
	for key, source := range from {
		segment := key[:len(key)-len(source.String())-1]
		for _, destination := range from {
			for _, port := range []uint16{9123, 443, 22} {
				f := verdict.Flow{Segment: segment, Source: source, Destination: destination, Service: verdict.Service{Protocol: 6, SourcePort: 50_000, Port: port}}
				v, w := a.Judge.Judge(f), b.Judge.Judge(f)
				if source == destination || v.Outcome != w.Outcome || !slices.Equal(v.Pools, w.Pools) {
					continue
				}
				p := probe{packet: standin.Packet{Segment: segment, From: source, To: destination, Protocol: 6, SourcePort: 50_000, Port: int(port)}}
				switch v.Outcome {
				case verdict.Denied, verdict.Blocked:
					p.never = true
				case verdict.Inspected:
					p.pools = v.Pools
				default:
					continue
				}
				out = append(out, p)
			}
		}
	}
	return out
}

// sends sends packets one after another until it is told to end; it returns how often it sent them all.
func (o *outside) sends(probes []probe) (end func() int) {
	ending, rounds := make(chan struct{}), 0
	packets := make([]standin.Packet, len(probes))
	for i := range probes {
		packets[i] = probes[i].packet
	}
	var working sync.WaitGroup
	working.Go(func() {
		for ; ; rounds++ {
			select {
			case <-ending:
				return
			default:
			}
			for i, sent := range o.world.SendAll(packets) {
				p := &probes[i]
				past := sent.Delivered && !slices.Equal(sent.Pools, p.pools)
				if sent.Delivered && p.never || past {
					o.t.Errorf("%+v passed: %+v, and should pass %v", p.packet, sent.Fate, p.pools)
					return
				}
			}
			time.Sleep(time.Millisecond)
		}
	})
	return func() int {
		close(ending)
		working.Wait()
		return rounds
	}
}
