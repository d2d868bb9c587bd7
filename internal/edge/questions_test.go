package edge

import (
	"fmt"
	"io"
	"net/http"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestQuestionsInTheBody(t *testing.T) {
	s := newRig(t, func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		fmt.Fprintf(w, "%s %s %s", r.Method, r.Header.Get("Content-Type"), body)
	})
	const isJSON = "Content-Type: application/json"
	ask := func(method, body string, headers ...string) answer { return s.post(method, "/ask", body, headers...) }
	first := ask("POST", `{"from":"tholm","page":1}`, isJSON)
	assert.Equal(t, `POST application/json {"from":"tholm","page":1}`, first.body, "the origin gets the question as it was asked")
	for _, c := range []struct {
		name, method, body, kind string
		same                     bool
	}{
		{"the order of members does not matter", "POST", `{"page":1.0, "from":"tholm"}`, isJSON, true},
		{"values do", "POST", `{"from":"tholm","page":2}`, isJSON, false},
		{"types do", "POST", `{"from":"tholm","page":"1"}`, isJSON, false},
		{"the method does", "QUERY", `{"from":"tholm","page":1}`, isJSON, false},
		{"the media type does", "POST", `{"from":"tholm","page":1}`, "Content-Type: text/plain", false},
		{"a member twice is another text", "POST", `{"from":"tholm","page":1,"page":1}`, isJSON, false},
	} {
		assert.Equal(t, c.same, ask(c.method, c.body, c.kind).hit(), c.name)
	}
	assert.False(t, ask("POST", `{"n":9007199254740993}`, isJSON).hit())
	assert.False(t, ask("POST", `{"n":9007199254740992}`, isJSON).hit(), "numbers that a double would merge are kept apart")
	long := strings.Repeat("x", 70<<10)
	for range 2 {
		a := ask("POST", long, "Content-Type: text/plain")
		assert.Equal(t, "fwd=bypass", a.state)
		assert.True(t, strings.HasSuffix(a.body, long), "what no key can hold passes whole")
	}
}

func TestGraphQL(t *testing.T) {
	var n atomic.Int64
	s := newRig(t, func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		w.Header().Set("Content-Type", "application/json")
		if strings.Contains(string(body)+r.URL.RawQuery, "broken") {
			fmt.Fprintf(w, `{"errors":[{"message":"no"}],"data":%d}`, n.Add(1))
			return
		}
		fmt.Fprintf(w, `{"data":%d}`, n.Add(1))
	})
	ask := func(body string) answer { return s.post("POST", "/graphql", body, "Content-Type: application/json") }
	query := func(q, rest string) string { return fmt.Sprintf(`{"query":%q%s}`, q, rest) }
	first := ask(query("query Board($p: ID!) { port(id: $p) { name } }", `,"variables":{"p":"tholm","n":1}`))
	for _, c := range []struct {
		name, body string
		same       bool
	}{
		{"spacing and comments do not matter", query("query Board($p: ID!)\n# the quay\n{ port(id: $p) {\n name }}", `,"variables":{"n":1,"p":"tholm"}`), true},
		{"variables do", query("query Board($p: ID!) { port(id: $p) { name } }", `,"variables":{"p":"saltern","n":1}`), false},
		{"so do fields", query("query Board($p: ID!) { port(id: $p) { island } }", `,"variables":{"p":"tholm","n":1}`), false},
		{"and the operation's name", query("query Board($p: ID!) { port(id: $p) { name } }", `,"operationName":"Board","variables":{"p":"tholm","n":1}`), false},
	} {
		a := ask(c.body)
		assert.Equal(t, c.same, a.hit(), c.name)
		assert.Equal(t, c.same, a.body == first.body, c.name)
	}
	two := `query A { ports { name } } mutation B { delay }`
	for name, body := range map[string]string{
		"a mutation": query("mutation { delay }", ""), "a subscription": query("subscription { board }", ""), "a document that does not parse": query("query {", ""),
		"two operations and no choice": query(two, ""), "the mutation of two": query(two, `,"operationName":"B"`), "an unknown member": query("{ ports }", `,"user":"x"`), "no JSON": "{ ports }",
	} {
		for range 2 {
			assert.NotContains(t, ask(body).state, "hit", name)
		}
	}
	assert.False(t, ask(query(two, `,"operationName":"A"`)).hit())
	assert.True(t, ask(query(two, `,"operationName":"A"`)).hit(), "the query of two is cached")
	for range 2 {
		assert.False(t, ask(query("{ broken }", "")).hit(), "an answer with errors is never stored")
	}
	assert.False(t, s.get("/graphql?query={ports{name}}").hit())
	assert.True(t, s.get("/graphql?query=%7B%0Aports%7Bname%7D%7D").hit(), "GET likewise")
	assert.True(t, s.get("/graphql?query={ports{%20name%20}}&operationName=").hit(), "an empty name is none")
	assert.NotContains(t, s.get("/graphql?query=mutation{delay}").state, "hit")
	assert.NotContains(t, s.get("/graphql?query=mutation{delay}").state, "hit")
}

func TestWhatOfAQuestionReachesTheOrigin(t *testing.T) {
	s := newRig(t, func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		fmt.Fprintf(w, `{"data":"%s|%s|%s"}`, body, r.Header.Get("Content-Type"), r.Header.Get("Content-Encoding"))
	})
	a, err := s.send("GET", "/graphql?query={a}", "poison", "Content-Type: text/poison")
	require.NoError(t, err)
	assert.Equal(t, `{"data":"||"}`, a.body, "a body of a GET is not sent on")
	b := s.post("POST", "/ask", `{}`, "Content-Type: application/json; charset=poison")
	assert.Equal(t, `{"data":"{}|application/json|"}`, b.body, "nor are parameters that the key leaves out")
	s.post("POST", "/ask", `{"x":1}`, "Content-Type: application/json", "Content-Encoding: poison")
	assert.False(t, s.post("POST", "/ask", `{"x":1}`, "Content-Type: application/json").hit(), "an encoded body is another")
}
