package demo

import (
	"bytes"
	"context"
	"crypto/sha256"
	"embed"
	"encoding/json"
	"errors"
	"fmt"
	"html/template"
	"log/slog"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"github.com/jackc/pgx/v5"

	"gerastic.example/client"
	"gerastic.example/client/aftercommit"
)

//go:embed templates/*.html assets/*
var files embed.FS

// Parts are what the application works with.
type Parts struct {
	Content *Content
	Outbox  *aftercommit.Outbox // how the desk purges
	// Fragments keeps the parts of its pages.
	Fragments *client.Fragments
	Log       *slog.Logger
	// Slow scales the simulated costs: 1 as in a real application, 0 none.
	Slow float64
	// Now is the company's clock.
	Now func() time.Time
}

// Site is the company's web application.
type Site struct {
	Parts
	Renders atomic.Int64    // pages and calls made since the start
	parts   [4]atomic.Int64 // made since the start, by kind
	pages   *template.Template
	handler http.Handler
	hall    atomic.Pointer[url.URL] // the application in Python; nil: it does not run
}

// NewSite returns the application.
func NewSite(parts Parts) (*Site, error) {
	site := &Site{Parts: parts}
	var err error
	site.pages, err = template.New("").Funcs(site.Fragments.Templates(func() *template.Template { return site.pages })).Funcs(template.FuncMap{
		"clock":    func(t time.Time) string { return t.Format("15:04") },
		"day":      func(t time.Time) string { return t.Format("Monday 2 January") },
		"iso":      func(t time.Time) string { return t.Format("2006-01-02") },
		"crowns":   func(fare int) string { return fmt.Sprintf("%d.%02d kr", fare/100, fare%100) },
		"statusID": func(s string) string { return strings.ReplaceAll(s, " ", "-") },
		"add":      func(a, b int) int { return a + b },
	}).ParseFS(files, "templates/*.html")
	if err != nil {
		return nil, fmt.Errorf("reading the templates: %w", err)
	}
	m := http.NewServeMux()
	m.HandleFunc("GET /{$}", site.home)
	m.HandleFunc("GET /ports/{port}", site.port)
	m.HandleFunc("GET /ports/{port}/departures", site.departures)
	m.HandleFunc("GET /sailings/{id}", site.sailing)
	m.HandleFunc("GET /vessels/{id}", site.vessel)
	m.HandleFunc("GET /account", site.account)
	m.HandleFunc("POST /account/sign-in", site.signIn)
	m.HandleFunc("GET /api/ports/{port}/board", site.board)
	m.HandleFunc("GET /fares", site.fares)
	m.HandleFunc("GET /search", site.search)
	m.HandleFunc("GET /api/sailings", site.sailingsCall)
	m.HandleFunc("QUERY /api/sailings", site.sailingsQuestion)
	m.HandleFunc("GET /graphql", site.graphQL)
	m.HandleFunc("POST /graphql", site.graphQL)
	m.HandleFunc("GET /reports/punctuality", site.punctuality)
	m.HandleFunc("GET /slow", site.slow)
	m.HandleFunc("GET /fail", site.fail)
	m.HandleFunc("GET /half", site.half)
	m.HandleFunc("GET /assets/{file...}", site.asset)
	m.HandleFunc("GET /charts/{chart}", site.chart)
	m.HandleFunc("GET /sitemap.xml", site.sitemap)
	m.HandleFunc("GET /pieces/greeting", site.greeting)
	m.HandleFunc("GET /pieces/notices", site.homeNotices)
	m.HandleFunc("GET /pieces/departures", site.homeDepartures)
	m.HandleFunc("GET /pieces/board/{port}", site.boardPiece)
	m.HandleFunc("GET /hall/{port}", site.hallPage)
	m.HandleFunc("POST /desk/sailings/{id}", site.editSailing)
	m.HandleFunc("POST /desk/notices", site.writeNotice)
	m.HandleFunc("POST /desk/notices/{id}", site.writeNotice)
	m.HandleFunc("DELETE /desk/notices/{id}", site.deleteNotice)
	m.HandleFunc("POST /desk/import", site.bulkImport)
	m.HandleFunc("GET /desk/counters", site.counters)
	site.handler = client.Tagging(m)
	return site, nil
}

