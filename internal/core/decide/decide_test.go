package decide

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"gerastic/internal/core/httprules"
	"gerastic/internal/core/meter"
	"gerastic/internal/core/policy"
	"gerastic/internal/core/store"
	"gerastic/internal/core/tags"
)

var noon = time.Date(2026, 5, 17, 12, 0, 0, 0, time.UTC)

// TestDecisions: one row a situation.
func TestDecisions(t *testing.T) {
	entry := func(age time.Duration, change func(*store.Entry)) *store.Entry {
		e := &store.Entry{Idle: httprules.Unset, Header: httprules.Header{"Etag": {`"a"`}}, Freshness: httprules.Freshness{Born: noon.Add(-age), Lifetime: time.Minute, Source: httprules.FromMaxAge}}
		e.Touch(noon.Add(-age))
		if change != nil {
			change(e)
		}
		return e
	}
	swr := func(e *store.Entry) { e.Freshness.StaleWhileRevalidate = time.Minute }
	visitor := func(cacheControl string) httprules.Directives {
		return httprules.ParseRequestDirectives(httprules.Header{"Cache-Control": {cacheControl}})
	}
	for _, c := range []struct {
		name   string
		change func(in *Input)
		action Action
		cause  meter.Cause
		says   string
	}{
		{"no route", func(in *Input) { in.Route, in.Reason = nil, meter.Route }, Bypass, meter.Route, "No route of the policy matches"},
		{"no method", func(in *Input) { in.Route, in.Reason = nil, meter.Method }, Bypass, meter.Method, "does not cache this method"},
		{"switched off", func(in *Input) { in.Enabled = false; in.Entry = entry(0, nil) }, Bypass, meter.Off, "switched off"},
		{"signed in", func(in *Input) { in.SignedIn = "cookie session"; in.Entry = entry(0, nil) }, Bypass, meter.SignedIn, "carries cookie session, which says that its visitor is signed in"},
		{"signed in, and only for a stored answer", func(in *Input) {
			in.SignedIn, in.Visitor = "cookie session", visitor("only-if-cached")
		}, Refuse, meter.SignedIn, "signed in"},
		{"nobody where a name is needed", func(in *Input) { in.Nameless = true }, Bypass, meter.Nameless, "key.identity, required"},
		{"authorized, and what is stored is not for them", func(in *Input) { in.Authorized = true; in.Entry = entry(0, nil) }, Fetch, meter.SignedIn, "RFC 9111 §3.5"},
		{"authorized, and what is stored is for them", func(in *Input) {
			in.Authorized, in.Entry = true, entry(0, func(e *store.Entry) { e.ForAuthorized = true })
		}, Serve, meter.NoCause, "fresh"},
		{"nothing stored", func(*Input) {}, Fetch, meter.Cold, "Nothing is stored"},
		{"other variants stored", func(in *Input) { in.Variants = 2 }, Fetch, meter.Variant, "2 variants"},
		{"evicted before", func(in *Input) { in.Removed = meter.Evicted }, Fetch, meter.Evicted, "make room"},
		{"purged before", func(in *Input) { in.Removed = meter.Purged }, Fetch, meter.Purged, "was purged"},
		{"fresh", func(in *Input) { in.Entry = entry(20*time.Second, nil) }, Serve, meter.NoCause, "20s old; its lifetime is 1m (from max-age), so it is fresh for another 40s"},
		{"at the end of its life", func(in *Input) { in.Entry = entry(time.Minute, nil) }, Validate, meter.Expired, "stale for 0s"},
		{"stale", func(in *Input) { in.Entry = entry(90*time.Second, nil) }, Validate, meter.Expired, "stale for 30s"},
		{"stale within its window", func(in *Input) { in.Entry = entry(90*time.Second, swr) }, ServeAndRefresh, meter.Expired, "RFC 5861"},
		{"stale beyond its window", func(in *Input) { in.Entry = entry(120*time.Second, swr) }, Validate, meter.Expired, ""},
		{"stale within a window that must-revalidate closes", func(in *Input) {
			in.Entry = entry(90*time.Second, func(e *store.Entry) { swr(e); e.Freshness.NeverStale = true })
		}, Validate, meter.Expired, ""},
		{"no-cache", func(in *Input) {
			in.Entry = entry(0, func(e *store.Entry) { swr(e); e.Freshness.MustAsk = true })
		}, Validate, meter.Expired, "no-cache"},
		{"dropped", func(in *Input) { in.Entry = entry(0, nil); in.Verdict = tags.Dropped }, Fetch, meter.Purged, "never used again"},
		{"softened", func(in *Input) { in.Entry = entry(0, nil); in.Verdict = tags.Softened }, Validate, meter.Purged, "marked it stale"},
		{"softened, with a window", func(in *Input) { in.Entry = entry(0, swr); in.Verdict = tags.Softened }, ServeAndRefresh, meter.Purged, ""},
		{"idle for too long", func(in *Input) {
			in.Entry = entry(30*time.Second, func(e *store.Entry) { e.Idle = 10 * time.Second })
		}, Fetch, meter.Expired, ""},
		{"the visitor asks again", func(in *Input) { in.Entry = entry(0, nil); in.Visitor = visitor("no-cache") }, Validate, meter.Asked, "obey_visitor"},
		{"and is not obeyed", func(in *Input) {
			in.Entry, in.Visitor, in.Route.Obey = entry(0, nil), visitor("no-cache"), policy.ObeyNone
		}, Serve, meter.NoCause, ""},
		{"the visitor's max-age is not obeyed by default", func(in *Input) { in.Entry = entry(20*time.Second, nil); in.Visitor = visitor("max-age=5") }, Serve, meter.NoCause, ""},
		{"but where all is", func(in *Input) {
			in.Entry, in.Visitor, in.Route.Obey = entry(20*time.Second, nil), visitor("max-age=5"), policy.ObeyAll
		}, Validate, meter.Asked, ""},
		{"min-fresh likewise", func(in *Input) {
			in.Entry, in.Visitor, in.Route.Obey = entry(20*time.Second, nil), visitor("min-fresh=50"), policy.ObeyAll
		}, Validate, meter.Asked, ""},
		{"only-if-cached with something fresh", func(in *Input) { in.Entry = entry(0, nil); in.Visitor = visitor("only-if-cached") }, Serve, meter.NoCause, ""},
		{"only-if-cached with nothing", func(in *Input) { in.Visitor = visitor("only-if-cached") }, Refuse, meter.Cold, "504"},
	} {
		t.Run(c.name, func(t *testing.T) {
			in := Input{Route: &policy.Route{Name: "r", Obey: policy.ObeyRevalidate}, Enabled: true, Visitor: visitor("x"), Now: noon}
			c.change(&in)
			d := Of(&in)
			assert.Equal(t, c.action.String(), d.Action.String())
			assert.Equal(t, c.cause.String(), d.Cause.String())
			assert.Equal(t, d.Action == Serve, d.Forward == httprules.NotForwarded, "a hit is not forwarded, all else is")
			assert.Contains(t, strings.Join(Why(&in, d), " "), c.says)
		})
	}
}

