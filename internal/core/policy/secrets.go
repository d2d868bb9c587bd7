package policy

import (
	"strings"

	"github.com/goccy/go-yaml/ast"
)

// secretFile begins a value that stands in a file below the node's --secrets.
const secretFile = "secret_file:"

// secret reads a value that nobody else should read: as it stands, with ${VAR} from the environment, or
// from a file as secret_file:NAME.
func (d *document) secret(n ast.Node, where string) string {
	text, _ := d.text(n, where)
	name, inFile := strings.CutPrefix(text, secretFile)
	if !inFile {
		return d.expand(n, text)
	}
	if d.outside.Secret == nil {
		if !d.outside.Elsewhere {
			d.warn(n, "%s: %s is not looked at here; with --secrets DIR it is", where, text)
		}
		return text
	}
	value, err := d.outside.Secret(name)
	if err != nil {
		d.fail(n, "%s: %v", where, err)
	}
	return value
}

// unread reports whether a value stands for a file that was not looked at.
func unread(value string) bool { return strings.HasPrefix(value, secretFile) }

// Nearest is the word of those known that reads nearly like one; "" if none does.
func Nearest(word string, known []string) string {
	best, distance := "", len(word)/2+1
	for _, k := range known {
		if n := editDistance(word, k); n < distance {
			best, distance = k, n
		}
	}
	return best
}
