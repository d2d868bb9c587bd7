package control

import (
	"context"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humachi"
	"github.com/go-chi/chi/v5"
	"github.com/go-chi/chi/v5/middleware"

	"gerastic.example/client"

	"gerastic/internal/core/barrier"
	"gerastic/internal/core/fragment"
	"gerastic/internal/core/meter"
	"gerastic/internal/core/policy"
	"gerastic/internal/core/store"
	"gerastic/internal/core/tags"
	"gerastic/internal/detect"
	"gerastic/internal/edge"
	"gerastic/internal/gate"
	"gerastic/internal/onward"
	"gerastic/internal/prime"
	"gerastic/internal/records"
	"gerastic/internal/resident"
	"gerastic/internal/watching"
)

// Node is what the control side asks of the node that it belongs to.
type Node interface {
	// Name is the node's name in the ledger and the figures.
	Name() string
	// Records is the database; an error says that it cannot be reached now.
	Records() (records.Records, error)
	// Purge writes a purge to the ledger and returns when every live node has applied it,
	// this one first, or has not within a time.
	Purge(ctx context.Context, p tags.Purge, actor, reason string) (tags.Stamp, []records.Applied, error)
	// Changes finds changes of content.
	Changes() *detect.Detector
	// Onward tells caches and services beyond of purges.
	Onward() *onward.Teller
	// Fragments are what applications store.
	Fragments() *fragment.Fragments
	// FragmentWatchers are those who watch what becomes of fragments.
	FragmentWatchers() *watching.Watchers[fragment.Event]
	// ApplyPolicy checks a policy, keeps it as a revision and puts it in force.
	ApplyPolicy(ctx context.Context, source, actor, note string) (records.Revision, error)
	// EditPolicy changes the policy in force, as ApplyPolicy does with a whole one.
	EditPolicy(ctx context.Context, edit func(source string) (string, error), actor, note string) (records.Revision, error)
	// ReadPolicy reads a policy as it would be in force.
	ReadPolicy(source string) (*policy.Policy, error)
	// Revision is the policy in force.
	Revision() records.Revision
	// Switch turns a route, or records.Everything, off or on.
	Switch(ctx context.Context, route string, off bool, actor string) error
	// Pending are the figures that are not in the database yet.
	Pending() meter.Cells
	// TokenFor returns the token of a secret; ok is false if there is none in force.
	TokenFor(secret string) (t records.Token, ok bool)
	// ReloadTokens makes a change of tokens count at once.
	ReloadTokens(ctx context.Context) error
	// Listeners are the counters of the edge's connections and of control's.
	Listeners() (edge, control gate.Figures)
	// Memory says what the resident memory of the process consists of.
	Memory() []resident.Class
	// SaveSizes brings the sizes in the database up to now.
	SaveSizes(ctx context.Context) error
	// Curve is what other sizes of the memory would have saved lately.
	Curve() Curve
	// Primes are the jobs that fill the store before visitors ask.
	Primes() *prime.Primer
	// Others are the other nodes, as far as is known.
	Others(ctx context.Context) []records.Node
	// Status describes the node.
	Status() client.Node
	// Ready says why the node should get no visitors, or nil.
	Ready() error
}

// Edge is what the control side asks of the edge.
type Edge interface {
	// Policy is what is in force; nil: nothing yet.
	Policy() *policy.InForce
	// Explain takes a request to its decision; ok is false before there is a policy.
	Explain(r *http.Request) (ex edge.Explanation, ok bool)
	// Watchers are those who watch requests as they are answered.
	Watchers() *watching.Watchers[edge.Event]
	// Recents are some of the requests that came lately.
	Recents() []edge.Recent
}

// Config is what a control side works with.
type Config struct {
	Node    Node
	Edge    Edge
	Store   *store.Memory
	Barrier *barrier.Barrier
	Meter   *meter.Meter
	Console fs.FS // the built console; nil: none is served
	Log     *slog.Logger
	Now     func() time.Time
	Hosts   []string // names under which it may be reached, beside addresses and localhost
}

