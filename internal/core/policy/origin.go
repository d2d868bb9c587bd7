package policy

import (
	"fmt"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/goccy/go-yaml/ast"

	"gerastic/internal/core/httprules"
)

// plainOrigin is one of which nothing was said.
func plainOrigin() *Origin {
	return &Origin{Hosts: []HostPattern{"*"}, Connect: DefaultConnect, Answer: DefaultAnswer, Total: DefaultTotal, MaxConnections: DefaultMaxConnections}
}

func (d *document) origin(n ast.Node) *Origin {
	o := plainOrigin()
	before := len(d.problems)
	d.mapping(n, "an origin",
		field{name: "name", read: func(n ast.Node) { o.Name = d.name(n, "an origin's name") }},
		field{name: "url", read: func(n ast.Node) {
			d.strings(n, "url", func(n ast.Node, s string) {
				if u := d.originURL(n, s); u != nil {
					o.URLs = append(o.URLs, u)
				}
			})
		}},
		field{name: "hosts", read: func(n ast.Node) { o.Hosts = d.hosts(n, "hosts") }},
		field{name: "timeout", read: func(n ast.Node) {
			d.mapping(n, "timeout",
				field{name: "connect", read: func(n ast.Node) { d.positive(n, "timeout.connect", &o.Connect) }},
				field{name: "answer", read: func(n ast.Node) { d.positive(n, "timeout.answer", &o.Answer) }},
				renamed("first_byte", "answer"),
				field{name: "total", read: func(n ast.Node) { d.positive(n, "timeout.total", &o.Total) }},
			)
		}},
		field{name: "idle", read: func(n ast.Node) { d.positive(n, "idle", &o.Idle) }},
		field{name: "max_connections", read: func(n ast.Node) { d.integer(n, "max_connections", 100_000, &o.MaxConnections) }},
		field{name: "tag_header", read: func(n ast.Node) { d.tagHeader(n, o) }},
		field{name: "breaker", read: func(n ast.Node) { d.breaker(n, &o.Breaker) }},
		field{name: "check", read: func(n ast.Node) { d.check(n, &o.Check) }},
		renamed("probe", "check"),
	)
	if len(d.problems) == before {
		if o.Name == "" {
			d.fail(n, "the origin has no name")
		}
		if len(o.URLs) == 0 {
			d.fail(n, "the origin has no url; write url: http://127.0.0.1:8600")
		}
	}
	return o
}

func (d *document) positive(n ast.Node, where string, into *time.Duration) {
	d.duration(n, where, into)
	if *into <= 0 {
		d.fail(n, "%s must be longer than 0s", where)
	}
}

func (d *document) breaker(n ast.Node, b *Breaker) {
	if s, isText := n.(ast.ScalarNode); isText && fmt.Sprint(s.GetValue()) == "off" {
		return
	}
	*b = Breaker{After: 5, Retry: 10 * time.Second}
	d.mapping(n, "breaker (or off)",
		field{name: "after", read: func(n ast.Node) { d.integer(n, "breaker.after", 1000, &b.After) }},
		field{name: "retry", read: func(n ast.Node) { d.positive(n, "breaker.retry", &b.Retry) }},
	)
}

func (d *document) check(n ast.Node, p *Check) {
	*p = Check{Every: 5 * time.Second, Timeout: 2 * time.Second}
	d.mapping(n, "check",
		field{name: "path", read: func(n ast.Node) {
			if s, ok := d.text(n, "check.path"); ok && !strings.HasPrefix(s, "/") {
				d.fail(n, "check.path begins with a slash: /%s", s)
			} else {
				p.Path = s
			}
		}},
		field{name: "every", read: func(n ast.Node) { d.positive(n, "check.every", &p.Every) }},
		field{name: "timeout", read: func(n ast.Node) { d.positive(n, "check.timeout", &p.Timeout) }},
	)
	if p.Path == "" {
		d.fail(n, "check needs a path to ask for: { path: /healthy }")
	}
}

func (d *document) originURL(n ast.Node, s string) *url.URL {
	u, err := ParseOrigin(d.expand(n, s))
	if err != nil {
		d.fail(n, "url %q is not an origin's address; write http://HOST:PORT or https://HOST, without query and user", s)
	}
	return u
}

// ParseOrigin reads an origin's address.
func ParseOrigin(s string) (*url.URL, error) {
	u, err := url.Parse(s)
	if err != nil || (u.Scheme != "http" && u.Scheme != "https") || u.Hostname() == "" || u.RawQuery != "" || u.User != nil || u.Fragment != "" {
		return nil, fmt.Errorf("%q is not an origin's address; write http://HOST:PORT or https://HOST, without query and user", s)
	}
	if n, err := strconv.Atoi(u.Port()); u.Port() != "" && (err != nil || n < 1 || n > 65535) {
		return nil, fmt.Errorf("%q: a port is a number from 1 to 65535", s)
	}
	u.Path = strings.TrimSuffix(u.Path, "/")
	return u, nil
}

func (d *document) tagHeader(n ast.Node, o *Origin) {
	o.TagSeparator = " "
	d.mapping(n, "tag_header",
		field{name: "name", read: func(n ast.Node) {
			if s, ok := d.text(n, "tag_header.name"); ok && !httprules.IsToken(s) {
				d.fail(n, "tag_header.name %q is not a header name", s)
			} else {
				o.TagHeader = httprules.CanonicalName(s)
			}
		}},
		field{name: "separator", read: func(n ast.Node) {
			if s, ok := d.text(n, "tag_header.separator"); ok && s == "" {
				d.fail(n, "tag_header.separator must have at least one character")
			} else {
				o.TagSeparator = s
			}
		}},
	)
}
