package cli

import (
	"bufio"
	"errors"
	"fmt"
	"maps"
	"os"
	"slices"
	"sort"
	"strconv"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"gerastic.example/client"
)

// purgeOptions are what the command line says of a purge.
type purgeOptions struct {
	request        client.PurgeRequest
	urls, anyQuery []string
	soften         bool
	yes            bool // do not ask
	exact          bool // a star in a tag is a star
}

func (a *app) purge() *cobra.Command {
	var o purgeOptions
	r := &o.request
	c := &cobra.Command{
		Use:   "purge",
		Short: "Forget what is stored: by tag, URL, route, path, host, or all of it",
		Long: `Forget what is stored: by tag, URL, route, path, host, or all of it. When the command returns,
no request is answered from what matched: neither from what was stored nor from what
an origin was still rendering when the purge came. Every purge is in the ledger with
who ordered it and why.

--url names one URL with its query, and all its variants; parameters that the route's
key leaves out do not matter. --url-any-query names all query forms of it. A URL from
the slash (/ports/tholm) counts for every host. --below names everything below a path: all
paths that begin so; /ports/ leaves /ports-map alone, /ports does not.

Several tags name the entries that carry any of them; with --together, those that carry
all. A tag with a star (port:*) is only a way to write: it is spelled out from the tags
that are stored, shown, and asked about.`,
		Example: `  gerastic purge --tag port:tholm --reason 'pier closed'
  gerastic purge --route departures --preview
  gerastic purge --url http://127.0.0.1:8480/ports/tholm --soften`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.carryOut(cmd, &o)
		},
	}
	f := c.Flags()
	f.StringArrayVar(&r.Tags, "tag", nil, "a tag; may be repeated")
	f.BoolVar(&r.Together, "together", false, "only entries that carry all of the tags")
	f.BoolVar(&o.exact, "exact", false, "take * in a tag as it is")
	f.StringArrayVar(&r.Below, "below", nil, "everything below a path (/ports/), or below https://HOST/ports/; may be repeated")
	f.StringArrayVar(&r.Hosts, "host", nil, "a host; may be repeated")
	f.StringArrayVar(&o.urls, "url", nil, "a URL with its query; may be repeated")
	f.StringArrayVar(&o.anyQuery, "url-any-query", nil, "a URL in all its query forms; may be repeated")
	f.StringArrayVar(&r.Routes, "route", nil, "a route; may be repeated")
	f.BoolVar(&r.All, "all", false, "all that is stored; asks first")
	f.BoolVar(&o.soften, "soften", false, "mark stale instead: revalidated before use, still served under the route's stale rules")
	f.BoolVar(&r.Preview, "preview", false, "show what would go, and change nothing")
	f.BoolVar(&o.yes, "yes", false, "do not ask")
	f.StringVar(&r.Reason, "reason", "", "why, for those who read the ledger")
	c.AddCommand(a.purgeHistory())
	return c
}

// carryOut asks where it must, orders the purge, and shows what it did.
func (a *app) carryOut(cmd *cobra.Command, o *purgeOptions) error {
	r := &o.request
	for _, u := range o.urls {
		r.URLs = append(r.URLs, client.PurgeURL{URL: u})
	}
	for _, u := range o.anyQuery {
		r.URLs = append(r.URLs, client.PurgeURL{URL: u, AnyQuery: true})
	}
	if len(r.Tags)+len(r.URLs)+len(r.Routes)+len(r.Below)+len(r.Hosts) == 0 && !r.All {
		return usage("name what to purge: --tag, --url, --route, --below, --host or --all")
	}
	starred := false
	if !o.exact {
		var err error
		if starred, err = a.spellOut(cmd, r); err != nil {
			return err
		}
	}
	if (r.All || starred) && !r.Preview && !o.yes {
		if err := a.confirm(cmd, *r); err != nil {
			return err
		}
	}
	r.Mode = "drop"
	if o.soften {
		r.Mode = "stale"
	}
	result, err := a.client().Purge(cmd.Context(), *r)
	if err != nil {
		return err
	}
	return a.purged(result)
}

// purged shows what a purge did; the error says that a node has not applied it.
func (a *app) purged(result client.PurgeResult) error {
	if err := a.printPurge(result); err != nil {
		return err
	}
	for _, n := range result.Nodes {
		if !n.Applied {
			return fmt.Errorf("purge %d is in the ledger, but node %s has not said that it applied it; it will when it reads on, and revalidates everything if it cannot", result.Sequence, n.Node)
		}
	}
	return nil
}

