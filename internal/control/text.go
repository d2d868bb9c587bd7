package control

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"unicode/utf8"

	"github.com/danielgtaylor/huma/v2"
)

// badText says what keeps a text from being kept in the database, "" if nothing.
func badText(s string) string {
	switch {
	case strings.ContainsRune(s, 0):
		return "has a NUL character, which no text may"
	case !utf8.ValidString(s):
		return "is not UTF-8"
	}
	return ""
}

// textual refuses calls whose path or query holds what is not text.
func textual(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if bad := badText(r.URL.Path); bad != "" {
			problem(w, http.StatusBadRequest, "the path "+bad)
			return
		}
		if r.URL.RawQuery != "" {
			values, err := url.ParseQuery(r.URL.RawQuery)
			if err != nil {
				problem(w, http.StatusBadRequest, "the query is not in order: "+err.Error())
				return
			}
			for name, all := range values {
				for _, text := range append(all, name) {
					if bad := badText(text); bad != "" {
						problem(w, http.StatusBadRequest, fmt.Sprintf("the parameter %q %s", name, bad))
						return
					}
				}
			}
		}
		next.ServeHTTP(w, r)
	})
}

// texts refuses bodies that hold what is not text, once it is known who calls.
func (c *Control) texts(ctx huma.Context, next func(huma.Context)) {
	body := ctx.BodyReader()
	if _, guarded := ctx.Operation().Metadata["right"]; !guarded || ctx.Operation().RequestBody == nil || body == nil {
		next(ctx)
		return
	}
	read, err := io.ReadAll(body)
	var tooLarge *http.MaxBytesError
	switch {
	case errors.As(err, &tooLarge):
		_ = huma.WriteErr(c.api, ctx, http.StatusRequestEntityTooLarge, fmt.Sprintf("the body has more than %d bytes", tooLarge.Limit))
	case isSlow(err):
		_ = huma.WriteErr(c.api, ctx, http.StatusRequestTimeout, "the body came too slowly: "+err.Error())
	case err != nil:
		_ = huma.WriteErr(c.api, ctx, http.StatusBadRequest, "the body did not come whole: "+err.Error())
	default:
		if bad := badJSON(read); bad != "" {
			_ = huma.WriteErr(c.api, ctx, http.StatusBadRequest, "the body "+bad)
			return
		}
		next(&withBody{ctx, bytes.NewReader(read)})
	}
}

func isSlow(err error) bool {
	var timeout interface{ Timeout() bool }
	return errors.As(err, &timeout) && timeout.Timeout()
}

// badJSON is badText for a text in JSON, which may write NUL as an escape.
func badJSON(body []byte) string {
	if bad := badText(string(body)); bad != "" {
		return bad
	}
	for i := 0; i < len(body)-1; i++ {
		if body[i] != '\\' {
			continue
		}
		if bytes.HasPrefix(body[i+1:], []byte("u0000")) {
			return "has a NUL character, which no text may"
		}
		i++ // what is escaped begins no escape
	}
	return ""
}

// withBody is a call whose body was read already.
type withBody struct {
	call
	body io.Reader
}

// call is a huma.Context, which has a method of that name.
type call = huma.Context

// BodyReader implements huma.Context.
func (c *withBody) BodyReader() io.Reader { return c.body }
