package server_test

import (
	"bytes"
	"compress/gzip"
	"encoding/json"
	"io"
	"net/http"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// asking asks with headers as they are given, and returns the answer as it was sent.
func (w *world) asking(path string, header ...string) (*http.Response, []byte) {
	w.t.Helper()
	r, err := http.NewRequestWithContext(w.t.Context(), http.MethodGet, w.http.URL+path, nil)
	require.NoError(w.t, err)
	r.Header.Set("Accept-Encoding", "identity")
	for i := 0; i < len(header); i += 2 {
		r.Header.Set(header[i], header[i+1])
	}
	response, err := (signedIn{&http.Transport{DisableCompression: true}, w.enter("tester")}).RoundTrip(r)
	require.NoError(w.t, err)
	defer response.Body.Close()
	text, err := io.ReadAll(response.Body)
	require.NoError(w.t, err)
	return response, text
}

// TestAnswersThatHaveNotChanged holds that an answer is sent once for as long as it holds,
// whole again after an edit, and that what is packed is what is sent plain.
func TestAnswersThatHaveNotChanged(t *testing.T) {
	w := start(t)
	w.issues() // nothing is being counted any more
	for _, path := range []string{"/api/estate", "/api/board", "/api/rules", "/api/issues", "/api/lanes"} {
		first, plain := w.asking(path)
		require.Equal(t, http.StatusOK, first.StatusCode, path)
		tag := first.Header.Get("ETag")
		require.NotEmpty(t, tag, path)
		again, text := w.asking(path, "If-None-Match", `"other", W/`+tag)
		assert.Equal(t, http.StatusNotModified, again.StatusCode, path)
		assert.Empty(t, text)
		small, packed := w.asking(path, "Accept-Encoding", "gzip")
		if small.Header.Get("Content-Encoding") == "" {
			assert.Less(t, len(plain), 2000, path)
			continue
		}
		assert.Less(t, len(packed), len(plain)/2, path)
		z, err := gzip.NewReader(bytes.NewReader(packed))
		require.NoError(t, err)
		opened, err := io.ReadAll(z)
		require.NoError(t, err)
		assert.Equal(t, string(plain), string(opened), path)
	}

	first, before := w.asking("/api/rules")
	var rules struct{ Policies []struct{ Name string } }
	require.NoError(t, json.Unmarshal(before, &rules))
	w.send(http.MethodPost, "/api/edit", putPolicy(w, rules.Policies[0].Name, func(p object) { p["enabled"] = p["enabled"] == false }), w.revision(), http.StatusOK, "", nil)
	changed, after := w.asking("/api/rules", "If-None-Match", first.Header.Get("ETag"))
	assert.Equal(t, http.StatusOK, changed.StatusCode)
	assert.NotEqual(t, string(before), string(after))

	w.restart()
	changed, _ = w.asking("/api/rules", "If-None-Match", changed.Header.Get("ETag"))
	assert.Equal(t, http.StatusOK, changed.StatusCode, "another run may answer otherwise at the same revision")

	failed, _ := w.asking("/api/object?kind=policy&name=nobody")
	assert.Equal(t, http.StatusNotFound, failed.StatusCode)
	assert.Empty(t, failed.Header.Get("ETag"))
}
