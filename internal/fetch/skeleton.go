package fetch

import (
	"bytes"
	"errors"
	"io"
	"net/http"
	"strings"

	"gerastic/internal/core/compose"
	"gerastic/internal/core/httprules"
	"gerastic/internal/core/policy"
)

// isSkeleton reports whether an answer on a route, which may be nil, is composed: the route
// says so, or the origin does, with Surrogate-Control. Only text that is not compressed can be
// read.
func isSkeleton(route *policy.Route, h httprules.Header) bool {
	if h.Has("Content-Encoding") {
		return false
	}
	kind := httprules.MediaType(h.Get("Content-Type"))
	if kind == "text/event-stream" { // it has no end to wait for
		return false
	}
	if !strings.HasPrefix(kind, "text/") && !strings.HasSuffix(kind, "xml") && kind != "application/json" {
		return false
	}
	return route != nil && route.Compose || asksForComposition(h)
}

// asksForComposition reports whether Surrogate-Control does.
func asksForComposition(h httprules.Header) bool {
	for _, line := range h["Surrogate-Control"] {
		for directive := range strings.SplitSeq(line, ",") {
			name, value, _ := strings.Cut(strings.TrimSpace(directive), "=")
			if strings.EqualFold(name, "content") && strings.Contains(value, "ESI/1.0") {
				return true
			}
		}
	}
	return false
}

// takeSurrogateControl takes the field out of a header where it was meant for us.
func takeSurrogateControl(h httprules.Header) {
	if asksForComposition(h) {
		delete(h, "Surrogate-Control")
	}
}

// Skeleton is an answer that passes and is composed for its visitor.
type Skeleton struct {
	Body   []byte
	Page   *compose.Page
	Status int
	Header httprules.Header
}

// ErrSkeleton stops the passing of an answer that is to be composed.
var ErrSkeleton = errors.New("the answer is to be composed")

// read takes the answer in, and returns ErrSkeleton if there is something to compose. It
// reports whether all of it is there: what is too long for a page goes on as it came, since
// the request may have changed something, and must not be refused now.
func (s *Skeleton) read(resp *http.Response, budget *compose.Budget) (whole bool, err error) {
	delete(resp.Header, "Surrogate-Control") // it was meant for us
	s.Body = []byte{}
	piece := make([]byte, 32<<10)
	for {
		n, err := resp.Body.Read(piece)
		s.Body = append(s.Body, piece[:n]...)
		if err == io.EOF {
			break
		}
		if err != nil {
			return false, err
		}
		if budget.Spend(int64(n)) != nil {
			resp.Body = &begun{io.MultiReader(bytes.NewReader(s.Body), resp.Body), resp.Body}
			return false, nil
		}
	}
	resp.Body.Close()
	resp.Body = io.NopCloser(bytes.NewReader(s.Body))
	if s.Page, err = compose.Parse(s.Body); s.Page == nil || err != nil {
		return true, nil // it is none, or its marks are not in order: it goes as it came
	}
	s.Status, s.Header = resp.StatusCode, httprules.Header(resp.Header)
	return true, ErrSkeleton
}

// begun is a body of which the beginning was read already.
type begun struct {
	io.Reader
	io.Closer
}
