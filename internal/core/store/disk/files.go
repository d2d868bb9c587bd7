package disk

import "io"

// Files is the directory that a tier has for itself.
type Files interface {
	// List names the files there are.
	List() ([]string, error)
	// Create makes a new file, or empties the one there is.
	Create(name string) (File, error)
	// Open opens a file to be read and added to.
	Open(name string) (File, error)
	Remove(name string) error
	// Replace writes a file whole or not at all, whenever the machine ends.
	Replace(name string, content []byte) error
}

// File is one of them. ReadAt may be called by many at a time; Write adds to the end. Section reads
// some bytes, one section at a time.
type File interface {
	io.ReaderAt
	io.Writer
	Section(from, length int64) io.Reader
	Sync() error
	Size() (int64, error)
	Truncate(size int64) error
	Close() error
}

// block is in what steps files take room of a device.
const block = 4 << 10

// room is what a file of so many bytes takes.
func room(size int64) int64 { return (size + block - 1) / block * block }
