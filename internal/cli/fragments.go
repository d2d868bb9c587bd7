package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"gerastic.example/client"

	"gerastic/internal/core/policy"
)

func (a *app) fragments() *cobra.Command {
	c := &cobra.Command{
		Use:   "fragments",
		Short: "Fragments that applications store, and what pages are made of",
		Long: `Fragments that applications store through the API, and what the edge includes.

A fragment is named NAMESPACE/KEY: the application's namespace, and the key that it gave,
such as site/row(812). The name of its kind is what stands before the bracket: site/row.`,
	}
	c.AddCommand(a.fragmentsList(), a.fragmentsShow(), a.fragmentsDrop(), a.fragmentsBench())
	return c
}

func (a *app) fragmentsList() *cobra.Command {
	var since, name, key string
	var limit int
	c := &cobra.Command{
		Use:   "list",
		Short: "The names with their figures, or the fragments of one name",
		Long:  "The names of fragments, and of what the edge includes (edge/ROUTE), with their figures; with --name, the fragments of one name, and with --key those whose key begins so.",
		Example: "  gerastic fragments list --since 15m\n" +
			"  gerastic fragments list --name site/row --limit 20\n" +
			"  gerastic fragments list --key 'row(7'",
		RunE: func(cmd *cobra.Command, _ []string) error {
			if name != "" || key != "" {
				return a.fragmentsOf(cmd.Context(), client.EntryQuery{Route: strings.TrimPrefix(name, "edge/"), Key: key, Limit: limit})
			}
			names, err := a.client().FragmentNames(cmd.Context(), since)
			if err != nil {
				return err
			}
			t := &rows{columns: []column{left("name"), right("stored"), right("bytes"), right("asked for"), right("found"), right("fills"), right("fill takes"), right("time saved"), right("found in")}}
			for _, n := range names {
				t.add(str(n.Name), count(int64(n.Entries)), bytes(n.Bytes), count(n.Requests), percent(n.FoundRatio), count(n.Fills), millis(n.FillMS), millis(&n.TimeSavedMS), millis(n.HitLatencyMS.P50))
			}
			if len(names) == 0 {
				a.say("no fragment was stored or asked for; applications store them with LoadOrFill, see docs/fragments.md")
			}
			return a.print(names, t)
		},
	}
	c.Flags().StringVar(&since, "since", "1h", "figures since: 15m, 7d or an RFC 3339 time")
	c.Flags().StringVar(&name, "name", "", "list the fragments of this name instead: NAMESPACE/NAME")
	c.Flags().StringVar(&key, "key", "", "list the fragments whose key begins so instead, with or without NAMESPACE/")
	c.Flags().IntVar(&limit, "limit", 50, "how many at most, with --name or --key (1 to 1000)")
	return c
}

func (a *app) fragmentsOf(ctx context.Context, q client.EntryQuery) error {
	list, err := a.client().Entries(ctx, q)
	if err != nil {
		return err
	}
	entries := list.Entries
	t := &rows{columns: []column{left("fragment"), right("bytes"), right("age"), right("left"), left("state"), left("tags")}}
	for _, e := range entries {
		age, rest := e.AgeS*1000, e.LeftS*1000
		life := millis(&rest)
		if e.LeftS > client.Forever.Seconds()/2 {
			life.text = "for ever"
		}
		var tags []string
		for _, tag := range e.Tags {
			tags = append(tags, tag.Tag)
		}
		t.add(str(e.URL), bytes(e.Bytes), millis(&age), life, str(e.State), str(strings.Join(tags, " ")))
	}
	if len(entries) == 0 {
		a.say("nothing of the name or key %s is stored; gerastic fragments list shows the names", cmp.Or(q.Key, q.Route))
	}
	return a.print(entries, t)
}

func (a *app) fragmentsShow() *cobra.Command {
	var body bool
	c := &cobra.Command{
		Use:   "show NAMESPACE/KEY | URL",
		Short: "What a fragment or a page was made of, or a fragment's body",
		Long:  "What a fragment or a page was made of, with ages and tags, down to the smallest part. With --body, the bytes of a fragment.",
		Example: "  gerastic fragments show 'site/board(\"tholm\")'\n" +
			"  gerastic fragments show /ports/tholm\n" +
			"  gerastic fragments show 'site/card(3)' --body",
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if body {
				namespace, key, ok := strings.Cut(args[0], "/")
				if !ok || namespace == "" {
					return usage("--body is for fragments: NAMESPACE/KEY")
				}
				b, err := a.client().FragmentBody(cmd.Context(), namespace, key)
				if err != nil {
					return err
				}
				_, err = a.raw().Write(b)
				return err
			}
			made, err := a.client().PartsTree(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			t := &rows{columns: []column{left("made of"), left("state"), right("age"), right("left"), right("fill takes"), right("bytes"), left("tags")}}
			addTree(t, made, "", "")
			return a.print(made, t)
		},
	}
	c.Flags().BoolVar(&body, "body", false, "write the fragment's body instead")
	return c
}

