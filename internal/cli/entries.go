package cli

import (
	"maps"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"gerastic.example/client"
)

func (a *app) entries() *cobra.Command {
	c := &cobra.Command{Use: "entries", Short: "What is stored: which entries, how large, how old, how much they are worth"}
	c.AddCommand(a.entriesList(), a.entriesShow(), a.entriesDrop())
	return c
}

func (a *app) entriesList() *cobra.Command {
	var q client.EntryQuery
	c := &cobra.Command{
		Use:     "list",
		Short:   "List stored entries, the largest first",
		Long:    "List stored entries. Worth is how much of its origin's time each byte of an entry saves, for the uses that count now: when memory is full, the least worth goes first.",
		Example: "  gerastic entries list --route departures --sort worth\n  gerastic entries list --below /ports/ --sort age\n  gerastic entries list --tag port:tholm --state softened",
		Args:    cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if q.Limit < 1 {
				return usage("--limit must be from 1 to 1000")
			}
			list, err := a.client().Entries(cmd.Context(), q)
			if err != nil {
				return err
			}
			t := &rows{columns: []column{left("id"), left("url"), left("route"), left("tier"), right("bytes"), right("age"), right("left"), right("idle"), right("uses"), right("fill takes"), right("worth"), left("state")}}
			for _, e := range list.Entries {
				t.add(str(e.ID), str(e.URL), str(e.Route), str(e.Tier), bytes(e.Bytes), seconds(e.AgeS), life(e.LeftS), seconds(e.IdleS), decimal(e.Uses), millis(&e.CostMS), decimal(e.Worth), str(e.State))
			}
			switch {
			case list.Total == 0:
				a.say("nothing is stored that fits; without flags, all is listed")
			case list.Next != "":
				a.say("%s of %s; for more: --after %s", grouped(int64(len(list.Entries))), plural(int64(list.Total), "entry", "entries"), list.Next)
			}
			return a.print(list, t)
		},
	}
	f := c.Flags()
	f.StringVar(&q.Tag, "tag", "", "only entries that carry this tag")
	f.StringVar(&q.Route, "route", "", "only entries of this route; NAMESPACE/NAME for fragments")
	f.StringVar(&q.URL, "url", "", "only what was asked for there: https://HOST/PATH?QUERY, or /PATH for every host")
	f.StringVar(&q.Below, "below", "", "only below this path: https://HOST/PATH/, or /PATH/ for every host")
	f.StringVar(&q.Host, "host", "", "only of this host")
	f.StringVar(&q.Tier, "tier", "", "only of this tier: memory or disk")
	f.StringVar(&q.State, "state", "", "live, or softened by a purge")
	f.StringVar(&q.Sort, "sort", "bytes", "bytes, age, used, cost or worth: the most first")
	f.IntVar(&q.Limit, "limit", 50, "how many at most (1 to 1000)")
	f.StringVar(&q.After, "after", "", "the next part of the list, as the one before says")
	return c
}

func (a *app) entriesShow() *cobra.Command {
	var body bool
	c := &cobra.Command{
		Use:     "show ID",
		Short:   "One entry: its header, tags, life and worth, or its body",
		Example: "  gerastic entries show m1f-9e3779b9\n  gerastic entries show m1f-9e3779b9 --body > page.html",
		Args:    cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if body {
				b, err := a.client().EntryBody(cmd.Context(), args[0])
				if err != nil {
					return err
				}
				_, err = a.raw().Write(b)
				return err
			}
			e, err := a.client().EntryOf(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			t := &rows{columns: []column{left("of the entry"), left("")}}
			var tags, coded []string
			for _, tag := range e.Tags {
				text := tag.Tag + " (" + tag.From
				if taken, known := e.Purges[tag.Tag]; known {
					text += "; a purge takes " + plural(taken.Entries, "entry", "entries") + ", " + size(taken.Bytes)
				}
				tags = append(tags, text+")")
			}
			for _, coding := range slices.Sorted(maps.Keys(e.Coded)) {
				coded = append(coded, coding+" "+size(int64(e.Coded[coding])))
			}
			for _, line := range [][2]string{
				{"url", e.URL}, {"route", e.Route}, {"state", e.State}, {"tier", e.Tier}, {"bytes", size(e.Bytes) + ", " + size(e.BodyBytes) + " of them its body"}, {"coded", strings.Join(coded, ", ")},
				{"age", seconds(e.AgeS).text}, {"left", life(e.LeftS).text}, {"idle", seconds(e.IdleS).text},
				{"worth", decimal(e.Worth).text + " ns a byte: " + decimal(e.Uses).text + " uses × " + span(e.CostMS) + " ÷ " + size(e.Bytes)},
				{"vary", e.Vary}, {"tags", strings.Join(tags, ", ")},
			} {
				t.add(str(line[0]), str(line[1]))
			}
			for _, name := range slices.Sorted(maps.Keys(e.Headers)) {
				for _, value := range e.Headers[name] {
					t.add(str(name+":"), str(value))
				}
			}
			return a.print(e, t)
		},
	}
	c.Flags().BoolVar(&body, "body", false, "write its body instead (needs the right admin)")
	return c
}

func (a *app) entriesDrop() *cobra.Command {
	var reason string
	var preview bool
	c := &cobra.Command{
		Use:   "drop ID",
		Short: "Drop one entry, on every node",
		Long: `Drop one entry: a purge of that one, which is in the ledger as any other and in force on every
node when the command returns. Other variants of its URL stay; gerastic purge --url takes all of
them.`,
		Example: "  gerastic entries drop m1f-9e3779b9 --preview\n  gerastic entries drop m1f-9e3779b9 --reason 'wrong price'",
		Args:    cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			r, err := a.client().DropEntry(cmd.Context(), args[0], reason, preview)
			if err != nil {
				return err
			}
			return a.purged(r)
		},
	}
	c.Flags().StringVar(&reason, "reason", "", "why, for the ledger")
	c.Flags().BoolVar(&preview, "preview", false, "say what would go, and drop nothing")
	return c
}

// seconds is a span of time that is given in seconds.
func seconds(s float64) cell {
	ms := s * 1000
	return millis(&ms)
}

// life is how long something stays fresh.
func life(s float64) cell {
	c := seconds(s)
	if s > client.Forever.Seconds()/2 {
		c.text = "for ever"
	}
	return c
}

func decimal(f float64) cell { return cell{significant(f), strconv.FormatFloat(f, 'g', 6, 64)} }
