package httprules

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

// lines makes a header of "Name: value" texts.
func lines(texts ...string) Header {
	h := Header{}
	for _, t := range texts {
		for i := range len(t) {
			if t[i] == ':' {
				name := CanonicalName(t[:i])
				h[name] = append(h[name], t[i+2:])
				break
			}
		}
	}
	return h
}

var noon = time.Date(2026, 5, 17, 12, 0, 0, 0, time.UTC)

func TestDirectives(t *testing.T) {
	for _, c := range []struct {
		name string
		head Header
		want func(d *Directives)
	}{
		{"names have no case (§5.2)", lines("Cache-Control: No-Store, MAX-AGE=60"), func(d *Directives) { d.NoStore = true; d.MaxAge = time.Minute }},
		{"several lines are one list", lines("Cache-Control: public", "Cache-Control: max-age=1"), func(d *Directives) { d.Public = true; d.MaxAge = time.Second }},
		{"of duplicates the shorter counts (§4.2.1)", lines("Cache-Control: max-age=60, max-age=5"), func(d *Directives) { d.MaxAge = 5 * time.Second }},
		{"what is not a number is stale at once (§4.2.1)", lines("Cache-Control: max-age=soon"), func(d *Directives) { d.MaxAge = 0 }},
		{"a negative number is none either", lines("Cache-Control: max-age=-1"), func(d *Directives) { d.MaxAge = 0 }},
		{"a quoted number counts (§5.2)", lines(`Cache-Control: s-maxage="30"`), func(d *Directives) { d.SMaxAge = 30 * time.Second }},
		{"a number beyond 2^31 counts as that (§1.2.2)", lines("Cache-Control: max-age=99999999999999999999"), func(d *Directives) { d.MaxAge = maxSeconds * time.Second }},
		{"unknown directives are ignored (§5.2.3)", lines("Cache-Control: x-other=1, no-cache"), func(d *Directives) { d.NoCache = true }},
		{"a directive within a quoted string is none", lines(`Cache-Control: x="no-store, private", max-age=1`), func(d *Directives) { d.MaxAge = time.Second }},
		{"private with fields is narrower (§5.2.2.7)", lines(`Cache-Control: private="Set-Cookie, x-user"`), func(d *Directives) { d.PrivateFields = []string{"Set-Cookie", "X-User"} }},
		{"private with unreadable fields is the stricter form", lines(`Cache-Control: private="@"`), func(d *Directives) { d.Private = true }},
		{"a targeted field replaces the others (RFC 9213 §2.2)", lines("Cache-Control: no-store", "CDN-Cache-Control: max-age=9"), func(d *Directives) { d.MaxAge = 9 * time.Second; d.Targeted = true }},
		{"an unreadable targeted field is ignored (RFC 9213 §2.2)", lines("Cache-Control: no-store", "CDN-Cache-Control: max-age=,"), func(d *Directives) { d.NoStore = true }},
		{"an empty targeted field is ignored (RFC 9213 §2.2)", lines("Cache-Control: no-store", "CDN-Cache-Control: "), func(d *Directives) { d.NoStore = true }},
	} {
		t.Run(c.name, func(t *testing.T) {
			want := noDirectives()
			c.want(&want)
			assert.Equal(t, want, ParseResponseDirectives(c.head))
		})
	}
	assert.True(t, ParseRequestDirectives(lines("Pragma: no-cache")).NoCache, "§5.4")
	assert.False(t, ParseRequestDirectives(lines("Pragma: no-cache", "Cache-Control: max-age=1")).NoCache, "§5.4: Cache-Control goes first")
}

