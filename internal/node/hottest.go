package node

import (
	"context"
	"encoding/json"
	"net/http"
	"os"
	"path/filepath"
	"time"

	"gerastic/internal/prime"
	"gerastic/internal/records"
)

// What was asked for most is kept on disk and in the records, so that it can be brought back after
// a start.

const (
	mostHottest  = 10_000
	hottestEvery = time.Minute
)

func (n *Node) hottestPath() string { return filepath.Join(n.settings.Data, "hottest.json") }

// Primes are the jobs that fill the store before visitors ask.
func (n *Node) Primes() *prime.Primer { return n.primes }

// previous is what was asked for most before this start: as this directory has it, or the records.
func (n *Node) previous() []prime.Target {
	if n.hottest != nil {
		return n.hottest
	}
	rec, err := n.Records()
	if err != nil {
		return nil
	}
	text, err := rec.Hottest(n.tasks.Life(), n.settings.Name, n.started)
	if err != nil {
		n.log.Warn("what was asked for most before the start cannot be read", "error", err)
		return nil
	}
	var all []prime.Target
	if json.Unmarshal(text, &all) != nil {
		return nil
	}
	return all
}

func (n *Node) loadHottest() {
	text, err := os.ReadFile(n.hottestPath())
	if err == nil && json.Unmarshal(text, &n.hottest) != nil {
		n.log.Warn("what was asked for most before the start cannot be read", "file", n.hottestPath())
	}
}

// keepHottest keeps the list again and again.
func (n *Node) keepHottest() {
	for n.tasks.Life().Err() == nil {
		n.pause(hottestEvery)
		if rec, err := n.Records(); err == nil && n.tasks.Life().Err() == nil {
			n.saveHottest(n.tasks.Life(), rec)
		}
	}
}

// saveHottest keeps what is asked for most now; nothing, if that is nothing. rec may be nil.
func (n *Node) saveHottest(ctx context.Context, rec records.Records) {
	all := []prime.Target{}
	for _, l := range n.store.Hottest(mostHottest) {
		if l.Fragment() || l.Method != http.MethodGet || l.Personal || l.Failure {
			continue
		}
		t := prime.Target{URL: l.URL()}
		for _, v := range l.Vary {
			if v.Present && v.Name != "Cookie" && v.Name != "Authorization" {
				if t.Header == nil {
					t.Header = http.Header{}
				}
				t.Header[v.Name] = []string{v.Value}
			}
		}
		all = append(all, t)
	}
	if len(all) == 0 {
		return
	}
	text, err := json.Marshal(all)
	if err == nil {
		err = writeWhole(n.hottestPath(), text)
	}
	if err == nil && rec != nil {
		err = rec.KeepHottest(ctx, n.settings.Name, n.started, text)
	}
	if err != nil && ctx.Err() == nil {
		n.log.Warn("what is asked for most could not be kept", "error", err)
	}
}
