package server_test

import (
	"fmt"
	"net/http"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v3"

	"bivium/internal/people"
	"bivium/internal/server"
)

// who may do what: by operation, the roles that one needs, all of them. Every operation of
// the description has a row.
var needed = map[string][]people.Role{}

func init() {
	rows := func(operations string, roles ...people.Role) {
		for operation := range strings.FieldsSeq(operations) {
			needed[operation] = roles
		}
	}
	rows("getSignIn signIn signInDemo signInLink toProvider fromProvider")
	rows(`signOut getMe changePassword getTokens makeToken dropToken getPeople getSpecification
		getEstate complete ask getDeciding getDecided getScope getFailures trace getBoard getCells getIssues getCell getRules getObject suggest fixes tryEdit getAccounts askHealth
		askNativeRules getLanes getTargets getHeld getUses getProof lookAtTargets observe getOutside lookOutside askStates getSessions getRoutes getUndo getRows getSheet getTags tryTags getMembers tryImport export
		getDrafts getDraft getDraftFindings getWindows getNotices seeNotices getNoticeSettings putNoticeSettings testNotices getApplying getPlan previewPlan getRounds commentDraft resolveComment openInDraft events getRevisions compare blame getMetrics`, people.Viewer)
	rows("takeOver propose postPacket postRound postEdit postUndo postImport postDraft putDraft undoDraft redoDraft moveDraft resolveConflict rollBack", people.Engineer)
	rows("approveDraft reviewLater", people.Approver)
	rows("applyDraft postPlan steerPlan", people.Operator)
	rows("putAside deleteAside postDemo", people.Engineer, people.Operator)
	rows("startReading stopReading", people.Engineer)
	rows("postWindow deleteWindow connect connectHubs disconnect putPerson makeLink putTeam", people.Administrator)
	rows("getAudit exportAudit verifyAudit", people.Auditor)
}

// TestEveryOperationIsForItsRoles sends each operation of the description as somebody of each
// role, of none, and as somebody who is not signed in.
func TestEveryOperationIsForItsRoles(t *testing.T) {
	w := start(t)
	var spec struct {
		Paths map[string]map[string]yaml.Node
	}
	require.NoError(t, yaml.Unmarshal(server.Specification, &spec))
	doors := []string{"tester"}
	for _, role := range people.Roles {
		for _, other := range append([]people.Role{role}, people.Roles...) {
			name := fmt.Sprintf("%s-%s", role, other)
			require.NoError(t, w.people.Put(t.Context(), people.System("test"), people.Person{Name: name, Active: true, Grants: []people.Grant{{Role: role}, {Role: other}}}))
			doors = append(doors, name)
		}
	}
	w.people.OpenDoors(doors...)
	cookies := map[string]*http.Cookie{}
	for _, door := range doors {
		cookies[door] = w.enter(door)
	}
	parameter := regexp.MustCompile(`\{\w+\}`)
	seen := 0
	for path, operations := range spec.Paths {
		for method, node := range operations {
			var operation struct {
				ID string `yaml:"operationId"`
			}
			if method == "parameters" {
				continue
			}
			require.NoError(t, node.Decode(&operation))
			roles, known := needed[operation.ID]
			require.True(t, known, "operation %s has no row", operation.ID)
			seen++
			if operation.ID == "signOut" {
				continue // whoever is next would not be signed in
			}
			status := func(cookie *http.Cookie) int {
				r, err := http.NewRequestWithContext(t.Context(), strings.ToUpper(method), w.http.URL+parameter.ReplaceAllString(path, "1"), strings.NewReader("{"))
				require.NoError(t, err)
				r.Header.Set("Content-Type", "application/json")
				if cookie != nil {
					r.AddCookie(cookie)
				}
				answer, err := http.DefaultTransport.RoundTrip(r)
				require.NoError(t, err)
				require.NoError(t, answer.Body.Close())
				return answer.StatusCode
			}
			if len(roles) == 0 {
				continue
			}
			assert.Equal(t, http.StatusUnauthorized, status(nil), "%s without signing in", operation.ID)
			for _, first := range people.Roles {
				for _, second := range people.Roles {
					may := !slices.ContainsFunc(roles, func(r people.Role) bool { return r != people.Viewer && r != first && r != second })
					got := status(cookies[fmt.Sprintf("%s-%s", first, second)])
					assert.Equal(t, may, got != http.StatusForbidden, "%s as %s and %s: %d", operation.ID, first, second, got)
					assert.NotEqual(t, http.StatusUnauthorized, got)
				}
			}
		}
	}
	assert.Equal(t, len(needed), seen, "every row is of an operation")
	entries, err := w.people.Audit().Last(t.Context(), 0, "refused", 5)
	require.NoError(t, err)
	assert.Len(t, entries, 5, "what was refused stands in the audit log")
}

