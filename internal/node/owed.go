package node

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"slices"
	"sync"

	"gerastic/internal/core/tags"
	"gerastic/internal/records"
)

// owed are the invalidations that the ledger could not take: on disk, so that a crash loses
// none, until they are written. A line is one of them.
type owed struct {
	path string

	syncing sync.Mutex // held by the one who waits for the disk; those who come meanwhile find it done
	synced  uint64     // so many lines are on disk for good

	mu      sync.Mutex
	written uint64   // lines since the start
	file    *os.File // open to be added to; nil before the first
	lines   [][]byte
	taken   int             // of the lines, the first, that are being written to the ledger
	known   map[string]bool // of the lines those that are not being written to the ledger, so that each is kept once
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
	if !order.IsText() { // JSON would keep it as something else
		order = everything("an invalidation that is not text")
	}
	line, err := json.Marshal(order)
	if err != nil {
		return err
	}
	last, err := o.add(line)
	if err != nil {
		return err
	}
	return o.sync(last)
}

// add writes a line, unless it is there, and returns how many must be on disk for it to be.
func (o *owed) add(line []byte) (last uint64, err error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.known[string(line)] {
		return o.written, nil
	}
	if len(o.lines) >= mostOwed {
		return 0, o.replace(everything("more invalidations than are kept apart"))
	}
	if o.file == nil {
		if o.file, err = os.OpenFile(o.path, os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o600); err != nil {
			return 0, err
		}
	}
	if _, err := o.file.Write(append(line, '\n')); err != nil {
		return 0, err
	}
	o.lines, o.known[string(line)] = append(o.lines, line), true
	o.written++
	return o.written, nil
}

// sync waits until so many lines are on disk. Many who come together wait for it once.
func (o *owed) sync(last uint64) error {
	o.syncing.Lock()
	defer o.syncing.Unlock()
	if o.synced >= last {
		return nil
	}
	o.mu.Lock()
	file, written := o.file, o.written
	o.mu.Unlock()
	if file != nil {
		if err := file.Sync(); err != nil && !errors.Is(err, os.ErrClosed) { // it was replaced meanwhile by one that is
			return err
		}
	}
	o.synced = written
	return nil
}

// replace keeps one instead of all others. Under mu, or before others know of o.
func (o *owed) replace(order records.Order) error {
	line, err := json.Marshal(order)
	if err != nil {
		return err
	}
	o.known = map[string]bool{string(line): true}
	return o.keep([][]byte{line})
}

// keep keeps these lines, and no others. Under mu, or before others know of o.
func (o *owed) keep(lines [][]byte) error {
	var text []byte
	for _, line := range lines {
		text = append(append(text, line...), '\n')
	}
	if err := writeWhole(o.path, text); err != nil {
		return err
	}
	if o.file != nil {
		o.file.Close() // it was of the file that was replaced
		o.file = nil
	}
	o.lines, o.taken = slices.Clone(lines), 0
	return nil
}

// begin hands out what is owed, to be written to the ledger. Until end is called, the same may
// be owed again: what was changed after it came into the ledger is not covered by it.
func (o *owed) begin() (orders []records.Order, end func(paid bool) error, err error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	for _, line := range o.lines {
		var order records.Order
		if err := json.Unmarshal(line, &order); err != nil {
			return nil, nil, err
		}
		orders = append(orders, order)
	}
	o.known, o.taken = map[string]bool{}, len(o.lines)
	return orders, func(paid bool) error {
		o.mu.Lock()
		defer o.mu.Unlock()
		if paid {
			return o.keep(o.lines[o.taken:])
		}
		for _, line := range o.lines[:o.taken] {
			o.known[string(line)] = true
		}
		o.taken = 0
		return nil
	}, nil
}

// close closes the file; what is owed stays in it.
func (o *owed) close() {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.file != nil {
		o.file.Close()
		o.file = nil
	}
}

// payOwed writes to the ledger what is owed to it. What it refuses becomes a purge of
// everything: some of it would be lost.
func (n *Node) payOwed(ctx context.Context) error {
	if n.owed.len() == 0 {
		return nil
	}
	orders, end, err := n.owed.begin()
	if err != nil {
		return err
	}
	for batch := range slices.Chunk(orders, batch) {
		if err := n.pay(ctx, batch); err != nil {
			return errors.Join(fmt.Errorf("writing what is owed to the ledger: %w", err), end(false))
		}
	}
	n.log.Warn("invalidations that were kept on disk are in the ledger now", "purges", len(orders))
	return end(true)
}

// pay writes orders to the ledger; if it refuses some, one by one.
func (n *Node) pay(ctx context.Context, orders []records.Order) error {
	_, err := n.append(ctx, orders)
	if !records.Unwritable(err) {
		return err
	}
	if len(orders) > 1 {
		for i := range orders {
			if err := n.pay(ctx, orders[i:i+1]); err != nil {
				return err
			}
		}
		return nil
	}
	n.log.Error("the ledger refuses an invalidation that it is owed; everything is purged instead", "error", err)
	_, err = n.append(ctx, []records.Order{everything("an invalidation that the ledger refuses")})
	return err
}
