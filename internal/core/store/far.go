package store

import "io"

// FarFrom is from how many bytes on a body stays in the tier below while it is sent, where memory has
// no room to spare for it. A shorter one passes through memory.
const FarFrom = 64 << 10

// FarBody is a body that the tier below has. What cannot be read, or is not as it was written, leaves
// the tier.
type FarBody interface {
	// Load reads it into memory, which is the caller's.
	Load() ([]byte, error)
	// Open looks at its sum, and lets it be read until that is closed, also when it has left the tier
	// meanwhile.
	Open() (OpenBody, error)
}

// OpenBody is a far body that is being read. One reads it at a time.
type OpenBody interface {
	// Section reads some bytes of it. A connection can take them from their file.
	Section(from, length int64) io.Reader
	Close() error
}

// need is what somebody wants of an entry that they look for.
type need uint8

// needBody: its body is in memory. needAny: it may also be Far.
const (
	needBody need = iota
	needAny
)

// mayStayFar reports whether a body that somebody asks for is not brought up: it was not asked for
// before, or would push out much.
func (m *Memory) mayStayFar(bytes int64, at Spot) bool {
	const little = 64 // one part in so many of the memory
	return !at.Again || bytes > m.limit/little && !m.hasRoom(bytes)
}
