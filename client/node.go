package client

import (
	"context"
	"net/url"
	"strconv"
	"time"
)

// Route is a route of the policy with its switch and its figures.
type Route struct {
	Name    string   `json:"name"`
	Path    string   `json:"path"`
	Hosts   []string `json:"hosts"`
	Methods []string `json:"methods"`
	Enabled bool     `json:"enabled" doc:"Requests are cached: on in the policy and not switched off"`
	Switch  string   `json:"switch" enum:"on,off,policy-off,all-off" doc:"What decides whether it is on"`
	Entries int      `json:"entries" doc:"Stored now"`
	Figures RatioRow `json:"figures"`
}

// Routes lists the routes, in the policy's order, with their figures since a time. The error
// says that the node cannot be asked, or does not know the token (StatusOf 401, 403).
func (c *Client) Routes(ctx context.Context, since string) ([]Route, error) {
	var out struct {
		Routes []Route `json:"routes"`
	}
	err := c.call(ctx, "GET", "/v1/routes", url.Values{"since": {since}}, nil, &out)
	return out.Routes, err
}

// SwitchRoute turns a route on or off, at once and without losing what is stored; "*" means
// all routes. StatusOf the error is 404 for a name that nothing has, and 409 where the policy
// itself says that the route is off.
func (c *Client) SwitchRoute(ctx context.Context, name string, on bool) error {
	return c.call(ctx, "PATCH", "/v1/routes/"+url.PathEscape(name), nil, map[string]bool{"enabled": on}, nil)
}

// NewRoute is a route to be added.
type NewRoute struct {
	Name    string   `json:"name" minLength:"1" maxLength:"64"`
	Paths   []string `json:"paths" minItems:"1" maxItems:"100" doc:"/people, /people/{id}, /files/{rest...}"`
	Like    []string `json:"like,omitempty" maxItems:"20" doc:"Shapes whose settings it takes over"`
	Fresh   string   `json:"fresh,omitempty" doc:"How long answers live where the origin says nothing: 10m; empty: only as the origin says"`
	Query   string   `json:"query,omitempty" doc:"all, none, page,sort for only these, or -utm_*,-ref for all but these"`
	Headers []string `json:"headers,omitempty" maxItems:"20"`
	Cookies []string `json:"cookies,omitempty" maxItems:"20"`
	Tags    []string `json:"tags,omitempty" maxItems:"100"`
	Before  string   `json:"before,omitempty" doc:"The route before which it counts; empty: the last"`
	Preview bool     `json:"preview,omitempty" doc:"Change nothing, and tell what would come of it"`
}

// RouteChange is what came of a change of one route, or would.
type RouteChange struct {
	Revision int64          `json:"revision" doc:"The policy's new revision; 0 in a preview"`
	Source   string         `json:"source" doc:"The route, as YAML; empty if it is removed"`
	Seen     int            `json:"seen" doc:"How many of the requests that came lately were tried"`
	Matched  []RouteMatched `json:"matched" doc:"Those of them that the route matches, the most frequent first"`
	Touched  int64          `json:"touched" doc:"Entries on this node that are judged anew, or not used any more"`
	Warnings []string       `json:"warnings"`
}

// RouteMatched are requests that a route matches.
type RouteMatched struct {
	Method string `json:"method"`
	URL    string `json:"url"`
	Times  int    `json:"times"`
	Before string `json:"before" doc:"The route that they had before; empty: none"`
}

// AddRoute adds a route to the policy in force. The error is a *Problem with the places of all
// mistakes (StatusOf 422).
func (c *Client) AddRoute(ctx context.Context, r NewRoute) (RouteChange, error) {
	var out RouteChange
	return out, c.call(ctx, "POST", "/v1/routes", nil, r, &out)
}

// SetRoute changes settings of a route: "lifetime.fresh=5m"; "lifetime.fresh=" takes it out.
func (c *Client) SetRoute(ctx context.Context, name string, settings []string, preview bool) (RouteChange, error) {
	var out RouteChange
	return out, c.call(ctx, "PUT", "/v1/routes/"+url.PathEscape(name)+"/settings", nil, map[string]any{"settings": settings, "preview": preview}, &out)
}

// RemoveRoute takes a route out of the policy in force.
func (c *Client) RemoveRoute(ctx context.Context, name string, preview bool) (RouteChange, error) {
	var out RouteChange
	return out, c.call(ctx, "DELETE", "/v1/routes/"+url.PathEscape(name), url.Values{"preview": {strconv.FormatBool(preview)}}, nil, &out)
}

