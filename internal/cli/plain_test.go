package cli

import (
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestPlain: what a terminal would obey is shown, however the writes cut it.
func TestPlain(t *testing.T) {
	for text, shown := range map[string]string{
		"a line\n\tand more\n": "a line\n\tand more\n", "\x1b[2J": `\x1b[2J`, "back\rwards\b": `back\x0dwards\x08`, "del\x7f": `del\x7f`,
		"c1 \u009b31m": `c1 \x9b31m`, "raw \x9b31m": `raw \x9b31m`, "\u202egnp.exe": `\x202egnp.exe`, "Ærøskøbing – 渡船 🚢": "Ærøskøbing – 渡船 🚢",
	} {
		var whole, cut strings.Builder
		_, _ = (&plain{w: &whole, instead: inHex}).Write([]byte(text))
		assert.Equal(t, shown, whole.String())
		bytewise := &plain{w: &cut, instead: inHex}
		for i := range len(text) {
			n, err := bytewise.Write([]byte{text[i]})
			require.NoError(t, err)
			assert.Equal(t, 1, n)
		}
		assert.Equal(t, shown, cut.String())
	}
}

// TestLogsStayJSON whatever a visitor's path holds.
func TestLogsStayJSON(t *testing.T) {
	for _, format := range []string{"json", "text"} {
		var out strings.Builder
		log, err := logger(&plain{w: &out, instead: inHex}, format)
		require.NoError(t, err)
		log.Warn("the origin failed", "path", "/\u009b31m\x7f\u202e\x1b")
		assert.NotRegexp(t, "[\x00-\x08\x0b-\x1f\x7f\u0080-\u009f\u202e]", out.String())
		if format == "json" {
			var line struct{ Path string }
			require.NoError(t, json.Unmarshal([]byte(out.String()), &line), out.String())
			assert.Equal(t, "/\u009b31m\x7f\u202e\x1b", line.Path)
		}
	}
}
