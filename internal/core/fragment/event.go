package fragment

import (
	"time"

	"gerastic/internal/core/meter"
)

// Event is what became of a fragment.
type Event struct {
	ID      ID
	Outcome Became
	Took    time.Duration // to find it, or to make it
	Bytes   int64         // of its body, as it is stored
}

// Became is what became of a fragment.
type Became uint8

// Found: somebody was given what was there. Waited: they waited for what somebody else made.
// Filled: it was missing, or stale, and was made. StoredDirectly: it was stored although nobody
// asked for it. Dropped: by its key.
const (
	Found Became = iota
	Waited
	Filled
	StoredDirectly
	Dropped
)

var becameNames = [...]string{"found", "waited", "filled", "stored", "dropped"}

// String is its name in the API.
func (b Became) String() string { return becameNames[b] }

// IsBecame reports whether a text is the name of one.
func IsBecame(name string) bool {
	for _, known := range becameNames {
		if name == known {
			return true
		}
	}
	return false
}

// outcomeOf is what becomes of what is found.
var outcomeOf = map[meter.Outcome]Became{meter.Hit: Found, meter.Stale: Found, meter.Joined: Waited}

// Audience are those who see what becomes of fragments.
type Audience interface {
	// Count is how many they are.
	Count() int
	// Tell shows them an event.
	Tell(event func() Event)
}

func (f *Fragments) tell(id ID, outcome Became, took time.Duration, bytes int64) {
	if f.Audience != nil && f.Audience.Count() > 0 {
		f.Audience.Tell(func() Event { return Event{id, outcome, took, bytes} })
	}
}

// Dropped tells that a fragment was dropped by its key.
func (f *Fragments) Dropped(id ID) { f.tell(id, Dropped, 0, 0) }
