package node

import (
	"context"
	"errors"
	"sync"
	"time"

	"gerastic/internal/core/meter"
	"gerastic/internal/records"
)

// FlushEvery is how often figures go to the database: what a crash can lose.
const FlushEvery = 10 * time.Second

// backlog are figures that were drained from the meter and are not in the database.
type backlog struct {
	mu    sync.Mutex
	cells meter.Cells
}

// Pending are the figures that are not in the database yet.
func (n *Node) Pending() meter.Cells {
	n.figures.mu.Lock()
	defer n.figures.mu.Unlock()
	n.drain()
	pending := meter.Cells{}
	pending.Merge(n.figures.cells)
	return pending
}

// drain moves what the meter counted into the backlog. Under figures.mu.
func (n *Node) drain() {
	if n.figures.cells == nil {
		n.figures.cells = meter.Cells{}
	}
	n.figures.cells.Merge(n.meter.Drain())
}

// flushFigures saves the figures at every tenth second of the clock.
func (n *Node) flushFigures() {
	compacted, noted := time.Now(), time.Now()
	for n.tasks.Life().Err() == nil {
		n.pause(time.Until(time.Now().Truncate(FlushEvery).Add(FlushEvery)))
		if n.tasks.Life().Err() != nil {
			return // Stop saves the last of them
		}
		n.saveFigures(n.tasks.Life())
		if err := n.SaveSizes(n.tasks.Life()); err != nil && !errors.Is(err, ErrNoDatabase) {
			n.log.Warn("the sizes could not be saved; they are kept for the next try", "error", err)
		}
		if time.Since(noted) > time.Minute {
			noted = time.Now()
			n.noteCurve()
		}
		if rec := n.known(); rec != nil && time.Since(compacted) > time.Hour {
			compacted = time.Now()
			n.forgetOld(rec, compacted)
		}
	}
}

// forgetOld takes out of the records what is older than anyone asks for.
func (n *Node) forgetOld(rec records.Records, now time.Time) {
	for _, old := range []struct {
		what   string
		forget func(ctx context.Context, now time.Time) error
	}{
		{"figures", rec.CompactFigures}, {"sizes", rec.ForgetSizes}, {"marks", rec.ForgetMarks}, {"runs", rec.ForgetRuns}, {"purges", rec.ForgetPurges},
	} {
		if err := old.forget(n.tasks.Life(), now); err != nil {
			n.log.Warn("old records could not be merged or forgotten", "what", old.what, "error", err)
		}
	}
}

// saveFigures writes the backlog as one bucket: that of the ten seconds before now. It
// stays, and grows, while the database cannot be reached.
func (n *Node) saveFigures(ctx context.Context) {
	n.figures.mu.Lock()
	defer n.figures.mu.Unlock()
	n.drain()
	rec := n.known()
	if rec == nil || len(n.figures.cells) == 0 {
		return
	}
	at := time.Now().Add(-FlushEvery / 2).Truncate(FlushEvery)
	if err := rec.SaveFigures(ctx, n.settings.Name, at, n.figures.cells, false); err != nil {
		n.log.Warn("figures could not be saved; they are kept for the next try", "error", err)
		return
	}
	n.figures.cells = meter.Cells{}
}