func TestFreshness(t *testing.T) {
	date := "Date: " + FormatDate(noon)
	ours := func(change func(*LifetimeTerms)) LifetimeTerms {
		terms := NoTerms()
		change(&terms)
		return terms
	}
	for _, c := range []struct {
		name   string
		status int
		head   Header
		terms  LifetimeTerms
		life   time.Duration
		source Source
	}{
		{"s-maxage goes before max-age (§4.2.1)", 200, lines("Cache-Control: max-age=1, s-maxage=2"), NoTerms(), 2 * time.Second, FromSMaxAge},
		{"max-age goes before Expires (§4.2.1)", 200, lines(date, "Cache-Control: max-age=1", "Expires: "+FormatDate(noon.Add(time.Hour))), NoTerms(), time.Second, FromMaxAge},
		{"Expires counts from Date (§4.2.1)", 200, lines("Date: "+FormatDate(noon.Add(-time.Minute)), "Expires: "+FormatDate(noon)), NoTerms(), time.Minute, FromExpires},
		{"an invalid Expires is in the past (§5.3)", 200, lines(date, "Expires: 0"), NoTerms(), 0, FromExpires},
		{"Expires that differ are in the past", 200, lines(date, "Expires: "+FormatDate(noon.Add(time.Hour)), "Expires: "+FormatDate(noon.Add(2*time.Hour))), NoTerms(), 0, FromExpires},
		{"a targeted field replaces Expires, too (RFC 9213 §2.2)", 200, lines(date, "CDN-Cache-Control: public", "Expires: "+FormatDate(noon.Add(time.Hour))), NoTerms(), 0, NoSource},
		{"a tenth of the time since the last change (§4.2.2)", 200, lines(date, "Last-Modified: "+FormatDate(noon.Add(-10*time.Hour))), NoTerms(), time.Hour, FromHeuristic},
		{"no guess for a status that is not for guessing (§4.2.2)", 302, lines(date, "Last-Modified: "+FormatDate(noon.Add(-10*time.Hour))), NoTerms(), 0, NoSource},
		{"a silent origin leaves it to the policy", 200, lines(date), ours(func(x *LifetimeTerms) { x.Fresh = time.Hour }), time.Hour, FromPolicy},
		{"the policy's lifetime is not for failures", 500, lines(date), ours(func(x *LifetimeTerms) { x.Fresh = time.Hour }), 0, NoSource},
		{"unless it names the status", 500, lines(date), ours(func(x *LifetimeTerms) { x.ByStatus = map[int]time.Duration{500: time.Second} }), time.Second, FromStatus},
		{"the origin's word goes first", 200, lines("Cache-Control: max-age=1"), ours(func(x *LifetimeTerms) { x.Fresh = time.Hour }), time.Second, FromMaxAge},
		{"unless the policy's is to be taken", 200, lines("Cache-Control: max-age=1"), ours(func(x *LifetimeTerms) { x.Fresh = time.Hour; x.Trust = TrustPolicy }), time.Hour, FromPolicy},
		{"the origin's word is held to a maximum", 200, lines("Cache-Control: max-age=100"), ours(func(x *LifetimeTerms) { x.AtMost = time.Second }), time.Second, FromMaxAge},
		{"and to a minimum", 200, lines("Cache-Control: max-age=1"), ours(func(x *LifetimeTerms) { x.AtLeast = time.Minute }), time.Minute, FromMaxAge},
	} {
		t.Run(c.name, func(t *testing.T) {
			f := FreshnessOf(c.status, c.head, ParseResponseDirectives(c.head), noon, noon, c.terms)
			assert.Equal(t, c.life, f.Lifetime)
			assert.Equal(t, c.source, f.Source)
		})
	}
}

func TestInitialAge(t *testing.T) {
	asked, received := noon, noon.Add(2*time.Second)
	for _, c := range []struct {
		name string
		head Header
		want time.Duration
	}{
		{"an answer from its maker has none", lines("Date: " + FormatDate(noon)), 0},
		{"an old Date shows it (§4.2.3)", lines("Date: " + FormatDate(noon.Add(-time.Minute))), 62 * time.Second},
		{"Age counts with the time that the answer took (§4.2.3)", lines("Date: "+FormatDate(noon), "Age: 10"), 12 * time.Second},
		{"the greater of both", lines("Date: "+FormatDate(noon.Add(-time.Minute)), "Age: 10"), 62 * time.Second},
		{"a clock that is ahead makes no negative age", lines("Date: " + FormatDate(noon.Add(time.Hour))), 0},
		{"of several ages the first counts (§5.1)", lines("Age: 7, 100"), 9 * time.Second},
		{"an age that is not a number is ignored (§5.1)", lines("Age: old"), 0},
	} {
		t.Run(c.name, func(t *testing.T) { assert.Equal(t, c.want, InitialAge(c.head, asked, received)) })
	}
}

