package detect

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgtype"
	"github.com/jackc/pgx/v5/pgxpool"
)

// postgres is a PostgreSQL database. A place's type says what a cursor is.
type postgres struct{ *pgxpool.Pool }

func openPostgres(ctx context.Context, url string) (content, error) {
	config, err := pgxpool.ParseConfig(url)
	if err != nil {
		return nil, fmt.Errorf("reading its address: %w", err)
	}
	config.MaxConns = mostConnections
	config.MaxConnIdleTime = restingPool
	config.ConnConfig.ConnectTimeout = connectWithin
	params := config.ConnConfig.RuntimeParams
	params["application_name"], params["timezone"], params["datestyle"] = "gerastic changes", "UTC", "ISO"
	params["default_transaction_read_only"] = "on"
	pool, err := pgxpool.NewWithConfig(context.WithoutCancel(ctx), config)
	if err == nil {
		err = pool.Ping(ctx)
	}
	if err != nil {
		if pool != nil {
			pool.Close()
		}
		return nil, err
	}
	return postgres{pool}, nil
}

func (p postgres) close() { p.Close() }

func (p postgres) rows(ctx context.Context, query string, args []string, each func(map[string]*string) error) error {
	values := []any{pgx.QueryResultFormats{pgx.TextFormatCode}}
	for _, arg := range args {
		values = append(values, arg)
	}
	rows, err := p.Query(ctx, query, values...)
	if err != nil {
		return err
	}
	defer rows.Close()
	row := map[string]*string{}
	for rows.Next() {
		clear(row)
		for i, value := range rows.RawValues() {
			row[rows.FieldDescriptions()[i].Name] = nil
			if value != nil {
				text := string(value)
				row[rows.FieldDescriptions()[i].Name] = &text
			}
		}
		if err := each(row); err != nil {
			return err
		}
	}
	return rows.Err()
}

func (p postgres) describe(ctx context.Context, query string) (of cursorType, columns []string, err error) {
	conn, err := p.Acquire(ctx)
	if err != nil {
		return of, nil, err
	}
	defer conn.Release()
	d, err := conn.Conn().Prepare(ctx, "", query)
	if err != nil {
		return of, nil, err
	}
	if len(d.ParamOIDs) != 1 {
		return of, nil, fmt.Errorf("the query has %d parameters; it takes one, $1, the cursor", len(d.ParamOIDs))
	}
	for _, f := range d.Fields {
		columns = append(columns, f.Name)
	}
	switch d.ParamOIDs[0] {
	case pgtype.TimestamptzOID:
		return cursorType{true, "timestamptz"}, columns, nil
	case pgtype.TimestampOID:
		return cursorType{true, "timestamp"}, columns, nil
	case pgtype.Int8OID, pgtype.Int4OID, pgtype.Int2OID, pgtype.NumericOID:
		return cursorType{false, "bigint"}, columns, nil
	}
	return of, nil, errors.New("the cursor must be compared with a time or a whole number; write updated_at > $1, or $1::timestamptz")
}

func (p postgres) first(ctx context.Context, query string, of cursorType) (end string, err error) {
	if of.name == "timestamptz" {
		return end, p.QueryRow(ctx, `select clock_timestamp()::text`).Scan(&end)
	}
	// Whose clock a time without its zone follows, only the rows know.
	end, least := "0", leastNumber
	if of.isTime {
		end, least = noTime, noTime
	}
	return lastOf(ctx, p, `select max(q.cursor)::text as "end" from (`+query+"\n) q", least, end)
}

func (p postgres) span(ctx context.Context, cursor string, of cursorType, overlap time.Duration) (start, limit string, err error) {
	if of.isTime {
		err = p.QueryRow(ctx, fmt.Sprintf(`select ($1::text::%[1]s - $2::text::interval)::text, clock_timestamp()::%[1]s::text`, of.name), cursor, fmt.Sprintf("%f seconds", overlap.Seconds())).Scan(&start, &limit)
	} else {
		err = p.QueryRow(ctx, fmt.Sprintf(`select ($1::text::numeric - 1)::%s::text`, of.name), cursor).Scan(&start)
	}
	return start, limit, err
}

func (p postgres) transactions(ctx context.Context) (t transactions, err error) {
	err = p.QueryRow(ctx, `select pg_snapshot_xmin(s)::text::bigint, pg_snapshot_xmax(s)::text::bigint from pg_current_snapshot() s`).Scan(&t.oldest, &t.next)
	return t, err
}
