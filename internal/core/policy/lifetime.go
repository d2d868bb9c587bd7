package policy

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"time"

	"github.com/goccy/go-yaml/ast"

	"gerastic/internal/core/httprules"
)

func (d *document) lifetime(n ast.Node, route *Route) {
	terms := &route.Terms
	var forced ast.Node
	d.mapping(n, "lifetime",
		field{name: "fresh", read: func(n ast.Node) { d.duration(n, "lifetime.fresh", &terms.Fresh) }},
		field{name: "source", read: func(n ast.Node) {
			if i := d.choice(n, "lifetime.source", "origin", "policy", "forced"); i >= 0 {
				terms.Trust = httprules.Trust(i)
			}
			if terms.Trust == httprules.TrustForced {
				forced = n
			}
		}},
		field{name: "at_least", read: func(n ast.Node) { d.duration(n, "lifetime.at_least", &terms.AtLeast) }},
		field{name: "at_most", read: func(n ast.Node) { d.duration(n, "lifetime.at_most", &terms.AtMost) }},
		field{name: "by_status", read: func(n ast.Node) { terms.ByStatus = d.byStatus(n, "lifetime.by_status") }},
		field{name: "by_type", read: func(n ast.Node) { terms.ByType = d.byType(n, "lifetime.by_type") }},
		field{name: "stale_while_revalidate", read: func(n ast.Node) {
			d.duration(n, "lifetime.stale_while_revalidate", &terms.StaleWhileRevalidate)
		}},
		field{name: "stale_if_error", read: func(n ast.Node) { d.staleIfError(n, terms) }},
		field{name: "idle", read: func(n ast.Node) { d.positive(n, "lifetime.idle", &route.Idle) }},
		field{name: "refresh_early", read: func(n ast.Node) { d.boolean(n, "lifetime.refresh_early", &route.RefreshEarly) }},
		field{name: "browser", read: func(n ast.Node) { route.Browser = d.browser(n) }},
	)
	if terms.AtLeast != httprules.Unset && terms.AtMost != httprules.Unset && terms.AtLeast > terms.AtMost {
		d.fail(n, "lifetime.at_least is longer than at_most")
	}
	if terms.Trust != httprules.TrustOrigin && terms.Fresh == httprules.Unset && len(terms.ByStatus) == 0 && len(terms.ByType) == 0 {
		d.fail(n, "lifetime.source takes our lifetime instead of the origin's, but there is none; add fresh")
	}
	if forced != nil {
		d.warn(forced, "lifetime.source: forced stores answers even where the origin says no-store or private; use it only where every visitor may see every answer")
	}
}

// browser reads a time, or a mapping of times.
func (d *document) browser(n ast.Node) *httprules.BrowserLives {
	b := &httprules.BrowserLives{Fresh: httprules.Unset}
	if _, isMap := n.(ast.MapNode); !isMap {
		d.duration(n, "lifetime.browser", &b.Fresh)
		return b
	}
	d.mapping(n, "lifetime.browser",
		field{name: "fresh", read: func(n ast.Node) { d.duration(n, "lifetime.browser.fresh", &b.Fresh) }},
		field{name: "by_status", read: func(n ast.Node) { b.ByStatus = d.byStatus(n, "lifetime.browser.by_status") }},
		field{name: "by_type", read: func(n ast.Node) { b.ByType = d.byType(n, "lifetime.browser.by_type") }},
	)
	return b
}

var mediaTypes = regexp.MustCompile(`^[a-z0-9!#$&^_.+-]+/([a-z0-9!#$&^_.+-]+|\*)$`)

func (d *document) byType(n ast.Node, where string) httprules.ByType {
	return lives(d, n, where, `media types to lifetimes: { "image/*": 7d, "text/css": 30d }`, func(text string) (string, string) {
		name := strings.ToLower(text)
		if !mediaTypes.MatchString(name) {
			return "", `is not a media type; write "text/css", or "image/*" for all of a kind, without parameters`
		}
		return name, ""
	})
}