func TestMayStore(t *testing.T) {
	storing := func(change func(*Storing), head ...string) Storing {
		s := Storing{Method: "GET", Status: 200, Header: lines(head...), Received: noon, Terms: NoTerms()}
		if change != nil {
			change(&s)
		}
		s.Directives = ParseResponseDirectives(s.Header)
		s.Freshness = FreshnessOf(s.Status, s.Header, s.Directives, noon, noon, s.Terms)
		return s
	}
	forced := func(s *Storing) { s.Terms.Trust, s.Terms.Fresh = TrustForced, time.Hour }
	for _, c := range []struct {
		name string
		s    Storing
		want Reason
	}{
		{"a fresh answer to GET (§3)", storing(nil, "Cache-Control: max-age=1"), OK},
		{"not to POST", storing(func(s *Storing) { s.Method = "POST" }, "Cache-Control: max-age=1"), MethodNotCached},
		{"not an interim one", storing(func(s *Storing) { s.Status = 103 }), StatusNotFinal},
		{"not a part as a whole (§3.3)", storing(func(s *Storing) { s.Status = 206 }, "Cache-Control: max-age=1"), PartialContent},
		{"no-store (§5.2.2.5)", storing(nil, "Cache-Control: no-store, max-age=1"), NoStore},
		{"private (§5.2.2.7)", storing(nil, "Cache-Control: private, max-age=1"), PrivateResponse},
		{"qualified private only names fields (§5.2.2.7)", storing(nil, `Cache-Control: private="X-User", max-age=1`), OK},
		{"must-understand lifts no-store where the status is known (§5.2.2.3)", storing(nil, "Cache-Control: must-understand, no-store, max-age=1"), OK},
		{"and forbids it where it is not", storing(func(s *Storing) { s.Status = 299 }, "Cache-Control: must-understand, max-age=1"), StatusNotUnderstood},
		{"Authorization without leave (§3.5)", storing(func(s *Storing) { s.Authorized = true }, "Cache-Control: max-age=1"), Authorized},
		{"Authorization with public (§3.5)", storing(func(s *Storing) { s.Authorized = true }, "Cache-Control: public, max-age=1"), OK},
		{"Authorization with s-maxage (§3.5)", storing(func(s *Storing) { s.Authorized = true }, "Cache-Control: s-maxage=1"), OK},
		{"Authorization with must-revalidate (§3.5)", storing(func(s *Storing) { s.Authorized = true }, "Cache-Control: must-revalidate, max-age=1"), OK},
		{"Vary: * (§4.1)", storing(nil, "Cache-Control: max-age=1", "Vary: Accept, *"), VaryAll},
		{"a cookie, unless the route strips it", storing(nil, "Cache-Control: max-age=1", "Set-Cookie: a=b"), SetCookie},
		{"nothing gives it a lifetime", storing(nil), NoLifetime},
		{"but a validator makes it worth keeping", storing(nil, `ETag: "a"`), OK},
		{"a status without a lifetime, validator or not (§3)", storing(func(s *Storing) { s.Status = 302 }, `ETag: "a"`), NoLifetime},
		{"public makes any final status storable (§3)", storing(func(s *Storing) { s.Status = 302 }, "Cache-Control: public", `ETag: "a"`), OK},
		{"stale on arrival and nothing to ask with", storing(nil, "Cache-Control: max-age=0"), AlreadyStale},
		{"stale on arrival and something to ask with", storing(nil, "Cache-Control: max-age=0", `ETag: "a"`), OK},
		{"a forced lifetime overrules no-store", storing(forced, "Cache-Control: no-store"), OK},
		{"but never Authorization", storing(func(s *Storing) { forced(s); s.Authorized = true }), Authorized},
		{"nor a cookie", storing(forced, "Set-Cookie: a=b"), SetCookie},
	} {
		t.Run(c.name, func(t *testing.T) { assert.Equal(t, c.want.Name(), MayStore(c.s).Name()) })
	}
	for i := range reasonTexts {
		r := Reason(i)
		assert.NotEmpty(t, r.Name())
		assert.NotEmpty(t, r.Text())
	}
}

