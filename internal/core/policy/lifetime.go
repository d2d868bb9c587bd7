package policy

import (
	"fmt"
	"strconv"
	"strings"

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
		field{name: "by_status", read: func(n ast.Node) { d.byStatus(n, terms) }},
		field{name: "stale_while_revalidate", read: func(n ast.Node) {
			d.duration(n, "lifetime.stale_while_revalidate", &terms.StaleWhileRevalidate)
		}},
		field{name: "stale_if_error", read: func(n ast.Node) { d.staleIfError(n, terms) }},
		field{name: "idle", read: func(n ast.Node) { d.positive(n, "lifetime.idle", &route.Idle) }},
		field{name: "refresh_early", read: func(n ast.Node) { d.boolean(n, "lifetime.refresh_early", &route.RefreshEarly) }},
		field{name: "browser", read: func(n ast.Node) { d.duration(n, "lifetime.browser", &route.Browser) }},
	)
	if terms.AtLeast != httprules.Unset && terms.AtMost != httprules.Unset && terms.AtLeast > terms.AtMost {
		d.fail(n, "lifetime.at_least is longer than at_most")
	}
	if terms.Trust != httprules.TrustOrigin && terms.Fresh == httprules.Unset && len(terms.ByStatus) == 0 {
		d.fail(n, "lifetime.source takes our lifetime instead of the origin's, but there is none; add fresh")
	}
	if forced != nil {
		d.warn(forced, "lifetime.source: forced stores answers even where the origin says no-store or private; use it only where every visitor may see every answer")
	}
}

func (d *document) byStatus(n ast.Node, terms *httprules.LifetimeTerms) {
	m, ok := d.resolve(n).(ast.MapNode)
	if !ok {
		d.fail(n, "lifetime.by_status must map statuses to lifetimes: { 404: 30s, 5xx: 1s }")
		return
	}
	terms.ByStatus = httprules.ByStatus{}
	for it := m.MapRange(); it.Next(); {
		status, ok := statusNamed(fmt.Sprint(keyText(it.Key())))
		if !ok {
			d.fail(it.Key(), "lifetime.by_status: %v is no final status that can be stored whole, and none of 4xx, 5xx and any", keyText(it.Key()))
			continue
		}
		if _, twice := terms.ByStatus[status]; twice {
			d.fail(it.Key(), "lifetime.by_status: %v stands twice; keep one", keyText(it.Key()))
			continue
		}
		life := httprules.Unset
		d.duration(it.Value(), "lifetime.by_status", &life)
		if life != httprules.Unset {
			terms.ByStatus[status] = life
		}
	}
}

// statusNamed reads a status, or a group of them, as httprules.ByStatus has it.
func statusNamed(s string) (status int, ok bool) {
	switch strings.ToLower(s) {
	case "any":
		return httprules.AnyStatus, true
	case "4xx":
		return 4, true
	case "5xx":
		return 5, true
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
