package fetch

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"

	"gerastic.example/client/protocol"

	"gerastic/internal/core/httprules"
	"gerastic/internal/core/key"
	"gerastic/internal/core/outbound"
	"gerastic/internal/core/policy"
	"gerastic/internal/origin"
)

// GroupQuestion makes the request that asks an origin of which group a visitor is: with what says who they
// are, and nothing else of them. The answer's name is "" for nobody's; an error says that there was no
// answer that counts.
func (f *Fetcher) GroupQuestion(way *origin.Client, g *policy.VisitorGroup, visitor *outbound.Request) func(context.Context) (string, error) {
	header := httprules.Header{"Accept": {"*/*"}, "User-Agent": {httprules.CacheName}}
	for _, c := range g.From {
		if lines := visitor.Request.Header[c.Name]; c.From == key.Field && len(lines) > 0 {
			header[c.Name] = append([]string(nil), lines...)
		}
	}
	if kept := key.KeepCookies(visitor.Request.Header["Cookie"], g.TakesCookie); len(kept) > 0 {
		header["Cookie"] = kept
	}
	outbound.Forward(header, visitor.Hop, visitor.Request)
	path, query, has := strings.Cut(g.Ask, "?")
	limit := way.Origin.Answer
	out := &http.Request{
		Method: http.MethodGet, URL: way.Target(&url.URL{Path: path}, origin.Query{Text: query, Present: has}), Host: strings.Clone(visitor.Request.Host),
		Header: http.Header(header), Proto: "HTTP/1.1", ProtoMajor: 1, ProtoMinor: 1,
	}
	return func(ctx context.Context) (string, error) {
		resp, err := way.Do(out.WithContext(ctx), limit)
		if err != nil {
			return "", err
		}
		defer resp.Body.Close()
		_, _ = io.CopyN(io.Discard, resp.Body, maxDrained)
		switch {
		case resp.StatusCode >= 500:
			return "", fmt.Errorf("it answers %s with status %d", path, resp.StatusCode)
		case resp.StatusCode != http.StatusOK:
			return "", nil
		}
		return policy.GroupName(httprules.Header(resp.Header).Joined(protocol.GroupField)), nil
	}
}
