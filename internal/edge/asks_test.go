package edge

import (
	"io"
	"net/http"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gerastic/internal/core/tags"
)

const asksYAML = `routes:
  - name: boards
    match: { path: /graphql, methods: [GET, POST], operation: [Sailings, "Board*"] }
    key: { body: { graphql: { except: [variables.trace] } } }
    lifetime: { fresh: 10m }
    tags: ["port:{body:variables.port}"]
  - name: others
    match: { path: /graphql, methods: [GET, POST] }
    key: { body: graphql }
  - name: reports
    match: { path: /ask, methods: [POST], body: { kind: [report, sum], "filter.year": ["2026"] } }
    key: { body: { json: { only: [kind, filter.year] } } }
    lifetime: { fresh: 1h }
`

// TestOneAddressManyLives: routes, keys and tags by what is asked; what the key leaves out does not reach
// the origin.
func TestOneAddressManyLives(t *testing.T) {
	var sent []string
	s := newRigOf(t, asksYAML, func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		sent = append(sent, string(body))
		w.Header().Set("Content-Type", "application/json")
		_, _ = io.WriteString(w, `{"data":{}}`)
	})
	const kind = "Content-Type: application/json"
	hit := func(path, body string) bool { return s.post("POST", path, body, kind).hit() }
	board := func(variables string) string {
		return `{"query":"query BoardOf($port: String, $trace: Int) { a }","variables":` + variables + `}`
	}
	assert.False(t, hit("/graphql", board(`{"port":"tholm","trace":1}`)))
	assert.True(t, hit("/graphql", board(`{"trace":2,"port":"tholm"}`)), "trace does not count")
	assert.True(t, hit("/graphql", board(`{"port":"tholm","undeclared":2}`)), "nor does what the operation does not declare")
	assert.False(t, hit("/graphql", board(`{"port":"saltern"}`)))
	assert.Equal(t, `{"extensions":{},"query":"query BoardOf($port: String, $trace: Int) { a }","variables":{"port":"tholm"}}`, sent[0])
	s.purge(tags.Purge{Tags: []string{"port:tholm"}})
	assert.False(t, hit("/graphql", board(`{"port":"tholm"}`)))
	assert.True(t, hit("/graphql", board(`{"port":"saltern"}`)))
	for range 2 { // of the other route, whose origin says nothing of a life
		assert.False(t, hit("/graphql", `{"query":"query Account { a }"}`))
		assert.False(t, hit("/graphql", `{"query":"mutation Sailings { a }"}`), "a mutation is no question")
		assert.False(t, hit("/graphql", `[{"query":"query Sailings { a }"}]`), "nor are several at once")
		assert.False(t, hit("/graphql", `{"query":"query Sailings { a } query Account { b }"}`), "nor is one that does not say which")
	}
	assert.False(t, s.get("/graphql?query=query+Sailings+%7B+a+%7D").hit())
	assert.True(t, s.get("/graphql?query=query+Sailings+%7Ba%7D").hit())
	assert.False(t, hit("/graphql", `{"query":"query Sailings { a } query Account { b }","operationName":"Sailings"}`))
	assert.True(t, hit("/graphql", `{"query":"query Sailings { a } query Account { b }","operationName":"Sailings"}`))

	assert.False(t, hit("/ask", `{"kind":"report","filter":{"year":2026,"who":"me"},"user":7}`))
	assert.True(t, hit("/ask", `{"filter":{"year":2026,"who":"you"},"kind":"report"}`))
	assert.Equal(t, `{"filter":{"year":2026},"kind":"report"}`, sent[len(sent)-1])
	for range 2 {
		for _, other := range []string{`{"kind":"report"}`, `{"kind":"list","filter":{"year":2026}}`, `[1]`, `none`} {
			a := s.post("POST", "/ask", other, kind)
			require.Equal(t, 200, a.status)
			assert.Contains(t, a.state, "fwd=method", other)
			assert.Equal(t, other, sent[len(sent)-1], "what passes is as it came")
		}
	}
}
