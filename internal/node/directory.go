package node

import (
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/gofrs/flock"
)

// layout is the version of what a node's directory holds. A program that does not know the
// version of a directory sets all that is in it aside.
const layout = "1"

// directory is a node's, and nobody else's, until it is closed.
type directory struct{ lock *flock.Flock }

// openDirectory makes the directory, if it is missing, and locks it; the kernel lets go of the
// lock when the process dies.
func openDirectory(path string, log *slog.Logger) (*directory, error) {
	if err := os.MkdirAll(path, 0o755); err != nil {
		return nil, fmt.Errorf("making the node's directory: %w", err)
	}
	d := &directory{flock.New(filepath.Join(path, "node.lock"), flock.SetPermissions(0o600))}
	if locked, err := d.lock.TryLock(); err != nil {
		return nil, fmt.Errorf("locking the node's directory: %w", err)
	} else if !locked {
		return nil, fmt.Errorf("the directory %s is in use by another node; stop it, or give this one a directory of its own, with --data", path)
	}
	if err := d.checkLayout(path, log); err != nil {
		d.close()
		return nil, err
	}
	return d, nil
}

func (d *directory) close() { _ = d.lock.Close() }

// checkLayout sets aside what another version left.
func (d *directory) checkLayout(path string, log *slog.Logger) error {
	file := filepath.Join(path, "layout")
	text, err := os.ReadFile(file)
	switch found := strings.TrimSpace(string(text)); {
	case errors.Is(err, fs.ErrNotExist): // new, or from before there were versions: this one reads it
	case err != nil:
		return fmt.Errorf("reading the version of the node's directory: %w", err)
	case found == layout:
		return nil
	default:
		aside := filepath.Join(path, "aside-"+time.Now().UTC().Format("20060102T150405.000000000"))
		log.Error("the directory holds what another version of this program left; it is set aside, and nothing of it is used", "version", found, "known", layout, "aside", aside)
		if err := setAside(path, aside); err != nil {
			return fmt.Errorf("setting aside what another version left: %w", err)
		}
	}
	return writeWhole(file, []byte(layout+"\n"))
}

// setAside moves all that a directory holds into another below it, but for the lock and what
// was set aside before.
func setAside(path, aside string) error {
	if err := os.Mkdir(aside, 0o700); err != nil {
		return err
	}
	all, err := os.ReadDir(path)
	if err != nil {
		return err
	}
	for _, entry := range all {
		if name := entry.Name(); name != "node.lock" && !strings.HasPrefix(name, "aside-") {
			if err := os.Rename(filepath.Join(path, name), filepath.Join(aside, name)); err != nil {
				return err
			}
		}
	}
	return nil
}