func TestVary(t *testing.T) {
	for _, c := range []struct {
		name          string
		vary          string
		first, second Header
		match         bool
	}{
		{"the same", "Accept", lines("Accept: a"), lines("Accept: a"), true},
		{"another", "Accept", lines("Accept: a"), lines("Accept: b"), false},
		{"absent in both (§4.1)", "Accept", lines(), lines(), true},
		{"absent in one (§4.1)", "Accept", lines("Accept: "), lines(), false},
		{"white space around commas does not count (§4.1)", "Accept", lines("Accept: a, b"), lines("Accept: a,b"), true},
		{"one line or two does not count (§4.1)", "Accept", lines("Accept: a", "Accept: b"), lines("Accept: a, b"), true},
		{"white space in quotes counts", "Accept", lines(`Accept: "a, b"`), lines(`Accept: "a,b"`), false},
		{"each of several fields counts", "accept, X-Device", lines("Accept: a", "X-Device: 1"), lines("Accept: a", "X-Device: 2"), false},
		{"a field that it does not name does not", "Accept", lines("Accept: a", "X: 1"), lines("Accept: a", "X: 2"), true},
	} {
		t.Run(c.name, func(t *testing.T) {
			assert.Equal(t, c.match, Matches(VaryingOf(VaryNames(lines("Vary: "+c.vary)), c.first), c.second))
		})
	}
}

func TestValidators(t *testing.T) {
	assert.True(t, Validates(lines(`ETag: "a"`), lines(`ETag: "a"`)), "§4.3.4")
	assert.False(t, Validates(lines(`ETag: "b"`), lines(`ETag: "a"`)), "§4.3.4")
	assert.False(t, Validates(lines(`ETag: "a"`), lines(`ETag: W/"a"`)), "a strong one needs a strong one")
	assert.True(t, Validates(lines(`ETag: W/"a"`), lines(`ETag: "a"`)), "weak ones compare weakly")
	assert.True(t, Validates(lines(), lines(`ETag: "a"`)), "nothing to compare: it was our condition that held")
	fresh := Freshened(lines("X: old", "Content-Length: 5", "Content-Type: text/plain"), lines("X: new", "Content-Length: 0", "Connection: y", "Y: z"))
	assert.Equal(t, lines("X: new", "Content-Length: 5", "Content-Type: text/plain"), fresh, "§3.2")
}

func TestCacheStatusIsAStructuredField(t *testing.T) {
	assert.Equal(t, "gerastic; hit; ttl=-3", CacheStatus{HasTTL: true, TTL: -3}.String())
	assert.Equal(t, `gerastic; fwd=stale; fwd-status=304; stored; collapsed; key="a\"b%C3%B8"`, CacheStatus{Forward: ForwardStale, Status: 304, Stored: true, Collapsed: true, Key: `a"bø`}.String())
}

func TestPlainGroups(t *testing.T) {
	plain, _ := ParsePlainGroups([]string{"a  b,c"}, " ")
	assert.Equal(t, []string{"a", "b,c"}, plain)
}