// mostSpelled is how many tags a star may stand for.
const mostSpelled = 1000

// spellOut puts the stored tags in place of those with a star.
func (a *app) spellOut(cmd *cobra.Command, r *client.PurgeRequest) (starred bool, err error) {
	var spelled []string
	for _, tag := range r.Tags {
		before, _, has := strings.Cut(tag, "*")
		if !has {
			spelled = append(spelled, tag)
			continue
		}
		starred = true
		stored, err := a.client().Tags(cmd.Context(), before, mostSpelled)
		if err != nil {
			return true, err
		}
		matches := 0
		for _, t := range stored {
			if matchesStar(tag, t.Tag) {
				spelled = append(spelled, t.Tag)
				matches++
			}
		}
		switch {
		case matches == 0:
			return true, fmt.Errorf("no stored entry carries a tag like %q; gerastic tags lists them (--exact takes the star as it is)", tag)
		case len(stored) == mostSpelled:
			return true, fmt.Errorf("%q stands for more than %d tags; name the route or a path instead", tag, mostSpelled)
		}
	}
	if starred && r.Together {
		return true, usage("--together wants whole tags; a star would stand for any of several")
	}
	r.Tags = spelled
	if starred {
		fmt.Fprintf(a.errs, "tags: %s\n", strings.Join(spelled, ", "))
	}
	return starred, nil
}

// matchesStar reports whether text is like a pattern in which * stands for anything.
func matchesStar(pattern, text string) bool {
	parts := strings.Split(pattern, "*")
	last := len(parts) - 1
	if !strings.HasPrefix(text, parts[0]) || len(text) < len(parts[0])+len(parts[last]) || !strings.HasSuffix(text, parts[last]) {
		return false
	}
	text = text[len(parts[0]) : len(text)-len(parts[last])]
	for _, part := range parts[1:last] {
		at := strings.Index(text, part)
		if at < 0 {
			return false
		}
		text = text[at+len(part):]
	}
	return true
}

// confirm asks at a terminal, and refuses where nobody can answer.
func (a *app) confirm(cmd *cobra.Command, r client.PurgeRequest) error {
	if nodes, err := a.client().Nodes(cmd.Context()); err == nil && len(nodes) > 0 && nodes[0].Development {
		return nil
	}
	if !term.IsTerminal(int(os.Stdin.Fd())) {
		return usage("this purges more than one name says, and nobody can be asked here; look with --preview, then pass --yes")
	}
	r.Preview = true
	preview, err := a.client().Purge(cmd.Context(), r)
	if err != nil {
		return err
	}
	what := plural(preview.Matched.Entries, "entry", "entries") + " (" + size(preview.Matched.Bytes) + ")"
	if r.All {
		what = "all " + what
	}
	fmt.Fprintf(a.errs, "Purge %s? Type yes: ", what)
	answer, _ := bufio.NewReader(os.Stdin).ReadString('\n')
	if strings.TrimSpace(answer) != "yes" {
		return errors.New("nothing was purged")
	}
	return nil
}

func (a *app) printPurge(p client.PurgeResult) error {
	if a.format == "json" {
		return a.json(p)
	}
	t := &rows{columns: []column{left("route"), right("entries")}}
	for _, route := range byCount(p.Matched.Routes) {
		t.add(str(route), count(p.Matched.Routes[route]))
	}
	if a.format == "csv" {
		return a.print(p, t)
	}
	entries := plural(p.Matched.Entries, "entry", "entries") + ", " + size(p.Matched.Bytes)
	switch {
	case p.Preview && p.Mode == "stale":
		a.say("would mark %s stale", entries)
	case p.Preview:
		a.say("would drop %s", entries)
	case p.Mode == "stale":
		a.say("purge %d: %s marked stale%s", p.Sequence, entries, onNodes(p.Nodes))
	default:
		a.say("purge %d: %s dropped%s", p.Sequence, entries, onNodes(p.Nodes))
	}
	if len(t.cells) > 0 {
		a.say("")
		if err := a.print(p, t); err != nil {
			return err
		}
	}
	for i, u := range p.Matched.Sample {
		if i == 0 {
			a.say("\nfor example")
		}
		if i == 5 {
			break
		}
		a.say("  %s", u)
	}
	return nil
}

