package cli

import (
	"fmt"
	"slices"
	"sort"
	"strings"

	"github.com/spf13/cobra"

	"gerastic.example/client"

	"gerastic/internal/core/httprules"
)

func (a *app) explain() *cobra.Command {
	var method, body string
	var headers []string
	c := &cobra.Command{
		Use:   "explain URL",
		Short: "Tell what would be done with a request, and why",
		Long: `Tell what would be done with a request, and why: the route and why earlier ones did
not match, each part of the key, what is stored, and the verdict. Nothing is fetched.
URL is as a visitor would ask the edge, or from the slash for the host localhost.`,
		Example: "  gerastic explain 'http://127.0.0.1:8480/ports/tholm/departures?page=2&utm_source=mail' -H 'Accept-Language: nb'",
		Args:    cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			r := client.ExplainRequest{Method: method, URL: args[0], Headers: map[string][]string{}}
			for _, h := range headers {
				name, value, ok := strings.Cut(h, ":")
				if !ok || !httprules.IsToken(strings.TrimSpace(name)) {
					return usage("-H %q: write 'Name: value'", h)
				}
				name = httprules.CanonicalName(strings.TrimSpace(name))
				r.Headers[name] = append(r.Headers[name], strings.TrimSpace(value))
			}
			if body != "" {
				text, err := read(body)
				if err != nil {
					return err
				}
				r.Body = string(text)
			}
			ex, err := a.client().Explain(cmd.Context(), r)
			if err != nil {
				return err
			}
			if a.format == "json" {
				return a.json(ex)
			}
			a.printExplanation(ex)
			return nil
		},
	}
	c.Flags().StringVarP(&method, "method", "X", "GET", "the request's method")
	c.Flags().StringArrayVarP(&headers, "header", "H", nil, "a header of the request, 'Name: value'; may be repeated")
	c.Flags().StringVar(&body, "body", "", "a file with the request's body; - for standard input")
	return c
}

func (a *app) printExplanation(ex client.Explanation) {
	p := func(format string, args ...any) { fmt.Fprintf(a.out, format+"\n", args...) }
	verdict := ex.Verdict
	if ex.Cause != "" {
		verdict += " (" + ex.Cause + ")"
	}
	p("verdict   %s", verdict)
	for _, w := range ex.Why {
		p("          %s", w)
	}
	p("")
	for i, r := range ex.Routes {
		p("%-9s %-16s %s", first(i, "routes"), r.Name, r.Result)
	}
	if ex.Origin != "" {
		p("%-9s %s", "origin", ex.Origin)
	}
	a.printWrites(ex.Writes)
	if len(ex.Key) > 0 {
		p("")
	}
	for i, k := range ex.Key {
		name := k.Source
		if k.Name != "" {
			name += " " + k.Name
		}
		value := k.Value
		if !k.Present {
			value = "(absent)"
		}
		p("%-9s %-24s %s", first(i, "key"), name, strings.ReplaceAll(value, "\x00", " "))
	}
	for i, d := range ex.Dropped {
		if slices.Contains(ex.Withheld, d) {
			d += " (withheld from the origin)"
		}
		p("%-9s %s", first(i, "left out"), d)
	}
	if u := ex.Unstored; u != nil {
		p("")
		p("%-9s the last answer, %d at %s: %s", "unstored", u.Status, clock(u.At), u.Why)
	}
	if len(ex.Storing) > 0 {
		p("")
	}
	for i, line := range ex.Storing {
		p("%-9s %s", first(i, "stores"), line)
	}
	if len(ex.Entries) > 0 {
		p("")
		a.printEntries(ex.Entries)
	}
}

// printWrites shows what a request purges when it succeeds.
func (a *app) printWrites(writes []client.ExplainedWrite) {
	for i, w := range writes {
		names := slices.Clone(w.Tags)
		for _, begin := range w.Begins {
			names = append(names, begin+"… (what is behind it, the answer or the body says)")
		}
		how := ""
		if w.Mode == "stale" {
			how = " (marked stale)"
		}
		fmt.Fprintf(a.out, "%-9s %-16s %s%s\n", first(i, "purges"), "write:"+w.Name, strings.Join(names, ", "), how)
	}
}

// printEntries shows what is stored under a key.
func (a *app) printEntries(entries []client.ExplainedEntry) {
	p := func(format string, args ...any) { fmt.Fprintf(a.out, format+"\n", args...) }
	for i, e := range entries {
		answers := ""
		if e.Answers {
			answers = "  ← answers this request"
		}
		p("%-9s %d, %s, age %s of %s (%s), its fill took %s%s", first(i, "stored"), e.Status, size(int64(e.Bytes)), span(e.AgeSeconds*1000), span(e.Lifetime*1000), e.Source, span(e.CostMS), answers)
		if len(e.Tags) > 0 {
			for i, line := range wrap(e.Tags, 80) {
				p("          %-5s %s", first(i, "tags:"), line)
			}
		}
		for _, name := range sortedKeys(e.Vary) {
			p("          varies by %s: %s", name, e.Vary[name])
		}
	}
}

// wrap joins names into lines of about so many characters.
func wrap(names []string, width int) (lines []string) {
	var line string
	for _, name := range names {
		if line != "" && len(line)+len(name) > width {
			lines = append(lines, line)
			line = ""
		}
		if line != "" {
			line += " · "
		}
		line += name
	}
	return append(lines, line)
}

// first labels the first line of a block only.
func first(i int, label string) string {
	if i == 0 {
		return label
	}
	return ""
}

func sortedKeys(m map[string]string) []string {
	keys := make([]string, 0, len(m))
	for k := range m {
		keys = append(keys, k)
	}
	sort.Strings(keys)
	return keys
}
