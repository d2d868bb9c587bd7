package key

import (
	"bytes"
	"io"
	"maps"
	"net/url"
	"strconv"
	"strings"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"
	"github.com/vektah/gqlparser/v2/ast"
	"github.com/vektah/gqlparser/v2/lexer"
	"github.com/vektah/gqlparser/v2/parser"

	"gerastic/internal/core/httprules"
)

// BodyKind says how a route's keys take the request's body.
type BodyKind uint8

// The kinds: bytes as they are, JSON in canonical form (RFC 8785), or a GraphQL
// question (document, operation and variables).
const (
	NoBody BodyKind = iota
	Bytes
	JSON
	GraphQL
)

// MaxBody is the longest body that a key can hold, in bytes. Requests with longer ones
// pass through.
const MaxBody = 64 << 10

// ErrPass says that a request is not to be cached though its route keys by body: its
// reason is for explain.
type ErrPass string

func (e ErrPass) Error() string { return string(e) }

// The reasons to pass a request through.
const (
	NotGraphQL  ErrPass = "the request is not a GraphQL question that can be read"
	NotAQuery   ErrPass = "GraphQL mutations and subscriptions are never cached"
	TooLongBody ErrPass = "the body is longer than a key can hold"
)

// Taken is what a key takes of a body.
type Taken struct {
	Canonical string
	Content   any    // of JSON and GraphQL, what counts of it
	Sent      []byte // what the origin is to be asked with in place of the body; nil: as it came
}

// BodyOf makes the canonical body of a request: equal for requests that ask the same,
// and for no others. The error, an ErrPass, says that the request must pass through.
func (spec *Spec) BodyOf(r *Request, body []byte) (Taken, error) {
	if len(body) > MaxBody {
		return Taken{}, TooLongBody
	}
	media := httprules.MediaType(r.Header.Get("Content-Type"))
	encoded := r.Header.Has("Content-Encoding") // then the bytes are not what the media type says
	switch spec.Body {
	case GraphQL:
		if encoded {
			return Taken{}, NotGraphQL
		}
		return spec.graphQL(r, media, body)
	case JSON:
		if spec.Members.All() && !spec.Reads && isJSON(media) && !encoded {
			if canonical, ok := CanonicalJSON(body); ok {
				return Taken{Canonical: "json\x00" + media + "\x00" + canonical}, nil
			}
		} else if value, ok := parsed(body); ok && isJSON(media) && !encoded {
			t := Taken{Content: spec.Members.of(value)}
			text := written(t.Content)
			t.Canonical = "json\x00" + media + "\x00" + text
			if !spec.Members.All() {
				t.Sent = []byte(text)
			}
			return t, nil
		}
	}
	// The media type says what the bytes mean, so that it is part of the question.
	return Taken{Canonical: "bytes\x00" + r.Header.Joined("Content-Type") + "\x00" + r.Header.Joined("Content-Encoding") + "\x00" + string(body)}, nil
}

func isJSON(media string) bool {
	return media == "application/json" || strings.HasSuffix(media, "+json")
}

// CanonicalJSON writes a JSON text in the form of RFC 8785. ok is false for what has
// none: invalid text, members of one name, numbers that a double does not hold exactly
// enough to tell from others.
func CanonicalJSON(text []byte) (canonical string, ok bool) {
	value := jsontext.Value(bytes.Clone(text))
	if !exactNumbers(value) || value.Canonicalize() != nil {
		return "", false
	}
	return string(value), true
}

// exactNumbers reports whether every number has so few digits that no two different ones
// become the same double (at most 15 significant digits).
func exactNumbers(value jsontext.Value) bool {
	d := jsontext.NewDecoder(bytes.NewReader(value))
	for {
		token, err := d.ReadToken()
		if err != nil {
			return err == io.EOF
		}
		if token.Kind() != '0' {
			continue
		}
		digits, exponent := 0, false
		for _, c := range token.String() {
			switch {
			case c == 'e' || c == 'E':
				exponent = true
			case c >= '0' && c <= '9' && !exponent:
				digits++
			}
		}
		if digits > 15 {
			return false
		}
	}
}

// graphQLQuery is a GraphQL request (GraphQL over HTTP, §5.3, §5.4).
type graphQLQuery struct {
	Query         string         `json:"query"`
	OperationName *string        `json:"operationName"`
	Variables     jsontext.Value `json:"variables"`
	Extensions    jsontext.Value `json:"extensions"`
}

// readGraphQL reads a question from a URL or a body; rest are other parameters.
func readGraphQL(r *Request, media string, body []byte) (q graphQLQuery, rest string, err error) {
	if inURL(r) {
		err = graphQLQueryOf(r.Query, &q, &rest)
		return q, rest, err
	}
	if media != "application/json" || json.Unmarshal(body, &q, json.RejectUnknownMembers(true)) != nil {
		return q, rest, NotGraphQL
	}
	return q, rest, nil
}

// inURL reports whether a question stands in its URL.
func inURL(r *Request) bool { return r.Method == "GET" || r.Method == "HEAD" }

