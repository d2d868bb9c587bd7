package demo

import (
	"bytes"
	"context"
	"fmt"
	"html/template"
	"net/http"
	"time"

	"gerastic.example/client"
)

// A port's page is made of fragments: it holds a board, the board holds rows, a row holds a
// vessel's card. Each is stored by itself; its tags and its life go up to all that it is
// part of. The application wraps each in one call and says what it shows, and that is all.
const (
	pagePart = iota
	boardPart
	rowPart
	cardPart
)

var partNames = [...]string{pagePart: "page", boardPart: "board", rowPart: "row", cardPart: "card"}

// html makes a part with a template.
func (s *Site) html(name string, p page) ([]byte, error) {
	var b bytes.Buffer
	err := s.pages.ExecuteTemplate(&b, name, p)
	return b.Bytes(), err
}

// departuresBoard is a port's next departures.
func (s *Site) departuresBoard(ctx context.Context, slug string) (template.HTML, error) {
	f := client.Fragment{Name: "board", Parts: []any{slug}, Lifetime: 5 * time.Minute, Stale: 5 * time.Minute, Tags: []string{"departures:" + slug}}
	board, err := s.Fragments.LoadOrFill(ctx, f, func(ctx context.Context) ([]byte, error) {
		s.parts[boardPart].Add(1)
		s.wait(ctx, 100)
		next, err := s.Content.Next(ctx, slug, s.Now(), 10)
		if err != nil {
			return nil, err
		}
		rows, err := s.rows(ctx, next)
		if err != nil {
			return nil, err
		}
		return s.html("board of fragments", page{Rows: rows})
	})
	return template.HTML(board), err // our own words: they were escaped where they were made
}

// rows are sailings on a board: one round trip finds them, only what is missing is made.
func (s *Site) rows(ctx context.Context, sailings []Sailing) ([]template.HTML, error) {
	wanted := make([]client.Fragment, len(sailings))
	for i, sailing := range sailings {
		wanted[i] = client.Fragment{Name: "row", Parts: []any{sailing.ID}, Version: sailing.Updated, Lifetime: time.Hour, Tags: []string{fmt.Sprintf("sailing:%d", sailing.ID)}}
	}
	bodies, err := s.Fragments.LoadOrFillAll(ctx, wanted, func(ctx context.Context, i int) ([]byte, error) {
		s.parts[rowPart].Add(1)
		s.wait(ctx, 40)
		card, err := s.card(ctx, sailings[i].VesselID)
		if err != nil {
			return nil, err
		}
		return s.html("row fragment", page{Sailing: sailings[i], Part: card})
	})
	rows := make([]template.HTML, len(bodies))
	for i, body := range bodies {
		rows[i] = template.HTML(body)
	}
	return rows, err
}

// card is a vessel, small. It only changes when somebody changes it.
func (s *Site) card(ctx context.Context, vessel int) (template.HTML, error) {
	f := client.Fragment{Name: "card", Parts: []any{vessel}, Lifetime: client.Forever, Tags: []string{fmt.Sprintf("vessel:%d", vessel)}}
	card, err := s.Fragments.LoadOrFill(ctx, f, func(ctx context.Context) ([]byte, error) {
		s.parts[cardPart].Add(1)
		s.wait(ctx, 60)
		v, err := s.Content.Vessel(ctx, vessel)
		if err != nil {
			return nil, err
		}
		return s.html("card fragment", page{Vessel: v})
	})
	return template.HTML(card), err
}

// greeting is GET /pieces/greeting: the home page's welcome, which the edge puts in. A
// signed-in visitor's is their own.
func (s *Site) greeting(w http.ResponseWriter, r *http.Request) {
	s.cost(r.Context(), 40)
	p := page{Customer: customer(r)}
	w.Header().Set("Cache-Control", "max-age=3600")
	if p.Customer != "" {
		w.Header().Set("Cache-Control", "private, max-age=300")
	}
	s.render(w, "greeting", p, []string{"home"})
}

// homeNotices is GET /pieces/notices: the messages in force, anywhere.
func (s *Site) homeNotices(w http.ResponseWriter, r *http.Request) {
	s.cost(r.Context(), 60)
	notices, err := s.Content.Notices(r.Context(), "")
	if err != nil {
		s.broken(w, err)
		return
	}
	s.render(w, "notices", page{Notices: notices}, []string{"notices"})
}

// homeDepartures is GET /pieces/departures: what leaves next, anywhere.
func (s *Site) homeDepartures(w http.ResponseWriter, r *http.Request) {
	s.cost(r.Context(), 200)
	next, err := s.Content.Next(r.Context(), "", s.Now(), 14)
	if err != nil {
		s.broken(w, err)
		return
	}
	var groups []string
	for _, port := range ports {
		groups = append(groups, "departures:"+port.Slug)
	}
	s.render(w, "departures include", page{Sailings: next}, groupsOf(next, groups...))
}
