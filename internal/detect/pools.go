package detect

import (
	"context"
	"fmt"
	"sync"
	"time"

	"github.com/jackc/pgx/v5/pgxpool"
)

// pools are the connections to content databases, by their addresses: a change costs a query,
// not a connection.
type pools struct {
	mu    sync.Mutex
	all   map[string]*pgxpool.Pool
	ended bool
}

// restingPool is for how long a connection rests before it is closed.
const restingPool = time.Minute

// of returns the connections to a database, to read and no more.
func (p *pools) of(ctx context.Context, url string) (*pgxpool.Pool, error) {
	p.mu.Lock()
	pool := p.all[url]
	p.mu.Unlock()
	if pool != nil {
		return pool, nil
	}
	pool, err := openContent(ctx, url)
	if err != nil {
		return nil, err
	}
	kept, err := p.add(url, pool)
	if kept != pool {
		pool.Close() // somebody was faster, or it is too late; nothing of it is in use
	}
	return kept, err
}

// add keeps a pool, unless there is one already, which it returns.
func (p *pools) add(url string, pool *pgxpool.Pool) (*pgxpool.Pool, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	switch {
	case p.ended:
		return nil, context.Canceled
	case p.all[url] != nil:
		return p.all[url], nil
	case p.all == nil:
		p.all = map[string]*pgxpool.Pool{}
	}
	p.all[url] = pool
	return pool, nil
}

// keep closes the connections to databases that are not named any more, when those who use
// them have ended.
func (p *pools) keep(named map[string]bool) {
	var closing []*pgxpool.Pool
	p.mu.Lock()
	for url, pool := range p.all {
		if !named[url] {
			closing = append(closing, pool)
			delete(p.all, url)
		}
	}
	p.mu.Unlock()
	for _, pool := range closing {
		pool.Close()
	}
}

// end closes all of them.
func (p *pools) end() {
	p.mu.Lock()
	p.ended = true
	p.mu.Unlock()
	p.keep(nil)
}

// openContent connects to a content database, to read and no more.
func openContent(ctx context.Context, url string) (*pgxpool.Pool, error) {
	config, err := pgxpool.ParseConfig(url)
	if err != nil {
		return nil, fmt.Errorf("reading the content database's address: %w", err)
	}
	config.MaxConns = 8
	config.MaxConnIdleTime = restingPool
	config.ConnConfig.ConnectTimeout = 5 * time.Second
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
		return nil, fmt.Errorf("connecting to the content database: %w", err)
	}
	return pool, nil
}