func (spec *Spec) graphQL(r *Request, media string, body []byte) (t Taken, err error) {
	q, rest, err := readGraphQL(r, media, body)
	if err != nil {
		return t, err
	}
	document, err := parser.ParseQuery(&ast.Source{Input: q.Query})
	if err != nil || len(document.Operations) == 0 {
		return t, NotGraphQL
	}
	name := ""
	if q.OperationName != nil {
		name = *q.OperationName
	}
	if err := onlyQuery(document, name); err != nil {
		return t, err
	}
	text, ok := documentTokens(q.Query)
	if !ok {
		return t, NotGraphQL
	}
	if plain, ok := spec.plainGraphQL(&q, operationOf(document, name)); ok {
		t.Canonical = strings.Join([]string{"graphql", text, name, plain[0], plain[1], rest}, "\x00")
		return t, nil
	}
	content := map[string]any{}
	for member, value := range map[string]jsontext.Value{"variables": q.Variables, "extensions": q.Extensions} {
		if len(value) == 0 || string(value) == "null" {
			value = jsontext.Value("{}")
		}
		if content[member], ok = parsed(value); !ok {
			return t, NotGraphQL
		}
	}
	content["variables"] = declared(content["variables"], operationOf(document, name))
	counted := content
	if !inURL(r) && !spec.Members.All() { // the origin is asked for the URL as it is
		counted, _ = spec.Members.of(content).(map[string]any)
		sent := map[string]any{"query": q.Query}
		if q.OperationName != nil {
			sent["operationName"] = name
		}
		maps.Copy(sent, counted)
		t.Sent = []byte(written(sent))
	}
	parts := []string{"graphql", text, name}
	for _, member := range []string{"variables", "extensions"} {
		value := counted[member]
		if value == nil {
			value = map[string]any{}
		}
		parts = append(parts, written(value))
	}
	t.Content, t.Canonical = counted, strings.Join(append(parts, rest), "\x00")
	return t, nil
}

// plainGraphQL is the canonical text of variables and extensions where all of both counts, and nobody
// wants to read them; ok is false where it does not.
func (spec *Spec) plainGraphQL(q *graphQLQuery, operation *ast.OperationDefinition) (plain [2]string, ok bool) {
	if !spec.Members.All() || spec.Reads {
		return plain, false
	}
	for i, value := range []jsontext.Value{q.Variables, q.Extensions} {
		if len(value) == 0 || string(value) == "null" {
			value = jsontext.Value("{}")
		}
		if plain[i], ok = CanonicalJSON(value); !ok {
			return plain, false
		}
	}
	return plain, allDeclared(plain[0], operation)
}

// allDeclared reports whether an operation declares all variables that a JSON object gives.
func allDeclared(variables string, operation *ast.OperationDefinition) bool {
	d := jsontext.NewDecoder(strings.NewReader(variables))
	if token, err := d.ReadToken(); err != nil || token.Kind() != '{' {
		return true // whatever it is, it counts as it stands
	}
	for d.PeekKind() == '"' {
		name, err := d.ReadToken()
		if err != nil || operation.VariableDefinitions.ForName(name.String()) == nil || d.SkipValue() != nil {
			return false
		}
	}
	return true
}

// declared are the variables that an operation declares: the others say nothing (GraphQL, §6.1.2).
func declared(variables any, operation *ast.OperationDefinition) any {
	given, isObject := variables.(map[string]any)
	if !isObject || operation == nil {
		return variables
	}
	kept := map[string]any{}
	for _, v := range operation.VariableDefinitions {
		if value, has := given[v.Variable]; has {
			kept[v.Variable] = value
		}
	}
	return kept
}

// documentTokens writes a GraphQL document as its tokens, so that spacing, commas and
// comments do not count and everything else does.
func documentTokens(document string) (text string, ok bool) {
	source := []rune(document)
	tokens := lexer.New(&ast.Source{Input: document})
	var b strings.Builder
	for {
		token, err := tokens.ReadToken()
		switch {
		case err != nil:
			return "", false
		case token.Kind == lexer.EOF:
			return b.String(), true
		case token.Kind == lexer.Comment:
			continue
		case token.Kind == lexer.BlockString: // as it stands: its indentation is part of it
			b.WriteString(strconv.Quote(string(source[token.Pos.Start:token.Pos.End])))
		case token.Kind == lexer.String:
			b.WriteString(strconv.Quote(token.Value))
		case token.Value != "":
			b.WriteString(token.Value)
		default:
			b.WriteString(token.Kind.String())
		}
		b.WriteByte(' ')
	}
}

// onlyQuery refuses a request that does not run exactly one query.
func onlyQuery(document *ast.QueryDocument, name string) error {
	if name == "" && len(document.Operations) > 1 {
		return NotGraphQL
	}
	for _, operation := range document.Operations {
		if name != "" && operation.Name != name {
			continue
		}
		if operation.Operation != ast.Query {
			return NotAQuery
		}
		return nil
	}
	return NotGraphQL
}

// graphQLQueryOf reads a question from a URL; rest are the other parameters.
func graphQLQueryOf(query string, q *graphQLQuery, rest *string) error {
	values, err := url.ParseQuery(query)
	if err != nil {
		return NotGraphQL
	}
	for name, all := range values {
		switch name {
		case "query", "operationName", "variables", "extensions":
			if len(all) != 1 {
				return NotGraphQL
			}
		}
	}
	q.Query = values.Get("query")
	if values.Has("operationName") {
		name := values.Get("operationName")
		q.OperationName = &name
	}
	q.Variables, q.Extensions = jsontext.Value(values.Get("variables")), jsontext.Value(values.Get("extensions"))
	for _, name := range []string{"query", "operationName", "variables", "extensions"} {
		values.Del(name)
	}
	*rest = values.Encode()
	return nil
}

// HasGraphQLErrors reports whether a GraphQL answer has an errors member that says
// something, or cannot be read: neither is the answer to the question.
func HasGraphQLErrors(body []byte) bool {
	var answer struct {
		Errors jsontext.Value `json:"errors"`
	}
	if json.Unmarshal(body, &answer) != nil {
		return true
	}
	text := strings.TrimSpace(string(answer.Errors))
	return text != "" && text != "null" && text != "[]"
}
