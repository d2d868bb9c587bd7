package fetch

import (
	"bytes"
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"io"
	"math/rand/v2"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"gerastic/internal/core/httprules"
	"gerastic/internal/core/key"
	"gerastic/internal/core/outbound"
	"gerastic/internal/core/policy"
	"gerastic/internal/core/store"
	"gerastic/internal/core/tags"
	"gerastic/internal/origin"
)

// Finding is a hit whose answer was not what the origin would have given.
type Finding struct {
	At        time.Time
	Route     string
	URL       string // as the visitor asked
	Key       string
	Kind      string // "key": something that the key leaves out matters; "changed": the content did
	Stored    string // digests, as far as the route does not ignore
	Origin    string
	Separator string // what separates the answers: "cookie currency", "parameter ref", "header User-Agent"
}

// comparer asks the origin again for a share of hits, out of the visitor's sight. It is
// bounded: so many requests a second for a route, one comparison of a key at a time and
// none for a while after a finding.
type comparer struct {
	mu      sync.Mutex
	buckets map[string]*bucket
	quiet   memo[time.Time] // keys with a finding, and until when
}

// bucket holds what a route may still ask this second.
type bucket struct {
	tokens float64
	at     time.Time
}

// quietTime is for how long a key with a finding is not compared again.
const quietTime = 10 * time.Minute

// maxProbes bounds the requests that look for what separates two answers.
const maxProbes = 16

// maxCompared is the largest body that is compared, in bytes.
const maxCompared = 4 << 20

// take allows one request, if the route may still ask.
func (c *comparer) take(route string, perSecond float64, now time.Time) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.buckets == nil {
		c.buckets = map[string]*bucket{}
	}
	b := c.buckets[route]
	if b == nil {
		b = &bucket{tokens: perSecond, at: now}
		c.buckets[route] = b
	}
	b.tokens = min(perSecond, b.tokens+now.Sub(b.at).Seconds()*perSecond)
	b.at = now
	if b.tokens < 1 {
		return false
	}
	b.tokens--
	return true
}

// Compares reports whether a hit is among those that are to be compared, and may be now.
func (f *Fetcher) Compares(entry *store.Entry, route *policy.Route, now time.Time) bool {
	c := route.Compare
	if c.Share <= 0 || rand.Float64() >= c.Share || f.Found == nil {
		return false
	}
	until, quiet := f.comparer.quiet.of(entry.Key)
	return !(quiet && now.Before(until)) && f.comparer.take(route.Name, c.PerSecond, now)
}

// Compare asks again for a hit, behind its visitor.
func (f *Fetcher) Compare(entry *store.Entry, h Hit) {
	second := &comparison{fetcher: f, route: h.Route, client: h.Way, limit: h.Route.Limit(h.Way.Origin), entry: entry, url: h.URL, request: h.Visitor, sent: h.Sent}
	second.request.Header = h.Visitor.Header.Clone()
	second.sent.Request = &second.request
	f.Tasks.Go(second.run)
}

// Hit is a request that was answered from the store.
type Hit struct {
	Route   *policy.Route
	Way     *origin.Client
	Visitor key.Request
	Sent    outbound.Request
	URL     *url.URL
}

// comparison is one hit asked again.
type comparison struct {
	fetcher *Fetcher
	route   *policy.Route
	client  *origin.Client
	limit   time.Duration
	entry   *store.Entry
	url     *url.URL
	request key.Request
	sent    outbound.Request
}

// Part is something of a request that the key leaves out.
type Part struct {
	Kind string // parameter, cookie or header
	Name string
}

func (p Part) String() string { return p.Kind + " " + p.Name }

func (c *comparison) run() {
	f := c.fetcher
	unkeyed := c.unkeyed()
	stored := c.digest(c.entry.Status, c.entry.Body)
	asVisitor, ok := c.ask(unkeyed)
	if !ok || asVisitor == stored || c.entry.Judge(f.Barrier.Marks) != tags.Alive {
		return // the same, or purged meanwhile
	}
	found := Finding{At: f.Now(), Route: c.route.Name, URL: c.request.Scheme + "://" + c.request.Host + c.url.RequestURI(), Key: key.Text(key.Parts(c.entry.Key)),
		Kind: "changed", Stored: stored, Origin: asVisitor}
	if !c.wait() {
		return
	}
	if plain, ok := c.ask(nil); ok && plain != asVisitor {
		found.Kind = "key"
		found.Separator = c.separator(unkeyed, asVisitor)
	}
	f.comparer.quiet.remember(c.entry.Key, f.Now().Add(quietTime))
	f.Found(found)
}

// separator looks for the one part that alone makes the origin answer as it does to the
// visitor.
func (c *comparison) separator(unkeyed []Part, asVisitor string) string {
	for i, p := range unkeyed {
		if i == maxProbes || !c.wait() {
			break
		}
		if digest, ok := c.ask([]Part{p}); ok && digest == asVisitor {
			return p.String()
		}
	}
	return "several together"
}

