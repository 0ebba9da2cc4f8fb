package e2e

import (
	"bytes"
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var rounds = flag.Int("rounds", 50, "how often TestNothingAcknowledgedIsLost kills the server")

// client sends requests as one of the demo's people; an error is that the server has gone.
type client struct {
	address string
	cookie  *http.Cookie
}

func (c *client) send(method, path, version string, body, out any) (int, error) {
	text, err := json.Marshal(body)
	if err != nil {
		return 0, err
	}
	r, err := http.NewRequest(method, c.address+path, bytes.NewReader(text)) //nolint:noctx // the server is killed
	if err != nil {
		return 0, err
	}
	r.Header.Set("Content-Type", "application/json")
	if version != "" {
		r.Header.Set("If-Match", `"`+version+`"`)
	}
	if c.cookie != nil {
		r.AddCookie(c.cookie)
	}
	answer, err := http.DefaultClient.Do(r)
	if err != nil {
		return 0, err
	}
	defer answer.Body.Close() //nolint:errcheck // it is read
	read, err := io.ReadAll(answer.Body)
	if err != nil {
		return 0, err
	}
	if cookies := answer.Cookies(); c.cookie == nil && len(cookies) > 0 {
		c.cookie = cookies[0]
	}
	if out != nil && answer.StatusCode < 300 {
		err = json.Unmarshal(read, out)
	}
	return answer.StatusCode, err
}

// soaked is a draft as it was last acknowledged.
type soaked struct {
	ID, Version, Revision int64
	State                 string
	Steps                 int
	StepList              []struct{ Words string }
}

// TestNothingAcknowledgedIsLost kills the server (SIGKILL) at random moments of drafting,
// approving and applying, starts it again, and looks for all that it had acknowledged. make
// soak does that 500 times.
func TestNothingAcknowledgedIsLost(t *testing.T) {
	db := filepath.Join(t.TempDir(), "soak.db")
	acknowledged := map[int64]soaked{}
	n := 0
	for round := range *rounds {
		cmd := exec.Command(binary, "demo", "--quiet", "--listen", "127.0.0.1:0", "--db", db)
		cmd.Stderr = os.Stderr
		out, err := cmd.StdoutPipe()
		require.NoError(t, err)
		require.NoError(t, cmd.Start())
		line := make([]byte, 64)
		read, err := out.Read(line)
		require.NoError(t, err)
		address := strings.TrimSpace(strings.Split(string(line[:read]), "\n")[0])
		go io.Copy(io.Discard, out) //nolint:errcheck // it is not read
		enter := func(name string) *client {
			c := &client{address: address}
			status, err := c.send(http.MethodPost, "/api/sign-in/demo", "", map[string]string{"name": name}, nil)
			require.NoError(t, err)
			require.Equal(t, http.StatusOK, status)
			return c
		}
		mira, tove := enter("mira"), enter("tove")

		for id, was := range acknowledged {
			var is soaked
			status, err := mira.send(http.MethodGet, fmt.Sprint("/api/drafts/", id), "", nil, &is)
			require.NoError(t, err)
			require.Equal(t, http.StatusOK, status)
			assert.GreaterOrEqual(t, is.Steps, was.Steps, "round %d, draft %d", round, id)
			if was.State == "applied" {
				assert.Equal(t, "applied", is.State, "round %d, draft %d", round, id)
				assert.Equal(t, was.Revision, is.Revision)
			}
			acknowledged[id] = is
		}
		var history struct {
			Revision int64
			Entries  []struct {
				Number int64
				Note   *struct{ Draft int64 }
			}
		}
		_, err = mira.send(http.MethodGet, "/api/revisions", "", nil, &history)
		require.NoError(t, err)
		seen := map[int64]bool{}
		for _, e := range history.Entries {
			if e.Note != nil {
				assert.False(t, seen[e.Note.Draft], "draft %d was applied twice", e.Note.Draft)
				seen[e.Note.Draft] = true
			}
		}

		killed := time.AfterFunc(time.Duration(50+rand.IntN(450))*time.Millisecond, func() { _ = cmd.Process.Kill() })
		for {
			n++
			if gone(mira, tove, n, acknowledged) {
				break
			}
		}
		killed.Stop()
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
	}
	applied := 0
	for _, d := range acknowledged {
		if d.State == "applied" {
			applied++
		}
	}
	assert.Greater(t, applied, *rounds/4, "and much was done")
	verify := exec.Command(binary, "audit", "verify", "--db", db)
	said, err := verify.CombinedOutput()
	require.NoError(t, err, "%s", said)
	assert.Contains(t, string(said), "entries hold")
}

// gone takes a draft from its beginning to being applied, notes what was acknowledged, and
// reports whether the server went meanwhile.
func gone(mira, tove *client, n int, acknowledged map[int64]soaked) bool {
	var d soaked
	if status, err := mira.send(http.MethodPost, "/api/drafts", "", map[string]string{"name": fmt.Sprint("soak-", n)}, &d); err != nil || status != http.StatusCreated {
		return true
	}
	acknowledged[d.ID] = d
	path := fmt.Sprint("/api/drafts/", d.ID)
	look := func() bool {
		_, err := mira.send(http.MethodGet, path, "", nil, &d)
		return err == nil
	}
	does := func(c *client, what string, body any) bool {
		status, err := c.send(http.MethodPost, path+what, fmt.Sprint(d.Version), body, &d)
		if err == nil && status == http.StatusOK {
			acknowledged[d.ID] = d
		}
		return err == nil
	}
	share := map[string]any{"op": "put", "kind": "share", "base": "absent", "object": map[string]any{
		"name": fmt.Sprint("soak-", n), "owner": map[string]any{"segment": "turbine", "groups": []string{"jump-hosts"}},
		"guest": map[string]any{"segment": "contractor", "groups": []string{"blade-crews"}}, "rules": []any{map[string]any{"services": []string{fmt.Sprint("tcp/", 9000+n)}, "action": "inspect", "pool": "breakwater"}},
	}}
	if !look() {
		return true
	}
	status, err := mira.send(http.MethodPost, fmt.Sprint("/api/edit?draft=", d.ID), fmt.Sprint(d.Version), map[string]any{"operations": []any{share}}, nil)
	if err != nil {
		return true
	}
	if status == http.StatusOK {
		d.Steps = 1
		acknowledged[d.ID] = d
	}
	return !look() || !does(mira, "/state", map[string]string{"state": "review"}) || !does(tove, "/approval", map[string]string{}) || !does(mira, "/application", map[string]string{})
}
