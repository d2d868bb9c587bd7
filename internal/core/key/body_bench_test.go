package key

import "testing"

const question = `{"query":"query sailings($port: String!, $day: String) { port(name: $port) { name sailings(day: $day) { id departs arrives vessel { name capacity } } } }","variables":{"port":"tholm","day":"2026-05-17"},"operationName":"sailings"}`

// BenchmarkGraphQLKey is what the key of a question costs.
func BenchmarkGraphQLKey(b *testing.B) {
	spec := &Spec{Body: GraphQL}
	r := &Request{Method: "POST", Path: "/graphql", Header: map[string][]string{"Content-Type": {"application/json"}}}
	for b.Loop() {
		if taken, err := spec.BodyOf(r, []byte(question)); err != nil || taken.Canonical == "" {
			b.Fatal(err)
		}
	}
}
