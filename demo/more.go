package demo

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
)

// fareWords are the fare table's few words in the company's languages.
var fareWords = map[string]struct{ Title, From, To, Fare string }{
	"en": {"Fares", "From", "To", "Fare"},
	"nb": {"Priser", "Fra", "Til", "Pris"},
	"gd": {"Faraidhean", "Bho", "Gu", "Faradh"},
}

// currencies are how many of one are worth a crown.
var currencies = map[string]float64{"kr": 1, "mk": 0.087, "dl": 0.094}

// fares is GET /fares: in the visitor's language and currency.
func (s *Site) fares(w http.ResponseWriter, r *http.Request) {
	s.cost(r.Context(), 200)
	language := "en"
	for wish := range strings.SplitSeq(r.Header.Get("Accept-Language"), ",") {
		wish, _, _ = strings.Cut(strings.TrimSpace(wish), ";")
		wish, _, _ = strings.Cut(wish, "-")
		if _, known := fareWords[wish]; known {
			language = wish
			break
		}
	}
	currency := "kr"
	if c, err := r.Cookie("currency"); err == nil && currencies[c.Value] > 0 {
		currency = c.Value
	}
	rows, err := s.Content.pool.Query(r.Context(), `select f.name, t.name, min(fare)::int from sailing s join port f on f.slug = s.from_port join port t on t.slug = s.to_port
		where departs_at > now() group by 1, 2 order by 1, 2`)
	if err != nil {
		s.broken(w, err)
		return
	}
	type fare struct {
		From, To string
		Fare     int
	}
	all, err := pgx.CollectRows(rows, pgx.RowToStructByPos[fare])
	if err != nil {
		s.broken(w, err)
		return
	}
	p := page{Title: fareWords[language].Title, Words: fareWords[language], Language: language}
	for _, f := range all {
		p.Fares = append(p.Fares, [3]string{f.From, f.To, fmt.Sprintf("%.2f %s", float64(f.Fare)/100*currencies[currency], currency)})
	}
	w.Header().Set("Content-Language", language)
	s.render(w, "fares", p, []string{"fares"})
}

// search is GET /search?q=&sort=&page=.
func (s *Site) search(w http.ResponseWriter, r *http.Request) {
	s.cost(r.Context(), 250)
	q := strings.TrimSpace(r.URL.Query().Get("q"))
	order := map[string]string{"": "s.departs_at, s.id", "time": "s.departs_at, s.id", "fare": "s.fare, s.departs_at, s.id"}[r.URL.Query().Get("sort")]
	number, err := pageNumber(r)
	if order == "" || err != nil {
		http.Error(w, "Sort by time or fare; the page is a number from 1.", http.StatusBadRequest)
		return
	}
	found, err := s.Content.sailings(r.Context(), `where s.departs_at > now() and (f.name ilike $1 or t.name ilike $1 or v.name ilike $1) order by `+order+` limit $2 offset $3`,
		"%"+strings.NewReplacer("%", `\%`, "_", `\_`).Replace(q)+"%", PageSize, (number-1)*PageSize)
	if err != nil {
		s.broken(w, err)
		return
	}
	s.render(w, "search", page{Title: "Search", Query: q, Sailings: found, Number: number}, groupsOf(found, "search"))
}

func pageNumber(r *http.Request) (int, error) {
	text := r.URL.Query().Get("page")
	if text == "" {
		return 1, nil
	}
	n, err := strconv.Atoi(text)
	if err != nil || n < 1 || n > 1000 {
		return 0, fmt.Errorf("page %q", text)
	}
	return n, nil
}

