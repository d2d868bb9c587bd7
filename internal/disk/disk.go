package disk

import (
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"runtime"
	"time"

	"gerastic/internal/core/store/disk"
)

// Directory is one that a tier has for itself.
type Directory struct{ path string }

// Open opens the tier in a directory, which nobody else may use. What another version of this
// program left there is set aside, beside it.
func Open(path string, o disk.Options, log *slog.Logger) (*disk.Tier, disk.Judged, error) {
	d := &Directory{path}
	if err := os.MkdirAll(path, 0o700); err != nil {
		return nil, disk.Judged{}, fmt.Errorf("making the directory of the disk tier: %w", err)
	}
	tier, at, err := disk.Open(d, o)
	if errors.Is(err, disk.ErrOtherLayout) {
		aside := path + ".aside-" + time.Now().UTC().Format("20060102T150405.000000000")
		log.Error("the disk tier holds what another version of this program left; it is set aside, and nothing of it is used", "aside", aside)
		if err := os.Rename(path, aside); err != nil {
			return nil, at, fmt.Errorf("setting aside what another version left: %w", err)
		}
		if err := os.Mkdir(path, 0o700); err != nil {
			return nil, at, fmt.Errorf("making the directory of the disk tier: %w", err)
		}
		tier, at, err = disk.Open(d, o)
	}
	if err != nil {
		return nil, at, fmt.Errorf("opening the disk tier in %s: %w", path, err)
	}
	return tier, at, nil
}

// List implements disk.Files.
func (d *Directory) List() (names []string, err error) {
	all, err := os.ReadDir(d.path)
	for _, entry := range all {
		names = append(names, entry.Name())
	}
	return names, err
}

// Create implements disk.Files.
func (d *Directory) Create(name string) (disk.File, error) {
	return open(filepath.Join(d.path, name), os.O_CREATE|os.O_TRUNC)
}

// Open implements disk.Files.
func (d *Directory) Open(name string) (disk.File, error) { return open(filepath.Join(d.path, name), 0) }

func open(path string, how int) (disk.File, error) {
	f, err := os.OpenFile(path, os.O_RDWR|os.O_APPEND|how, 0o600)
	if err != nil {
		return nil, err
	}
	return file{f}, nil
}

// Remove implements disk.Files.
func (d *Directory) Remove(name string) error { return os.Remove(filepath.Join(d.path, name)) }

// Replace implements disk.Files.
func (d *Directory) Replace(name string, content []byte) error {
	half, err := os.OpenFile(filepath.Join(d.path, name+".half"), os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	defer os.Remove(half.Name()) // if it has not become the file
	_, err = half.Write(content)
	if err == nil {
		err = half.Sync()
	}
	if closed := half.Close(); err == nil {
		err = closed
	}
	if err == nil {
		err = os.Rename(half.Name(), filepath.Join(d.path, name))
	}
	if err != nil || runtime.GOOS == "windows" { // where directories cannot be written out
		return err
	}
	dir, err := os.Open(d.path)
	if err != nil {
		return err
	}
	defer dir.Close()
	return dir.Sync()
}

// file is a real one.
type file struct{ *os.File }

// Section implements disk.File. The system can send what it returns from the file.
func (f file) Section(from, length int64) io.Reader {
	if _, err := f.Seek(from, io.SeekStart); err != nil {
		return io.MultiReader() // it is too short for whoever sends it
	}
	return io.LimitReader(f.File, length)
}

// Size implements disk.File.
func (f file) Size() (int64, error) {
	i, err := f.Stat()
	if err != nil {
		return 0, err
	}
	return i.Size(), nil
}
