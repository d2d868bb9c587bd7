package secrets

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"runtime"
	"strings"

	"gerastic/internal/core/policy"
)

// longest is how many bytes a secret has at most.
const longest = 64 << 10

// Reader returns what reads secrets below a directory, for policy.Outside; nil without a directory.
func Reader(dir string) func(name string) (string, error) {
	if dir == "" {
		return nil
	}
	return func(name string) (string, error) { return read(dir, name) }
}

// None reads the secrets of a node that was started without a directory of them.
func None(name string) (string, error) {
	return "", fmt.Errorf("the secret %q is in a file, and the node was started without --secrets DIR", name)
}

// read returns a file's text without the line's end behind it. The error says what to do.
func read(dir, name string) (string, error) {
	if !fs.ValidPath(name) || name == "." {
		return "", fmt.Errorf("secret_file:%s is no file below the directory of secrets; write its name alone, such as secret_file:outer.token", name)
	}
	root, err := os.OpenRoot(dir)
	if err != nil {
		return "", fmt.Errorf("the directory of --secrets cannot be opened: %w", err)
	}
	defer root.Close()
	f, err := root.Open(name)
	if errors.Is(err, fs.ErrNotExist) {
		return "", fmt.Errorf("there is no secret %s below %s%s", name, dir, meant(root, name))
	}
	if err != nil {
		return "", fmt.Errorf("the secret %s cannot be read: %w", name, err)
	}
	defer f.Close()
	info, err := f.Stat()
	switch {
	case err != nil:
		return "", fmt.Errorf("the secret %s cannot be read: %w", name, err)
	case !info.Mode().IsRegular():
		return "", fmt.Errorf("the secret %s is not a file", name)
	case runtime.GOOS != "windows" && info.Mode().Perm()&0o077 != 0: // there rights are no bits
		return "", fmt.Errorf("group or others may use the file of the secret %s (%04o); take that from them: chmod 600 %s", name, info.Mode().Perm(), path.Join(dir, name))
	}
	text, err := io.ReadAll(io.LimitReader(f, longest+1))
	secret := strings.TrimRight(string(text), "\r\n")
	switch {
	case err != nil:
		return "", fmt.Errorf("the secret %s cannot be read: %w", name, err)
	case len(text) > longest:
		return "", fmt.Errorf("the secret %s has more than 64 KiB", name)
	case secret == "":
		return "", fmt.Errorf("the file of the secret %s is empty", name)
	}
	return secret, nil
}

// meant names the file that reads nearly like one that is not there.
func meant(root *os.Root, name string) string {
	entries, err := fs.ReadDir(root.FS(), path.Dir(name))
	if err != nil {
		return ""
	}
	var known []string
	for _, e := range entries {
		known = append(known, path.Join(path.Dir(name), e.Name()))
	}
	if near := policy.Nearest(name, known); near != "" {
		return fmt.Sprintf("; did you mean %s?", near)
	}
	return ""
}
