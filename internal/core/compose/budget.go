package compose

import (
	"errors"
	"fmt"
	"sync"
)

// Limits of one page, all that is in it included.
const (
	// MaxIncludes is how many includes are got for one page, however deep in one another.
	MaxIncludes = 256
	// MaxSize is the most that a composed page may hold, and that may be held to make it, in
	// bytes.
	MaxSize = 32 << 20
	// MaxURL is the longest URL of an include, its variables filled in, in bytes.
	MaxURL = 16 << 10
)

// Errors of a composition.
var (
	ErrTooMany  = fmt.Errorf("a page may include %d includes at most", MaxIncludes)
	ErrTooLarge = fmt.Errorf("a composed page may hold %d bytes at most", MaxSize)
	ErrLongURL  = fmt.Errorf("the URL of an include has more than %d bytes, its variables filled in", MaxURL)
	ErrNoRoom   = errors.New("the node has no room for more pages that are being composed")
)

// Budget is what may still be spent on one page: its includes, and theirs, share it. Safe for
// concurrent use.
type Budget struct {
	room func(bytes int64) bool

	mu       sync.Mutex
	includes int
	spent    int64
	granted  int64 // that room gave
}

// step is how much room is asked for at a time, in bytes; the first is free.
const budgetStep = 64 << 10

// NewBudget returns the budget of a page. room says whether so many bytes more may be held.
func NewBudget(room func(bytes int64) bool) *Budget { return &Budget{room: room} }

// Spend takes bytes that are held until the page is sent.
func (b *Budget) Spend(bytes int64) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.spent+bytes > MaxSize {
		return ErrTooLarge
	}
	if lacking := b.spent + bytes - budgetStep - b.granted; lacking > 0 {
		more := (lacking + budgetStep - 1) / budgetStep * budgetStep
		if !b.room(more) {
			return ErrNoRoom
		}
		b.granted += more
	}
	b.spent += bytes
	return nil
}

// Include takes one include.
func (b *Budget) Include() error {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.includes++; b.includes > MaxIncludes {
		return ErrTooMany
	}
	return nil
}

// End returns how much room was given, which is not needed any more.
func (b *Budget) End() (granted int64) {
	b.mu.Lock()
	defer b.mu.Unlock()
	granted, b.granted = b.granted, 0
	return granted
}
