package providers

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"os"
	"slices"
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"bivium/core/document"
	"bivium/core/estate"
	"bivium/core/inventory"
	"bivium/core/testing/meet"
	"bivium/internal/drivers"
	"bivium/internal/drivers/call"
	"bivium/internal/standin"
)

func TestMain(m *testing.M) {
	meet.Draws("60") // each starts a provider
	os.Exit(m.Run())
}

// spoiler spoils answers on their way: a value of one may be another, or be missing, or a
// list may have an item twice.
type spoiler struct {
	draw  *rand.Rand // answers are given by other goroutines than the one that rapid draws for
	ahead int        // answers that are left alone until then
	times int        // places that are spoilt
}

// spoil returns a value with one place of it spoilt.
func (s *spoiler) spoil(v any) any {
	switch v := v.(type) {
	case map[string]any:
		if len(v) > 0 {
			keys := slices.Sorted(maps.Keys(v))
			key := keys[s.draw.IntN(len(keys))]
			if s.draw.IntN(10) == 0 {
				delete(v, key)
			} else {
				v[key] = s.spoil(v[key])
			}
			return v
		}
	case []any:
		if len(v) > 0 {
			i := s.draw.IntN(len(v))
			if s.draw.IntN(10) == 0 {
				return append(v, v[i])
			}
			v[i] = s.spoil(v[i])
			return v
		}
	}
	odd := []any{
		nil, "", 0, -1, 1e18, true, []any{}, map[string]any{}, "no such thing", "Ä\x00\u202e", "10.0.0.1/8", "::ffff:10.0.0.1", "0.0.0.0/0", "fe80::1%eth0",
		"300.1.2.3", string(bytes.Repeat([]byte("long "), 400)), "a b\nc", []any{nil}, map[string]any{"a": []any{1}},
	}
	return odd[s.draw.IntN(len(odd))]
}

// over returns a handler that spoils what another answers.
func (s *spoiler) over(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		kept := httptest.NewRecorder()
		next.ServeHTTP(kept, r)
		body := kept.Body.Bytes()
		var value any
		if s.ahead--; s.ahead < 0 && kept.Code == http.StatusOK && json.Unmarshal(body, &value) == nil {
			for range s.times {
				value = s.spoil(value)
			}
			body, _ = json.Marshal(value)
		}
		maps.Copy(w.Header(), kept.Header())
		w.Header().Set("Content-Length", strconv.Itoa(len(body)))
		w.WriteHeader(kept.Code)
		_, _ = w.Write(body)
	})
}

// TestSpoiltAnswersAreRefusedOrTakenIn lets a provider answer with places spoilt. The driver
// says that an answer makes no sense, or reads what it can; whatever it reads is taken
// into an estate that can be written and read.
func TestSpoiltAnswersAreRefusedOrTakenIn(t *testing.T) {
	table := inventory.NewTable(nil)
	var wants []string
	for _, provider := range Names() {
		wants = append(wants, provider+" is refused", provider+" is taken in")
	}
	meet.Check(t, meet.Often(2, wants...), func(rt *rapid.T, met meet.Met) {
		provider := rapid.SampledFrom(Names()).Draw(rt, "provider")
		world := &standin.World{}
		a := standin.Many("acme", provider, 6, 14)
		world.Add(a)
		s := &spoiler{draw: rand.New(rand.NewPCG(rapid.Uint64().Draw(rt, "seed"), 0)), ahead: rapid.IntRange(0, 4).Draw(rt, "ahead"), times: rapid.IntRange(1, 4).Draw(rt, "times")}
		played := httptest.NewServer(s.over(map[string]http.Handler{"cirra": world.Cirra(), "velum": world.Velum(), "stratok": world.Stratok(), "premises": world.Premises()}[provider]))
		defer played.Close()
		d, err := Open(provider, drivers.Access{Endpoint: played.URL, Account: a.Name, Key: a.Key, Secret: a.Secret}, func(c *call.Client) { c.Pause = time.Microsecond })
		require.NoError(rt, err)

		r := &inventory.Reading{Account: "north"}
		cursor := ""
		for page := range 40 {
			p, err := d.Page(t.Context(), cursor)
			if err != nil {
				var answer *drivers.AnswerError
				require.True(rt, errors.As(err, &answer) || errors.Is(err, drivers.ErrMissing) || errors.Is(err, drivers.ErrUnreachable) || errors.Is(err, drivers.ErrCredential), "page %d: %v", page, err)
				met[provider+" is refused"]++
				r.Partial = true
				break
			}
			r.Networks, r.Workloads = append(r.Networks, p.Networks...), append(r.Workloads, p.Workloads...)
			if cursor = p.Next; cursor == "" {
				met[provider+" is taken in"]++
				break
			}
		}

		e, err := document.Read([]byte("{bivium: 1, estate: e, accounts: [{name: north, provider: " + provider + "}], hubs: [{name: fjord}], segments: [{name: office}]}"))
		require.NoError(rt, err)
		taken := inventory.Take(e, nil, r, table)
		text, err := document.Write(taken.Estate)
		require.NoError(rt, err)
		_, err = document.Read(text)
		require.NoError(rt, err, "%s", text)
		for _, f := range estate.Check(taken.Estate) {
			require.NotContains(rt, []estate.Code{"F1"}, f.Code, fmt.Sprint(f.Refs)) // it speaks of nothing that is not there
		}
	})
}
