package policy

import (
	"maps"
	"net/url"
	"regexp"
	"slices"
	"strings"
)

// hidden stands for what only some may read.
const hidden = "(hidden)"

// shortestSecret is how long a field that is sent onward is at least, if nobody else is to read it.
const shortestSecret = 8

// withheld stands for a policy whose secrets cannot be told from the rest.
const withheld = "# This policy holds a secret that is written in a way in which it cannot be cut out, so that only\n# the right admin shows it. Write secrets in one line, without escapes, or as ${VARIABLE}.\n"

// Hide returns a policy's source without the secrets that stand in it: those of webhooks,
// passwords of databases, and the fields that are sent onward. What comes from the environment does not stand in it.
func Hide(source string, lookup func(string) (string, bool)) string {
	var given []string
	p, err := Outside{Elsewhere: true, Lookup: func(name string) (string, bool) {
		value, ok := lookup(name)
		given = append(given, value)
		return value, ok
	}}.Parse("policy", []byte(source))
	if err != nil {
		return withheld
	}
	masked := map[string]string{}
	for _, s := range p.Changes.Sources {
		masked[s.Secret] = hidden
		masked[s.Database] = withoutPassword(s.Database)
	}
	for _, r := range p.Changes.Rules {
		if r.Also != nil {
			masked[r.Also.Database] = withoutPassword(r.Also.Database)
		}
	}
	for _, o := range p.Onward {
		masked[o.URL.String()] = withoutPassword(o.URL.String())
		for name, values := range o.Header {
			if name != "Content-Type" && len(values[0]) >= shortestSecret {
				masked[values[0]] = hidden
			}
		}
	}
	maps.DeleteFunc(masked, func(secret, _ string) bool { return strings.Contains(secret, secretFile) })
	longestFirst := slices.SortedFunc(maps.Keys(masked), func(a, b string) int { return len(b) - len(a) }) // one may be part of another
	for _, secret := range longestFirst {
		switch mask := masked[secret]; {
		case secret == "" || secret == mask || slices.ContainsFunc(given, func(v string) bool { return v != "" && strings.Contains(secret, v) }):
		case !strings.Contains(source, secret):
			return withheld
		default:
			source = strings.ReplaceAll(source, secret, mask)
		}
	}
	return source
}

var passwordWord = regexp.MustCompile(`(password\s*=\s*)('(?:[^'\\]|\\.)*'|\S+)`)

// withoutPassword hides the password of a connection string, written as a URL or in words.
func withoutPassword(database string) string {
	if u, err := url.Parse(database); err == nil && u.Scheme != "" {
		query := u.Query()
		_, inUser := u.User.Password()
		if !inUser && !query.Has("password") {
			return database
		}
		scheme, rest, _ := strings.Cut(database, "://")
		if at := strings.LastIndex(rest, "@"); inUser && at >= 0 {
			rest = u.User.Username() + ":" + hidden + rest[at:]
		}
		return passwordWord.ReplaceAllString(scheme+"://"+rest, "${1}"+hidden)
	}
	return passwordWord.ReplaceAllString(database, "${1}"+hidden)
}
