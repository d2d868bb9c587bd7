// Package core_test holds core to its promise: it knows no interface.
package core_test

import (
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// forbidden are what a listener, a database, a terminal or the web would need.
var forbidden = []string{"net", "net/http", "database/sql", "os", "os/exec", "github.com/jackc/", "github.com/spf13/", "github.com/go-chi/", "github.com/danielgtaylor/"}

func TestCoreKnowsNoInterface(t *testing.T) {
	files := 0
	err := filepath.WalkDir(".", func(path string, d fs.DirEntry, err error) error {
		if err != nil || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		files++
		f, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.ImportsOnly)
		require.NoError(t, err)
		for _, i := range f.Imports {
			name, _ := strconv.Unquote(i.Path.Value)
			for _, bad := range forbidden {
				assert.False(t, name == bad || strings.HasSuffix(bad, "/") && strings.HasPrefix(name, bad), "%s imports %s", path, name)
			}
			if strings.HasPrefix(name, "gerastic") && name != "gerastic.example/client/protocol" { // what both sides of the wire know
				assert.True(t, strings.HasPrefix(name, "gerastic/internal/core/"), "%s imports %s: core imports nothing of ours outside core", path, name)
			}
		}
		return nil
	})
	require.NoError(t, err)
	assert.Greater(t, files, 20)
}
