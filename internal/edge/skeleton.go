package edge

import (
	"bytes"
	"crypto/sha256"
	"errors"
	"io"
	"net/http"

	"gerastic/internal/core/compose"
	"gerastic/internal/core/httprules"
)

// composesHere reports whether the route of the request's place composes pages, whatever the
// method: a form that comes back with its mistakes is a page, too.
func (x *exchange) composesHere() bool {
	if x.route != nil {
		return x.route.Compose
	}
	around := x.rules.Policy.Covering(x.req.Host, x.req.Path)
	return len(around) > 0 && around[0].Compose
}

// skeleton is an answer that passes and is composed for its visitor.
type skeleton struct {
	body   []byte
	page   *compose.Page
	status int
	header http.Header
}

// errSkeleton stops the passing of an answer that is to be composed.
var errSkeleton = errors.New("the answer is to be composed")

// read takes the answer in, and returns errSkeleton if there is something to compose. It
// reports whether all of it is there: what is too long for a page goes on as it came, since
// the request may have changed something, and must not be refused now.
func (s *skeleton) read(resp *http.Response, budget *compose.Budget) (whole bool, err error) {
	delete(resp.Header, "Surrogate-Control") // it was meant for us
	s.body = []byte{}
	piece := make([]byte, 32<<10)
	for {
		n, err := resp.Body.Read(piece)
		s.body = append(s.body, piece[:n]...)
		if err == io.EOF {
			break
		}
		if err != nil {
			return false, err
		}
		if budget.Spend(int64(n)) != nil {
			resp.Body = &begun{io.MultiReader(bytes.NewReader(s.body), resp.Body), resp.Body}
			return false, nil
		}
	}
	resp.Body.Close()
	resp.Body = io.NopCloser(bytes.NewReader(s.body))
	if s.page, err = compose.Parse(s.body); s.page == nil || err != nil {
		return true, nil // it is none, or its marks are not in order: it goes as it came
	}
	s.status, s.header = resp.StatusCode, resp.Header
	return true, errSkeleton
}

// begun is a body of which the beginning was read already.
type begun struct {
	io.Reader
	io.Closer
}

func (s *skeleton) compose(x *exchange) {
	x.compose(s.page, sha256.Sum256(s.body), s.status, httprules.Unset, func(yield func(string, []string)) {
		for name, values := range s.header {
			yield(name, values)
		}
	})
}
