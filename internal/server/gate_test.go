package server_test

import (
	"database/sql"
	"fmt"
	"net/http"
	"strings"
	"testing"

	"bivium/internal/app/view"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// based is the header of an edit of a revision.
func based(revision int64) map[string]string {
	return map[string]string{"If-Match": fmt.Sprintf(`"%d"`, revision)}
}

// TestWhatADocumentCouldNotHoldIsNotKept sends edits that were accepted once, and after
// which the database could not be opened again.
func TestWhatADocumentCouldNotHoldIsNotKept(t *testing.T) {
	w := start(t)
	for edit, message := range map[string]string{
		`{"op": "speak", "name": "delta", "as": 4294967296, "speaker": "127.0.1.9"}`:                                                                        "4294967296 is too large",
		`{"op": "attach", "network": "tide-lab", "hub": "delta", "cost": 3000000000}`:                                                                       "3000000000 is too large",
		`{"op": "link", "hub": "delta", "other": "ridge", "cost": 3000000000}`:                                                                              "3000000000 is too large",
		`{"op": "attach", "network": "tide-lab", "hub": "delta", "cost": 1, "uplink": "a string and two cans"}`:                                             `"a string and two cans" is no uplink`,
		`{"op": "bring", "network": "head-office", "hub": "delta", "segment": "office", "prefix": "::ffff:10.77.0.0/112"}`:                                  "IPv4 written as IPv6",
		`{"op": "set-route", "network": "head-office", "via": "hub", "prefix": "::ffff:10.77.0.0/112"}`:                                                     "IPv4 written as IPv6",
		`{"op": "hear", "network": "head-office", "hub": "delta", "segment": "office", "as": 64601, "router": "fe80::1%eth0"}`:                              "is not an address",
		`{"op": "hear", "network": "head-office", "hub": "delta", "segment": "office", "as": 64601, "router": "127.0.2.9", "limit": 9000000000}`:            "9000000000 is too large",
		`{"op": "hear", "network": "head-office", "hub": "delta", "segment": "office", "as": 64601, "router": "127.0.2.9", "may": ["::ffff:10.0.0.0/104"]}`: "IPv4 written as IPv6",
	} {
		for _, call := range []string{"/api/edit/try", "/api/edit"} {
			var p problemBody
			w.send(http.MethodPost, call, `{"wiring": [`+edit+`]}`, based(1), http.StatusUnprocessableEntity, "Problem", &p)
			require.NotEmpty(t, p.Problems, edit)
			assert.Contains(t, p.Problems[0].Message, message, "%s: %s", call, edit)
		}
	}
	w.send(http.MethodPost, "/api/edit", `{"wiring": [{"op": "speak", "name": "delta", "as": 4294967295, "speaker": "127.0.1.9"}]}`, based(1), http.StatusOK, "Consequence", nil)
	w.restart()
	assert.Equal(t, int64(2), w.app.Now().Revision)
	for _, h := range w.app.Now().Estate.Hubs {
		if h.Name == "delta" {
			assert.Equal(t, 4294967295, h.AS, "numbers of four bytes are kept (RFC 6793)")
		}
	}
}

type problemBody struct{ Problems []view.Problem }

// spoil changes stored things behind the server's back.
func spoil(t *testing.T, w *world, statements ...string) {
	w.stop()
	db, err := sql.Open("sqlite", w.file)
	require.NoError(t, err)
	for _, s := range statements {
		_, err := db.ExecContext(t.Context(), s)
		require.NoError(t, err, s)
	}
	require.NoError(t, db.Close())
	w.serve()
}

func TestAThingThatCannotBeReadIsSetAsideAndRepaired(t *testing.T) {
	w := start(t)
	links, policies := len(w.app.Now().Estate.Links), len(w.app.Now().Estate.Policies)
	spoil(t, w,
		`UPDATE object SET body = CAST(replace(body, '"inspect"', '"inspekt"') AS BLOB) WHERE list = 'policies' AND name = 'crews-web'`,
		`UPDATE object SET body = CAST('{"between": ["delta", "fjord"], "cost": 3000000000}' AS BLOB) WHERE list = 'links' AND name = 'fjord-delta'`)
	now := w.app.Now()
	assert.Equal(t, int64(2), now.Revision, "it is a step of its own")
	assert.Len(t, now.Estate.Links, links-1)
	assert.Len(t, now.Estate.Policies, policies-1)
	var page view.IssuePage
	look := func() []view.Issue {
		w.send(http.MethodGet, "/api/issues", "", nil, http.StatusOK, "Issues", &page)
		var out []view.Issue
		for _, f := range page.Kinds[0].List {
			if f.Code == "F0" {
				require.NotNil(t, f.Aside)
				out = append(out, f)
			}
		}
		return out
	}
	aside := look()
	require.Len(t, aside, 2)
	assert.Contains(t, aside[0].Message, "links fjord-delta cannot be read")
	assert.Contains(t, aside[1].Message, `"inspekt" is no action`)

	repair := fmt.Sprintf("/api/aside/%d", aside[1].Aside.ID)
	w.send(http.MethodPut, repair, aside[1].Aside.Body, based(2), http.StatusUnprocessableEntity, "Problem", nil)
	w.send(http.MethodPut, repair, strings.ReplaceAll(aside[1].Aside.Body, "inspekt", "inspect"), based(2), http.StatusOK, "Effect", nil)
	assert.Len(t, look(), 1)
	remove := fmt.Sprintf("/api/aside/%d", aside[0].Aside.ID)
	w.send(http.MethodDelete, remove, "", map[string]string{"Content-Type": "application/json"}, http.StatusNoContent, "", nil)
	w.send(http.MethodDelete, remove, "", map[string]string{"Content-Type": "application/json"}, http.StatusNotFound, "Problem", nil)
	assert.Empty(t, look())

	w.restart()
	assert.Len(t, w.app.Now().Estate.Policies, policies)
	assert.Len(t, w.app.Now().Estate.Links, links-1)
	assert.Empty(t, w.app.Now().Aside)
}
