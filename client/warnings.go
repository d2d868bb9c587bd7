package client

import (
	"sync"
	"time"
)

// warn logs, of each text at most once in ten seconds.
func (s *Fragments) warn(text string, err error) {
	if !s.warned.first(text) {
		return
	}
	if err == nil {
		s.options.Log.Warn(text)
		return
	}
	s.options.Log.Warn(text, "error", err)
}

// warnings are the texts that were logged lately.
type warnings struct {
	mu   sync.Mutex
	last map[string]time.Time
}

func (w *warnings) first(text string) bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	now := time.Now()
	if at, known := w.last[text]; known && now.Sub(at) < 10*time.Second {
		return false
	}
	if w.last == nil || len(w.last) >= 100 {
		w.last = map[string]time.Time{}
	}
	w.last[text] = now
	return true
}
