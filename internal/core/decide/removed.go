package decide

import (
	"gerastic/internal/core/meter"
	"gerastic/internal/core/store"
)

// Removed turns what the store remembers of a key that is not there any more into a cause.
func Removed(why store.Removal) meter.Cause {
	switch why {
	case store.Purged:
		return meter.Purged
	case store.Evicted, store.Crowded:
		return meter.Evicted
	case store.Idle:
		return meter.Expired
	}
	return meter.NoCause
}
