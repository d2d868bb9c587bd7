package control

import (
	"net/http"
	"reflect"

	"github.com/danielgtaylor/huma/v2"

	"gerastic.example/client"
	"gerastic.example/client/protocol"

	"gerastic/internal/records"
)

// describeFragments puts the plain handlers into the API's description.
func (c *Control) describeFragments() {
	namespace := textParam("namespace", "query", "The application; only needed with a token that is for none")
	c.describeOne(namespace)
	c.describeMany(namespace)
	c.describeWanted(namespace)
	c.describeClash(namespace)
}

// describeClash describes the call that notes a wrong key.
func (c *Control) describeClash(namespace *huma.Param) {
	clash := operation("note-fragment-clash", http.MethodPost, "/v1/fragments/clashes", "Note that a fragment's key leaves something out: a fill made something else than what was there", records.Fragments)
	clash.Description = `The body is {"key": "card(3)", "samples": ["what was there", "what a fill made"], "missing": "the argument that is likely missing"}. It becomes a finding; a name is noted once a minute.`
	clash.Parameters = []*huma.Param{namespace}
	clash.RequestBody = &huma.RequestBody{Required: true, Content: map[string]*huma.MediaType{"application/json": {Schema: c.api.OpenAPI().Components.Schemas.Schema(reflect.TypeFor[client.FragmentClash](), true, "")}}}
	c.describe(clash, map[string]*huma.Response{"204": answerOf("It is noted, or was lately", ""), "400": faultOf("The body is no clash"), "422": faultOf("The key is not valid, or there are not two samples"), "503": faultOf("The database cannot be reached")})
}

// describeOne describes the calls for one fragment.
func (c *Control) describeOne(namespace *huma.Param) {
	name := textParam("key", "path", `The fragment's key: a name, and in brackets what tells fragments of the name apart, as in row("tholm",7)`)
	lease := textParam(leaseHeader, "header", "The lease that the last lookup gave")
	life := textParam("Cache-Control", "header", "max-age, the lifetime, and perhaps stale-while-revalidate, in seconds")
	life.Required = true
	get := operation("get-fragment", http.MethodGet, "/v1/fragments/{key}", "Find a fragment, or get the right to fill it", records.Fragments)
	get.Parameters = []*huma.Param{
		name, namespace,
		textParam("wait", "query", "How long to wait while somebody else fills it: 2s"),
		textParam("lease", "query", "How long the fill may take: 30s; 0 only looks"),
		textParam("fresh", "query", "What is stale is to be filled, as if it were not there"),
		textParam("renew", "query", "Ask for a lease even if it is fresh"),
	}
	c.describe(get, map[string]*huma.Response{
		"200": answerOf("It is there", "*/*", stateHeader, "fresh, or stale", leaseHeader, "With stale: it is yours to fill, behind whoever waits", leftHeader, "Seconds of its life that are left", costHeader, "Milliseconds that its fill took", "Cache-Groups", "Its tags (RFC 9875)", "Age", "Seconds since it was stored"),
		"202": answerOf("Somebody else fills it", "", stateHeader, "filling", "Retry-After", "Seconds"),
		"404": answerOf("It is not there", "application/problem+json", stateHeader, "yours, or missing if no lease was asked for", leaseHeader, "With yours: the right to fill it"),
		"400": faultOf("The key or a parameter is not valid"), "500": faultOf("What was stored as gzip is not gzip"),
	})
	put := operation("put-fragment", http.MethodPut, "/v1/fragments/{key}", "Store what was filled", records.Fragments)
	put.RequestBody = binary("*/*")
	put.Parameters = []*huma.Param{
		name, namespace, lease, life,
		textParam("Cache-Groups", "header", "Its tags, a list of strings (RFC 9875)"),
		textParam(costHeader, "header", "Milliseconds that it took to make; since the lease was given, if left out"),
		textParam(protocol.WorkField, "header", "What it took to make, as the application counts it: queries=7, rows=120"),
		textParam("Content-Encoding", "header", "gzip, or left out"),
	}
	c.describe(put, map[string]*huma.Response{
		"204": answerOf("It is stored", ""), "400": faultOf("The key or a header is not valid"), "409": faultOf("A purge or a newer fill has overtaken the lease"),
		"411": faultOf("The length is missing"), "413": faultOf("It does not fit into the store"), "422": faultOf("It has no lease, no lifetime, or too many tags"),
	})
	drop := operation("delete-fragment", http.MethodDelete, "/v1/fragments/{key}", "Drop a fragment on every node; with a lease, give that back instead", records.Fragments)
	drop.Parameters = []*huma.Param{name, namespace, lease}
	c.describe(drop, map[string]*huma.Response{
		"200": answerOf("It is purged, as the purge in the body says", "application/json"), "204": answerOf("The lease is given back", ""), "400": faultOf("The key is not valid"), "409": faultOf("The lease is not in force"), "503": faultOf("The ledger cannot be written to"),
	})
}

