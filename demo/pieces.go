package demo

import (
	"context"
	"errors"
	"fmt"
	"html/template"
	"io"
	"net/http"
	"sync"

	"github.com/jackc/pgx/v5"

	"gerastic/client"
)

// A port's page is made of pieces: it holds a board, the board holds rows, a row holds a
// vessel's card. Each is an entry of its own at the edge, where the application gets
// it; its tags go up to all that it is part of.
const (
	pagePiece = iota
	boardPiece
	rowPiece
	cardPiece
)

var pieceNames = [...]string{pagePiece: "page", boardPiece: "board", rowPiece: "row", cardPiece: "card"}

var pieceClient = http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: 32}}

// piece gets a piece from the edge, and takes its tags over.
func (s *Site) piece(ctx context.Context, path string) (template.HTML, error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, s.Edge+path, nil)
	if err != nil {
		return "", err
	}
	resp, err := pieceClient.Do(req)
	if err != nil {
		return "", err
	}
	defer resp.Body.Close()
	body, err := io.ReadAll(resp.Body)
	if err != nil {
		return "", err
	}
	if resp.StatusCode != http.StatusOK {
		return "", fmt.Errorf("the piece %s: %s", path, resp.Status)
	}
	client.TagFrom(ctx, resp.Header)
	return template.HTML(body), nil // our own words: the pieces are escaped where they are made
}

// boardPiece is GET /pieces/boards/{port}: the next departures.
func (s *Site) boardPiece(w http.ResponseWriter, r *http.Request) {
	slug := r.PathValue("port")
	s.pieces[boardPiece].Add(1)
	s.wait(r.Context(), 100)
	client.Tag(r.Context(), "departures:"+slug)
	next, err := s.Content.Next(r.Context(), slug, s.Now(), 10)
	if err != nil {
		s.broken(w, err)
		return
	}
	p := page{Rows: make([]template.HTML, len(next))}
	failed := make([]error, len(next))
	var rows sync.WaitGroup
	for i, sailing := range next {
		rows.Go(func() { p.Rows[i], failed[i] = s.piece(r.Context(), fmt.Sprintf("/pieces/rows/%d", sailing.ID)) })
	}
	rows.Wait()
	if err := errors.Join(failed...); err != nil {
		s.broken(w, err)
		return
	}
	s.render(w, "board of pieces", p, nil)
}

// rowPiece is GET /pieces/rows/{id}: a sailing on a board.
func (s *Site) rowPiece(w http.ResponseWriter, r *http.Request) {
	s.pieces[rowPiece].Add(1)
	s.wait(r.Context(), 40)
	sailing, err := s.Content.Sailing(r.Context(), number(r))
	if err != nil {
		s.missing(w, err, "sailing")
		return
	}
	client.Tag(r.Context(), fmt.Sprintf("sailing:%d", sailing.ID))
	card, err := s.piece(r.Context(), fmt.Sprintf("/pieces/cards/%d", sailing.VesselID))
	if err != nil {
		s.broken(w, err)
		return
	}
	s.render(w, "row piece", page{Sailing: sailing, Piece: card}, nil)
}

// cardPiece is GET /pieces/cards/{id}: a vessel, small.
func (s *Site) cardPiece(w http.ResponseWriter, r *http.Request) {
	s.pieces[cardPiece].Add(1)
	s.wait(r.Context(), 60)
	v, err := s.Content.Vessel(r.Context(), number(r))
	if errors.Is(err, pgx.ErrNoRows) {
		s.missing(w, err, "vessel")
		return
	}
	if err != nil {
		s.broken(w, err)
		return
	}
	client.Tag(r.Context(), fmt.Sprintf("vessel:%d", v.ID))
	s.render(w, "card piece", page{Vessel: v}, nil)
}
