package edge

import (
	"io"
	"net/http"
	"testing"

	"github.com/stretchr/testify/assert"

	"gerastic/internal/core/tags"
)

func TestNoVarySearch(t *testing.T) {
	for _, c := range []struct {
		name, rule, first, second string
		hit                       bool
	}{
		{"parameters that do not matter", `params=("utm" "id")`, "/x?q=1&utm=a", "/x?q=1&utm=b&id=3", true},
		{"those that do", `params=("utm")`, "/x?q=1&utm=a", "/x?q=2&utm=a", false},
		{"none matters", `params`, "/x?q=1", "/x?q=2", true},
		{"none matters, from no query at all", `params`, "/x?q=1", "/x", true},
		{"none but those named", `params, except=("q")`, "/x?q=1&a=1", "/x?q=1&a=2", true},
		{"none but those named, which differ", `params, except=("q")`, "/x?q=1&a=1", "/x?q=2&a=1", false},
		{"encoded names are decoded", `params=("u%20t")`, "/x?q=1&u+t=a", "/x?q=1&u%20t=b", true},
		{"except without params is not a rule", `except=("q")`, "/x?q=1&a=1", "/x?q=1&a=2", false},
		{"what does not parse is not a rule", `params=(`, "/x?q=1", "/x?q=2", false},
	} {
		t.Run(c.name, func(t *testing.T) {
			s := newRig(t, func(w http.ResponseWriter, r *http.Request) {
				w.Header().Set("Cache-Control", "max-age=60")
				w.Header().Set("No-Vary-Search", c.rule)
				_, _ = io.WriteString(w, r.URL.RawQuery)
			})
			first := s.get(c.first)
			second := s.get(c.second)
			assert.Equal(t, c.hit, second.hit(), second.state)
			assert.Equal(t, c.hit, first.body == second.body)
			again := s.get(c.first)
			assert.True(t, again.hit())
			assert.Equal(t, first.body, again.body)
		})
	}
}

func TestAnAnswerWithoutTheRuleAnswersItsOwnQueryOnly(t *testing.T) {
	rule := "params"
	s := newRig(t, func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Cache-Control", "max-age=60")
		if rule != "" {
			w.Header().Set("No-Vary-Search", rule)
		}
		_, _ = io.WriteString(w, r.URL.RawQuery)
	})
	s.get("/x?q=1")
	s.purge(tags.Purge{All: true})
	rule = ""
	assert.Equal(t, "q=2", s.get("/x?q=2").body)
	assert.Equal(t, "q=3", s.get("/x?q=3").body)
	assert.True(t, s.get("/x?q=2").hit())
}

func TestAWriteForgetsWhatAnswersItsURLByNoVarySearch(t *testing.T) {
	s := newRig(t, text("x", "Cache-Control: max-age=60", "No-Vary-Search: params"))
	s.get("/x?q=1")
	assert.True(t, s.get("/x?q=2").hit())
	s.do("POST", "/x?q=2")
	assert.False(t, s.get("/x?q=2").hit(), "it was answered by the entry of another query")
}
