package demo

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"sync"
	"time"
)

// Visitors ask an address for pages, the way a ferry company's visitors would.
type Visitors struct {
	Base      string  // of the edge
	PerSecond float64 // page visits; displays on the quay come on top
	Sailings  []int   // numbers of the sailings of the next days, soonest first
	client    http.Client
}

// atOnce bounds how many visits are under way.
const atOnce = 64

// Run visits until ctx ends.
func (v *Visitors) Run(ctx context.Context) {
	v.client = http.Client{
		Timeout:       20 * time.Second,
		Transport:     &http.Transport{MaxIdleConnsPerHost: atOnce, DisableCompression: true},
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}
	var tasks sync.WaitGroup
	defer tasks.Wait()
	tasks.Go(func() { v.displays(ctx) })
	tasks.Go(func() { v.halls(ctx) })
	if v.PerSecond <= 0 {
		<-ctx.Done()
		return
	}
	tasks.Go(func() { v.planner(ctx) })
	random := rand.New(rand.NewPCG(7, uint64(time.Now().UnixNano())))
	interest := newInterest(random, len(v.Sailings))
	slots := make(chan struct{}, atOnce)
	crawled := 0
	tick := time.NewTicker(time.Duration(float64(time.Second) / v.PerSecond))
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		path, cookie := interest.next(v.Sailings)
		if random.IntN(40) == 0 && len(v.Sailings) > 0 { // a crawler walks through everything
			path, cookie = fmt.Sprintf("/sailings/%d", v.Sailings[crawled%len(v.Sailings)]), ""
			crawled++
		}
		if random.IntN(400) == 0 {
			path, cookie = "/reports/punctuality?month="+time.Now().UTC().AddDate(0, -1, 0).Format("2006-01"), ""
		}
		select {
		case slots <- struct{}{}:
		default:
			continue // enough are waiting
		}
		tasks.Go(func() {
			defer func() { <-slots }()
			v.visit(ctx, path, cookie)
		})
	}
}

func (v *Visitors) visit(ctx context.Context, path, cookie string) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, v.Base+path, nil)
	if err != nil {
		return
	}
	if cookie != "" {
		req.Header.Set("Cookie", "session="+cookie)
	}
	resp, err := v.client.Do(req)
	if err != nil {
		return
	}
	defer resp.Body.Close()
	_, _ = io.Copy(io.Discard, resp.Body)
}

// planner looks at sea charts, some again and again: more than memory holds.
func (v *Visitors) planner(ctx context.Context) {
	random := rand.New(rand.NewPCG(13, uint64(time.Now().UnixNano())))
	often := rand.NewZipf(random, 1.1, 8, charts-1)
	for {
		select {
		case <-ctx.Done():
			return
		case <-time.After(40 * time.Millisecond):
			v.visit(ctx, fmt.Sprintf("/charts/%d.png", 1+often.Uint64()), "")
		}
	}
}

// displays are the boards on the quays: each port's polls every three seconds.
func (v *Visitors) displays(ctx context.Context) {
	for i := 0; ; i++ {
		select {
		case <-ctx.Done():
			return
		case <-time.After(3 * time.Second / time.Duration(len(ports))):
			v.visit(ctx, "/api/ports/"+ports[i%len(ports)].Slug+"/board", "")
		}
	}
}

// interest draws what visitors want to see: few things often, many rarely.
type interest struct {
	random   *rand.Rand
	ports    *rand.Zipf
	days     *rand.Zipf
	sailings *rand.Zipf
}

func newInterest(random *rand.Rand, sailings int) *interest {
	return &interest{
		random:   random,
		ports:    rand.NewZipf(random, 1.3, 1, uint64(len(ports)-1)),
		days:     rand.NewZipf(random, 1.6, 1, 20),
		sailings: rand.NewZipf(random, 1.2, 4, uint64(max(1, sailings)-1)),
	}
}

var campaigns = []string{"", "", "", "utm_source=letter&utm_campaign=spring", "utm_source=poster", "ref=friend"}

func (in *interest) next(sailings []int) (path, cookie string) {
	port := ports[in.ports.Uint64()].Slug
	if in.random.IntN(20) == 0 {
		cookie = [...]string{"ingrid", "calum", "sunniva"}[in.random.IntN(3)]
	}
	switch n := in.random.IntN(100); {
	case n < 14:
		path = "/"
	case n < 34:
		path = "/ports/" + port
	case n < 62:
		path = fmt.Sprintf("/ports/%s/departures?date=%s&page=%d", port, time.Now().UTC().AddDate(0, 0, int(in.days.Uint64())).Format("2006-01-02"), 1+in.random.IntN(3)*in.random.IntN(2))
	case n < 80 && len(sailings) > 0:
		path = fmt.Sprintf("/sailings/%d", sailings[in.sailings.Uint64()])
	case n < 86:
		path = fmt.Sprintf("/vessels/%d", 1+in.random.IntN(len(vessels)))
	case n < 88:
		path = "/fares"
	case n < 90:
		path = "/search?q=" + [...]string{"tholm", "quay", "petrel", "saltern"}[in.random.IntN(4)]
	case n < 91:
		path = "/api/sailings?from=" + port
	case n < 97:
		path = "/assets/style.css?v=3"
		if in.random.IntN(2) == 0 {
			path = fmt.Sprintf("/assets/vessels/%d.svg", 1+in.random.IntN(len(vessels)))
		}
		return path, cookie
	default:
		return "/account", cookie
	}
	if c := campaigns[in.random.IntN(len(campaigns))]; c != "" {
		if bytes.ContainsRune([]byte(path), '?') {
			path += "&" + c
		} else {
			path += "?" + c
		}
	}
	return path, cookie
}

// Editors are the operations desk: every few seconds a sailing is delayed, cancelled or
// goes with another ship.
type Editors struct {
	Origin   string // of the application: the desk works there, not at the edge
	Every    time.Duration
	Sailings []int
}

// Run edits until ctx ends.
func (e *Editors) Run(ctx context.Context) {
	random := rand.New(rand.NewPCG(11, uint64(time.Now().UnixNano())))
	client := http.Client{Timeout: 20 * time.Second}
	for len(e.Sailings) > 0 {
		select {
		case <-ctx.Done():
			return
		case <-time.After(e.Every/2 + time.Duration(random.Int64N(int64(e.Every)))):
		}
		edit := map[string]any{"status": [...]string{"on time", "delayed", "cancelled", "on time"}[random.IntN(4)]}
		switch random.IntN(6) {
		case 0:
			edit = map[string]any{"delay_minutes": 5 + 5*random.IntN(4)}
		case 1:
			edit = map[string]any{"vessel_id": 1 + random.IntN(len(vessels))}
		}
		body, _ := json.Marshal(edit)
		target := fmt.Sprintf("%s/desk/sailings/%d", e.Origin, e.Sailings[random.IntN(min(60, len(e.Sailings)))])
		req, err := http.NewRequestWithContext(ctx, http.MethodPost, target, bytes.NewReader(body))
		if err != nil {
			return
		}
		req.Header.Set("Content-Type", "application/json")
		if resp, err := client.Do(req); err == nil {
			resp.Body.Close()
		}
	}
}
