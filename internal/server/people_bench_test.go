package server_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"net/url"
	"os"
	"runtime/debug"
	"runtime/metrics"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/HdrHistogram/hdrhistogram-go"
	"github.com/stretchr/testify/require"

	"bivium/core/estate"
	"bivium/core/synth"
	"bivium/internal/app/lanes"
	"bivium/internal/app/view"
)

// What the people of BenchmarkPeople do.
const (
	persons = 20
	editors = 2
	think   = 2 * time.Second
	working = 40 * time.Second
)

// person asks one thing after the other, as a browser does: what it had is asked for again
// with its tag.
type person struct {
	http  *http.Client
	base  string
	rand  *rand.Rand
	e     *estate.Estate
	tags  map[string]string // by path: of the last answer
	took  func(what string, d time.Duration)
	fails func(string)
}

// send sends a request, and returns the answer.
func (p *person) send(what, method, path, body string, header ...string) []byte {
	r, err := http.NewRequest(method, p.base+path, strings.NewReader(body)) //nolint:noctx // the benchmark ends it
	if err != nil {
		panic(err)
	}
	if method != http.MethodGet {
		r.Header.Set("Content-Type", "application/json")
	} else if tag := p.tags[path]; tag != "" {
		r.Header.Set("If-None-Match", tag)
	}
	for i := 0; i < len(header); i += 2 {
		r.Header.Set(header[i], header[i+1])
	}
	begun := time.Now()
	response, err := p.http.Do(r)
	if err != nil {
		p.fails(err.Error())
		return nil
	}
	text, err := io.ReadAll(response.Body)
	_ = response.Body.Close()
	p.took(what, time.Since(begun))
	switch s := response.StatusCode; {
	case err != nil:
		p.fails(err.Error())
	case s == http.StatusNotModified, s == http.StatusConflict, s == http.StatusUnprocessableEntity: // somebody else edited; a question has no answer
	case s >= 300:
		p.fails(fmt.Sprintf("%s %s: %d %.200s", method, path, s, text))
	default:
		p.tags[path] = response.Header.Get("ETag")
	}
	return text
}

// look looks at one place of the application, with all that its screen asks for.
func (p *person) look() {
	e := p.e
	one := func(n int) int { return p.rand.IntN(n) }
	workload := func() string { return e.Workloads[one(len(e.Workloads))].Name }
	group := func() string { return e.Groups[one(len(e.Groups))].Name }
	segment := func() string { return e.Segments[one(len(e.Segments))].Name }
	get := func(what, path string, query ...string) {
		q := url.Values{}
		for i := 0; i < len(query); i += 2 {
			q.Set(query[i], query[i+1])
		}
		if len(q) > 0 {
			path += "?" + q.Encode()
		}
		p.send(what, http.MethodGet, path, "")
	}
	get("estate", "/api/estate")
	switch p.rand.IntN(10) {
	case 0:
		get("board", "/api/board")
		get("cells", "/api/cells", "row", "0", "col", "0")
	case 1:
		open := segment()
		get("board", "/api/board", "open", open)
		get("cells", "/api/cells", "open", open, "row", fmt.Sprint(one(30)), "col", fmt.Sprint(one(30)))
	case 2:
		get("cell", "/api/cell", "row", "segment:"+segment(), "col", "segment:"+segment())
	case 3:
		get("lanes", "/api/lanes")
		get("routes", "/api/routes", "segment", segment(), "hub", e.Hubs[one(len(e.Hubs))].Name)
	case 4:
		get("findings", "/api/issues")
	case 5:
		p.send("tree", http.MethodPost, "/api/rows", `{"open":[],"find":"`+workload()+`","unplaced":false,"from":0}`)
		get("sheet", "/api/sheet", "kind", "workload", "name", workload())
	case 6:
		get("complete", "/api/complete", "field", "from", "text", workload()[:6])
		get("ask", "/api/ask", "from", group(), "to", group(), "on", "any")
	case 7:
		get("trace", "/api/trace", "from", workload(), "to", workload(), "on", "tcp/443")
	case 8:
		get("rules", "/api/rules")
		get("policy", "/api/object", "kind", "policy", "name", e.Policies[one(len(e.Policies))].Name)
	case 9:
		get("tags", "/api/tags")
		get("undo", "/api/undo")
	}
}

