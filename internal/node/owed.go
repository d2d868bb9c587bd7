package node

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"os"
	"sync"

	"gerastic/internal/core/tags"
	"gerastic/internal/records"
)

// owed are the invalidations that the ledger could not take: on disk, so that a crash loses
// none, until they are written. A line is one of them.
type owed struct {
	path string

	mu    sync.Mutex
	file  *os.File // open to be added to; nil before the first
	lines [][]byte
	known map[string]bool // the lines, so that each is kept once
}

// mostOwed is how many are kept. Beyond, they become one: a purge of everything.
const mostOwed = 10_000

// everything stands for what cannot be said more exactly.
func everything(why string) records.Order {
	return records.Order{Purge: tags.Purge{All: true}, Actor: "origin", Reason: why}
}

// openOwed reads what an earlier process left.
func openOwed(path string) (*owed, error) {
	o := &owed{path: path, known: map[string]bool{}}
	text, err := os.ReadFile(path)
	if os.IsNotExist(err) {
		return o, nil
	}
	if err != nil {
		return nil, fmt.Errorf("reading the invalidations that are owed to the ledger: %w", err)
	}
	for line := range bytes.SplitSeq(text, []byte("\n")) {
		var order records.Order
		switch {
		case len(line) == 0:
		case json.Unmarshal(line, &order) != nil: // half written, as the process died
			return o, o.replace(everything("an invalidation was only half kept"))
		default:
			o.lines, o.known[string(line)] = append(o.lines, line), true
		}
	}
	return o, nil
}

// len is how many there are.
func (o *owed) len() int {
	o.mu.Lock()
	defer o.mu.Unlock()
	return len(o.lines)
}

// owe keeps one more. It is on disk when owe returns.
func (o *owed) owe(order records.Order) error {
	line, err := json.Marshal(order)
	if err != nil {
		return err
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.known[string(line)] {
		return nil
	}
	if len(o.lines) >= mostOwed {
		return o.replace(everything("more invalidations than are kept apart"))
	}
	if o.file == nil {
		if o.file, err = os.OpenFile(o.path, os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o600); err != nil {
			return err
		}
	}
	if _, err := o.file.Write(append(line, '\n')); err != nil {
		return err
	}
	if err := o.file.Sync(); err != nil {
		return err
	}
	o.lines, o.known[string(line)] = append(o.lines, line), true
	return nil
}

// replace keeps these instead of all others. Under mu, or before others know of o.
func (o *owed) replace(orders ...records.Order) error {
	var text []byte
	var lines [][]byte
	known := map[string]bool{}
	for _, order := range orders {
		line, err := json.Marshal(order)
		if err != nil {
			return err
		}
		text, lines = append(append(text, line...), '\n'), append(lines, line)
		known[string(line)] = true
	}
	if err := writeWhole(o.path, text); err != nil {
		return err
	}
	if o.file != nil {
		o.file.Close() // it was of the file that was replaced
		o.file = nil
	}
	o.lines, o.known = lines, known
	return nil
}

// payOwed writes to the ledger what is owed to it. What it refuses becomes a purge of
// everything: some of it would be lost.
func (n *Node) payOwed(ctx context.Context) error {
	o := n.owed
	o.mu.Lock()
	defer o.mu.Unlock()
	paid := len(o.lines)
	if paid == 0 {
		return nil
	}
	for from := 0; from < paid; from += batch {
		orders := make([]records.Order, min(batch, paid-from))
		for i := range orders {
			if err := json.Unmarshal(o.lines[from+i], &orders[i]); err != nil {
				return err
			}
		}
		_, err := n.append(ctx, orders)
		if records.Unwritable(err) {
			n.log.Error("the ledger refuses an invalidation that it is owed; everything is purged instead", "error", err)
			_, err = n.append(ctx, []records.Order{everything("an invalidation that the ledger refuses")})
		}
		if err != nil {
			return fmt.Errorf("writing what is owed to the ledger: %w", err)
		}
	}
	n.log.Warn("invalidations that were kept on disk are in the ledger now", "purges", paid)
	return o.replace()
}
