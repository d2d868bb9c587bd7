package meter

import (
	"cmp"
	"slices"
	"time"
)

// By says what each row of a report is for.
type By uint8

// One row for each route, for each moment, or none beside the total.
const (
	ByRoute By = iota
	ByTime
	InTotal
)

// Report sums cells into rows. Its zero value reports visitors' requests by route.
type Report struct {
	By    By
	Parts bool   // of what was asked for within pages, not of visitors' requests
	Route string // only this one, whatever it is; "": all of Parts
	Total Ratio
	rows  map[row]*Ratio
}

type row struct {
	at    int64 // unix seconds
	route string
}

// Row is one row of a report.
type Row struct {
	Route string    // by route
	At    time.Time // by time
	*Ratio
}

// Count adds a cell of a moment.
func (r *Report) Count(at time.Time, k Key, cell *Cell) {
	if r.Route != "" && k.Route != r.Route || r.Route == "" && Within(k.Route) != r.Parts {
		return
	}
	r.Total.Count(k, cell)
	var of row
	switch r.By {
	case ByRoute:
		of.route = k.Route
	case ByTime:
		of.at = at.Unix()
	case InTotal:
		return
	}
	if r.rows == nil {
		r.rows = map[row]*Ratio{}
	}
	if r.rows[of] == nil {
		r.rows[of] = &Ratio{}
	}
	r.rows[of].Count(k, cell)
}

// Rows returns the rows: by time in its order, by route the one with most requests first.
func (r *Report) Rows() []Row {
	rows := make([]Row, 0, len(r.rows))
	for of, sums := range r.rows {
		rows = append(rows, Row{Route: of.route, At: time.Unix(of.at, 0).UTC(), Ratio: sums})
	}
	slices.SortFunc(rows, func(a, b Row) int {
		if r.By == ByTime {
			return a.At.Compare(b.At)
		}
		return cmp.Or(cmp.Compare(b.Requests, a.Requests), cmp.Compare(a.Route, b.Route))
	})
	return rows
}
