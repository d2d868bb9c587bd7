package httprules

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

func TestNamesInAnySpelling(t *testing.T) {
	for name, want := range map[string]struct{ credential, steering bool }{
		"Authorization": {true, false}, "X-Auth-User": {true, false}, "X-Csrf-Token": {true, false}, "X_SESSION_ID": {true, false}, "Client-Secret": {true, false},
		"X-Api-Key": {true, false}, "X_Api_Key": {true, false}, "ApiKey": {true, false}, "Sessionid": {true, false},
		"Proxy-Authorization": {false, false}, "Idempotency-Key": {false, false}, "Accept": {false, false}, "X-Sess": {false, false}, "": {false, false},
		"X-Http-Method-Override": {false, true}, "X_HTTP_METHOD": {false, true}, "X-Original-Url": {false, true}, "Rewrite": {false, true}, "X-Forwarded-Prefix": {false, true}, "Forwarded": {false, true},
		"X-Host": {false, true}, "X-Base_Uri": {false, true}, "Front-End-Scheme": {false, true}, "Host": {false, false}, "Hostname": {false, false}, "X-Curl": {false, false},
	} {
		assert.Equal(t, want.credential, Credential(name), "%s carries a credential", name)
		assert.Equal(t, want.steering, Steering(name), "%s steers", name)
	}
}

func TestWhatOfControlGoesOn(t *testing.T) {
	for line, want := range map[string]struct{ forwarded, known string }{
		"no-cache, max-age=0":             {"no-cache, max-age=0", "no-cache, max-age=0"},
		"Max-Stale, only-if-cached":       {"Max-Stale", "Max-Stale"},
		`a="b, c",  ONLY-IF-CACHED`:       {`a="b, c"`, ""},
		`max-age="60", max-age=soon, x=1`: {`max-age="60", max-age=soon, x=1`, "max-age=60"},
		"only-if-cached":                  {"", ""},
	} {
		joined := func(lines []string) string { return Header{"X": lines}.Joined("X") }
		assert.Equal(t, want.forwarded, joined(ForwardedControl([]string{line})), line)
		assert.Equal(t, want.known, joined(KnownControl([]string{line})), line)
	}
	assert.Empty(t, KnownControl(nil))
}

func TestWhoAcceptsACoding(t *testing.T) {
	for _, c := range []struct {
		accept, encoding string
		want             bool
	}{
		{"", "", true}, {"", "gzip", false}, {"gzip", "gzip", true}, {"GZIP", "x-gzip", true}, {"x-gzip", "gzip", true}, {"gzip;q=0", "gzip", false}, {"*", "br", true}, {"*;q=0, gzip", "br", false},
		{"br", "gzip", false}, {"br, gzip", "gzip, br", true}, {"br", "gzip, br", false}, {"identity", "identity", true},
	} {
		h := Header{}
		if c.accept != "" {
			h["Accept-Encoding"] = []string{c.accept}
		}
		assert.Equal(t, c.want, Accepts(h, EncodingsOf(Header{"Content-Encoding": {c.encoding}})), "%q of %q", c.encoding, c.accept)
	}
}

func TestBrowserControl(t *testing.T) {
	for _, c := range []struct {
		origin   string
		personal bool
		want     string
	}{
		{"", false, "max-age=70"}, {"public, s-maxage=9", false, "max-age=70"}, {"private, no-transform", false, "private, max-age=70, no-transform"}, {"max-age=1", true, "private, max-age=70"},
		{`private="X-A, x-b"`, false, `max-age=70, private="X-A, X-B"`},
	} {
		assert.Equal(t, c.want, BrowserControl(lines("Cache-Control: "+c.origin), c.personal, time.Minute, 10*time.Second))
	}
}

func TestTermsOfStatuses(t *testing.T) {
	by := ByStatus{404: time.Second, 4: time.Minute, AnyStatus: time.Hour}
	for status, want := range map[int]time.Duration{404: time.Second, 403: time.Minute, 500: time.Hour, 302: time.Hour, 200: Unset, 301: Unset} {
		life, ok := by.Of(status)
		if !ok {
			life = Unset
		}
		assert.Equal(t, want, life, "%d", status)
	}
	plain, named := NoTerms(), NoTerms()
	named.FailedOn = []int{429}
	for _, status := range []int{429, 500, 503} {
		assert.Equal(t, status != 429, plain.Failed(status))
		assert.Equal(t, status == 429, named.Failed(status))
	}
	for name, change := range map[string]func(*LifetimeTerms){"fresh": func(x *LifetimeTerms) { x.Fresh = 0 }, "policy": func(x *LifetimeTerms) { x.Trust = TrustPolicy }, "200": func(x *LifetimeTerms) { x.ByStatus = ByStatus{200: 0} }} {
		stated := NoTerms()
		change(&stated)
		assert.True(t, stated.States(), name)
	}
	unstated := NoTerms()
	unstated.ByStatus, unstated.AtLeast, unstated.StaleIfError = ByStatus{404: 0, AnyStatus: 0}, time.Hour, time.Hour
	assert.False(t, unstated.States())
}
