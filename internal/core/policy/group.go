package policy

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/goccy/go-yaml/ast"

	"gerastic.example/client/protocol"

	"gerastic/internal/core/httprules"
	"gerastic/internal/core/key"
)

// VisitorGroup says how the group of a visitor is known, of whom all share entries.
type VisitorGroup struct {
	From   []Credential
	Claim  Claim         // of a token, with Keys
	Keys   Keys          // nil: the origin is asked; or they were not looked at
	Ask    string        // where the origin is asked: path and query; "" with Claim
	Keep   time.Duration // for how long its word counts
	Shared bool          // who has no group shares entries, too
	id     string        // what else of it tells groups apart
}

// Credential is a part of a request that says who its visitor is.
type Credential struct {
	From key.Source // Field or Cookie
	Name string
}

// Claim is a part of a signed token (RFC 7519).
type Claim struct{ Name, Issuer, Audience string }

// Keys verify tokens.
type Keys interface {
	// Value is a claim of a token that holds now, and until when it does; ok is false for one that does not
	// hold, and without the claim.
	Value(ctx context.Context, token string, want Claim, now time.Time) (value string, until time.Time, ok bool)
}

// KeyOpener opens keys: those of a file or a URL, and those that stand in a text.
type KeyOpener interface {
	Open(place string) (Keys, error)
	Of(text string) (Keys, error)
}

// DefaultKeep is for how long the origin's word counts.
const DefaultKeep = 5 * time.Minute

// Takes reports whether a field is what the group is known by. It stands for the visitor, and reaches the
// origin only where the route says so.
func (g *VisitorGroup) Takes(name string) bool {
	return g != nil && slices.Contains(g.From, Credential{key.Field, name})
}

// TakesCookie reports the same of a cookie.
func (g *VisitorGroup) TakesCookie(name string) bool {
	return g != nil && slices.ContainsFunc(g.From, func(c Credential) bool {
		return c.From == key.Cookie && (c.Name == name || c.Name+key.SignatureSuffix == name)
	})
}

// Credentials are what a request says of its visitor, by which their group is known; "" if it says nothing.
func (g *VisitorGroup) Credentials(h httprules.Header) string {
	var all strings.Builder
	said := false
	for _, c := range g.From {
		value, present := key.Identity{From: c.From, Name: c.Name}.Of(h)
		said = said || present && value != ""
		fmt.Fprintf(&all, "%t %d %s ", present, len(value), value)
	}
	if !said {
		return ""
	}
	return g.id + " " + all.String()
}

// Token is the signed token of a request; "" if there is none.
func (g *VisitorGroup) Token(h httprules.Header) string {
	for _, c := range g.From {
		switch {
		case c.From == key.Cookie:
			if value, present := key.CookieValue(h, c.Name); present {
				return value
			}
		case len(h[c.Name]) == 1:
			value := strings.TrimSpace(h[c.Name][0])
			scheme, token, hasScheme := strings.Cut(value, " ")
			switch {
			case hasScheme && strings.EqualFold(scheme, "Bearer"): // RFC 6750 §2.1
				return strings.TrimSpace(token)
			case c.Name != "Authorization" && !hasScheme:
				return value
			}
		}
	}
	return ""
}

// longestGroup is how many bytes the name of a group may have.
const longestGroup = 200

// GroupName is a group's name; "" for a text that cannot be one: it stands in a field.
func GroupName(text string) string {
	if len(text) > longestGroup || strings.TrimSpace(text) != text || strings.ContainsFunc(text, func(r rune) bool { return r < ' ' || r > '~' }) {
		return ""
	}
	return text
}

