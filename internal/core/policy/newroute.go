package policy

import (
	"fmt"
	"strings"
)

// NewRoute is a route as somebody says it in a line.
type NewRoute struct {
	Name    string
	Paths   []string
	Like    []string
	Fresh   string // 10m; "": as the origin says
	Query   string // all, none, page,sort for only these, or -utm_*,-ref for all but these; "": all
	Headers []string
	Cookies []string
	Tags    []string
}

// Lines are its settings, a line each.
func (r *NewRoute) Lines() ([]string, error) {
	if r.Name == "" || len(r.Paths) == 0 {
		return nil, fmt.Errorf("a route needs a name and a path: gerastic routes add NAME --path /PATH")
	}
	lines := []string{"name: " + plainValue(r.Name)}
	if len(r.Like) > 0 {
		lines = append(lines, "like: "+oneOrList(r.Like))
	}
	lines = append(lines, "match: { path: "+oneOrList(r.Paths)+" }")
	query, err := queryRule(r.Query)
	if err != nil {
		return nil, err
	}
	var key []string
	if query != "" {
		key = append(key, "query: "+query)
	}
	if len(r.Headers) > 0 {
		key = append(key, "headers: "+list(r.Headers))
	}
	if len(r.Cookies) > 0 {
		key = append(key, "cookies: "+list(r.Cookies))
	}
	if len(key) > 0 {
		lines = append(lines, "key: { "+strings.Join(key, ", ")+" }")
	}
	if r.Fresh != "" {
		lines = append(lines, "lifetime: { fresh: "+plainValue(r.Fresh)+" }")
	}
	if len(r.Tags) > 0 {
		lines = append(lines, "tags: "+list(r.Tags))
	}
	return lines, nil
}

// queryRule is key.query for what somebody writes in a line.
func queryRule(text string) (string, error) {
	switch text {
	case "", "all", "none":
		return text, nil
	}
	var only, except []string
	for name := range strings.SplitSeq(text, ",") {
		name = strings.TrimSpace(name)
		if rest, without := strings.CutPrefix(name, "-"); without {
			except, name = append(except, rest), rest
		} else {
			only = append(only, name)
		}
		if name == "" {
			return "", fmt.Errorf("query %q: a name is missing; write page,sort for only these, or -utm_*,-ref for all but these", text)
		}
	}
	switch {
	case len(only) > 0 && len(except) > 0:
		return "", fmt.Errorf("query %q: either name what counts (page,sort), or what does not (-utm_*,-ref)", text)
	case len(only) > 0:
		return "{ only: " + list(only) + " }", nil
	}
	return "{ except: " + list(except) + " }", nil
}

func list(all []string) string {
	quoted := make([]string, len(all))
	for i, one := range all {
		quoted[i] = plainValue(one)
	}
	return "[" + strings.Join(quoted, ", ") + "]"
}

func oneOrList(all []string) string {
	if len(all) == 1 {
		return plainValue(all[0])
	}
	return list(all)
}

// plainValue is a text in YAML, quoted where it could be read as something else.
func plainValue(text string) string {
	if plainKeys.MatchString(text) || strings.HasPrefix(text, "/") && !strings.ContainsAny(text, "{}[],#:&*!|>'\"%@` ") {
		return text
	}
	return fmt.Sprintf("%q", text)
}
