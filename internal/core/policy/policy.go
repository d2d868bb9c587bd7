package policy

import (
	"net/url"
	"regexp"
	"slices"
	"time"

	"gerastic/internal/core/httprules"
	"gerastic/internal/core/key"
	"gerastic/internal/core/tags"
)

// Policy is a compiled policy.
type Policy struct {
	Enabled bool
	Origins []*Origin
	Routes  []*Route
	Writes  []*Write
	Onward  []*Onward
	Changes Changes
	// Warnings are findings that do not stop the policy from being applied.
	Warnings []Problem

	matcher *matcher // nil: the routes are looked through
}

// Origin is an application that answers when the cache cannot.
type Origin struct {
	Name           string
	URLs           []*url.URL // its addresses: scheme, host and, if any, a path put before every request's
	Hosts          []HostPattern
	Connect        time.Duration // limit for the connection to stand
	Answer         time.Duration // limit from the request sent to the answer's head
	Total          time.Duration // limit for a fill; what is only passed on may take longer
	Idle           time.Duration // how long a connection may have rested to be used again; 0: as the origin shows
	MaxConnections int
	Breaker        Breaker
	Check          Check
	// TagHeader names a plain header with tags, for an origin that cannot send
	// structured fields; "" if none.
	TagHeader    string
	TagSeparator string
}

// Breaker rests an address after so many failures in a row; the zero value never does.
type Breaker struct {
	After int
	Retry time.Duration // until one request is let through to try
}

// Check asks each address whether it is well; the zero value does not.
type Check struct {
	Path    string
	Every   time.Duration
	Timeout time.Duration
}

// ObeyVisitor says which request directives of visitors a route obeys.
type ObeyVisitor uint8

// None ignores them, Revalidate lets no-cache lead to a conditional request, All
// obeys max-age, min-fresh and no-store too. only-if-cached always counts.
const (
	ObeyNone ObeyVisitor = iota
	ObeyRevalidate
	ObeyAll
)

// Route is a compiled route: what to do with the requests that it matches.
type Route struct {
	Index   int // place in Policy.Routes
	Name    string
	Within  string // what its includes count under, within pages
	Enabled bool
	Hosts   []HostPattern
	Methods []string
	Path    Paths
	Asks    *Asks // nil: whatever is asked

	// KeyName stands for the route in keys: its name, and a digest of what its stored
	// entries depend on besides the key (tags, whose word counts), so that a policy that
	// changes those does not go on with entries that carry the old ones.
	KeyName string
	// TermsDigest stands for all else that an answer is judged by when it is stored: what was
	// stored under another name is judged anew.
	TermsDigest string
	Key         key.Spec
	Terms       httprules.LifetimeTerms
	Idle        time.Duration           // leave when not asked for this long; Unset: never
	Browser     *httprules.BrowserLives // Cache-Control max-age sent to visitors; nil: the origin's
	Tags        []TagTemplate
	MaxBody     int64 // bytes
	Admit       Admission
	Answer      time.Duration // limit for the answer's head; 0: the origin's
	// Marks say that a visitor is signed in, by the policy's visitors; Shared, that it does
	// not matter on this route.
	Marks  []Mark
	Shared bool
	// Group says how the group of a visitor is known, of whom all share entries; nil: it does not matter.
	Group *VisitorGroup
	// AlsoFields and AlsoCookies reach the origin though the key does not hold them.
	AlsoFields, AlsoCookies []string
	Upgrade                 bool // WebSockets may pass
	Obey                    ObeyVisitor
	// RefreshEarly lets an entry be renewed before its end, the likelier the nearer it is.
	RefreshEarly bool
	Compare      Compare
	Compose      bool // its pages are skeletons, whose includes are filled in
	Compress     Compression
	// Release is the field of answers that names the application's release; "": none does.
	Release string
	// Warm says what is filled before visitors ask again; nil: nothing is.
	Warm *Warm
	// Untagged leaves answers without an ETag as they came.
	Untagged bool
}

// Admission says what is stored: what is asked for so many times within a span of time. 0 and 1: the
// first time.
type Admission struct {
	After  int
	Within time.Duration
	AtMost int64 // bytes of memory that all together may take; 0: as much as there is
}

// Compression says when stored answers get their coded forms.
type Compression uint8

// CompressOnDemand: when a visitor would like one. CompressAtStore: all when the answer is stored.
const (
	CompressOnDemand Compression = iota
	CompressAtStore
	CompressOff
	CompressAll // as on demand, and what only passes as it comes
)

// Compare asks the origin for a share of hits again, out of the visitor's sight, and
// compares; the zero value does not.
type Compare struct {
	Share     float64 // of hits, 0…1
	PerSecond float64 // at most
	Ignore    []*regexp.Regexp
}