func (d *document) byStatus(n ast.Node, where string) httprules.ByStatus {
	return lives(d, n, where, "statuses to lifetimes: { 404: 30s, 5xx: 1s }", func(text string) (int, string) {
		status, ok := statusNamed(text)
		if !ok {
			return 0, "is no final status that can be stored whole, and none of 2xx, 3xx, 4xx, 5xx and any"
		}
		return status, ""
	})
}

// lives reads a mapping from names to lengths of time; named reads a name, or says what is wrong with it.
func lives[K comparable](d *document, n ast.Node, where, wanted string, named func(text string) (name K, wrong string)) map[K]time.Duration {
	m, ok := d.resolve(n).(ast.MapNode)
	if !ok {
		d.fail(n, "%s must map %s", where, wanted)
		return nil
	}
	all := map[K]time.Duration{}
	for it := m.MapRange(); it.Next(); {
		text := fmt.Sprint(keyText(it.Key()))
		name, wrong := named(text)
		if wrong != "" {
			d.fail(it.Key(), "%s: %s %s", where, text, wrong)
			continue
		}
		if _, twice := all[name]; twice {
			d.fail(it.Key(), "%s: %s stands twice; keep one", where, text)
			continue
		}
		life := httprules.Unset
		d.duration(d.resolve(it.Value()), where, &life)
		if life != httprules.Unset {
			all[name] = life
		}
	}
	return all
}

// statusNamed reads a status, or a group of them, as httprules.ByStatus has it.
func statusNamed(s string) (status int, ok bool) {
	switch strings.ToLower(s) {
	case "any":
		return httprules.AnyStatus, true
	case "2xx", "3xx", "4xx", "5xx":
		return int(s[0] - '0'), true
	}
	status, err := strconv.Atoi(s)
	return status, err == nil && status >= 200 && status <= 599 && status != 206 && status != 304
}

// staleIfError reads how long a stale answer may stand in, and for which failures.
func (d *document) staleIfError(n ast.Node, terms *httprules.LifetimeTerms) {
	if _, isMap := n.(ast.MapNode); !isMap {
		d.duration(n, "lifetime.stale_if_error", &terms.StaleIfError)
		return
	}
	d.mapping(n, "lifetime.stale_if_error",
		field{name: "for", read: func(n ast.Node) { d.duration(n, "lifetime.stale_if_error.for", &terms.StaleIfError) }},
		field{name: "on", read: func(n ast.Node) {
			terms.FailedOn = []int{}
			d.strings(n, "lifetime.stale_if_error.on", func(n ast.Node, s string) {
				status, err := strconv.Atoi(s)
				if err != nil || status < 400 || status > 599 {
					d.fail(n, "lifetime.stale_if_error.on: %q is not a status of failure; write statuses from 400 to 599", s)
					return
				}
				terms.FailedOn = append(terms.FailedOn, status)
			})
		}},
	)
	if terms.StaleIfError == httprules.Unset {
		d.fail(n, "lifetime.stale_if_error does not say for how long: { for: 1d, on: [500, 503] }")
	}
}

func (d *document) admit(n ast.Node, route *Route) {
	d.mapping(n, "admit",
		field{name: "after", read: func(n ast.Node) { d.integer(n, "admit.after", 100, &route.Admit.After) }},
		field{name: "within", read: func(n ast.Node) { d.positive(n, "admit.within", &route.Admit.Within) }},
		field{name: "at_most", read: func(n ast.Node) { d.size(n, "admit.at_most", &route.Admit.AtMost) }},
		field{name: "max_body", read: func(n ast.Node) { d.size(n, "admit.max_body", &route.MaxBody) }},
		field{name: "cookies", read: func(n ast.Node) {
			route.Terms.RefuseCookies = d.choice(n, "admit.cookies", "refuse", "strip") != 1
		}},
	)
}