// change tries an edit of a policy, or of where a network is, and makes it.
func (p *person) change() {
	var now view.Summary
	if json.Unmarshal(p.send("estate", http.MethodGet, "/api/estate", ""), &now) != nil || now.Revision == 0 {
		return
	}
	based := []string{"If-Match", fmt.Sprintf(`"%d"`, now.Revision)}
	if p.rand.IntN(2) == 0 {
		a := p.e.Attachments[p.rand.IntN(len(p.e.Attachments))]
		body := fmt.Sprintf(`{"wiring":[{"op":"attach","network":%q,"hub":%q,"cost":%d}]}`, a.Network, a.Hub, 1+p.rand.IntN(90))
		p.send("try wiring", http.MethodPost, "/api/edit/try", body)
		time.Sleep(think / 2)
		p.send("save wiring", http.MethodPost, "/api/edit", body, based...)
		return
	}
	name := p.e.Policies[p.rand.IntN(len(p.e.Policies))].Name
	var policy struct {
		Object map[string]any
		Base   string
	}
	if json.Unmarshal(p.send("policy", http.MethodGet, "/api/object?kind=policy&name="+name, ""), &policy) != nil || policy.Object == nil {
		return
	}
	policy.Object["enabled"] = policy.Object["enabled"] == false
	body := operation(object{"op": "put", "kind": "policy", "object": policy.Object, "base": policy.Base})
	p.send("try policy", http.MethodPost, "/api/edit/try", body)
	time.Sleep(think / 2)
	p.send("save policy", http.MethodPost, "/api/edit", body, based...)
}

// BenchmarkPeople lets twenty people use a server of L at once for a while, who read
// everything and pause between, two of whom edit. It reports the 99th percentiles of what
// they wait, and how much memory the process took at most, they themselves included.
func BenchmarkPeople(b *testing.B) {
	was := debug.SetGCPercent(200) // as the server
	b.Cleanup(func() { debug.SetGCPercent(was) })
	e := synth.New("l", synth.Sizes["L"], 1)
	w := startWith(b, func() (*estate.Estate, error) { return e, nil })
	defer w.stop()
	lanes.Of(w.app.Now()) // it has been up for a while
	w.app.Now().Issues()
	for range b.N {
		work(b, w, e)
	}
}

func work(b *testing.B, w *world, e *estate.Estate) {
	var mu sync.Mutex
	by := map[string]*hdrhistogram.Histogram{}
	var failures []string
	var wait sync.WaitGroup
	end := time.Now().Add(working)
	for i := range persons {
		p := &person{
			http: &http.Client{Transport: &http.Transport{}}, base: w.http.URL, rand: rand.New(rand.NewPCG(uint64(i), 7)), e: e, tags: map[string]string{},
			took: func(what string, d time.Duration) {
				mu.Lock()
				defer mu.Unlock()
				kinds := []string{what, "reads"}
				if strings.HasPrefix(what, "try") || strings.HasPrefix(what, "save") {
					kinds[1] = "edits"
				}
				for _, k := range kinds {
					if by[k] == nil {
						by[k] = hdrhistogram.New(1, time.Minute.Microseconds(), 3)
					}
					_ = by[k].RecordValue(max(1, d.Microseconds()))
				}
			},
			fails: func(text string) {
				mu.Lock()
				defer mu.Unlock()
				failures = append(failures, text)
			},
		}
		wait.Go(func() {
			time.Sleep(time.Duration(p.rand.Int64N(int64(think))))
			for time.Now().Before(end) {
				if i < editors {
					p.change()
				} else {
					p.look()
				}
				time.Sleep(think/2 + time.Duration(p.rand.Int64N(int64(think))))
			}
		})
	}
	stop, most := make(chan struct{}), make(chan uint64)
	go func() { most <- highest(stop) }()
	wait.Wait()
	close(stop)
	b.ReportMetric(float64(<-most)/(1<<20), "MiB")
	require.Empty(b, failures)
	for _, kind := range []string{"reads", "edits"} {
		b.ReportMetric(float64(by[kind].ValueAtQuantile(50))/1000, "ms-"+kind+"-median")
		b.ReportMetric(float64(by[kind].ValueAtQuantile(99))/1000, "ms-"+kind+"-p99")
	}
	var table bytes.Buffer
	for _, what := range slices.Sorted(func(yield func(string) bool) {
		for k := range by {
			if !yield(k) {
				return
			}
		}
	}) {
		h := by[what]
		fmt.Fprintf(&table, "%-12s %5d  median %6.1f ms  p99 %6.1f ms  most %6.1f ms\n", what, h.TotalCount(), float64(h.ValueAtQuantile(50))/1000, float64(h.ValueAtQuantile(99))/1000, float64(h.Max())/1000)
	}
	_, _ = os.Stderr.Write(table.Bytes()) // the log of a benchmark is cut short
}

// highest returns the most memory that the process holds until it is stopped.
func highest(stop <-chan struct{}) (most uint64) {
	read := []metrics.Sample{{Name: "/memory/classes/total:bytes"}, {Name: "/memory/classes/heap/released:bytes"}}
	for {
		metrics.Read(read)
		most = max(most, read[0].Value.Uint64()-read[1].Value.Uint64())
		select {
		case <-stop:
			return most
		case <-time.After(50 * time.Millisecond):
		}
	}
}