// Control serves the control side.
type Control struct {
	node     Node
	edge     Edge
	store    *store.Memory
	barrier  *barrier.Barrier
	meter    *meter.Meter
	log      *slog.Logger
	now      func() time.Time
	sessions sessions
	buffers  sync.Pool // *bytes.Buffer of answers that are gathered
	api      huma.API
	router   chi.Router
	hosts    []string // names under which it may be reached
	stop     sync.Once
	done     chan struct{} // closed when streams must end
	clashes  clashes
}

// New returns the control side of a node.
func New(cfg Config) *Control {
	c := &Control{node: cfg.Node, edge: cfg.Edge, store: cfg.Store, barrier: cfg.Barrier, meter: cfg.Meter, log: cfg.Log, now: cfg.Now, done: make(chan struct{}), hosts: cfg.Hosts}
	c.sessions.open = map[string]session{}
	r := chi.NewRouter()
	r.Use(c.recover, secure, c.ownHost, paced, textual)
	c.router = r
	calls := r.With(compressReads, http.NewCrossOriginProtection().Handler, limitBody)
	c.api = humachi.New(calls, apiConfig())
	c.api.UseMiddleware(c.authorize, c.texts)
	c.fragmentCalls(r) // apart from the others: they are made many times for each page
	c.purgeCalls()
	c.tagCalls()
	c.entryCalls()
	c.primeCalls()
	c.sizeCalls()
	c.markCalls()
	c.onwardCalls()
	c.compareCall()
	c.madeOfCalls()
	c.changeCalls()
	c.reportCalls()
	c.routeCalls()
	c.routeChangeCalls()
	c.explainCalls()
	c.policyCalls()
	c.tokenCalls()
	c.sessionCalls()
	c.nodeCalls()
	c.watchCalls()
	r.Get("/healthz", c.healthz)
	r.Get("/readyz", c.readyz)
	calls.Method(http.MethodGet, "/metrics", c.needs(records.Read, c.metrics()))
	calls.Get("/v1/entries/{id}/body", c.needs(records.Admin, http.HandlerFunc(c.entryBody)).ServeHTTP)
	r.NotFound(compressReads(notFound(cfg.Console)).ServeHTTP)
	r.MethodNotAllowed(c.otherMethod)
	return c
}

// neverNull is a setting of the framework's for the whole process: lists in answers are
// empty, never null.
var neverNull = sync.OnceFunc(func() { huma.DefaultArrayNullable = false })

func apiConfig() huma.Config {
	neverNull()
	config := huma.DefaultConfig("Gerastic control API", "1")
	config.Info.Description = "Purges, figures, decisions and rules of a Gerastic node. Errors are problem details (RFC 9457)."
	config.OpenAPIPath = "/v1/openapi"
	config.DocsPath = ""
	config.SchemasPath = ""
	config.CreateHooks = nil // no $schema member in answers
	config.RejectUnknownQueryParameters = true
	config.Components.SecuritySchemes = map[string]*huma.SecurityScheme{
		"token": {Type: "http", Scheme: "bearer", Description: "A token with the right that the call needs; the console uses a session cookie instead."},
	}
	return config
}

// ServeHTTP makes Control a handler.
func (c *Control) ServeHTTP(w http.ResponseWriter, r *http.Request) { c.router.ServeHTTP(w, r) }

// OpenAPI returns the description of the API as JSON.
func (c *Control) OpenAPI() ([]byte, error) { return c.api.OpenAPI().MarshalJSON() }

// ownHost refuses requests under a name that is not this node's: a page of a stranger's whose
// name leads here would be of the console's own origin. Who asks for health knows only an
// address, whatever it is called.
func (c *Control) ownHost(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path != "/healthz" && r.URL.Path != "/readyz" && !c.isOwn(r.Host) {
			problem(w, http.StatusMisdirectedRequest, fmt.Sprintf("this node is not reached under the name %q; if it should be, start it with --control-hosts NAME", r.Host))
			return
		}
		next.ServeHTTP(w, r)
	})
}