// ExplainRequest is a request that might be made.
type ExplainRequest struct {
	Method  string              `json:"method,omitempty" default:"GET"`
	URL     string              `json:"url" doc:"Absolute, or from the slash for the host localhost"`
	Headers map[string][]string `json:"headers,omitempty"`
	Body    string              `json:"body,omitempty" maxLength:"131072"`
}

// KeyPart is one part of a key.
type KeyPart struct {
	Source  string `json:"source" doc:"route, scheme, host, path, query, header or cookie"`
	Name    string `json:"name,omitempty"`
	Value   string `json:"value"`
	Present bool   `json:"present"`
}

// ExplainedRoute is a route that was looked at.
type ExplainedRoute struct {
	Name   string `json:"name"`
	Result string `json:"result" doc:"Why it matches, or does not"`
}

// ExplainedEntry is what is stored for a request.
type ExplainedEntry struct {
	URL        string            `json:"url"`
	Status     int               `json:"status"`
	Bytes      int               `json:"bytes"`
	Received   time.Time         `json:"received"`
	AgeSeconds float64           `json:"age_s"`
	Lifetime   float64           `json:"lifetime_s"`
	Source     string            `json:"lifetime_source" doc:"Whose word the lifetime is"`
	Tags       []string          `json:"tags"`
	Vary       map[string]string `json:"vary,omitempty" doc:"Request fields that the answer depends on, as they were"`
	CostMS     float64           `json:"cost_ms" doc:"What its fill took"`
	Answers    bool              `json:"answers" doc:"It is the one that answers this request"`
}

// Explanation says what would be done with a request, and why.
type Explanation struct {
	Verdict  string           `json:"verdict" doc:"serve, serve stale and refresh behind, validate, fetch, pass through or refuse"`
	Cause    string           `json:"cause,omitempty"`
	Why      []string         `json:"why" doc:"The reasons, as sentences"`
	Route    string           `json:"route,omitempty"`
	Routes   []ExplainedRoute `json:"routes"`
	Origin   string           `json:"origin,omitempty"`
	Key      []KeyPart        `json:"key"`
	Dropped  []string         `json:"dropped" doc:"Parts of the request that the key leaves out"`
	Withheld []string         `json:"withheld" doc:"Those of them that do not reach the origin when it is asked for an answer that others may have"`
	Unstored *UnstoredAnswer  `json:"unstored,omitempty" doc:"The last answer to this key, if it was not stored"`
	Storing  []string         `json:"storing" doc:"What would be stored of the origin's answer, and until when"`
	Entries  []ExplainedEntry `json:"entries"`
	Writes   []ExplainedWrite `json:"writes,omitempty" doc:"What the policy says that the request purges when it succeeds"`
	Sequence uint64           `json:"sequence" doc:"The ledger's last purge on this node"`
}

// ExplainedWrite is what one of the policy's writes purges.
type ExplainedWrite struct {
	Name   string   `json:"name"`
	Mode   string   `json:"mode" enum:"drop,stale"`
	Tags   []string `json:"tags"`
	Begins []string `json:"begins" doc:"How the tags begin that depend on the answer, or on a body that is not there"`
}

// UnstoredAnswer is an answer that was not stored, and why.
type UnstoredAnswer struct {
	At     time.Time `json:"at"`
	Status int       `json:"status"`
	Rule   string    `json:"rule" doc:"As in the cause unstorable:RULE"`
	Why    string    `json:"why" doc:"A sentence, with the section of the standard behind it"`
}

// Explain asks what would be done with a request. Nothing is fetched or changed. StatusOf the
// error is 422 for a request that is not one, and 409 while there is no policy.
func (c *Client) Explain(ctx context.Context, r ExplainRequest) (Explanation, error) {
	var out Explanation
	return out, c.call(ctx, "POST", "/v1/explain", nil, r, &out)
}

// PolicyProblem is a finding in a policy.
type PolicyProblem struct {
	File    string `json:"file"`
	Line    int    `json:"line"`
	Column  int    `json:"column"`
	Message string `json:"message"`
}

// Policy is the policy in force.
type Policy struct {
	Revision int64           `json:"revision"`
	At       time.Time       `json:"at"`
	Actor    string          `json:"actor"`
	Note     string          `json:"note"`
	Source   string          `json:"source"`
	Warnings []PolicyProblem `json:"warnings"`
	// Touched is how many entries of the node that took the policy the change concerns: they
	// are judged anew at their next use, or not used any more. Only where it was applied.
	Touched int64 `json:"touched,omitempty"`
}

// Policy returns the policy in force. StatusOf the error is 404 while there is none.
func (c *Client) Policy(ctx context.Context) (Policy, error) {
	var out Policy
	return out, c.call(ctx, "GET", "/v1/policy", nil, nil, &out)
}