// TestATokenActsForItsPerson sends a token in the place of a session.
func TestATokenActsForItsPerson(t *testing.T) {
	w := start(t)
	var made struct{ Secret string }
	w.send(http.MethodPost, "/api/tokens", `{"name": "ci", "role": "viewer", "ends": "`+today()+`"}`, nil, http.StatusCreated, "", &made)
	bearer := map[string]string{"Authorization": "Bearer " + made.Secret}
	w.send(http.MethodGet, "/api/estate", "", bearer, http.StatusOK, "Estate", nil)
	w.send(http.MethodPost, "/api/undo", "{}", bearer, http.StatusForbidden, "Problem", nil)
	w.send(http.MethodGet, "/api/estate", "", map[string]string{"Authorization": "Bearer " + made.Secret + "x"}, http.StatusUnauthorized, "Problem", nil)
	w.send(http.MethodDelete, "/api/tokens/1", "{}", nil, http.StatusNoContent, "", nil)
	w.send(http.MethodGet, "/api/estate", "", bearer, http.StatusUnauthorized, "Problem", nil)
}

// TestASessionEnds with signing out, with a password that changes, and with a person who may
// not sign in any more.
func TestASessionEnds(t *testing.T) {
	w := start(t)
	status := func(c *http.Cookie) int {
		r, err := http.NewRequestWithContext(t.Context(), http.MethodGet, w.http.URL+"/api/me", nil)
		require.NoError(t, err)
		r.AddCookie(c)
		answer, err := http.DefaultTransport.RoundTrip(r)
		require.NoError(t, err)
		require.NoError(t, answer.Body.Close())
		return answer.StatusCode
	}
	var link struct{ Link string }
	w.send(http.MethodPost, "/api/people/tester/link", "{}", nil, http.StatusCreated, "", &link)
	_, secret, _ := strings.Cut(link.Link, "?link=")
	old := w.enter("tester")
	require.Equal(t, http.StatusOK, status(old))
	w.send(http.MethodPost, "/api/sign-in/link", `{"link": "`+secret+`", "password": "long and secret"}`, nil, http.StatusOK, "Self", nil)
	assert.Equal(t, http.StatusUnauthorized, status(old), "the password changed")
	w.be("tester")
	mine := w.enter("tester")
	w.send(http.MethodPut, "/api/me/password", `{"old": "long and wrong!", "password": "longer and secret"}`, nil, http.StatusUnprocessableEntity, "Problem", nil)
	w.send(http.MethodPut, "/api/me/password", `{"old": "long and secret", "password": "longer and secret"}`, nil, http.StatusNoContent, "", nil)
	assert.Equal(t, http.StatusUnauthorized, status(mine))
	w.get("/api/me", "Self", nil)
	w.restart()
	w.send(http.MethodPost, "/api/sign-in", `{"name": "tester", "password": "longer and secret"}`, nil, http.StatusOK, "Self", nil)
	w.send(http.MethodPost, "/api/sign-in", `{"name": "tester", "password": "long and secret"}`, nil, http.StatusUnauthorized, "Problem", nil)
	w.be("tester")
	w.send(http.MethodPost, "/api/sign-out", "{}", nil, http.StatusNoContent, "", nil)
	w.send(http.MethodGet, "/api/me", "", nil, http.StatusUnauthorized, "Problem", nil)
}

func today() string { return time.Now().Format(time.DateOnly) }