func TestRanges(t *testing.T) {
	for _, c := range []struct {
		name, field string
		result      RangeResult
		spans       []Span
	}{
		{"from and to are both in (RFC 9110 §14.1.2)", "bytes=0-0", Parts, []Span{{0, 1}}},
		{"an end beyond the body is its end", "bytes=90-1000", Parts, []Span{{90, 10}}},
		{"a suffix longer than the body is all of it", "bytes=-1000", Parts, []Span{{0, 100}}},
		{"a suffix of nothing cannot be satisfied", "bytes=-0", Unsatisfiable, nil},
		{"a start at the end cannot be satisfied", "bytes=100-", Unsatisfiable, nil},
		{"one of several that can be is enough (§14.2)", "bytes=200-, 0-1", Parts, []Span{{0, 2}}},
		{"the order asked for is kept", "bytes=50-51,0-1", Parts, []Span{{50, 2}, {0, 2}}},
		{"a syntax that is none is ignored (§14.2)", "bytes=a-b", Whole, nil},
		{"numbers that do not fit are large", "bytes=0-99999999999999999999", Parts, []Span{{0, 100}}},
		{"units have no case (§14.1)", "BYTES=0-1", Parts, []Span{{0, 2}}},
		{"nothing asked", "bytes=", Whole, nil},
	} {
		t.Run(c.name, func(t *testing.T) {
			result, spans := Ranges(lines("Range: "+c.field), Header{}, 100)
			assert.Equal(t, c.result, result)
			assert.Equal(t, c.spans, spans)
		})
	}
}

func TestAcceptEncoding(t *testing.T) {
	for _, c := range []struct{ name, field, normal, choice string }{
		{"what is not in use is left out", "deflate, gzip, compress", "gzip", "gzip"},
		{"order does not count without weights (RFC 9110 §12.5.3)", "gzip, br", "br, gzip", "br"},
		{"weights do", "br;q=0.1, gzip;q=0.9", "gzip, br;q=0.1", "gzip"},
		{"zero refuses", "gzip;q=0, br", "br", "br"},
		{"a star stands for the others", "*;q=0.5", "br, gzip, zstd", "br"},
		{"a refused star refuses identity", "gzip, *;q=0", "gzip", "gzip"},
		{"an unreadable weight refuses", "gzip;q=x", "", ""},
		{"identity alone", "identity", "", ""},
		{"identity refused", "identity;q=0, gzip", "gzip, identity;q=0", "gzip"},
	} {
		t.Run(c.name, func(t *testing.T) {
			assert.Equal(t, c.normal, NormalEncoding([]string{c.field}))
			assert.EqualValues(t, c.choice, append(RankCodings(lines("Accept-Encoding: "+c.field)), Identity)[0])
		})
	}
}

// TestWhatBrowsersSayIsReadTheSame: the list of usual lines is a short cut and nothing else.
func TestWhatBrowsersSayIsReadTheSame(t *testing.T) {
	for _, u := range usual {
		assert.Equal(t, rankCodings([]string{u.says}), u.ranked, u.says)
	}
}

func TestDatesInAllThreeForms(t *testing.T) {
	for _, s := range []string{"Sun, 06 Nov 1994 08:49:37 GMT", "Sunday, 06-Nov-94 08:49:37 GMT", "Sun Nov  6 08:49:37 1994"} {
		got, ok := ParseDate(s)
		assert.True(t, ok, s)
		assert.Equal(t, time.Date(1994, 11, 6, 8, 49, 37, 0, time.UTC), got)
	}
}

// TestParsersNeverPanic feeds parsers anything, and canonical names their own output.
func TestParsersNeverPanic(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		s := rapid.OneOf(rapid.String(), rapid.StringMatching(`([a-z-]{1,9}(="?[0-9a-zA-Z, \\-]{0,8}"?)?[,; ]{0,2}){0,5}`)).Draw(t, "field")
		h := Header{"Cache-Control": {s}, "Cdn-Cache-Control": {s}, "Vary": {s}, "If-None-Match": {s}, "If-Match": {s}, "Cache-Groups": {s}, "Age": {s}, "Expires": {s}, "Connection": {s}}
		ParseResponseDirectives(h)
		ParseRequestDirectives(h)
		NotModified(h, 200, h, noon)
		FreshnessOf(200, h, ParseResponseDirectives(h), noon, noon, NoTerms())
		name := CanonicalName(s)
		assert.Equal(t, name, CanonicalName(name))
		DropHopByHop(h)
	})
}