func (s *Site) ServeHTTP(w http.ResponseWriter, r *http.Request) { s.handler.ServeHTTP(w, r) }

// cost stands for what a real application would spend on a page.
func (s *Site) cost(ctx context.Context, ms float64) {
	s.Renders.Add(1)
	s.wait(ctx, ms)
}

func (s *Site) wait(ctx context.Context, ms float64) {
	if wait := time.Duration(ms * s.Slow * float64(time.Millisecond)); wait > 0 {
		select {
		case <-time.After(wait):
		case <-ctx.Done():
		}
	}
}

// page is what every template gets.
type page struct {
	Title    string
	Customer string
	Rendered time.Time
	Notices  []Notice
	Ports    []Port
	Port     Port
	Sailings []Sailing
	Sailing  Sailing
	Rows     []template.HTML
	Part     template.HTML
	Vessel   Vessel
	Day      time.Time
	Number   int
	More     bool
	Query    string
	Fares    [][3]string // a table of three columns
	Words    struct{ Title, From, To, Fare string }
	Language string
	Context  context.Context // of the request, for fragments in templates
}

func (s *Site) render(w http.ResponseWriter, name string, p page, groups []string) {
	p.Rendered = s.Now().UTC()
	var b bytes.Buffer
	if err := s.pages.ExecuteTemplate(&b, name, p); err != nil {
		s.broken(w, err)
		return
	}
	h := w.Header()
	h.Set("Content-Type", "text/html; charset=utf-8")
	if len(groups) > 0 {
		h.Set("Cache-Groups", groupList(groups))
	}
	_, _ = w.Write(b.Bytes())
}

// broken answers for what should not happen.
func (s *Site) broken(w http.ResponseWriter, err error) {
	if !errors.Is(err, context.Canceled) {
		s.Log.Error("the ferry company's application failed", "error", err)
	}
	w.Header().Set("Cache-Control", "no-store")
	http.Error(w, "Something went wrong on our side.", http.StatusInternalServerError)
}

func (s *Site) missing(w http.ResponseWriter, err error, what string) {
	if !errors.Is(err, pgx.ErrNoRows) {
		s.broken(w, err)
		return
	}
	w.Header().Set("Cache-Control", "max-age=30")
	http.Error(w, "We have no such "+what+".", http.StatusNotFound)
}

// groupsOf names what a list of sailings shows.
func groupsOf(sailings []Sailing, more ...string) []string {
	groups := more
	seen := map[int]bool{}
	for _, s := range sailings {
		groups = append(groups, fmt.Sprintf("sailing:%d", s.ID))
		if !seen[s.VesselID] {
			seen[s.VesselID] = true
			groups = append(groups, fmt.Sprintf("vessel:%d", s.VesselID))
		}
	}
	return groups
}

func customer(r *http.Request) string {
	if c, err := r.Cookie("session"); err == nil {
		return c.Value
	}
	return ""
}

// home is the skeleton of the home page: the edge puts in what changes, each include with a
// life of its own, and the greeting, which is each visitor's own.
func (s *Site) home(w http.ResponseWriter, r *http.Request) {
	s.cost(r.Context(), 100)
	p := page{Title: "Ostrel Isles Ferries"}
	var err error
	if p.Ports, err = s.Content.Ports(r.Context()); err != nil {
		s.broken(w, err)
		return
	}
	groups := []string{"home"}
	for _, port := range p.Ports {
		groups = append(groups, "port:"+port.Slug)
	}
	s.render(w, "home", p, groups)
}

