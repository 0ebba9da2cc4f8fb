package call

import (
	"context"
	"errors"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bivium/internal/drivers"
)

func client(t *testing.T, answer http.HandlerFunc) *Client {
	t.Helper()
	s := httptest.NewServer(answer)
	t.Cleanup(s.Close)
	c, err := New(s.URL)
	require.NoError(t, err)
	c.Pause = time.Millisecond
	return c
}

// TestTrying counts how often a request is sent, for each way in which it can go
// wrong: what another try may fix is tried again, all else is not.
func TestTrying(t *testing.T) {
	for name, c := range map[string]struct {
		status int
		body   string
		asked  int
		err    error
	}{
		"fine":        {http.StatusOK, `{"a":1}`, 1, nil},
		"busy":        {http.StatusTooManyRequests, "", 5, drivers.ErrUnreachable},
		"broken":      {http.StatusBadGateway, "", 5, drivers.ErrUnreachable},
		"expired":     {http.StatusUnauthorized, "", 1, drivers.ErrCredential},
		"forbidden":   {http.StatusForbidden, "", 1, drivers.ErrCredential},
		"missing":     {http.StatusNotFound, "", 1, drivers.ErrMissing},
		"redirected":  {http.StatusFound, "", 1, new(drivers.AnswerError)},
		"no JSON":     {http.StatusOK, "<html>", 5, new(drivers.AnswerError)},
		"of a type":   {http.StatusOK, `{"a":"text"}`, 5, new(drivers.AnswerError)},
		"bad request": {http.StatusBadRequest, "", 1, new(drivers.AnswerError)},
	} {
		t.Run(name, func(t *testing.T) {
			asked := 0
			cl := client(t, func(w http.ResponseWriter, r *http.Request) {
				asked++
				assert.Equal(t, "1", r.Header.Get("Signed"), "each try is signed")
				w.Header().Set("Location", "http://127.0.0.1:1/elsewhere")
				w.WriteHeader(c.status)
				_, _ = w.Write([]byte(c.body))
			})
			cl.Sign = func(r *http.Request) error { r.Header.Set("Signed", "1"); return nil }
			var out struct{ A int }
			_, err := cl.Get(t.Context(), "/x", &out)
			assert.Equal(t, c.asked, asked)
			var senseless *drivers.AnswerError
			switch {
			case c.err == nil:
				require.NoError(t, err)
				assert.Equal(t, 1, out.A)
			case errors.As(c.err, &senseless):
				require.ErrorAs(t, err, &senseless)
			default:
				require.ErrorIs(t, err, c.err)
			}
		})
	}
}

func TestAnAnswerHasABound(t *testing.T) {
	c := client(t, func(w http.ResponseWriter, _ *http.Request) {
		long := strings.Repeat(" ", 1<<20)
		for range 40 {
			if _, err := w.Write([]byte(long)); err != nil {
				return
			}
		}
	})
	_, err := c.Get(t.Context(), "/x", nil)
	assert.ErrorContains(t, err, "longer than 32 MiB")
}

func TestGivingUpEndsTheWait(t *testing.T) {
	ctx, cancel := context.WithCancel(t.Context())
	asked := 0
	c := client(t, func(w http.ResponseWriter, _ *http.Request) {
		asked++
		w.Header().Set("Retry-After", "30")
		w.WriteHeader(http.StatusTooManyRequests)
		cancel()
	})
	c.Pause = time.Hour
	_, err := c.Get(ctx, "/x", nil)
	require.ErrorIs(t, err, context.Canceled)
	assert.Equal(t, 1, asked)
}

func TestTheGuardLooksAtWhatIsDialled(t *testing.T) {
	for address, fine := range map[string]bool{
		"127.0.0.1:443": true, "10.1.2.3:443": true, "[2001:db8::1]:443": true,
		"169.254.169.254:80": false, "[fe80::1]:443": false, "224.0.0.1:443": false, "0.0.0.0:443": false, "[::ffff:169.254.1.1]:80": false,
	} {
		assert.Equal(t, fine, guard("tcp", address, nil) == nil, address)
	}
}

// TestAnEndpointIsSchemeHostAndPort reads addresses that people may paste.
func TestAnEndpointIsSchemeHostAndPort(t *testing.T) {
	for text, wanted := range map[string]string{
		"https://api.cirra.example":       "https://api.cirra.example",
		"https://API.cirra.example:8443/": "https://api.cirra.example:8443",
		"http://LOCALHOST:8431":           "http://localhost:8431",
		"http://[::1]:8431":               "http://[::1]:8431",
	} {
		u, err := CheckEndpoint(text)
		require.NoError(t, err, text)
		assert.Equal(t, wanted, u.String())
	}
	for _, text := range []string{
		"", "api.cirra.example", "https:api.cirra.example", "ftp://api.cirra.example", "http://api.cirra.example",
		"http://127.0.0.1:8431/any/path", "http://127.0.0.1:8431/any/path?", "http://127.0.0.1:8431?", "http://127.0.0.1:8431#", "https://a@b.example",
		"https://169.254.169.254", "https://[::]",
	} {
		_, err := CheckEndpoint(text)
		assert.Error(t, err, text)
	}
}
