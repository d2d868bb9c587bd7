package demo

import (
	"context"
	_ "embed"
	"fmt"
	"math/rand/v2"
	"sync/atomic"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"

	"gerastic.example/client/pgxwork"
)

//go:embed schema.sql
var schema string

// Days of timetable that are generated, from some days before today on.
const (
	timetableDays = 60
	daysBefore    = 5
)

// Content is the company's database.
type Content struct {
	pool    *pgxpool.Pool
	Queries atomic.Int64 // made since the start
}

// Port is a harbour.
type Port struct {
	Slug, Name, Island, Facilities string
	Updated                        time.Time
}

// Vessel is a ship.
type Vessel struct {
	ID              int
	Name            string
	Capacity, Decks int
	Hull            string // colour, for its generated photo
	Updated         time.Time
}

// Sailing is one crossing.
type Sailing struct {
	ID       int       `json:"id"`
	From     string    `json:"from_port"`
	To       string    `json:"to_port"`
	FromName string    `json:"from"`
	ToName   string    `json:"to"`
	VesselID int       `json:"vessel_id"`
	Vessel   string    `json:"vessel"`
	Departs  time.Time `json:"departs_at"`
	Arrives  time.Time `json:"arrives_at"`
	Status   string    `json:"status"`
	Fare     int       `json:"fare"` // in hundredths of a crown
	Updated  time.Time `json:"updated_at"`
}

// Notice is a message to travellers.
type Notice struct {
	ID                    int
	Title, Text, Severity string
}

// OpenContent connects to the company's database, and makes its content if there is
// none for today.
func OpenContent(ctx context.Context, url string, now time.Time) (*Content, error) {
	config, err := pgxpool.ParseConfig(url)
	if err != nil {
		return nil, err
	}
	c := &Content{}
	config.ConnConfig.Tracer = c
	config.MaxConns = 16
	if c.pool, err = pgxpool.NewWithConfig(ctx, config); err != nil {
		return nil, err
	}
	if _, err := c.pool.Exec(ctx, schema); err != nil {
		return nil, fmt.Errorf("making the ferry company's tables: %w", err)
	}
	if err := c.generate(ctx, now); err != nil {
		return nil, fmt.Errorf("making the ferry company's content: %w", err)
	}
	c.Queries.Store(0)
	return c, nil
}

// TraceQueryStart counts queries, so that anyone can see what a cache saves.
func (c *Content) TraceQueryStart(ctx context.Context, conn *pgx.Conn, data pgx.TraceQueryStartData) context.Context {
	c.Queries.Add(1)
	return pgxwork.Tracer{}.TraceQueryStart(ctx, conn, data)
}

// TraceQueryEnd counts the rows.
func (c *Content) TraceQueryEnd(ctx context.Context, conn *pgx.Conn, data pgx.TraceQueryEndData) {
	pgxwork.Tracer{}.TraceQueryEnd(ctx, conn, data)
}

// Close ends all connections.
func (c *Content) Close() { c.pool.Close() }

// Ports, in the order of their importance: visitors' interest follows it.
var ports = []Port{
	{Slug: "ostrel-quay", Name: "Ostrel Quay", Island: "Ostrel", Facilities: "Ticket hall, café, car park, luggage lockers"},
	{Slug: "tholm", Name: "Tholm", Island: "Tholm", Facilities: "Ticket office, waiting room, bicycle hire"},
	{Slug: "marrowhithe", Name: "Marrowhithe", Island: "Ostrel", Facilities: "Ticket office, café, car park"},
	{Slug: "gannet-sound", Name: "Gannet Sound", Island: "Greater Gannet", Facilities: "Waiting room, slipway"},
	{Slug: "saltern", Name: "Saltern", Island: "Saltern", Facilities: "Waiting room, shop"},
	{Slug: "cullenay", Name: "Cullenay", Island: "Cullenay", Facilities: "Shelter, bus stop"},
	{Slug: "norrisay", Name: "Norrisay", Island: "Norrisay", Facilities: "Waiting room, café in summer"},
	{Slug: "little-ebb", Name: "Little Ebb", Island: "Ebb", Facilities: "Shelter"},
	{Slug: "brack-point", Name: "Brack Point", Island: "Greater Gannet", Facilities: "Shelter, slipway"},
}