func (d *document) group(n ast.Node, route *Route) {
	g := &VisitorGroup{Keep: DefaultKeep}
	var from, keys, ask, kept ast.Node
	before := len(d.problems)
	text := func(name string, into *string) field {
		return field{name: name, read: func(n ast.Node) { *into, _ = d.text(n, "key.group."+name) }}
	}
	d.mapping(n, "key.group",
		text("claim", &g.Claim.Name), text("issuer", &g.Claim.Issuer), text("audience", &g.Claim.Audience),
		field{name: "from", read: func(n ast.Node) {
			from = n
			d.strings(n, "key.group.from", func(n ast.Node, s string) { d.credential(n, s, g) })
		}},
		field{name: "keys", read: func(n ast.Node) { keys = n }},
		field{name: "ask", read: func(n ast.Node) {
			ask = n
			if g.Ask, _ = d.text(n, "key.group.ask"); !strings.HasPrefix(g.Ask, "/") || strings.HasPrefix(g.Ask, "//") || strings.ContainsAny(g.Ask, "#{} \\") {
				d.fail(n, "key.group.ask: %q is no path of the origin; write /session/group", g.Ask)
			}
		}},
		field{name: "keep", read: func(n ast.Node) {
			kept = n
			if d.duration(n, "key.group.keep", &g.Keep); g.Keep < time.Second || g.Keep > 24*time.Hour {
				d.fail(n, "key.group.keep: from 1s to 1d")
			}
		}},
		field{name: "nobody", read: func(n ast.Node) { g.Shared = d.choice(n, "key.group.nobody", "pass", "shared") == 1 }},
	)
	switch {
	case len(d.problems) > before:
		return
	case (g.Claim.Name == "") == (g.Ask == ""):
		d.fail(n, "key.group is either the claim of a signed token, { claim: role, from: authorization, keys: FILE }, or what the origin says, { ask: /session/group, from: [\"cookie:session\"] }")
	case from == nil:
		d.fail(n, "key.group needs to know where from: authorization, cookie:NAME or header:NAME")
	case ask == nil && keys == nil:
		d.fail(n, "key.group: a token counts only if its signature can be verified; name keys: a file with a JWK set or keys in PEM, the URL of a set, or secret_file:NAME")
	case ask != nil && keys != nil:
		d.fail(keys, "key.group: keys are for the claim of a token, and the origin is asked here")
	case ask == nil && kept != nil:
		d.fail(kept, "key.group: keep is for what the origin says; a token says itself how long it holds")
	case ask != nil && g.Claim != Claim{}:
		d.fail(n, "key.group: issuer and audience are for the claim of a token, and the origin is asked here")
	case keys != nil:
		d.groupKeys(keys, g)
	}
	g.id = fmt.Sprintf("%q %q %v %v", g.Claim, g.Ask, g.From, g.Shared)
	route.Group = g
	route.Key.Headers = append(route.Key.Headers, protocol.GroupField)
}

func (d *document) credential(n ast.Node, s string, g *VisitorGroup) {
	kind, name, _ := strings.Cut(s, ":")
	switch {
	case s == "authorization":
		g.From = append(g.From, Credential{key.Field, "Authorization"})
	case kind == "header" && httprules.IsToken(name) && httprules.CanonicalName(name) != "Cookie" && httprules.CanonicalName(name) != protocol.GroupField:
		g.From = append(g.From, Credential{key.Field, httprules.CanonicalName(name)})
	case kind == "cookie" && httprules.IsToken(name):
		g.From = append(g.From, Credential{key.Cookie, name})
	default:
		d.fail(n, "key.group.from cannot be %q; write authorization, header:NAME or cookie:NAME", s)
	}
}

// groupKeys opens what verifies tokens.
func (d *document) groupKeys(n ast.Node, g *VisitorGroup) {
	place, ok := d.text(n, "key.group.keys")
	if !ok {
		return
	}
	open := KeyOpener.Open
	if unread(place) {
		open = KeyOpener.Of
		if place = d.secret(n, "key.group.keys"); unread(place) {
			return
		}
	} else {
		place = d.expand(n, place)
	}
	if d.outside.Keys == nil {
		return
	}
	keys, err := open(d.outside.Keys, place)
	if err != nil {
		d.fail(n, "key.group.keys: %v", err)
		return
	}
	g.Keys = keys
}
