package detect

import (
	"context"
	"database/sql"
	"fmt"
	"math/big"
	"strings"
	"time"
)

// noTime is the cursor before every time, and leastNumber the one before every number.
const (
	noTime      = "-infinity"
	leastNumber = "-9223372036854775807"
)

// timeLayouts are how the databases write times; without a zone they count as UTC.
var timeLayouts = []string{
	"2006-01-02 15:04:05.999999-07", "2006-01-02 15:04:05.999999-07:00", "2006-01-02 15:04:05.999999",
	"2006-01-02T15:04:05.999999Z07:00", "2006-01-02T15:04:05.999999", "2006-01-02 15:04:05.999999Z", "2006-01-02 15:04", "2006-01-02",
}

// parseTime reads a cursor that is a time.
func parseTime(text string) (t time.Time, err error) {
	for _, layout := range timeLayouts {
		if t, err = time.Parse(layout, text); err == nil {
			return t, nil
		}
	}
	return t, fmt.Errorf("the cursor %q is not a time; write it as 2026-05-17 06:00:00.123456, in UTC", text)
}

// lastOf is the value of the column end of the one row of a query whose place has the least value;
// otherwise, if there is none.
func lastOf(ctx context.Context, c content, query, least, otherwise string) (end string, err error) {
	end = otherwise
	err = c.rows(ctx, query, []string{least}, func(row map[string]*string) error {
		if row["end"] != nil {
			end = *row["end"]
		}
		return nil
	})
	return end, err
}

// before is the number before a cursor.
func before(cursor string) (string, error) {
	n, ok := new(big.Float).SetPrec(128).SetString(cursor)
	if !ok {
		return "", fmt.Errorf("the cursor %q is not a number", cursor)
	}
	whole, _ := n.Int(nil)
	return whole.Sub(whole, big.NewInt(1)).String(), nil
}

// readSQL calls each with the rows of a query, as text by column.
func readSQL(ctx context.Context, db interface {
	QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error)
}, query string, args []any, each func(map[string]*string) error) error {
	rows, err := db.QueryContext(ctx, query, args...)
	if err != nil {
		return err
	}
	defer rows.Close()
	columns, err := rows.Columns()
	if err != nil {
		return err
	}
	values, into := make([]sql.NullString, len(columns)), make([]any, len(columns))
	for i := range values {
		into[i] = &values[i]
	}
	row := map[string]*string{}
	for rows.Next() {
		if err := rows.Scan(into...); err != nil {
			return err
		}
		clear(row)
		for i, name := range columns {
			row[name] = nil
			if values[i].Valid {
				text := values[i].String
				row[name] = &text
			}
		}
		if err := each(row); err != nil {
			return err
		}
	}
	return rows.Err()
}

// inOrder are the values of a query whose places come in an order.
func inOrder(args []string, order []int) (values []any, err error) {
	for _, n := range order {
		if n < 1 || n > len(args) {
			return nil, fmt.Errorf("the query has a place $%d, and there are %d values", n, len(args))
		}
		values = append(values, args[n-1])
	}
	return values, nil
}

// typeOf learns what a cursor is from how its column is called in the database.
func typeOf(column string) (of cursorType, ok bool) {
	column = strings.ToUpper(column)
	for _, name := range []string{"DATE", "TIME"} {
		if strings.Contains(column, name) {
			return cursorType{true, column}, true
		}
	}
	for _, name := range []string{"INT", "DECIMAL", "NUMERIC", "YEAR"} {
		if strings.Contains(column, name) {
			return cursorType{false, column}, true
		}
	}
	return of, false
}
