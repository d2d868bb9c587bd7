package secrets

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestSecretsAreReadBelowTheirDirectory(t *testing.T) {
	outer := t.TempDir()
	dir := filepath.Join(outer, "secrets")
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "sub"), 0o700))
	for name, text := range map[string]string{"outer.token": "Bearer x\n", "sub/key": "k", "empty": "\n", "long": strings.Repeat("x", longest+1), "open": "x", "../beside": "x"} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
	require.NoError(t, os.Chmod(filepath.Join(dir, "open"), 0o640))
	require.NoError(t, os.Symlink("../beside", filepath.Join(dir, "away")))
	require.NoError(t, os.Symlink("outer.token", filepath.Join(dir, "link")))
	get := Reader(dir)
	for name, text := range map[string]string{"outer.token": "Bearer x", "sub/key": "k", "link": "Bearer x"} {
		got, err := get(name)
		require.NoError(t, err)
		assert.Equal(t, text, got)
	}
	for name, says := range map[string]string{
		"outer.tokn": "did you mean outer.token?", "sub/kye": "did you mean sub/key?", "nothing-like-it": "there is no secret", "empty": "is empty", "long": "64 KiB",
		"open": "chmod 600", "away": "cannot be read", "../beside": "no file below", "/etc/passwd": "no file below", "sub": "not a file", "": "no file below", ".": "no file below",
	} {
		_, err := get(name)
		assert.ErrorContains(t, err, says, name)
	}
	assert.Nil(t, Reader(""))
	_, err := Reader(filepath.Join(outer, "none"))("x")
	assert.ErrorContains(t, err, "--secrets cannot be opened")
	_, err = None("x")
	assert.ErrorContains(t, err, "--secrets DIR")
}
