package edge

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"gerastic/internal/fetch"
)

// TestWhatKeysLeaveOutIsTold once, when it comes with a large share of a route's requests.
func TestWhatKeysLeaveOutIsTold(t *testing.T) {
	s := newRigOf(t, statedYAML, text("x"))
	found := make(chan fetch.Finding, 100)
	s.onFinding(func(f fetch.Finding) { found <- f })
	told := func(least int) map[string]string {
		assert.Eventually(t, func() bool { return len(found) >= least }, 5*time.Second, time.Millisecond) // each is told by a goroutine of its own
		all := map[string]string{}
		for range len(found) {
			f := <-found
			assert.Equal(t, "pages", f.Route)
			all[f.Separator] = f.Kind
		}
		return all
	}
	for i := range 60 {
		fields := []string{"User-Agent: odd", "Accept-Language: nb", "X-Region: north", "X-Theme: dark", "Sec-Fetch-Mode: cors"}
		switch {
		case i%3 == 0:
			fields = append(fields, "Cookie: lang=x; consent=yes; shop=7; session=s", "X-User: ada") // who is signed in was said
		case i%2 == 0:
			fields = append(fields, fmt.Sprintf("Cookie: lang=x; consent=yes; basket=%d; once%d=1", i, i), "X-Kiosk: 4")
		case i == 1:
			fields = append(fields, "X-Rare: 1", "X-Csrf-Token: t")
		}
		s.get("/pages/a", fields...)
	}
	assert.Equal(t, map[string]string{"cookie basket": "unkeyed-cookie", "header X-Kiosk": "unkeyed-field"}, told(2))
	for range 200 {
		s.get("/pages/a", "Cookie: basket=1", "X-Csrf-Token: t")
	}
	assert.Equal(t, map[string]string{"header X-Csrf-Token": "unkeyed-field"}, told(1), "also what keeps everybody from the store; nothing twice")
	assert.LessOrEqual(t, len(s.edge.inForce.Load().tallies[0].names), maxTalliedNames)
}