// ApplyPolicy checks a policy and puts it in force on every node. The error is a *Problem with
// each mistake and its line (StatusOf 422): the policy before then stays in force.
func (c *Client) ApplyPolicy(ctx context.Context, source, note string) (Policy, error) {
	var out Policy
	return out, c.call(ctx, "PUT", "/v1/policy", nil, map[string]string{"source": source, "note": note}, &out)
}

// Node is a running node.
type Node struct {
	Node         string           `json:"node"`
	Started      time.Time        `json:"started"`
	Seen         time.Time        `json:"seen" doc:"When it last said that it lives"`
	Control      string           `json:"control,omitempty" doc:"Where another node can be asked; what it holds it says only there"`
	Edge         string           `json:"edge"`
	Degraded     string           `json:"degraded,omitempty" doc:"What it has to do without, in words"`
	Records      string           `json:"records,omitempty" enum:"memory,database" doc:"Where policies, tokens, purges and figures are; in memory they go with the process"`
	Development  bool             `json:"development,omitempty" doc:"Everybody sees keys and reasons, and no act asks for confirmation"`
	Sequence     uint64           `json:"sequence" doc:"Last purge applied"`
	Revision     int64            `json:"revision" doc:"Policy in force"`
	Entries      int64            `json:"entries"`
	MemoryUsed   int64            `json:"memory_used_bytes"`
	MemoryLimit  int64            `json:"memory_limit_bytes"`
	DiskEntries  int64            `json:"disk_entries" doc:"On disk, and not in memory"`
	DiskUsed     int64            `json:"disk_used_bytes" doc:"What the tier on disk takes of its device"`
	DiskLimit    int64            `json:"disk_limit_bytes" doc:"0: there is no tier on disk"`
	DiskErrors   int64            `json:"disk_errors" doc:"What could not be read or written, or was not as it had been written"`
	Removed      map[string]int64 `json:"removed" doc:"Entries that left the store, by reason"`
	Refused      int64            `json:"refused" doc:"Answers that did not fit"`
	FillsRunning int              `json:"fills_running"`
	Marks        int              `json:"marks" doc:"Purges kept apart"`
}

// Nodes lists the nodes. The error says that the node cannot be asked.
func (c *Client) Nodes(ctx context.Context) ([]Node, error) {
	var out struct {
		Nodes []Node `json:"nodes"`
	}
	err := c.call(ctx, "GET", "/v1/nodes", nil, nil, &out)
	return out.Nodes, err
}

// Token is a bearer token, without its secret.
type Token struct {
	ID        string     `json:"id"`
	Name      string     `json:"name"`
	Rights    []string   `json:"rights"`
	Namespace string     `json:"namespace,omitempty" doc:"The application whose fragments it may load and store"`
	AtMost    int64      `json:"at_most_bytes,omitempty" doc:"How much memory these may take on a node; left out: as much as there is"`
	Created   time.Time  `json:"created"`
	Revoked   *time.Time `json:"revoked,omitempty"`
	Secret    string     `json:"secret,omitempty" doc:"Shown once, when the token is made"`
}

// CreateToken makes a token; its Secret is shown this once. With the right fragments it is
// kept to the fragments of one application, its namespace; else that is "". StatusOf the error
// is 422 for rights or a name that are not valid.
func (c *Client) CreateToken(ctx context.Context, name string, rights []string, namespace string) (Token, error) {
	return c.CreateBoundedToken(ctx, name, rights, namespace, "")
}

// CreateBoundedToken is CreateToken for an application whose fragments may take so much memory on a
// node, such as "64MiB"; "": as much as there is.
func (c *Client) CreateBoundedToken(ctx context.Context, name string, rights []string, namespace, atMost string) (Token, error) {
	var out Token
	return out, c.call(ctx, "POST", "/v1/tokens", nil, map[string]any{"name": name, "rights": rights, "namespace": namespace, "at_most": atMost}, &out)
}

// Tokens lists all tokens. StatusOf the error is 503 while the database cannot be reached.
func (c *Client) Tokens(ctx context.Context) ([]Token, error) {
	var out struct {
		Tokens []Token `json:"tokens"`
	}
	err := c.call(ctx, "GET", "/v1/tokens", nil, nil, &out)
	return out.Tokens, err
}

// RevokeToken ends a token. StatusOf the error is 404 if there is none with this ID.
func (c *Client) RevokeToken(ctx context.Context, id string) error {
	return c.call(ctx, "DELETE", "/v1/tokens/"+url.PathEscape(id), nil, nil, nil)
}