// Defaults of what a policy leaves out.
const (
	DefaultConnect        = time.Second
	DefaultAnswer         = time.Minute
	DefaultTotal          = 5 * time.Minute
	DefaultMaxConnections = 128
	DefaultMaxBody        = 8 << 20
	DefaultAdmitWithin    = time.Hour
	// Forever is the lifetime of what only a purge ends.
	Forever = 100 * 365 * 24 * time.Hour
)

// OriginFor returns the first origin that answers a host, or nil.
func (p *Policy) OriginFor(host string) *Origin {
	for _, o := range p.Origins {
		if anyHost(o.Hosts, host) {
			return o
		}
	}
	return nil
}

// Match returns the first route that caches the request, or nil. A path that the origin
// may read as another matches none.
func (p *Policy) Match(method, host, path string) *Route {
	return p.match(method, host, path, func(*Route) bool { return true })
}

// MatchAsking is Match for a request that asks something; nil: it cannot be told what.
func (p *Policy) MatchAsking(method, host, path string, q *key.Question) *Route {
	return p.match(method, host, path, func(route *Route) bool { return route.Asks.Fits(q) })
}

func (p *Policy) match(method, host, path string, fits func(*Route) bool) *Route {
	if p.matcher != nil {
		return p.matcher.first(p.Routes, method, host, path, fits)
	}
	for _, route := range p.Routes {
		if route.Mismatch(method, host, path) == Matches && fits(route) {
			return route
		}
	}
	return nil
}

// Has reports whether there is a route of a name.
func (p *Policy) Has(name string) bool {
	return slices.ContainsFunc(p.Routes, func(r *Route) bool { return r.Name == name })
}

// Covering returns the routes whose hosts and path match, whatever their methods: a
// URL may be stored under any of them. host "" means any host.
func (p *Policy) Covering(host, path string) []*Route {
	if key.Climbs(path) {
		return nil
	}
	var covering []*Route
	for _, route := range p.Routes {
		if (host == "" || anyHost(route.Hosts, host)) && route.Path.Match(path) {
			covering = append(covering, route)
		}
	}
	return covering
}

// Mismatch is why a route does not match a request.
type Mismatch uint8

// Matches, or the first thing that differs.
const (
	Matches Mismatch = iota
	OtherHost
	OtherPath
	OtherMethod
	ClimbingPath
)

// String says it to a person.
func (m Mismatch) String() string {
	return [...]string{"it matches", "the host differs", "the path differs", "the method is not among its methods", "the path has segments of dots, so that the origin may read it as another; no route caches that"}[m]
}

// Mismatch compares a request with the route.
func (route *Route) Mismatch(method, host, path string) Mismatch {
	if !anyHost(route.Hosts, host) {
		return OtherHost
	}
	if !route.Path.Match(path) {
		return OtherPath
	}
	if key.Climbs(path) {
		return ClimbingPath
	}
	if slices.Contains(route.Methods, method) {
		return Matches
	}
	return OtherMethod
}

// TagsOf fills the route's tag templates for a request.
func (route *Route) TagsOf(r *key.Request) []string {
	var filled []string
	for _, t := range route.Tags {
		tags, _ := t.fill(&filling{request: r, query: &route.Key.Query, paths: route.Path, body: &Message{r.Content}})
		filled = append(filled, tags...)
	}
	return filled
}

// Limit is how long an origin may take for the head of an answer on this route, which may be
// nil.
func (route *Route) Limit(o *Origin) time.Duration {
	if route != nil && route.Answer > 0 {
		return route.Answer
	}
	return o.Answer
}

// URL is a URL as somebody writes it.
type URL struct {
	Host     string // "" means any
	Path     string
	Query    string
	AnyQuery bool // whatever its query
}

// URLForms returns how a URL's entries are named, in the form that equivalent URLs share:
// its query as each route that covers it takes it into the key. Empty when no route covers the
// URL, so that nothing can be stored for it.
func (p *Policy) URLForms(u URL) []tags.URL {
	var forms []tags.URL
	path := key.EquivalentPath(u.Path)
	for _, route := range p.Covering(u.Host, path) {
		form := tags.URL{Host: u.Host, AnyHost: u.Host == "", Path: path, AnyQuery: u.AnyQuery}
		if !u.AnyQuery {
			form.Query, _ = route.Key.Query.Canonical(u.Query, u.Query != "")
			form.Query = key.Equivalent(form.Query)
		}
		if !slices.Contains(forms, form) {
			forms = append(forms, form)
		}
	}
	return forms
}