// addTree adds a fragment or page and, indented, its parts. Its tags are shown without those that come
// from its parts, where they stand.
func addTree(t *rows, m client.PartsTree, lead, below string) {
	inherited := map[string]bool{}
	for _, part := range m.Parts {
		for _, tag := range part.Tags {
			inherited[tag.Tag] = inherited[tag.Tag] || part.Kind == "fragment" // what the edge includes hands nothing up
		}
	}
	var own []string
	for _, tag := range m.Tags {
		if !inherited[tag.Tag] {
			own = append(own, tag.Tag)
		}
	}
	none := cell{"–", ""}
	age, rest, cost := m.AgeS*1000, m.LeftS*1000, m.CostMS
	if m.State == "missing" {
		t.add(str(lead+m.Name), str(m.State), none, none, none, none, none)
	} else {
		life := millis(&rest)
		if m.LeftS > client.Forever.Seconds()/2 {
			life.text = "for ever"
		}
		t.add(str(lead+m.Name), str(m.State), millis(&age), life, millis(&cost), bytes(m.Bytes), str(strings.Join(own, " ")))
	}
	for i, part := range m.Parts {
		if i == len(m.Parts)-1 {
			addTree(t, part, below+"└ ", below+"  ")
		} else {
			addTree(t, part, below+"├ ", below+"│ ")
		}
	}
}

