package disk

import (
	"errors"
	"io"
	"io/fs"
	"maps"
	"slices"
	"sync"
)

// memoryFiles are files in memory, which fail when they are told to.
type memoryFiles struct {
	mu     sync.Mutex
	all    map[string]*memoryFile
	fails  func(what, name string) error // nil: nothing does
	writes int
	most   int // after so many writes nothing is written any more, as if the process had been killed; 0: any
}

var errKilled = errors.New("killed")

type memoryFile struct {
	of   *memoryFiles
	name string
	text []byte
}

func newFiles() *memoryFiles { return &memoryFiles{all: map[string]*memoryFile{}} }

// copied are the files as they are now.
func (m *memoryFiles) copied() *memoryFiles {
	m.mu.Lock()
	defer m.mu.Unlock()
	c := newFiles()
	for name, f := range m.all {
		c.all[name] = &memoryFile{c, name, slices.Clone(f.text)}
	}
	return c
}

// killAfter has nothing written any more after so many writes.
func (m *memoryFiles) killAfter(writes int) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.most = m.writes + writes
}

func (m *memoryFiles) killed() bool {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.writes > m.most
}

// may says why something fails. Under mu. What changes files fails once the process was killed.
func (m *memoryFiles) may(what, name string) error {
	if m.fails != nil {
		if err := m.fails(what, name); err != nil {
			return err
		}
	}
	if what != "read" {
		if m.writes++; m.most > 0 && m.writes > m.most {
			return errKilled
		}
	}
	return nil
}

func (m *memoryFiles) List() ([]string, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	return slices.Sorted(maps.Keys(m.all)), nil
}

func (m *memoryFiles) Create(name string) (File, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if err := m.may("create", name); err != nil {
		return nil, err
	}
	m.all[name] = &memoryFile{of: m, name: name}
	return m.all[name], nil
}

func (m *memoryFiles) Open(name string) (File, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if f := m.all[name]; f != nil {
		return f, m.may("read", name)
	}
	return nil, fs.ErrNotExist
}

func (m *memoryFiles) Remove(name string) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	if err := m.may("remove", name); err != nil {
		return err
	}
	delete(m.all, name)
	return nil
}

func (m *memoryFiles) Replace(name string, content []byte) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	if err := m.may("replace", name); err != nil {
		return err
	}
	m.all[name] = &memoryFile{m, name, slices.Clone(content)}
	return nil
}

// bytes is what they take.
func (m *memoryFiles) bytes() (n int64) {
	m.mu.Lock()
	defer m.mu.Unlock()
	for _, f := range m.all {
		n += room(int64(len(f.text)))
	}
	return n
}

func (f *memoryFile) ReadAt(b []byte, at int64) (int, error) {
	f.of.mu.Lock()
	defer f.of.mu.Unlock()
	if err := f.of.may("read", f.name); err != nil {
		return 0, err
	}
	if at > int64(len(f.text)) {
		return 0, io.EOF
	}
	n := copy(b, f.text[at:])
	if n < len(b) {
		return n, io.EOF
	}
	return n, nil
}

// Write writes half of what it should when it fails.
func (f *memoryFile) Write(b []byte) (int, error) {
	f.of.mu.Lock()
	defer f.of.mu.Unlock()
	err := f.of.may("write", f.name)
	if err != nil && f.of.writes != f.of.most+1 && f.of.most > 0 {
		return 0, err
	}
	if err != nil {
		b = b[:len(b)/2]
	}
	f.text = append(f.text, b...)
	return len(b), err
}

func (f *memoryFile) Section(from, length int64) io.Reader {
	return io.NewSectionReader(f, from, length)
}

func (f *memoryFile) Sync() error { return nil }
func (f *memoryFile) Close() error {
	return nil
}

func (f *memoryFile) Size() (int64, error) {
	f.of.mu.Lock()
	defer f.of.mu.Unlock()
	return int64(len(f.text)), nil
}

func (f *memoryFile) Truncate(size int64) error {
	f.of.mu.Lock()
	defer f.of.mu.Unlock()
	if err := f.of.may("truncate", f.name); err != nil {
		return err
	}
	f.text = f.text[:min(size, int64(len(f.text)))]
	return nil
}
