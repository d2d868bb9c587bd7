package key

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"gerastic/internal/core/httprules"
)

func TestCookiesReadAsOriginsReadThem(t *testing.T) {
	for _, c := range []struct {
		name, line, want string
		present          bool
	}{
		{"plain", "a=1; lang=x", "x", true},
		{"blanks before the =", "lang =x", "x", true},
		{"a tab around it", "\tlang\t=x\t", "x", true},
		{"a no-break space belongs to the name", "\u00a0lang=x", "", false},
		{"no = is not a cookie of that name", "lang; a=1", "", false},
		{"an empty value", "lang=", "", true},
		{"several count, in their order", "lang=x; lang=y", "x;y", true},
		{"a value may hold =", "lang=x=y", "x=y", true},
		{"names have a case", "Lang=x", "", false},
	} {
		value, present := CookieValue(httprules.Header{"Cookie": {c.line}}, "lang")
		assert.Equal(t, c.want, value, c.name)
		assert.Equal(t, c.present, present, c.name)
	}
}

// TestWhatIsKeptReadsAsBefore: an origin reads from the cookies that are kept what the key
// holds, and nothing else.
func TestWhatIsKeptReadsAsBefore(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		line := rapid.StringMatching(`([ab ]{0,2}=?[ab=,"]{0,2};? ?){0,5}`).Draw(t, "line")
		h := httprules.Header{"Cookie": {line}}
		kept := httprules.Header{"Cookie": KeepCookies(h["Cookie"], func(name string) bool { return name == "a" })}
		want, present := CookieValue(h, "a")
		got, still := CookieValue(kept, "a")
		assert.Equal(t, want, got)
		assert.Equal(t, present, still)
		assert.LessOrEqual(t, len(CookieNames(kept)), 1)
		spec := Spec{Cookies: []string{"a"}}
		assert.False(t, spec.LeavesCookieOut(kept))
	})
}

// TestPromise6ACookieRepeatedCostsItsLength: 9,000 of one name made a hit take 70 ms.
func TestPromise6ACookieRepeatedCostsItsLength(t *testing.T) {
	took := func(n int) time.Duration {
		h := httprules.Header{"Cookie": {strings.Repeat("lang=xy;", n)}}
		best := time.Hour
		for range 7 {
			began := time.Now()
			CookieValue(h, "lang")
			best = min(best, time.Since(began))
		}
		return best
	}
	few, many := took(1000), took(9000)
	assert.Less(t, many, 40*few, "nine times as many took %v and %v", few, many) // 9 by length, 81 by its square
}

// TestASignedIdentityIsBothOfItsCookies: one without its signature is somebody else, mostly
// nobody.
func TestASignedIdentityIsBothOfItsCookies(t *testing.T) {
	spec := &Spec{Identity: Identity{From: Cookie, Name: "crew"}}
	of := func(line string) string {
		return string(spec.Append(nil, "r", &Request{Method: "GET", Header: httprules.Header{"Cookie": {line}}}))
	}
	assert.NotEqual(t, of("crew=ada"), of("crew=ada; crew.sig=1"))
	assert.NotEqual(t, of("crew=ada; crew.sig=2"), of("crew=ada; crew.sig=1"))
	assert.Equal(t, of("crew=ada; crew.sig=1; a=b"), of("crew.sig=1; crew=ada"))
	assert.Equal(t, of(""), of("crew.sig=1"), "a signature of nothing")
	assert.True(t, spec.HoldsCookie("crew.sig"))
	assert.False(t, spec.HoldsCookie("crew.signature"))
}
