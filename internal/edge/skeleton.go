package edge

import (
	"bytes"
	"crypto/sha256"
	"errors"
	"io"
	"net/http"

	"gerastic/internal/core/compose"
	"gerastic/internal/core/rules"
)

// composesHere reports whether the route of the request's place composes pages, whatever the
// method: a form that comes back with its mistakes is a page, too.
func (x *exchange) composesHere() bool {
	if x.plan != nil {
		return x.plan.Compose
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

// read takes the whole answer, and returns errSkeleton if there is something to compose.
func (s *skeleton) read(resp *http.Response, budget *compose.Budget) error {
	delete(resp.Header, "Surrogate-Control") // it was meant for us
	s.body = []byte{}
	piece := make([]byte, 32<<10)
	for {
		n, err := resp.Body.Read(piece)
		if spent := budget.Spend(int64(n)); spent != nil {
			return spent
		}
		s.body = append(s.body, piece[:n]...)
		if err == io.EOF {
			break
		}
		if err != nil {
			return err
		}
	}
	resp.Body.Close()
	resp.Body = io.NopCloser(bytes.NewReader(s.body))
	var err error
	if s.page, err = compose.Parse(s.body); s.page == nil || err != nil {
		return nil // it is none, or its marks are not in order: it goes as it came
	}
	s.status, s.header = resp.StatusCode, resp.Header
	return errSkeleton
}

func (s *skeleton) compose(x *exchange) {
	x.compose(s.page, sha256.Sum256(s.body), s.status, rules.Unset, func(yield func(string, []string)) {
		for name, values := range s.header {
			yield(name, values)
		}
	})
}