var vessels = []Vessel{
	{ID: 1, Name: "MV Petrel Dawn", Capacity: 620, Decks: 6, Hull: "#15496b"},
	{ID: 2, Name: "MV Tholm Lantern", Capacity: 480, Decks: 5, Hull: "#7a2e3a"},
	{ID: 3, Name: "MV Brackwing", Capacity: 210, Decks: 3, Hull: "#2f5d46"},
	{ID: 4, Name: "MV Lady Marrow", Capacity: 350, Decks: 4, Hull: "#3a3f6b"},
	{ID: 5, Name: "MV Ebb Runner", Capacity: 120, Decks: 2, Hull: "#8a5a1c"},
	{ID: 6, Name: "MV Northern Skerry", Capacity: 540, Decks: 5, Hull: "#26323a"},
}

// crossings are the lines, by port number, with minutes at sea and sailings a day.
var crossings = []struct{ from, to, minutes, perDay int }{
	{0, 1, 55, 14}, {1, 0, 55, 14}, {0, 3, 80, 8}, {3, 0, 80, 8}, {2, 4, 35, 12}, {4, 2, 35, 12}, {0, 2, 25, 16}, {2, 0, 25, 16},
	{1, 5, 40, 7}, {5, 1, 40, 7}, {3, 8, 20, 8}, {8, 3, 20, 8}, {0, 6, 130, 4}, {6, 0, 130, 4}, {1, 7, 30, 6}, {7, 1, 30, 6},
}

// generate fills the tables from a fixed seed, unless today's timetable is there.
func (c *Content) generate(ctx context.Context, now time.Time) error {
	today := now.UTC().Truncate(24 * time.Hour)
	var there bool
	err := c.pool.QueryRow(ctx, `select exists (select from sailing where departs_at >= $1) and exists (select from sailing where departs_at < $2)`,
		today.AddDate(0, 0, 3), today.AddDate(0, 0, 1)).Scan(&there)
	if err != nil || there {
		return err
	}
	return pgx.BeginFunc(ctx, c.pool, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `truncate booking, notice_port, notice, sailing, vessel, port restart identity`); err != nil {
			return err
		}
		for i, p := range ports {
			if _, err := tx.Exec(ctx, `insert into port (slug, name, island, facilities, rank) values ($1, $2, $3, $4, $5)`, p.Slug, p.Name, p.Island, p.Facilities, i); err != nil {
				return err
			}
		}
		for _, v := range vessels {
			if _, err := tx.Exec(ctx, `insert into vessel (id, name, capacity, decks, hull) values ($1, $2, $3, $4, $5)`, v.ID, v.Name, v.Capacity, v.Decks, v.Hull); err != nil {
				return err
			}
		}
		sailings := timetable(today.AddDate(0, 0, -daysBefore))
		if _, err := tx.CopyFrom(ctx, pgx.Identifier{"sailing"}, []string{"from_port", "to_port", "vessel_id", "departs_at", "arrives_at", "fare"}, pgx.CopyFromRows(sailings)); err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, firstNotices); err != nil {
			return err
		}
		_, err := tx.Exec(ctx, `insert into booking (customer, sailing_id)
			select c.name, s.id from (values ('ingrid'), ('calum'), ('sunniva')) c (name)
			cross join lateral (select id from sailing where departs_at > $1 order by (id * 7919 + length(c.name)) % 997, id limit 4) s`, today)
		return err
	})
}

const firstNotices = `
with n as (insert into notice (title, text, severity) values
	('Swell at Norrisay', 'Sailings to Norrisay may be up to 20 minutes late this week.', 'minor'),
	('Car deck full on Fridays', 'Book your car before Friday noon; foot passengers always find room.', 'info') returning id)
insert into notice_port select n.id, p.slug from n, port p where p.slug in ('norrisay', 'ostrel-quay')`

// timetable makes the rows of all sailings from a day on.
func timetable(first time.Time) [][]any {
	random := rand.New(rand.NewPCG(1889, 60))
	var all [][]any
	for day := range timetableDays {
		for line, c := range crossings {
			gap := 15 * time.Hour / time.Duration(c.perDay)
			for n := range c.perDay {
				departs := first.AddDate(0, 0, day).Add(6*time.Hour + time.Duration(n)*gap + time.Duration(random.IntN(4)*5)*time.Minute)
				fare := 4500 + c.minutes*110 + random.IntN(3)*500
				all = append(all, []any{ports[c.from].Slug, ports[c.to].Slug, 1 + (line/2+n)%len(vessels), departs, departs.Add(time.Duration(c.minutes) * time.Minute), fare})
			}
		}
	}
	return all
}

const sailingColumns = `select s.id, s.from_port, s.to_port, f.name, t.name, s.vessel_id, v.name, s.departs_at, s.arrives_at, s.status, s.fare, s.updated_at
	from sailing s join port f on f.slug = s.from_port join port t on t.slug = s.to_port join vessel v on v.id = s.vessel_id `