// wait until the route may ask once more: every request counts against its rate. It
// reports false when the edge ends.
func (c *comparison) wait() bool {
	for !c.fetcher.comparer.take(c.route.Name, c.route.Compare.PerSecond, c.fetcher.Now()) {
		select {
		case <-c.fetcher.Tasks.Life().Done():
			return false
		case <-time.After(20 * time.Millisecond):
		}
	}
	return true
}

// unkeyed lists what of the visitor's request the key and Vary leave out.
func (c *comparison) unkeyed() []Part {
	var parts []Part
	canonical, _ := c.route.Key.Query.Canonical(c.request.Query, c.request.HasQuery)
	kept, _ := url.ParseQuery(canonical)
	asked, _ := url.ParseQuery(c.request.Query)
	for name := range asked {
		if !kept.Has(name) {
			parts = append(parts, Part{"parameter", name})
		}
	}
	for _, name := range key.CookieNames(c.request.Header) {
		if name != "" && !c.route.Key.HoldsCookie(name) {
			parts = append(parts, Part{"cookie", name})
		}
	}
	for name := range c.sent.Whole() {
		varies := slices.ContainsFunc(c.entry.Vary, func(v httprules.Varying) bool { return v.Name == name })
		if name == "Cookie" || name == "Cache-Control" || name == "Pragma" || varies || c.route.Key.HoldsField(name) || strings.HasPrefix(name, "X-Forwarded-") || name == "Forwarded" || name == "Via" || name == "Accept-Encoding" {
			continue
		}
		parts = append(parts, Part{"header", name})
	}
	slices.SortFunc(parts, func(a, b Part) int {
		return cmp.Or(strings.Compare(b.Kind, a.Kind), strings.Compare(a.Name, b.Name)) // parameters, headers, cookies
	})
	return parts
}

// ask asks the origin with the key's parts and those given besides.
func (c *comparison) ask(besides []Part) (digest string, ok bool) {
	ctx, cancel := context.WithTimeout(c.fetcher.Tasks.Life(), c.client.Origin.Total)
	defer cancel()
	canonical, has := c.route.Key.Query.Canonical(c.request.Query, c.request.HasQuery)
	header := c.header(besides)
	for pair := range strings.SplitSeq(c.request.Query, "&") {
		name, _, _ := strings.Cut(pair, "=")
		if decoded, err := url.QueryUnescape(name); err == nil && slices.Contains(besides, Part{"parameter", decoded}) {
			canonical, has = strings.TrimPrefix(canonical+"&"+pair, "&"), true
		}
	}
	r := (&http.Request{Method: http.MethodGet, URL: c.client.Target(c.url, origin.Query{Text: canonical, Present: has}), Host: c.request.Host, Header: header, Proto: "HTTP/1.1", ProtoMajor: 1, ProtoMinor: 1}).WithContext(ctx)
	resp, err := c.client.Do(r, c.limit)
	if err != nil {
		return "", false
	}
	defer resp.Body.Close()
	body, err := io.ReadAll(io.LimitReader(resp.Body, maxCompared))
	if err != nil || resp.StatusCode >= 500 || resp.Header.Get("Content-Encoding") != strings.Join(c.entry.Header["Content-Encoding"], "") {
		return "", false
	}
	return c.digest(resp.StatusCode, body), true
}

// header is what a fill for the entry would send, and of what the key leaves out only those
// parts that are given besides.
func (c *comparison) header(besides []Part) http.Header {
	var varied []string
	for _, v := range c.entry.Vary {
		varied = append(varied, v.Name)
	}
	header, whole, all := c.sent.Fill(varied), c.sent.Whole(), c.unkeyed()
	for _, p := range all {
		switch {
		case p.Kind != "header":
		case slices.Contains(besides, p):
			header[p.Name] = whole[p.Name]
		case !c.route.Withholds(p.Name): // what is withheld is not there, or reads alike for all
			delete(header, p.Name)
		}
	}
	delete(header, "Cookie")
	delete(header, "Cache-Control")
	delete(header, "Pragma")
	delete(header, "Accept-Encoding") // codings are not a difference
	cookies := key.KeepCookies(c.request.Header["Cookie"], func(name string) bool {
		p := Part{"cookie", name}
		return !slices.Contains(all, p) || slices.Contains(besides, p)
	})
	if cookies != nil {
		header["Cookie"] = cookies
	}
	return http.Header(header)
}

// digest is of the status and of the body without what the route ignores.
func (c *comparison) digest(status int, body []byte) string {
	body = body[:min(len(body), maxCompared)]
	for _, ignored := range c.route.Compare.Ignore {
		body = ignored.ReplaceAll(body, nil)
	}
	sum := sha256.Sum256(append([]byte{byte(status >> 8), byte(status)}, bytes.TrimSpace(body)...))
	return hex.EncodeToString(sum[:8])
}
