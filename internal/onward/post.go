package onward

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/http"
	"net/url"
	"time"

	"gerastic/internal/core/policy"
	"gerastic/internal/core/tags"
)

// timeLimit is how long a target may take to answer.
const timeLimit = 10 * time.Second

func newClient() *http.Client {
	return &http.Client{
		Timeout: timeLimit,
		// A target that has moved is a mistake in the policy: what is secret is sent nowhere else.
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
		Transport:     &http.Transport{MaxIdleConnsPerHost: 1, IdleConnTimeout: time.Minute, MaxResponseHeaderBytes: 64 << 10},
	}
}

// post tells a target of a purge. The error holds no secrets.
func (t *Teller) post(ctx context.Context, o *policy.Onward, told policy.Told) error {
	body, err := o.Body(told)
	if err != nil { // more than was named goes there, too, rather than nothing
		t.Log.Error("what a target is told of a purge cannot be made; it is told to forget everything", "target", o.Name, "purge", told.Sequence, "error", err)
		body, err = o.Body(policy.Telling(&tags.Purge{Sequence: tags.Stamp(told.Sequence), All: true}, told.At))
	}
	if err != nil {
		return fmt.Errorf("its body cannot be made: %w", err)
	}
	req, err := http.NewRequestWithContext(ctx, o.Method, o.URL.String(), bytes.NewReader(body))
	if err != nil {
		return errors.New("its address cannot be asked")
	}
	req.Header = http.Header{"User-Agent": {"gerastic"}}
	maps.Copy(req.Header, o.Header)
	answer, err := t.client.Do(req)
	if err != nil {
		var asked *url.Error
		if errors.As(err, &asked) {
			err = asked.Err // the rest is its address
		}
		return err
	}
	defer answer.Body.Close()
	_, _ = io.CopyN(io.Discard, answer.Body, 64<<10) // so that the connection can be used again
	if answer.StatusCode/100 != 2 {
		return fmt.Errorf("it answered %d", answer.StatusCode)
	}
	return nil
}
