package detect

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"net/url"
	"os"
	"strconv"
	"strings"
	"time"
)

// sqlite is a file of SQLite. One transaction writes at a time, so that what is committed later was
// written later. Times are text, in UTC; what a column is declared as says what a cursor is, or else the
// first value.
type sqlite struct{ *sql.DB }

// openSQLite opens sqlite:FILE.
func openSQLite(ctx context.Context, address string) (content, error) {
	file := strings.TrimPrefix(strings.TrimPrefix(address, "sqlite:"), "//")
	if about, err := os.Stat(file); err != nil {
		return nil, err
	} else if about.IsDir() {
		return nil, fmt.Errorf("%s is a directory; write sqlite:FILE", file)
	}
	options := url.Values{"mode": {"ro"}, "_pragma": {"busy_timeout(5000)", "query_only(1)"}}
	db, err := sql.Open("sqlite", "file:"+(&url.URL{Path: file}).EscapedPath()+"?"+options.Encode())
	if err != nil {
		return nil, err
	}
	db.SetMaxOpenConns(mostConnections)
	db.SetConnMaxIdleTime(restingPool)
	var version int
	if err := db.QueryRowContext(ctx, "pragma schema_version").Scan(&version); err != nil {
		db.Close()
		return nil, fmt.Errorf("%s: %w", file, err)
	}
	return sqlite{db}, nil
}

func (s sqlite) close() { s.Close() }

// quoted is the name of a column in a query.
func (s sqlite) quoted(name string) string { return `"` + strings.ReplaceAll(name, `"`, `""`) + `"` }

func (s sqlite) form(query string) (text string, order []int) {
	return rewritten(query, func(n int) string { return "?" + strconv.Itoa(n) })
}

// rows makes text of every value: the driver would read times its own way.
func (s sqlite) rows(ctx context.Context, query string, args []string, each func(map[string]*string) error) error {
	text, order := s.form(query)
	if _, err := inOrder(args, order); err != nil {
		return err
	}
	columns, _, err := s.columns(ctx, text, len(args))
	if err != nil {
		return err
	}
	values := make([]any, len(args))
	for i, arg := range args {
		if values[i] = arg; isNumber(arg) {
			values[i], _ = strconv.ParseInt(arg, 10, 64)
		}
	}
	picked := make([]string, len(columns))
	for i, name := range columns {
		picked[i] = fmt.Sprintf("q.%[1]s || '' as %[1]s", s.quoted(name))
	}
	return readSQL(ctx, s, "select "+strings.Join(picked, ", ")+" from ("+text+"\n) q", values, each)
}

// isNumber reports whether a value is compared as a number: text is greater than any.
func isNumber(text string) bool {
	_, err := strconv.ParseInt(text, 10, 64)
	return err == nil
}

// columns are the names and declared types of a query's columns, "" where none is declared.
func (s sqlite) columns(ctx context.Context, text string, values int) (names, declared []string, err error) {
	rows, err := s.QueryContext(ctx, "select * from ("+text+"\n) q limit 0", make([]any, values)...)
	if err != nil {
		return nil, nil, err
	}
	defer rows.Close()
	types, err := rows.ColumnTypes()
	if err != nil {
		return nil, nil, err
	}
	for _, column := range types {
		names, declared = append(names, column.Name()), append(declared, column.DatabaseTypeName())
	}
	return names, declared, rows.Err()
}

func (s sqlite) describe(ctx context.Context, query string) (of cursorType, columns []string, err error) {
	text, order := s.form(query)
	if err := checkPlaces(order); err != nil {
		return of, nil, err
	}
	columns, declared, err := s.columns(ctx, text, 1)
	if err != nil {
		return of, nil, err
	}
	for i, name := range columns {
		if name != "cursor" {
			continue
		}
		if known, ok := typeOf(declared[i]); ok {
			return known, columns, nil
		}
		of, err = s.typeOfFirst(ctx, text)
	}
	return of, columns, err
}

// typeOfFirst learns what a cursor is from the first value; while there is none it counts as a number,
// since any text is greater than that.
func (s sqlite) typeOfFirst(ctx context.Context, text string) (of cursorType, err error) {
	var kind string
	err = s.QueryRowContext(ctx, `select typeof(q."cursor") from (`+text+"\n) q limit 1", int64(-1<<62)).Scan(&kind)
	switch {
	case errors.Is(err, sql.ErrNoRows), err == nil && kind == "integer":
		return cursorType{false, "integer"}, nil
	case err == nil && kind == "text":
		return cursorType{true, "text"}, nil
	case err == nil:
		return of, fmt.Errorf("the column cursor is a %s; it must be a time, as text, or a whole number", kind)
	}
	return of, err
}

func (s sqlite) first(ctx context.Context, query string, of cursorType) (end string, err error) {
	otherwise := leastNumber
	if of.isTime {
		otherwise = noTime
	}
	return lastOf(ctx, s, `select max(q."cursor") as "end" from (`+query+"\n) q", leastNumber, otherwise)
}

func (s sqlite) span(_ context.Context, cursor string, of cursorType, overlap time.Duration) (start, limit string, err error) {
	if !of.isTime {
		start, err = before(cursor)
		return start, "", err
	}
	// Text is compared: in the form that the rows have, and in whole seconds, before any fraction.
	layout := "2006-01-02 15:04:05"
	if len(cursor) > 10 && cursor[10] == 'T' {
		layout = "2006-01-02T15:04:05"
	}
	limit = time.Now().UTC().Format(layout + ".000000") // the file is of this machine
	if cursor == noTime || isNumber(cursor) {
		return leastNumber, limit, nil
	}
	t, err := parseTime(cursor)
	if err != nil {
		return "", "", err
	}
	return t.Add(-overlap - time.Second).UTC().Format(layout), limit, nil
}

func (s sqlite) transactions(context.Context) (transactions, error) { return transactions{}, nil }
