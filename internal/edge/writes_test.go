package edge

import (
	"io"
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gerastic/internal/core/tags"
	"gerastic/internal/fetch"
)

const writesYAML = `routes:
  - name: people
    match: { path: "/people/{id}" }
    lifetime: { fresh: 10m }
    tags: ["person:{id}"]
writes:
  - name: people
    match: { path: "/people/{id}" }
    tags: [people, "person:{id}", "group:{body:group}", "was:{answer:was.id}", "of:{query:of}"]
  - match: { path: "/{x...}", methods: [PATCH] }
    tags: ["any"]
    mode: stale
`

// TestWritesPurge what the policy says, before they are answered: of what succeeds, and of what nobody
// knows the end of.
func TestWritesPurge(t *testing.T) {
	const form, json = "Content-Type: application/x-www-form-urlencoded", "Content-Type: application/json"
	long := `{"group":"a","rest":"` + strings.Repeat("x", 70<<10) + `"}`
	for _, c := range []struct {
		name, method, path, content, body string
		status                            int
		answer                            string
		tags, begins                      []string
	}{
		{"JSON and an answer", "PUT", "/people/7?of=x", json, `{"group":"crew"}`, 200, `{"was":{"id":3}}`, []string{"group:crew", "of:x", "people", "person:7", "was:3"}, nil},
		{"a list in a body", "DELETE", "/people/7", json, `{"group":["a","b",{}]}`, 204, "", []string{"group:a", "group:b", "people", "person:7"}, nil},
		{"a form", "POST", "/people/7", form, `group=crew&group=deck`, 303, "", []string{"group:crew", "group:deck", "people", "person:7"}, nil},
		{"nothing to be read", "POST", "/people/7", json, `{"group":`, 200, `no JSON`, []string{"people", "person:7"}, nil},
		{"of no kind", "POST", "/people/7", "Content-Type: text/csv", `group`, 200, ``, []string{"people", "person:7"}, nil},
		{"too long a body", "POST", "/people/7", json, long, 200, `{}`, []string{"people", "person:7"}, []string{"group:"}},
		{"too long an answer", "POST", "/people/7", json, `{}`, 200, long, []string{"people", "person:7"}, []string{"was:"}},
		{"a failure of which nobody knows", "POST", "/people/7", json, `{}`, 500, ``, []string{"people", "person:7"}, []string{"was:"}},
		{"no answer", "POST", "/people/7", json, `{}`, 0, ``, []string{"people", "person:7"}, []string{"was:"}},
		{"a refusal", "POST", "/people/7", json, `{}`, 422, ``, nil, nil},
		{"a question", "GET", "/people/7", json, ``, 200, ``, nil, nil},
	} {
		t.Run(c.name, func(t *testing.T) {
			var found []string
			s := newRigOf(t, writesYAML, func(w http.ResponseWriter, r *http.Request) {
				body, err := io.ReadAll(r.Body)
				assert.NoError(t, err)
				assert.Equal(t, len(c.body), len(body), "it reaches the origin whole")
				if c.status == 0 {
					panic(http.ErrAbortHandler)
				}
				w.WriteHeader(c.status)
				_, _ = io.WriteString(w, c.answer)
			})
			s.onFinding(func(f fetch.Finding) { found = append(found, f.Kind) })
			a, err := s.send(c.method, c.path, c.body, c.content)
			require.NoError(t, err)
			if c.status != 0 {
				assert.Equal(t, len(c.answer), len(a.body), "it reaches the visitor whole")
			}
			var got tags.Purge
			for _, p := range s.purged {
				if len(p.Tags) > 0 {
					got = p
				}
			}
			assert.Equal(t, c.tags, got.Tags)
			assert.Equal(t, c.begins, got.Begins)
			if len(c.begins) > 0 && c.status == 200 {
				assert.Equal(t, []string{"unread-write"}, found)
			}
		})
	}
}