func (s *Site) port(w http.ResponseWriter, r *http.Request) {
	slug := r.PathValue("port")
	s.cost(r.Context(), 150)
	s.parts[pagePart].Add(1)
	p := page{Context: r.Context()}
	var err error
	if p.Port, err = s.Content.Port(r.Context(), slug); err != nil {
		s.missing(w, err, "port")
		return
	}
	p.Title = p.Port.Name
	client.Tag(r.Context(), "port:"+slug, "notices:"+slug)
	if p.Notices, err = s.Content.Notices(r.Context(), slug); err == nil {
		p.Part, err = s.departuresBoard(r.Context(), slug)
	}
	if err != nil {
		s.broken(w, err)
		return
	}
	s.render(w, "port", p, nil)
}

func (s *Site) departures(w http.ResponseWriter, r *http.Request) {
	slug := r.PathValue("port")
	s.cost(r.Context(), 180)
	p := page{Number: 1, Day: s.Now().UTC().Truncate(24 * time.Hour)}
	if q := r.URL.Query().Get("page"); q != "" {
		n, err := strconv.Atoi(q)
		if err != nil || n < 1 || n > 1000 {
			http.Error(w, "The page is a number from 1.", http.StatusBadRequest)
			return
		}
		p.Number = n
	}
	if q := r.URL.Query().Get("date"); q != "" {
		day, err := time.Parse("2006-01-02", q)
		if err != nil {
			http.Error(w, "The date is written 2026-05-17.", http.StatusBadRequest)
			return
		}
		p.Day = day
	}
	var err error
	if p.Port, err = s.Content.Port(r.Context(), slug); err != nil {
		s.missing(w, err, "port")
		return
	}
	p.Title = "Departures from " + p.Port.Name
	if p.Sailings, err = s.Content.Departures(r.Context(), slug, p.Day, p.Number); err != nil {
		s.broken(w, err)
		return
	}
	p.More = len(p.Sailings) == PageSize
	s.render(w, "departures", p, groupsOf(p.Sailings, "port:"+slug, "departures:"+slug))
}

// number reads {id}; what is not a number counts as missing.
func number(r *http.Request) int {
	n, err := strconv.Atoi(r.PathValue("id"))
	if err != nil {
		return -1
	}
	return n
}

func (s *Site) sailing(w http.ResponseWriter, r *http.Request) {
	sailing, err := s.Content.Sailing(r.Context(), number(r))
	if err != nil {
		s.cost(r.Context(), 90)
		s.missing(w, err, "sailing")
		return
	}
	w.Header().Set("Cache-Control", "max-age=60")
	groups := []string{fmt.Sprintf("sailing:%d", sailing.ID), fmt.Sprintf("vessel:%d", sailing.VesselID), "port:" + sailing.From, "port:" + sailing.To}
	unchanged, err := client.Unchanged(w, r, sailing.Updated, sailing.ID)
	if err != nil {
		s.broken(w, err)
		return
	}
	if unchanged {
		w.Header().Set("Cache-Groups", groupList(groups))
		w.WriteHeader(http.StatusNotModified) // no render: that is what validators save
		return
	}
	s.cost(r.Context(), 90)
	s.render(w, "sailing", page{Title: sailing.FromName + " – " + sailing.ToName, Sailing: sailing}, groups)
}

func (s *Site) vessel(w http.ResponseWriter, r *http.Request) {
	s.cost(r.Context(), 120)
	v, err := s.Content.Vessel(r.Context(), number(r))
	if err != nil {
		s.missing(w, err, "vessel")
		return
	}
	next, err := s.Content.With(r.Context(), v.ID, s.Now(), 6)
	if err != nil {
		s.broken(w, err)
		return
	}
	s.render(w, "vessel", page{Title: v.Name, Vessel: v, Sailings: next}, groupsOf(next, fmt.Sprintf("vessel:%d", v.ID), fmt.Sprintf("sailings-of:%d", v.ID)))
}

