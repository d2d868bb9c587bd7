package prime

import (
	"cmp"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"gerastic/internal/edge"
	"gerastic/internal/tasks"
)

// Order says what is to be primed, and how.
type Order struct {
	URLs        []string
	Sitemap     string // URL of one
	Previous    bool   // what was asked for most before the node's last start
	Routes      []string
	Pace        Pace
	OnlyMissing bool // what is fresh is left as it is
	Limit       int
	Headers     http.Header
}

// Target is something that is asked for.
type Target struct {
	URL    string      `json:"url"`
	Header http.Header `json:"header,omitempty"`
}

// State is how far a job has come.
type State string

// The states of a job.
const (
	Running State = "running"
	Done    State = "done"
	Stopped State = "stopped"
	Failed  State = "failed"
)

// Problem is a URL that failed.
type Problem struct {
	URL    string
	Status int // 0: there was no answer
	Error  string
}

// Report is what is known of a job.
type Report struct {
	ID                                                string
	State                                             State
	Began                                             time.Time
	Wanted, Done, Filled, Fresh, FailedCount, Skipped int
	PerSecond                                         float64 // over the last seconds
	Problems                                          []Problem
}

// Left is how long the rest takes at the present pace; ok is false where that cannot be told.
func (r *Report) Left() (left time.Duration, ok bool) {
	if r.State != Running || r.PerSecond <= 0 {
		return 0, r.State != Running
	}
	return time.Duration(float64(r.Wanted-r.Done) / r.PerSecond * float64(time.Second)), true
}

// Site is what is primed.
type Site interface {
	// Prime asks for something as a visitor would.
	Prime(ctx context.Context, r *http.Request, how edge.Priming) edge.Primed
	// Read returns an answer's body, of at most so many bytes.
	Read(ctx context.Context, r *http.Request, most int) (body []byte, err error)
}

// Primer runs jobs.
type Primer struct {
	Site Site
	// Base is where a URL from the slash belongs to.
	Base func() string
	// Previous is what was asked for most before the node's last start.
	Previous func() []Target
	Tasks    *tasks.Group

	mu   sync.Mutex
	jobs []*job // the newest last
}

const (
	mostJobs    = 50      // are remembered
	mostRunning = 4       // at a time
	mostTargets = 100_000 // of a job
	// failures is after how many in a row a job gives up.
	failures = 200
)

// ErrBusy says that there are too many jobs.
var ErrBusy = fmt.Errorf("%d primes are running; wait for one, or stop one", mostRunning)

type job struct {
	order Order
	stop  context.CancelFunc

	mu     sync.Mutex
	report Report
	ended  []time.Time // of the last few, for the pace
	bad    int         // failed in a row
}

// Start begins a job. The error says what of the order is not in order, or ErrBusy.
func (p *Primer) Start(o Order) (Report, error) {
	if len(o.URLs) == 0 && o.Sitemap == "" && !o.Previous {
		return Report{}, errors.New("nothing is named to be primed; give urls, a sitemap, or previous")
	}
	if o.Limit <= 0 || o.Limit > mostTargets {
		o.Limit = mostTargets
	}
	for _, text := range append(slices.Clone(o.URLs), o.Sitemap) {
		if text != "" {
			if _, err := p.request(context.Background(), Target{URL: text}); err != nil {
				return Report{}, err
			}
		}
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	running := 0
	for _, j := range p.jobs {
		if j.Report().State == Running {
			running++
		}
	}
	if running >= mostRunning {
		return Report{}, ErrBusy
	}
	ctx, cancel := context.WithCancel(p.Tasks.Life())
	j := &job{order: o, stop: cancel, report: Report{ID: strings.ToLower(rand.Text()[:8]), State: Running, Began: time.Now()}}
	j.report.Wanted = min(len(o.URLs), o.Limit)
	if !p.Tasks.Go(func() { defer cancel(); p.run(ctx, j) }) {
		cancel()
		return Report{}, errors.New("the node is stopping")
	}
	p.jobs = append(p.jobs, j)
	if len(p.jobs) > mostJobs {
		if at := slices.IndexFunc(p.jobs, func(j *job) bool { return j.Report().State != Running }); at >= 0 {
			p.jobs = slices.Delete(p.jobs, at, at+1)
		}
	}
	return j.Report(), nil
}

// Jobs are all that are remembered, the newest first.
func (p *Primer) Jobs() (all []Report) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, j := range slices.Backward(p.jobs) {
		all = append(all, j.Report())
	}
	return all
}

// Job is one of them.
func (p *Primer) Job(id string) (Report, bool) {
	if j := p.find(id); j != nil {
		return j.Report(), true
	}
	return Report{}, false
}

// Stop ends a job; what is under way ends by itself.
func (p *Primer) Stop(id string) (Report, bool) {
	j := p.find(id)
	if j == nil {
		return Report{}, false
	}
	j.stop()
	j.finish(Stopped)
	return j.Report(), true
}

func (p *Primer) find(id string) *job {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, j := range p.jobs {
		if j.report.ID == id {
			return j
		}
	}
	return nil
}

// Report is what is known now.
func (j *job) Report() Report {
	j.mu.Lock()
	defer j.mu.Unlock()
	r := j.report
	r.Problems = slices.Clone(r.Problems)
	if n := len(j.ended); n > 1 && r.State == Running {
		if span := time.Since(j.ended[0]); span > 0 {
			r.PerSecond = float64(n) / span.Seconds()
		}
	}
	return r
}

