package store

import (
	"sync/atomic"
	"unsafe"
)

// numbered are things with small numbers, which are used again. They are in chunks, so that
// growing moves none of them, and who knows a number that is in use may read without a lock.
// Numbers are given out and taken back under a lock of their owner.
type numbered[T any] struct {
	chunks atomic.Pointer[[]*[chunkLength]T]
	free   []uint32
	high   uint32 // numbers that were given out at any time
}

const chunkLength = 256

func (n *numbered[T]) at(number uint32) *T {
	return &(*n.chunks.Load())[number/chunkLength][number%chunkLength]
}

// take gives out a number.
func (n *numbered[T]) take() uint32 {
	if last := len(n.free) - 1; last >= 0 {
		number := n.free[last]
		n.free = n.free[:last]
		return number
	}
	if n.high%chunkLength == 0 {
		var more []*[chunkLength]T // readers go on with the list that they have
		if known := n.chunks.Load(); known != nil {
			more = append(more, *known...)
		}
		more = append(more, new([chunkLength]T))
		n.chunks.Store(&more)
	}
	n.high++
	return n.high - 1
}

// give takes a number back, and clears what it stood for.
func (n *numbered[T]) give(number uint32) {
	var nothing T
	*n.at(number) = nothing
	n.free = append(n.free, number)
}

// bytes is how much memory they take.
func (n *numbered[T]) bytes() int64 {
	var chunk [chunkLength]T
	return int64(n.high+chunkLength-1)/chunkLength*(int64(unsafe.Sizeof(chunk))+8) + int64(cap(n.free))*4
}