// isOwn reports whether a Host is an address, localhost, or one of the names that were given.
func (c *Control) isOwn(host string) bool {
	name := host
	if before, _, err := net.SplitHostPort(host); err == nil {
		name = before
	}
	name = strings.ToLower(strings.TrimSuffix(strings.Trim(name, "[]"), "."))
	if _, err := netip.ParseAddr(name); err == nil {
		return true
	}
	return name == "localhost" || slices.Contains(c.hosts, name)
}

// limitBody bounds what a caller may send.
func limitBody(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		r.Body = http.MaxBytesReader(w, r.Body, 16<<20)
		next.ServeHTTP(w, r)
	})
}

// compressReads compresses what is read. The answers to orders are short, and many.
func compressReads(next http.Handler) http.Handler {
	compressed := middleware.Compress(5)(next)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method == http.MethodGet {
			compressed.ServeHTTP(w, r)
		} else {
			next.ServeHTTP(w, r)
		}
	})
}

// secure sets what keeps browsers from using the console against its owner.
func secure(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		h := w.Header()
		h.Set("Content-Security-Policy", "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; frame-ancestors 'none'; form-action 'self'; base-uri 'none'")
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("Referrer-Policy", "no-referrer")
		if h.Get("Cache-Control") == "" {
			h.Set("Cache-Control", "no-store")
		}
		next.ServeHTTP(w, r)
	})
}

// recover answers a panic with a problem and writes it to the log.
func (c *Control) recover(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		defer func() {
			if p := recover(); p != nil && p != http.ErrAbortHandler {
				c.log.Error("a control call ended in a panic", "path", r.URL.Path, "panic", p)
				problem(w, http.StatusInternalServerError, "the node failed at this call; its log says more")
			}
		}()
		next.ServeHTTP(w, r)
	})
}

// needs guards a plain handler with a right.
func (c *Control) needs(right records.Right, next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		token, ok := c.tokenOf(r.Header.Get("Authorization"), r.Header.Get("Cookie"))
		switch {
		case !ok:
			w.Header().Set("WWW-Authenticate", `Bearer realm="gerastic"`)
			problem(w, http.StatusUnauthorized, wantToken)
		case !token.May(right):
			problem(w, http.StatusForbidden, lacks(right))
		default:
			next.ServeHTTP(w, r)
		}
	})
}

func problem(w http.ResponseWriter, status int, detail string) {
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(status)
	_ = huma.DefaultFormats["application/json"].Marshal(w, &huma.ErrorModel{Status: status, Title: http.StatusText(status), Detail: detail})
}

// otherMethod answers a call whose path exists, but not for its method (RFC 9110 §15.5.6).
func (c *Control) otherMethod(w http.ResponseWriter, r *http.Request) {
	var allowed []string
	for _, method := range []string{"GET", "HEAD", "POST", "PUT", "PATCH", "DELETE"} {
		if c.router.Match(chi.NewRouteContext(), method, r.URL.Path) {
			allowed = append(allowed, method)
		}
	}
	w.Header().Set("Allow", strings.Join(allowed, ", "))
	problem(w, http.StatusMethodNotAllowed, "this path takes "+strings.Join(allowed, ", ")+", not "+r.Method)
}

func (c *Control) healthz(w http.ResponseWriter, _ *http.Request) {
	w.Header().Set("Content-Type", "text/plain; charset=utf-8")
	_, _ = w.Write([]byte("ok\n"))
}

func (c *Control) readyz(w http.ResponseWriter, _ *http.Request) {
	w.Header().Set("Content-Type", "text/plain; charset=utf-8")
	if err := c.node.Ready(); err != nil {
		w.WriteHeader(http.StatusServiceUnavailable)
		_, _ = w.Write([]byte(err.Error() + "\n"))
		return
	}
	if d := c.node.Status().Degraded; d != "" {
		_, _ = w.Write([]byte("ready, degraded: " + d + "\n"))
		return
	}
	_, _ = w.Write([]byte("ready\n"))
}