// sailingsCall is GET /api/sailings?from=&to=&date=&page=&size=.
func (s *Site) sailingsCall(w http.ResponseWriter, r *http.Request) {
	s.cost(r.Context(), 150)
	q := r.URL.Query()
	day := s.Now().UTC().Truncate(24 * time.Hour)
	number, err := pageNumber(r)
	if text := q.Get("date"); text != "" && err == nil {
		day, err = time.Parse("2006-01-02", text)
	}
	size := 20
	if text := q.Get("size"); text != "" && err == nil {
		if size, err = strconv.Atoi(text); size < 1 || size > 200 {
			err = fmt.Errorf("size %q", text)
		}
	}
	if err != nil {
		http.Error(w, `{"error":"the date is written 2026-05-17, page is from 1, size from 1 to 200"}`, http.StatusBadRequest)
		return
	}
	found, err := s.Content.sailings(r.Context(), `where ($1 = '' or s.from_port = $1) and ($2 = '' or s.to_port = $2) and s.departs_at >= $3 and s.departs_at < $4
		order by s.departs_at, s.id limit $5 offset $6`, q.Get("from"), q.Get("to"), day, day.AddDate(0, 0, 1), size, (number-1)*size)
	if err != nil {
		s.broken(w, err)
		return
	}
	h := w.Header()
	h.Set("Content-Type", "application/json")
	h.Set("Cache-Groups", groupList(groupsOf(found, "departures:"+q.Get("from"))))
	_ = json.NewEncoder(w).Encode(map[string]any{"date": day.Format("2006-01-02"), "page": number, "size": size, "sailings": found})
}

// sailingsQuestion is QUERY /api/sailings: the same, asked by a JSON body.
func (s *Site) sailingsQuestion(w http.ResponseWriter, r *http.Request) {
	var asked map[string]any
	if err := json.NewDecoder(r.Body).Decode(&asked); err != nil {
		http.Error(w, `{"error":"the question is a JSON object: {\"from\":\"tholm\"}"}`, http.StatusBadRequest)
		return
	}
	q := url.Values{}
	for name, value := range asked {
		q.Set(name, fmt.Sprint(value))
	}
	r.URL.RawQuery = q.Encode()
	s.sailingsCall(w, r)
}

// punctuality is GET /reports/punctuality?month=: slow to make and rarely asked.
func (s *Site) punctuality(w http.ResponseWriter, r *http.Request) {
	s.cost(r.Context(), 4000)
	month := r.URL.Query().Get("month")
	if month == "" {
		month = s.Now().UTC().Format("2006-01")
	}
	if _, err := time.Parse("2006-01", month); err != nil {
		http.Error(w, "The month is written 2026-05.", http.StatusBadRequest)
		return
	}
	rows, err := s.Content.pool.Query(r.Context(), `select f.name, count(*)::int, count(*) filter (where status = 'on time')::int from sailing s join port f on f.slug = s.from_port
		where to_char(departs_at, 'YYYY-MM') = $1 group by 1 order by 1`, month)
	if err != nil {
		s.broken(w, err)
		return
	}
	type line struct {
		Port          string
		All, Punctual int
	}
	all, err := pgx.CollectRows(rows, pgx.RowToStructByPos[line])
	if err != nil {
		s.broken(w, err)
		return
	}
	p := page{Title: "Punctuality " + month, Words: fareWords["en"]}
	for _, l := range all {
		p.Fares = append(p.Fares, [3]string{l.Port, strconv.Itoa(l.All), fmt.Sprintf("%.1f %%", 100*float64(l.Punctual)/float64(l.All))})
	}
	s.render(w, "punctuality", p, []string{"reports"})
}

// slow is GET /slow?ms=: it takes its time.
func (s *Site) slow(w http.ResponseWriter, r *http.Request) {
	ms, err := strconv.Atoi(r.URL.Query().Get("ms"))
	if err != nil || ms < 0 || ms > 60_000 {
		ms = 5000
	}
	s.Renders.Add(1)
	select {
	case <-time.After(time.Duration(ms) * time.Millisecond):
	case <-r.Context().Done():
		return
	}
	fmt.Fprintf(w, "This took %d ms.\n", ms)
}

// fail is GET /fail?rate=: it fails so often, from 0 to 1.
func (s *Site) fail(w http.ResponseWriter, r *http.Request) {
	s.Renders.Add(1)
	rate, err := strconv.ParseFloat(r.URL.Query().Get("rate"), 64)
	if err != nil {
		rate = 1
	}
	if rand.Float64() < rate {
		http.Error(w, "This fails on purpose.", http.StatusInternalServerError)
		return
	}
	fmt.Fprintln(w, "This went well.")
}

// half is GET /half: it breaks off in the middle.
func (s *Site) half(w http.ResponseWriter, _ *http.Request) {
	s.Renders.Add(1)
	w.Header().Set("Content-Length", "100000")
	_, _ = w.Write(make([]byte, 50_000))
	_ = http.NewResponseController(w).Flush()
	panic(http.ErrAbortHandler)
}