func (s *Site) account(w http.ResponseWriter, r *http.Request) {
	s.cost(r.Context(), 150)
	w.Header().Set("Cache-Control", "private, no-store")
	p := page{Title: "Your bookings", Customer: customer(r)}
	if p.Customer != "" {
		var err error
		if p.Sailings, err = s.Content.Bookings(r.Context(), p.Customer); err != nil {
			s.broken(w, err)
			return
		}
	}
	s.render(w, "account", p, nil)
}

func (s *Site) signIn(w http.ResponseWriter, r *http.Request) {
	name := r.FormValue("customer")
	if name == "" || strings.ContainsAny(name, " ;,\"") {
		http.Error(w, "Choose a name from the list.", http.StatusBadRequest)
		return
	}
	http.SetCookie(w, &http.Cookie{Name: "session", Value: name, Path: "/", HttpOnly: true, SameSite: http.SameSiteLaxMode})
	http.Redirect(w, r, "/account", http.StatusSeeOther)
}

func (s *Site) board(w http.ResponseWriter, r *http.Request) {
	slug := r.PathValue("port")
	s.cost(r.Context(), 60)
	p, err := s.Content.Port(r.Context(), slug)
	if err != nil {
		s.missing(w, err, "port")
		return
	}
	next, err := s.Content.Next(r.Context(), slug, s.Now(), 8)
	if err != nil {
		s.broken(w, err)
		return
	}
	h := w.Header()
	h.Set("Content-Type", "application/json")
	h.Set("Cache-Groups", groupList(groupsOf(next, "port:"+slug, "departures:"+slug)))
	_ = json.NewEncoder(w).Encode(map[string]any{"port": p.Name, "departures": next})
}

// asset serves the style sheet and the photos. A name with a fingerprint may be kept
// for ever; without one, a day.
func (s *Site) asset(w http.ResponseWriter, r *http.Request) {
	s.cost(r.Context(), 5)
	name := r.PathValue("file")
	body, err := files.ReadFile("assets/" + name)
	kind := "text/css; charset=utf-8"
	if strings.HasSuffix(name, ".js") {
		kind = "text/javascript; charset=utf-8"
	}
	if id, found := strings.CutPrefix(name, "vessels/"); found {
		body, err = s.photo(r.Context(), strings.TrimSuffix(id, ".svg"))
		kind = "image/svg+xml"
	}
	if err != nil {
		s.missing(w, pgx.ErrNoRows, "file")
		return
	}
	h := w.Header()
	h.Set("Content-Type", kind)
	h.Set("ETag", fmt.Sprintf(`"%x"`, sha256.Sum256(body)))
	h.Set("Cache-Control", "max-age=86400")
	if r.URL.Query().Get("v") != "" {
		h.Set("Cache-Control", "max-age=31536000, immutable")
	}
	_, _ = w.Write(body)
}

// photo draws a vessel.
func (s *Site) photo(ctx context.Context, id string) ([]byte, error) {
	n, err := strconv.Atoi(id)
	if err != nil {
		return nil, err
	}
	v, err := s.Content.Vessel(ctx, n)
	if err != nil {
		return nil, err
	}
	var b bytes.Buffer
	err = s.pages.ExecuteTemplate(&b, "photo", v)
	return b.Bytes(), err
}

// counters tells what the application had to do: what a cache saves is what is missing.
func (s *Site) counters(w http.ResponseWriter, _ *http.Request) {
	w.Header().Set("Content-Type", "application/json")
	w.Header().Set("Cache-Control", "no-store")
	made := map[string]int64{}
	for kind, name := range partNames {
		made[name] = s.parts[kind].Load()
	}
	_ = json.NewEncoder(w).Encode(map[string]any{"renders": s.Renders.Load(), "queries": s.Content.Queries.Load(), "pieces": made})
}