func scanSailing(row pgx.CollectableRow) (Sailing, error) {
	var s Sailing
	err := row.Scan(&s.ID, &s.From, &s.To, &s.FromName, &s.ToName, &s.VesselID, &s.Vessel, &s.Departs, &s.Arrives, &s.Status, &s.Fare, &s.Updated)
	s.Departs, s.Arrives, s.Updated = s.Departs.UTC(), s.Arrives.UTC(), s.Updated.UTC()
	return s, err
}

func (c *Content) sailings(ctx context.Context, where string, args ...any) ([]Sailing, error) {
	rows, err := c.pool.Query(ctx, sailingColumns+where, args...)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, scanSailing)
}

// Sailing returns one sailing; pgx.ErrNoRows if there is none.
func (c *Content) Sailing(ctx context.Context, id int) (Sailing, error) {
	found, err := c.sailings(ctx, `where s.id = $1`, id)
	if err == nil && len(found) == 0 {
		err = pgx.ErrNoRows
	}
	if err != nil {
		return Sailing{}, err
	}
	return found[0], nil
}

// sailingIn returns one sailing inside a transaction, and keeps others from changing it.
func sailingIn(ctx context.Context, tx pgx.Tx, id int) (Sailing, error) {
	rows, err := tx.Query(ctx, sailingColumns+`where s.id = $1 for update of s`, id)
	if err != nil {
		return Sailing{}, err
	}
	return pgx.CollectExactlyOneRow(rows, scanSailing)
}

// With returns the next sailings of a vessel.
func (c *Content) With(ctx context.Context, vessel int, now time.Time, limit int) ([]Sailing, error) {
	return c.sailings(ctx, `where s.vessel_id = $1 and s.departs_at >= $2 order by s.departs_at, s.id limit $3`, vessel, now, limit)
}

// PageSize is how many departures a page holds.
const PageSize = 12

// Departures returns a page (from 1) of what leaves a port on a day.
func (c *Content) Departures(ctx context.Context, port string, day time.Time, page int) ([]Sailing, error) {
	return c.sailings(ctx, `where s.from_port = $1 and s.departs_at >= $2 and s.departs_at < $3 order by s.departs_at, s.id limit $4 offset $5`,
		port, day, day.AddDate(0, 0, 1), PageSize, (page-1)*PageSize)
}

// Next returns the next departures, of one port or (port "") of all.
func (c *Content) Next(ctx context.Context, port string, now time.Time, limit int) ([]Sailing, error) {
	return c.sailings(ctx, `where ($1 = '' or s.from_port = $1) and s.departs_at >= $2 order by s.departs_at, s.id limit $3`, port, now, limit)
}

// Port returns a port; pgx.ErrNoRows if there is none.
func (c *Content) Port(ctx context.Context, slug string) (Port, error) {
	var p Port
	err := c.pool.QueryRow(ctx, `select slug, name, island, facilities, updated_at from port where slug = $1`, slug).Scan(&p.Slug, &p.Name, &p.Island, &p.Facilities, &p.Updated)
	return p, err
}

// Ports lists all ports.
func (c *Content) Ports(ctx context.Context) ([]Port, error) {
	rows, err := c.pool.Query(ctx, `select slug, name, island, facilities, updated_at from port order by rank`)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByPos[Port])
}

// Vessel returns a vessel; pgx.ErrNoRows if there is none.
func (c *Content) Vessel(ctx context.Context, id int) (Vessel, error) {
	var v Vessel
	err := c.pool.QueryRow(ctx, `select id, name, capacity, decks, hull, updated_at from vessel where id = $1`, id).Scan(&v.ID, &v.Name, &v.Capacity, &v.Decks, &v.Hull, &v.Updated)
	return v, err
}

// Notices returns the messages in force, of one port or (port "") of all.
func (c *Content) Notices(ctx context.Context, port string) ([]Notice, error) {
	rows, err := c.pool.Query(ctx, `select id, title, text, severity from notice n where until_at > now()
		and ($1 = '' or exists (select from notice_port p where p.notice_id = n.id and p.port = $1)) order by id desc limit 3`, port)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByPos[Notice])
}

// Bookings are a customer's.
func (c *Content) Bookings(ctx context.Context, customer string) ([]Sailing, error) {
	return c.sailings(ctx, `join booking b on b.sailing_id = s.id where b.customer = $1 order by s.departs_at`, customer)
}