func (j *job) finish(s State) {
	j.mu.Lock()
	defer j.mu.Unlock()
	if j.report.State == Running {
		j.report.State = s
	}
}

// fail ends a job that cannot go on.
func (j *job) fail(what string, err error) {
	j.mu.Lock()
	j.report.Problems = append(j.report.Problems, Problem{URL: what, Error: err.Error()})
	j.mu.Unlock()
	j.finish(Failed)
}

func (p *Primer) run(ctx context.Context, j *job) {
	targets, err := p.targets(ctx, &j.order)
	if err != nil {
		j.fail(cmp.Or(j.order.Sitemap, "previous"), err)
		return
	}
	j.mu.Lock()
	j.report.Wanted = len(targets)
	j.mu.Unlock()
	slow := newThrottle(j.order.Pace)
	var under sync.WaitGroup
	for _, target := range targets {
		if !slow.begin(ctx) {
			break
		}
		under.Go(func() { p.one(ctx, j, slow, target) })
	}
	under.Wait()
	if ctx.Err() != nil {
		j.finish(Stopped)
	}
	j.finish(Done)
}

// targets are what an order names, each once.
func (p *Primer) targets(ctx context.Context, o *Order) (all []Target, err error) {
	seen := map[string]bool{}
	add := func(t Target) {
		if name := fmt.Sprint(t); len(all) < o.Limit && !seen[name] {
			seen[name] = true
			all = append(all, t)
		}
	}
	for _, text := range o.URLs {
		add(Target{URL: text})
	}
	if o.Previous {
		for _, t := range p.Previous() {
			add(t) // one URL may stand there with several headers
		}
	}
	maps := []string{}
	if o.Sitemap != "" {
		maps = append(maps, o.Sitemap)
	}
	for i := 0; i < len(maps) && i < mostSitemaps; i++ {
		urls, more, err := p.sitemap(ctx, maps[i])
		if err != nil {
			return nil, fmt.Errorf("%s: %w", maps[i], err)
		}
		maps = append(maps, more...)
		for _, text := range urls {
			add(Target{URL: text})
		}
	}
	if len(all) == 0 {
		return nil, errors.New("there is nothing in it")
	}
	return all, nil
}

func (p *Primer) sitemap(ctx context.Context, text string) (urls, sitemaps []string, err error) {
	r, err := p.request(ctx, Target{URL: text})
	if err != nil {
		return nil, nil, err
	}
	body, err := p.Site.Read(ctx, r, mostSitemap)
	if err != nil {
		return nil, nil, err
	}
	return Sitemap(body)
}

func (p *Primer) request(ctx context.Context, t Target) (*http.Request, error) {
	return Request(ctx, p.Base(), t)
}

// Request is what a visitor would send; base is where a URL from the slash belongs to.
func Request(ctx context.Context, base string, t Target) (*http.Request, error) {
	text := t.URL
	if strings.HasPrefix(text, "/") {
		text = strings.TrimSuffix(base, "/") + text
	}
	u, err := url.Parse(text)
	if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" || u.User != nil {
		return nil, fmt.Errorf("%q is not a URL that can be primed; write https://HOST/PATH?QUERY, or /PATH", t.URL)
	}
	u.Fragment = ""
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, u.String(), http.NoBody)
	if err != nil {
		return nil, err
	}
	r.RequestURI, r.RemoteAddr = u.RequestURI(), "127.0.0.1:0"
	for name, values := range t.Header {
		r.Header[http.CanonicalHeaderKey(name)] = values
	}
	return r, nil
}

// one primes one URL.
func (p *Primer) one(ctx context.Context, j *job, slow *throttle, t Target) {
	began := time.Now()
	result := edge.Primed{Outcome: edge.PrimeFailed}
	r, err := p.request(ctx, t)
	if err == nil {
		for name, values := range j.order.Headers {
			r.Header[http.CanonicalHeaderKey(name)] = values
		}
		if host := r.Header.Get("Host"); host != "" {
			r.Host = host
			r.Header.Del("Host")
		}
		result = p.Site.Prime(ctx, r, edge.Priming{Routes: j.order.Routes, OnlyMissing: j.order.OnlyMissing})
	} else {
		result.Why = err.Error()
	}
	took := time.Duration(0)
	if result.Outcome == edge.PrimeFilled {
		took = time.Since(began)
	}
	slow.end(took, result.Outcome == edge.PrimeFailed)
	j.count(t, result, ctx.Err() != nil)
}

// count takes a result in.
func (j *job) count(t Target, result edge.Primed, stopped bool) {
	j.mu.Lock()
	r := &j.report
	if stopped && result.Outcome == edge.PrimeFailed {
		j.mu.Unlock()
		return // it was broken off
	}
	r.Done++
	if j.ended = append(j.ended, time.Now()); len(j.ended) > 50 {
		j.ended = j.ended[1:]
	}
	j.bad++
	switch result.Outcome {
	case edge.PrimeFilled:
		r.Filled++
		j.bad = 0
	case edge.PrimeFresh:
		r.Fresh++
		j.bad = 0
	case edge.PrimeSkipped:
		r.Skipped++
		j.bad = 0
	default:
		r.FailedCount++
		r.Problems = append(r.Problems, Problem{t.URL, result.Status, result.Why})
	}
	givesUp := j.bad >= failures
	j.mu.Unlock()
	if givesUp {
		j.stop()
		j.finish(Failed)
	}
}
