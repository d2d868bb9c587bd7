package edge

import (
	"crypto/sha256"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// teller is an application that puts all that it was told into its pages, and changes its
// mind about what it says of them.
type teller struct {
	mu      sync.Mutex
	control string
	vary    string
	cookie  bool // each answer sets one
	tag     bool
	status  int
}

func (o *teller) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	o.mu.Lock()
	control, vary, cookie, tag, status := o.control, o.vary, o.cookie, o.tag, o.status
	o.mu.Unlock()
	told := fmt.Sprintf("cookie %s, who %s, language %s, token %s", r.Header.Get("Cookie"), r.Header.Get("X-Who"), r.Header.Get("Accept-Language"), r.Header.Get("X-Token"))
	h := w.Header()
	if control != "" {
		h.Set("Cache-Control", control)
	}
	if vary != "" {
		h.Set("Vary", vary)
	}
	if cookie {
		h.Set("Set-Cookie", "seen="+strings.TrimPrefix(r.Header.Get("Cookie"), "id="))
	}
	if tag && status == 200 {
		etag := fmt.Sprintf(`"%x"`, sha256.Sum256([]byte(told)))
		h.Set("Etag", etag)
		if r.Header.Get("If-None-Match") == etag {
			w.WriteHeader(http.StatusNotModified)
			return
		}
	}
	time.Sleep(time.Millisecond) // so that visitors meet
	w.WriteHeader(status)
	fmt.Fprint(w, told)
}

// TestPromise1NobodySeesWhatAnotherSent drives the edge with random visitors, who ask at
// once, and an application that puts all it knows into its pages: nothing that one of them
// sent is in a page of another's. (Where the origin decides, it never gives one a life here.)
func TestPromise1NobodySeesWhatAnotherSent(t *testing.T) {
	s := newRigOf(t, statedYAML, nil)
	o := &teller{}
	s.answer(o.ServeHTTP)
	round := 0
	rapid.Check(t, func(rt *rapid.T) {
		round++
		paths := []string{fmt.Sprintf("/pages/%d", round), fmt.Sprintf("/forced/%d", round), fmt.Sprintf("/free/%d", round)}
		for range rapid.IntRange(5, 15).Draw(rt, "steps") {
			path := rapid.SampledFrom(paths).Draw(rt, "path")
			controls := []string{"", "no-cache", "max-age=0", "private, max-age=60", "no-store"}
			if !strings.HasPrefix(path, "/free/") { // there the application's word is for it to share or not
				controls = append(controls, "max-age=60", "public")
			}
			control := rapid.SampledFrom(controls).Draw(rt, "control")
			vary := rapid.SampledFrom([]string{"", "", "", "X-Who", "Cookie", "Accept-Language, X-Who"}).Draw(rt, "vary")
			cookie, tag := rapid.IntRange(0, 4).Draw(rt, "cookie") == 0, rapid.IntRange(0, 3).Draw(rt, "tag") > 0
			status := rapid.SampledFrom([]int{200, 200, 200, 200, 200, 200, 404, 302, 403, 503}).Draw(rt, "status")
			o.mu.Lock()
			o.control, o.vary, o.cookie, o.tag, o.status = control, vary, cookie, tag, status
			o.mu.Unlock()
			if rapid.IntRange(0, 3).Draw(rt, "pause") == 0 {
				s.pass(time.Duration(rapid.IntRange(1, 700).Draw(rt, "seconds")) * time.Second)
			}
			tokens := rapid.IntRange(0, 4).Draw(rt, "tokens") == 0
			var wg sync.WaitGroup
			for _, who := range []string{"ada", "bo", "cy"} {
				r := httptest.NewRequest("GET", "http://h"+path, nil)
				r.Header = http.Header{"Cookie": {"id=" + who}, "X-Who": {who}, "Accept-Language": {who}}
				if tokens {
					r.Header.Set("X-Token", who)
				}
				wg.Go(func() {
					w := httptest.NewRecorder()
					s.edge.ServeHTTP(w, r)
					for _, other := range []string{"ada", "bo", "cy"} {
						if other != who {
							assert.NotContains(rt, w.Body.String(), other, "%s of %s, %q: %s", path, who, control, w.Header().Get("Cache-Status"))
							assert.NotContains(rt, w.Header().Get("Set-Cookie"), other)
						}
					}
				})
			}
			wg.Wait()
		}
	})
	require.Eventually(t, func() bool { return s.edge.fetch.Flights.Aloft() == 0 }, 5*time.Second, time.Millisecond)
}