// TestEarlyRefreshGrowsLikelierTowardsTheEnd: the share of requests that refresh.
func TestEarlyRefreshGrowsLikelierTowardsTheEnd(t *testing.T) {
	share := func(age time.Duration) float64 {
		e := &store.Entry{Idle: httprules.Unset, Freshness: httprules.Freshness{Born: noon.Add(-age), Lifetime: time.Minute}}
		e.Filled(nil, time.Second)
		early := 0
		for i := range 1000 {
			in := Input{Route: &policy.Route{}, Enabled: true, Entry: e, Now: noon, Visitor: httprules.ParseRequestDirectives(nil), Random: (float64(i) + 0.5) / 1000}
			if d := Of(&in); d.Action == ServeAndRefresh {
				early++
				assert.Equal(t, meter.NoCause, d.Cause, "it is a hit all the same")
			}
		}
		return float64(early) / 1000
	}
	assert.Zero(t, share(30*time.Second))
	assert.InDelta(t, 0.05, share(57*time.Second), 0.01) // e^-3
	assert.InDelta(t, 0.37, share(59*time.Second), 0.01) // e^-1
}

func TestOnError(t *testing.T) {
	for name, row := range map[string]struct {
		age, window time.Duration
		verdict     tags.Verdict
		lost, never bool
		may         bool
	}{
		"what is fresh":                          {30 * time.Second, 0, tags.Alive, false, false, true},
		"stale, within the window":               {30 * time.Minute, time.Hour, tags.Alive, false, false, true},
		"stale, beyond it":                       {2 * time.Hour, time.Hour, tags.Alive, false, false, false},
		"stale, without one":                     {2 * time.Minute, 0, tags.Alive, false, false, false},
		"marked stale by a purge, with a window": {30 * time.Second, time.Hour, tags.Softened, false, false, true},
		"marked stale, without one":              {30 * time.Second, 0, tags.Softened, false, false, false},
		"the ledger is lost, with a window":      {30 * time.Second, time.Hour, tags.Alive, true, false, true},
		"the ledger is lost, without one":        {30 * time.Second, 0, tags.Alive, true, false, false},
		"purged":                                 {30 * time.Second, time.Hour, tags.Dropped, false, false, false},
		"must-revalidate":                        {30 * time.Minute, time.Hour, tags.Alive, false, true, false},
	} {
		in := Input{Verdict: row.verdict, Lost: row.lost, Entry: &store.Entry{Freshness: httprules.Freshness{Born: noon, Lifetime: time.Minute, StaleIfError: row.window, NeverStale: row.never}}}
		assert.Equal(t, row.may, OnError(&in, noon.Add(row.age)), name)
	}
	assert.False(t, OnError(&Input{}, noon))
}
