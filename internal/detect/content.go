package detect

import (
	"context"
	"fmt"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/jackc/pgx/v5/pgxpool"

	"gerastic/internal/core/policy"
)

// content is a database that an application keeps its content in, to read and no more. In every one
// of them $1, $2, … stand for the values of a query.
type content interface {
	// rows calls each with the rows of a query, as text by column; nil is null. Rows are not kept:
	// memory does not grow with their number.
	rows(ctx context.Context, query string, args []string, each func(map[string]*string) error) error
	// describe learns what the cursor of a query is, and its columns.
	describe(ctx context.Context, query string) (cursorType, []string, error)
	// first is where the first run of a query begins: at the end. What is older is not news.
	first(ctx context.Context, query string, of cursorType) (end string, err error)
	// span is where reading goes on from a cursor, so much before it, and, of times, the time that it is
	// now: both as cursors.
	span(ctx context.Context, cursor string, of cursorType, overlap time.Duration) (start, limit string, err error)
	// transactions are those of the database now.
	transactions(ctx context.Context) (transactions, error)
	close()
}

// cursorType is what a cursor is: a time or a number, and how the database calls it.
type cursorType struct {
	isTime bool
	name   string
}

// transactions are those of a content database: from oldest on they have not ended, from next on not
// begun. blind: the database does not show them.
type transactions struct {
	oldest, next int64
	blind        bool
}

// pools are the connections to content databases, by their addresses: a change costs a query,
// not a connection.
type pools struct {
	mu    sync.Mutex
	all   map[string]content
	ended bool
}

// restingPool is for how long a connection rests before it is closed, and mostConnections how many
// there are to a database.
const (
	restingPool     = time.Minute
	mostConnections = 8
	connectWithin   = 5 * time.Second
)

// of returns the connections to a database.
func (p *pools) of(ctx context.Context, url string) (content, error) {
	p.mu.Lock()
	known := p.all[url]
	p.mu.Unlock()
	if known != nil {
		return known, nil
	}
	opened, err := openContent(ctx, url)
	if err != nil {
		return nil, err
	}
	kept, err := p.add(url, opened)
	if kept != opened {
		opened.close() // somebody was faster, or it is too late; nothing of it is in use
	}
	return kept, err
}

// postgres returns the connections to a database that must be PostgreSQL.
func (p *pools) postgres(ctx context.Context, url string) (*pgxpool.Pool, error) {
	opened, err := p.of(ctx, url)
	if err != nil {
		return nil, err
	}
	of, is := opened.(postgres)
	if !is {
		return nil, fmt.Errorf("this kind of source reads PostgreSQL only; of others, a table is read")
	}
	return of.Pool, nil
}

// openContent connects to a database.
func openContent(ctx context.Context, url string) (content, error) {
	ctx, cancel := context.WithTimeout(ctx, connectWithin)
	defer cancel()
	var opened content
	var err error
	switch kind, _ := policy.DatabaseKind(url); kind {
	case policy.MariaDB:
		opened, err = openMariaDB(ctx, url)
	case policy.SQLite:
		opened, err = openSQLite(ctx, url)
	default:
		opened, err = openPostgres(ctx, url)
	}
	if err != nil {
		return nil, fmt.Errorf("connecting to the content database: %w", err)
	}
	return opened, nil
}

// add keeps connections, unless there are some already, which it returns.
func (p *pools) add(url string, opened content) (content, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	switch {
	case p.ended:
		return nil, context.Canceled
	case p.all[url] != nil:
		return p.all[url], nil
	case p.all == nil:
		p.all = map[string]content{}
	}
	p.all[url] = opened
	return opened, nil
}

// keep closes the connections to databases that are not named any more, when those who use
// them have ended.
func (p *pools) keep(named map[string]bool) {
	var closing []content
	p.mu.Lock()
	for url, opened := range p.all {
		if !named[url] {
			closing = append(closing, opened)
			delete(p.all, url)
		}
	}
	p.mu.Unlock()
	for _, opened := range closing {
		opened.close()
	}
}

// end closes all of them.
func (p *pools) end() {
	p.mu.Lock()
	p.ended = true
	p.mu.Unlock()
	p.keep(nil)
}

// rewritten is a query with its places, $1 and so on, in another form; order are the numbers of the
// places in the order in which they come. What is quoted, or a comment, stays as it is.
func rewritten(query string, form func(n int) string) (text string, order []int) {
	var b strings.Builder
	for i := 0; i < len(query); {
		if end := quotedUntil(query, i); end > i {
			b.WriteString(query[i:end])
			i = end
			continue
		}
		digits := 0
		for query[i] == '$' && i+1+digits < len(query) && query[i+1+digits] >= '0' && query[i+1+digits] <= '9' {
			digits++
		}
		if n, err := strconv.Atoi(query[i+1 : i+1+digits]); err == nil {
			b.WriteString(form(n))
			order = append(order, n)
			i += 1 + digits
			continue
		}
		b.WriteByte(query[i])
		i++
	}
	return b.String(), order
}

// quotedUntil is where what is quoted, or a comment, ends that begins at a place; the place itself if
// nothing of the kind does.
func quotedUntil(query string, at int) int {
	rest := query[at:]
	for opens, closes := range map[string]string{"'": "'", `"`: `"`, "`": "`", "--": "\n", "/*": "*/"} {
		if strings.HasPrefix(rest, opens) {
			if n := strings.Index(rest[len(opens):], closes); n >= 0 {
				return at + len(opens) + n + len(closes)
			}
			return len(query)
		}
	}
	return at
}

// checkPlaces holds a query with a cursor to one place.
func checkPlaces(order []int) error {
	for _, n := range order {
		if n != 1 {
			return fmt.Errorf("the query has a place $%d; it takes one value, $1, the cursor", n)
		}
	}
	if len(order) == 0 {
		return fmt.Errorf("the query has no place $1 for the cursor")
	}
	return nil
}
