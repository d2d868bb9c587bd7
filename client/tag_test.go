package client

import (
	"context"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"gerastic.example/client/protocol"
)

func TestTagging(t *testing.T) {
	var inTime []bool
	for _, c := range []struct {
		name    string
		handler http.HandlerFunc
		status  int
		body    string
		groups  []string
	}{
		{"tags from anywhere in the page", func(w http.ResponseWriter, r *http.Request) {
			Tag(r.Context(), "port:tholm")
			w.WriteHeader(http.StatusNotFound)
			_, _ = io.WriteString(w, "page")
			Tag(r.Context(), "vessel:3", "port:tholm")
		}, 404, "page", []string{"port:tholm", "vessel:3"}},
		{"names with blanks, quotes and letters of all kinds", func(_ http.ResponseWriter, r *http.Request) {
			Tag(r.Context(), `say "æ"`, `back\slash "quoted"`, strings.Repeat("x", 1024))
		}, 200, "", []string{`say "æ"`, `back\slash "quoted"`, strings.Repeat("x", 1024)}},
		{"pieces, to any depth", func(_ http.ResponseWriter, r *http.Request) {
			row, rowTags := Part(r.Context())
			card, cardTags := Part(row)
			Tag(card, "vessel:3")
			TagFrom(row, http.Header{"Cache-Groups": {`"sailing:7", "port:tholm"`}})
			sister, sisterTags := Part(r.Context())
			Tag(sister, "vessel:4")
			assert.Equal(t, []string{"vessel:3"}, cardTags(), "nothing comes down")
			assert.Equal(t, []string{"vessel:3", "sailing:7", "port:tholm"}, rowTags())
			assert.Equal(t, []string{"vessel:4"}, sisterTags(), "and nothing from sisters")
		}, 200, "", []string{"vessel:3", "sailing:7", "port:tholm", "vessel:4"}},
		{"what the handler names itself", func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Cache-Groups", `"own"`)
			Tag(r.Context(), "more")
		}, 200, "", []string{"own", "more"}},
		{"too late", func(w http.ResponseWriter, r *http.Request) {
			inTime = append(inTime, Tag(r.Context(), "early"))
			_, _ = w.Write([]byte(strings.Repeat("x", heldBack)))
			inTime = append(inTime, Tag(r.Context(), "still"))
			_, _ = w.Write([]byte("y"))
			inTime = append(inTime, Tag(r.Context(), "late"))
		}, 200, strings.Repeat("x", heldBack) + "y", []string{"early", "still"}},
		{"a flush sends what there is", func(w http.ResponseWriter, r *http.Request) {
			Tag(r.Context(), "early")
			w.(http.Flusher).Flush()
			inTime = append(inTime, Tag(r.Context(), "late"))
		}, 200, "", []string{"early"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			w := httptest.NewRecorder()
			Tagging(c.handler).ServeHTTP(w, httptest.NewRequest("GET", "/", nil))
			groups, _ := protocol.ParseGroups(w.Header()["Cache-Groups"])
			assert.Equal(t, c.status, w.Code)
			assert.Equal(t, c.body, w.Body.String())
			assert.Equal(t, c.groups, groups)
		})
	}
	assert.Equal(t, []bool{true, true, false, false}, inTime)
	assert.False(t, Tag(context.Background(), "nowhere"))
	w := httptest.NewRecorder()
	assert.Panics(t, func() {
		Tagging(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
			_, _ = io.WriteString(w, "half")
			panic(http.ErrAbortHandler)
		})).ServeHTTP(w, httptest.NewRequest("GET", "/", nil))
	})
	assert.Empty(t, w.Body.String(), "half a page is none")
}
