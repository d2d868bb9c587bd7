package control

import (
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"gerastic.example/client/protocol"
	"gerastic/internal/records"
)

// describeFragments puts the plain handlers into the API's description.
func (c *Control) describeFragments() {
	api := c.api.OpenAPI()
	text := &huma.Schema{Type: "string"}
	param := func(name, in, doc string, required bool) *huma.Param {
		return &huma.Param{Name: name, In: in, Description: doc, Required: required, Schema: text}
	}
	answer := func(doc, kind string, headers ...string) *huma.Response {
		r := &huma.Response{Description: doc}
		if kind != "" {
			r.Content = map[string]*huma.MediaType{kind: {Schema: &huma.Schema{Type: "string", Format: "binary"}}}
		}
		for i := 0; i+1 < len(headers); i += 2 {
			if r.Headers == nil {
				r.Headers = map[string]*huma.Param{}
			}
			r.Headers[headers[i]] = &huma.Param{Description: headers[i+1], Schema: text}
		}
		return r
	}
	fault := func(doc string) *huma.Response { return answer(doc, "application/problem+json") }
	namespace := param("namespace", "query", "The application; only needed with a token that is for none", false)
	name := param("key", "path", `The fragment's key: a name, and in brackets what tells fragments of the name apart, as in row("tholm",7)`, true)
	lease := param(leaseHeader, "header", "The lease that the last lookup gave", false)
	add := func(id, method, path, summary, about string, params []*huma.Param, body *huma.RequestBody, answers map[string]*huma.Response) {
		answers["405"] = answer("The path takes other methods", "application/problem+json", "Allow", "Those that it takes")
		answers["421"] = fault("The node is not reached under this name")
		answers["401"], answers["403"] = fault("There is no token, or none that is known"), fault("The token lacks the right, or is for another application")
		op := operation(id, method, path, summary, records.Fragments)
		op.Description, op.Parameters, op.RequestBody, op.Responses = about, params, body, answers
		api.AddOperation(&op)
	}
	binary := func(kind string) *huma.RequestBody {
		return &huma.RequestBody{Required: true, Content: map[string]*huma.MediaType{kind: {Schema: &huma.Schema{Type: "string", Format: "binary"}}}}
	}
	add("get-fragment", http.MethodGet, "/v1/fragments/{key}", "Find a fragment, or get the right to fill it", "", []*huma.Param{name, namespace,
		param("wait", "query", "How long to wait while somebody else fills it: 2s", false),
		param("lease", "query", "How long the fill may take: 30s; 0 only looks", false),
		param("fresh", "query", "What is stale is to be filled, as if it were not there", false),
		param("renew", "query", "Ask for a lease even if it is fresh", false),
	}, nil, map[string]*huma.Response{
		"200": answer("It is there", "*/*", stateHeader, "fresh, or stale", leaseHeader, "With stale: it is yours to fill, behind whoever waits", leftHeader, "Seconds of its life that are left", costHeader, "Milliseconds that its fill took", "Cache-Groups", "Its tags (RFC 9875)", "Age", "Seconds since it was stored"),
		"202": answer("Somebody else fills it", "", stateHeader, "filling", "Retry-After", "Seconds"),
		"404": answer("It is not there", "application/problem+json", stateHeader, "yours, or missing if no lease was asked for", leaseHeader, "With yours: the right to fill it"),
		"400": fault("The key or a parameter is not valid"), "500": fault("What was stored as gzip is not gzip"),
	})
	add("put-fragment", http.MethodPut, "/v1/fragments/{key}", "Store what was filled", "", []*huma.Param{name, namespace, lease,
		param("Cache-Control", "header", "max-age, the lifetime, and perhaps stale-while-revalidate, in seconds", true),
		param("Cache-Groups", "header", "Its tags, a list of strings (RFC 9875)", false),
		param(costHeader, "header", "Milliseconds that it took to make; since the lease was given, if left out", false),
		param("Content-Encoding", "header", "gzip, or left out", false),
	}, binary("*/*"), map[string]*huma.Response{
		"204": answer("It is stored", ""), "400": fault("The key or a header is not valid"), "409": fault("A purge or a newer fill has overtaken the lease"),
		"411": fault("The length is missing"), "413": fault("It does not fit into the store"), "422": fault("It has no lease, no lifetime, or too many tags"),
	})
	add("delete-fragment", http.MethodDelete, "/v1/fragments/{key}", "Drop a fragment on every node; with a lease, give that back instead", "", []*huma.Param{name, namespace, lease}, nil, map[string]*huma.Response{
		"200": answer("It is purged, as the purge in the body says", "application/json"), "204": answer("The lease is given back", ""), "400": fault("The key is not valid"), "409": fault("The lease is not in force"), "503": fault("The ledger cannot be written to"),
	})
	add("lookup-fragments", http.MethodPost, "/v1/fragments/lookup", "Find up to 1,000 fragments in one round trip",
		"The body is a CBOR map: keys (array of texts), wait and lease (milliseconds), fresh, renew and details (booleans). The answer is a CBOR sequence (RFC 8742): a map with namespace and stamp, then for each key, in any order, a map with at (its place), state, and as they apply lease, cause, waited, body, coding, age, left (seconds), tags, and with details type and cost (milliseconds).",
		[]*huma.Param{namespace}, binary("application/cbor"), map[string]*huma.Response{"200": answer("What was found", protocol.MediaType), "400": fault("The body is not a lookup")})
	add("store-fragments", http.MethodPost, "/v1/fragments/store", "Store up to 1,000 fragments in one round trip",
		"The body is a CBOR sequence of maps with key, lease, and either failed: true or body, type, coding, life and stale (seconds), cost (milliseconds), tags, parts. The answer is a CBOR sequence of maps, in the same order, with at, stored, and if it is not stored refused (invalid, overtaken, too-large) and why.",
		[]*huma.Param{namespace}, binary(protocol.MediaType), map[string]*huma.Response{"200": answer("What became of each", protocol.MediaType), "400": fault("The body is not a sequence of fragments"), "411": fault("The length is missing"), "413": fault("It does not fit into the store")})
}