// describeMany describes the calls for many fragments.
func (c *Control) describeMany(namespace *huma.Param) {
	lookup := operation("lookup-fragments", http.MethodPost, "/v1/fragments/lookup", "Find up to 1,000 fragments in one round trip", records.Fragments)
	lookup.Description = "The body is a CBOR map: keys (array of texts), wait and lease (milliseconds), fresh, renew and details (booleans), have (validators of bodies that the caller still has, by place). The answer is a CBOR sequence (RFC 8742): a map with namespace and stamp, then for each key, in any order, a map with at (its place), state, and as they apply lease, cause, waited, body, coding, age, left (seconds), tags, with details type and cost (milliseconds), and with have etag, or same: true in place of a body that the caller has."
	lookup.Parameters, lookup.RequestBody = []*huma.Param{namespace}, binary("application/cbor")
	c.describe(lookup, map[string]*huma.Response{"200": answerOf("What was found", protocol.MediaType), "400": faultOf("The body is not a lookup")})
	store := operation("store-fragments", http.MethodPost, "/v1/fragments/store", "Store up to 1,000 fragments in one round trip", records.Fragments)
	store.Description = "The body is a CBOR sequence of maps with key, lease, and either failed: true or body, type, coding, life and stale (seconds), cost (milliseconds), tags, parts, work (a map of numbers), direct (true: nobody asked for it), since (a ledger sequence: refused if a purge of it came after that). The answer is a CBOR sequence of maps, in the same order, with at, stored, and if it is not stored refused (invalid, overtaken, too-large) and why."
	store.Parameters, store.RequestBody = []*huma.Param{namespace}, binary(protocol.MediaType)
	c.describe(store, map[string]*huma.Response{"200": answerOf("What became of each", protocol.MediaType), "400": faultOf("The body is not a sequence of fragments"), "411": faultOf("The length is missing"), "413": faultOf("It does not fit into the store")})
}

// textParam is a parameter whose value is text.
func textParam(name, in, doc string) *huma.Param {
	return &huma.Param{Name: name, In: in, Description: doc, Required: in == "path", Schema: &huma.Schema{Type: "string"}}
}

// answerOf describes an answer: its media type, "" if it has no body, and header fields, each
// followed by what it says.
func answerOf(doc, kind string, headers ...string) *huma.Response {
	r := &huma.Response{Description: doc}
	if kind != "" {
		r.Content = map[string]*huma.MediaType{kind: {Schema: &huma.Schema{Type: "string", Format: "binary"}}}
	}
	for i := 0; i+1 < len(headers); i += 2 {
		if r.Headers == nil {
			r.Headers = map[string]*huma.Param{}
		}
		r.Headers[headers[i]] = &huma.Param{Description: headers[i+1], Schema: &huma.Schema{Type: "string"}}
	}
	return r
}

func faultOf(doc string) *huma.Response { return answerOf(doc, "application/problem+json") }

func binary(kind string) *huma.RequestBody {
	return &huma.RequestBody{Required: true, Content: map[string]*huma.MediaType{kind: {Schema: &huma.Schema{Type: "string", Format: "binary"}}}}
}

// describe adds a call with fragments to the description.
func (c *Control) describe(op huma.Operation, answers map[string]*huma.Response) {
	answers["405"] = answerOf("The path takes other methods", "application/problem+json", "Allow", "Those that it takes")
	answers["421"] = faultOf("The node is not reached under this name")
	answers["401"], answers["403"] = faultOf("There is no token, or none that is known"), faultOf("The token lacks the right, or is for another application")
	op.Responses = answers
	c.api.OpenAPI().AddOperation(&op)
}
