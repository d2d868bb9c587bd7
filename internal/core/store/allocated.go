package store

// allocated is how many bytes the collector takes for a piece of memory without pointers of so
// many bytes: it hands them out in sizes of its own, and in pages beyond 32 KiB.
func allocated(bytes int) int64 {
	const page = 8 << 10
	switch {
	case bytes <= 0:
		return 0
	case bytes > largest:
		return int64((bytes + page - 1) / page * page)
	}
	return int64(sizeOf[(bytes+7)/8])
}

const largest = 32 << 10

// sizeOf are the sizes that are handed out for up to so many times eight bytes.
var sizeOf = sizes()

// sizes asks the runtime: a slice that grows takes all of what it was handed out.
func sizes() (all [largest/8 + 1]uint16) {
	for n := len(all) - 1; n > 0; n-- {
		all[n] = uint16(min(cap(append([]byte(nil), make([]byte, n*8)...)), 1<<16-1))
	}
	return all
}
