package key

import (
	"encoding/json"
	"reflect"
	"testing"

	"gerastic/internal/core/httprules"
)

// FuzzBody: a canonical body is stable, and two texts that share one mean the same.
func FuzzBody(f *testing.F) {
	for _, seed := range []string{
		`{"b":1.0,"a":[1e2,"\u00e9",null,true]}`, `{"a":1,"a":2}`, `9007199254740993`, `"\ud800"`, `[1,`, ``, `{"query":"query A { a } mutation B { b }","operationName":"A","variables":{"x":[{}]}}`,
		`{"query":"{ a(x: \"\"\"b\n c\"\"\") }"}`, `{"query":"fragment F on T { a } query { ...F }"}`,
	} {
		f.Add([]byte(seed))
	}
	f.Fuzz(func(t *testing.T, body []byte) {
		r := &Request{Method: "POST", Query: string(body), Header: httprules.Header{"Content-Type": {"application/json"}}}
		for _, kind := range []BodyKind{Bytes, JSON, GraphQL} {
			_, _ = (&Spec{Body: kind, Members: Members{Except: [][]string{{"a", "b"}}}}).BodyOf(r, body)
		}
		_, _ = (&Spec{Body: GraphQL}).BodyOf(&Request{Method: "GET", Query: string(body), Header: httprules.Header{}}, nil)
		HasGraphQLErrors(body)
		canonical, ok := CanonicalJSON(body)
		if !ok {
			return
		}
		if again, ok := CanonicalJSON([]byte(canonical)); !ok || again != canonical {
			t.Fatalf("%q becomes %q and then %q", body, canonical, again)
		}
		var before, after any
		if json.Unmarshal(body, &before) != nil || json.Unmarshal([]byte(canonical), &after) != nil || !reflect.DeepEqual(before, after) {
			t.Fatalf("%q does not mean %q", body, canonical)
		}
	})
}

// FuzzParts: whatever is read as a key is written back as it was.
func FuzzParts(f *testing.F) {
	spec := &Spec{Headers: []string{"X"}}
	f.Add(string(spec.Append(nil, "r", &Request{Host: "h", Path: "/p", Query: "q", HasQuery: true, Header: httprules.Header{"X": {"1"}}})))
	f.Add("r\x01\x00\x05")
	f.Fuzz(func(t *testing.T, s string) {
		var back []byte
		parts := Parts(s)
		for _, p := range parts {
			back = appendPart(back, p.Source, p.Name, p.Value, p.Present)
		}
		if parts != nil && len(back) != len(s) && len(Parts(string(back))) != len(parts) {
			t.Fatalf("%q was read as %v", s, parts)
		}
		Text(parts)
	})
}