func onNodes(nodes []client.PurgeNode) string {
	var parts []string
	for _, n := range nodes {
		if !n.Applied {
			parts = append(parts, fmt.Sprintf("; not yet on %s", n.Node))
			continue
		}
		parts = append(parts, fmt.Sprintf("; in force on %s after %s", n.Node, span(n.TookMS)))
	}
	return strings.Join(parts, "")
}

func byCount(routes map[string]int64) []string {
	names := make([]string, 0, len(routes))
	for name := range routes {
		names = append(names, name)
	}
	sort.Slice(names, func(i, j int) bool {
		if routes[names[i]] != routes[names[j]] {
			return routes[names[i]] > routes[names[j]]
		}
		return names[i] < names[j]
	})
	return names
}

func (a *app) purgeHistory() *cobra.Command {
	var limit int
	c := &cobra.Command{
		Use:     "history",
		Short:   "The ledger: who purged what, when, why, and what went",
		Example: "  gerastic purge history --limit 10",
		RunE: func(cmd *cobra.Command, _ []string) error {
			purges, err := a.client().Purges(cmd.Context(), 0, limit)
			if err != nil {
				return err
			}
			t := &rows{columns: []column{right("purge"), left("when"), left("by"), left("mode"), left("what"), right("entries"), right("in force after"), left("why")}}
			for _, p := range purges {
				took := cell{"–", ""}
				if len(p.Nodes) > 0 {
					took = millis(&p.Nodes[0].TookMS)
				}
				t.add(cell{strconv.FormatUint(p.Sequence, 10), strconv.FormatUint(p.Sequence, 10)}, clock(p.At), str(p.Actor), str(p.Mode), str(whatPurged(p)), count(p.Matched.Entries), took, str(p.Reason))
			}
			return a.print(purges, t)
		},
	}
	c.Flags().IntVar(&limit, "limit", 20, "how many, newest first")
	return c
}

// whatPurged names what a purge named, in short.
func whatPurged(p client.Purge) string {
	if p.All {
		return "all that is stored"
	}
	var names []string
	if p.Together {
		names = append(names, "all of the tags "+strings.Join(p.Tags, " + "))
	} else {
		for _, tag := range p.Tags {
			names = append(names, "tag "+tag)
		}
	}
	for _, begin := range p.Begins {
		names = append(names, "tags "+begin+"…")
	}
	for _, path := range p.Below {
		names = append(names, "below "+path)
	}
	for _, host := range p.Hosts {
		names = append(names, "host "+host)
	}
	for _, route := range p.Routes {
		names = append(names, "route "+route)
	}
	names = append(names, p.URLs...)
	if len(names) > 3 {
		names = append(names[:3], fmt.Sprintf("and %d more", len(names)-3))
	}
	return strings.Join(names, ", ")
}

func (a *app) tags() *cobra.Command {
	var limit int
	c := &cobra.Command{
		Use:     "tags [PREFIX | PATTERN]",
		Short:   "The tags that stored entries carry, and when they were last purged",
		Example: "  gerastic tags port:\n  gerastic tags 'departures:*-*'",
		Args:    cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			prefix, pattern := strings.Join(args, ""), strings.Join(args, "")+"*"
			most := limit
			if before, _, starred := strings.Cut(prefix, "*"); starred {
				prefix, pattern, most = before, prefix, mostSpelled
			}
			tags, err := a.client().Tags(cmd.Context(), prefix, most)
			if err != nil {
				return err
			}
			tags = slices.DeleteFunc(tags, func(t client.StoredTag) bool { return !matchesStar(pattern, t.Tag) })
			tags = tags[:min(limit, len(tags))]
			t := &rows{columns: []column{left("tag"), right("entries"), right("bytes"), left("routes"), left("last purge")}}
			for _, tag := range tags {
				last := cell{"–", ""}
				if p := tag.Purged; p != nil {
					last = clock(p.At)
					last.text = fmt.Sprintf("%d, %s by %s", p.Sequence, last.text, p.Actor)
				}
				t.add(str(tag.Tag), count(int64(tag.Entries)), bytes(tag.Bytes), str(strings.Join(slices.Sorted(maps.Keys(tag.Routes)), ", ")), last)
			}
			return a.print(tags, t)
		},
	}
	c.Flags().IntVar(&limit, "limit", 50, "how many, those with most entries first")
	return c
}