func (a *app) fragmentsDrop() *cobra.Command {
	var name string
	c := &cobra.Command{
		Use:   "drop NAMESPACE/KEY…",
		Short: "Drop fragments on every node",
		Long:  "Drop fragments on every node: single ones by their keys, or with --name all of one name. To drop what shows a thing, purge its tag.",
		Example: "  gerastic fragments drop 'site/card(3)'\n" +
			"  gerastic fragments drop --name site/row",
		Args: func(_ *cobra.Command, args []string) error {
			if (name == "") == (len(args) == 0) {
				return usage("name fragments (NAMESPACE/KEY), or all of one name with --name NAMESPACE/NAME")
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			c := a.client()
			if name != "" {
				if !strings.Contains(name, "/") {
					return usage("--name %s: it is NAMESPACE/NAME; gerastic fragments list shows them", name)
				}
				result, err := c.Purge(cmd.Context(), client.PurgeRequest{Routes: []string{name}, Reason: "gerastic fragments drop"})
				if err != nil {
					return err
				}
				return a.dropped(result)
			}
			for _, arg := range args {
				namespace, key, ok := strings.Cut(arg, "/")
				if !ok {
					return usage("%s: it is NAMESPACE/KEY, such as site/card(3)", arg)
				}
				result, err := c.DropFragment(cmd.Context(), namespace, key)
				if err != nil {
					return err
				}
				if err := a.dropped(result); err != nil {
					return err
				}
			}
			return nil
		},
	}
	c.Flags().StringVar(&name, "name", "", "all fragments of this name: NAMESPACE/NAME")
	return c
}

func (a *app) dropped(result client.PurgeResult) error {
	if a.format != "table" {
		return a.json(result)
	}
	a.say("purge %d: dropped %s, %s", result.Sequence, plural(result.Matched.Entries, "fragment", "fragments"), size(result.Matched.Bytes))
	for _, n := range result.Nodes {
		if !n.Applied {
			a.say("node %s has not said yet that it applied it", n.Node)
		}
	}
	return nil
}

func (a *app) fragmentsBench() *cobra.Command {
	var namespace, sizeText string
	var many, times int
	c := &cobra.Command{
		Use:   "bench",
		Short: "Time how fast this machine finds and stores fragments at the node",
		Long: `Time how fast this machine finds and stores fragments at the node, with the client that
applications use. It stores fragments in a namespace of its own, and drops them at the end.`,
		Example: "  gerastic fragments bench\n  gerastic fragments bench --size 16KiB --many 500",
		RunE: func(cmd *cobra.Command, _ []string) error {
			length, err := policy.ParseSize(sizeText)
			if err != nil {
				return usage("--size: %w", err)
			}
			if length < 1 || length > 64<<20 {
				return usage("--size is from 1B to 64MiB")
			}
			if many < 1 || many > 1000 || times < 1 || times > 100_000 {
				return usage("--many is 1 to 1000, --times 1 to 100000")
			}
			return a.bench(cmd.Context(), namespace, int(length), many, times)
		},
	}
	f := c.Flags()
	f.StringVar(&namespace, "namespace", "bench", "where the fragments are stored meanwhile")
	f.StringVar(&sizeText, "size", "2KiB", "of each fragment")
	f.IntVar(&many, "many", 100, "fragments in a call for many")
	f.IntVar(&times, "times", 2000, "fragments found one at a time; calls for many are a twentieth of that")
	return c
}

func (a *app) bench(ctx context.Context, namespace string, length, many, times int) (err error) {
	c := a.client()
	if _, err := c.FragmentBody(ctx, namespace, "bench"); client.StatusOf(err) != http.StatusNotFound {
		return err // the node, the token or the namespace will not do
	}
	s := c.Fragments(client.FragmentOptions{Namespace: namespace, Timeout: 10 * time.Second})
	all := make([]client.Fragment, many)
	for i := range all {
		all[i] = client.Fragment{Name: "bench", Parts: []any{time.Now().UnixNano(), i}, Lifetime: 10 * time.Minute}
	}
	defer func() {
		if _, bad := c.Purge(context.WithoutCancel(ctx), client.PurgeRequest{Routes: []string{namespace + "/bench"}, Reason: "gerastic fragments bench"}); bad != nil && err == nil {
			err = fmt.Errorf("what was stored could not be dropped, and leaves by itself within ten minutes: %w", bad)
		}
	}()
	stored, err := storeAll(ctx, s, all, length)
	if err != nil {
		return err
	}
	one, err := timeFound(ctx, s, times, func(i int) []client.Fragment { return all[i%many : i%many+1] })
	if err != nil {
		return err
	}
	lookups, err := timeFound(ctx, s, max(1, times/20), func(int) []client.Fragment { return all })
	if err != nil {
		return err
	}
	results := []benched{
		benchedOf(fmt.Sprintf("stored %d at once", many), many, []time.Duration{stored}),
		benchedOf("found one", 1, one),
		benchedOf(fmt.Sprintf("found %d at once", many), many, lookups),
	}
	t := &rows{columns: []column{left("what"), right("times"), right("median"), right("99 %"), right("for each")}}
	for _, r := range results {
		t.add(str(r.What), count(int64(r.Times)), millis(&r.MedianMS), millis(&r.P99MS), millis(&r.EachMS))
	}
	if err := a.print(results, t); err != nil {
		return err
	}
	a.say("\n%s each; a call for %d is %s times as fast as one after another.", size(int64(length)), many, significant(results[1].MedianMS*float64(many)/results[2].MedianMS))
	return nil
}

// benched is how long something took that was done several times.
type benched struct {
	What     string  `json:"what"`
	Times    int     `json:"times"`
	MedianMS float64 `json:"median_ms"`
	P99MS    float64 `json:"p99_ms"`
	EachMS   float64 `json:"each_ms"`
}

// benchedOf sums up times, in order, of calls for so many fragments.
func benchedOf(what string, many int, took []time.Duration) benched {
	median := ms(took[len(took)/2])
	return benched{what, len(took), median, ms(took[len(took)*99/100]), median / float64(many)}
}

// storeAll stores fragments of a length in one call, and returns how long that took.
func storeAll(ctx context.Context, s *client.Fragments, all []client.Fragment, length int) (took time.Duration, err error) {
	body := make([]byte, length)
	for i := range body {
		body[i] = "Ostrel Isles Ferries "[i%21]
	}
	began := time.Now()
	if _, err := s.LoadOrFillAll(ctx, all, func(context.Context, int) ([]byte, error) { return body, nil }); err != nil {
		return 0, err
	}
	took = time.Since(began)
	if counts := s.Counts(); counts.Filled != int64(len(all)) || counts.Unreached > 0 || counts.Refused > 0 {
		return 0, fmt.Errorf("the node took %d of %d fragments; is its memory large enough? see: gerastic nodes", counts.Filled-counts.Refused, len(all))
	}
	return took, nil
}

// timeFound looks for what is there, so many times, and returns how long each took, in order.
func timeFound(ctx context.Context, s *client.Fragments, times int, wanted func(i int) []client.Fragment) ([]time.Duration, error) {
	took := make([]time.Duration, times)
	for i := range took {
		began := time.Now()
		_, err := s.LoadOrFillAll(ctx, wanted(i), func(context.Context, int) ([]byte, error) {
			return nil, errors.New("a fragment just stored was not found")
		})
		if err != nil {
			return nil, err
		}
		took[i] = time.Since(began)
	}
	slices.Sort(took)
	return took, nil
}

func ms(d time.Duration) float64 { return float64(d) / float64(time.Millisecond) }
