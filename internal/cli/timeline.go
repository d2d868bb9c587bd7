package cli

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"gerastic.example/client"
)

func (a *app) mark() *cobra.Command {
	var at string
	c := &cobra.Command{
		Use:     "mark NAME",
		Short:   "Put a mark on the time line, such as a release",
		Long:    "Put a mark on the time line, so that figures can be read against what happened. A token needs the right purge.",
		Example: "  gerastic mark 'release 1.4'\n  gerastic mark 'summer timetable' --at 2026-06-01T00:00:00Z",
		Args:    cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			m, err := a.client().AddMark(cmd.Context(), args[0], at)
			if err != nil {
				return err
			}
			return a.print(m, markRows([]client.Mark{m}))
		},
	}
	c.Flags().StringVar(&at, "at", "", "an RFC 3339 time, or a length of time before now; now if left out")
	return c
}

func (a *app) marks() *cobra.Command {
	var q client.MarkQuery
	c := &cobra.Command{
		Use:   "marks",
		Short: "What happened to the cache: purges, revisions, switches, releases, restarts, marks",
		Example: `  gerastic marks --since 1d
  gerastic marks --kind switch,revision,release`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			list, err := a.client().Marks(cmd.Context(), q)
			if err != nil {
				return err
			}
			if err := a.print(list, markRows(list.Marks)); err != nil {
				return err
			}
			if list.Next != "" {
				a.say("\nThere are older ones: --after %s", list.Next)
			}
			return nil
		},
	}
	f := c.Flags()
	f.StringVar(&q.Since, "since", "90d", "a length of time before now (15m, 7d) or an RFC 3339 time")
	f.StringVar(&q.Until, "until", "", "likewise; now if left out")
	f.StringSliceVar(&q.Kinds, "kind", nil, "only these: mark, purge, revision, restart, switch, release")
	f.IntVar(&q.Limit, "limit", 100, "how many, 1 to 1000")
	f.StringVar(&q.After, "after", "", "those older than the last of the part before, as that said")
	return c
}

func markRows(marks []client.Mark) *rows {
	t := &rows{columns: []column{left("at"), left("kind"), left("name"), left("by"), left("detail")}}
	for _, m := range marks {
		t.add(clock(m.At), str(m.Kind), str(m.Name), str(m.By), str(m.Detail))
	}
	return t
}

func (a *app) compare() *cobra.Command {
	var before, after, route string
	c := &cobra.Command{
		Use:   "compare --before FROM..TO --after FROM..TO",
		Short: "Put two spans of time side by side: ratio, origin requests, latency",
		Long: `Hit ratio, origin requests and latency of two spans of time side by side, such as a week with a
route switched on and a week with it off. A change is called more than usual if chance would give
such a difference in less than one comparison of a hundred, as the figure varies within each span;
a percentile must also change by more than 19 per cent of itself, which is how exactly it is kept.
Figures are kept in steps of 10 seconds for six hours, then of 5 minutes.`,
		Example: `  gerastic compare --before 14d..7d --after 7d..
  gerastic compare --before 2026-11-02T00:00:00Z..2026-11-09T00:00:00Z --after 2026-11-09T00:00:00Z..2026-11-16T00:00:00Z --route sailing`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			out, err := a.client().Compare(cmd.Context(), before, after, route)
			if err != nil {
				return err
			}
			if err := a.print(out, comparisonRows(out)); err != nil {
				return err
			}
			a.sayComparison(out)
			return nil
		},
	}
	f := c.Flags()
	f.StringVar(&before, "before", "", "the first span: FROM..TO, each a length of time before now or an RFC 3339 time; until now without TO")
	f.StringVar(&after, "after", "", "the second span, likewise")
	f.StringVar(&route, "route", "", "only this route")
	_, _ = c.MarkFlagRequired("before"), c.MarkFlagRequired("after")
	return c
}

// sayComparison says what the table leaves out.
func (a *app) sayComparison(out client.Comparison) {
	if out.Before.Requests == nil || *out.Before.Requests == 0 || out.After.Requests == nil || *out.After.Requests == 0 {
		a.say("\nIn one of the spans nothing was counted.")
	} else if out.Usual.HitRatio == nil && out.Usual.RequestsPerS == nil {
		a.say("\nThe spans are too short to tell what is usual: they need four pieces of %d s each.", out.PieceS)
	}
	for _, m := range out.Marks {
		if m.Kind == "switch" || m.Kind == "release" || m.Kind == "mark" {
			a.say("%s: %s %s %s", clock(m.At).text, m.Kind, m.Name, m.Detail)
		}
	}
	if out.MadeUp != nil {
		a.say("\nFigures before %s are made up (demo).", clock(*out.MadeUp).text)
	}
}

func comparisonRows(out client.Comparison) *rows {
	t := &rows{columns: []column{left("figure"), right("before"), right("after"), right("change"), right("usual"), left("")}}
	line := func(name, words string, form func(*float64) cell, of func(client.SpanFigures) *float64) {
		verdict := ""
		if slices.Contains(out.Unusual, name) {
			verdict = "more than usual"
		}
		usual := form(of(out.Usual))
		if usual.value != "" {
			usual.text = "±" + usual.text
		}
		t.add(cell{words, name}, form(of(out.Before)), form(of(out.After)), signed(form, of(out.Change)), usual, str(verdict))
	}
	line("requests", "requests", number, func(f client.SpanFigures) *float64 { return f.Requests })
	line("requests_per_s", "requests a second", rate, func(f client.SpanFigures) *float64 { return f.RequestsPerS })
	line("hit_ratio", "hit ratio, per cent", points, func(f client.SpanFigures) *float64 { return f.HitRatio })
	line("origin_requests", "origin requests", number, func(f client.SpanFigures) *float64 { return f.OriginRequests })
	line("origin_requests_per_s", "origin requests a second", rate, func(f client.SpanFigures) *float64 { return f.OriginRequestsPerS })
	for i, l := range out.Before.Latency {
		at := "latency." + l.Outcome + "."
		line(at+"p50_ms", l.Outcome+", median", millis, func(f client.SpanFigures) *float64 { return f.Latency[i].P50MS })
		line(at+"p90_ms", l.Outcome+", 90 % within", millis, func(f client.SpanFigures) *float64 { return f.Latency[i].P90MS })
		line(at+"p99_ms", l.Outcome+", 99 % within", millis, func(f client.SpanFigures) *float64 { return f.Latency[i].P99MS })
	}
	return t
}

// points are per cent, whose differences are not.
func points(ratio *float64) cell {
	c := percent(ratio)
	c.text = strings.TrimSuffix(c.text, " %")
	return c
}

func number(n *float64) cell {
	if n == nil {
		return cell{"–", ""}
	}
	return cell{grouped(int64(*n + 0.5)), strconv.FormatFloat(*n, 'f', -1, 64)}
}

func rate(n *float64) cell {
	if n == nil {
		return cell{"–", ""}
	}
	return cell{significant(*n), fmt.Sprintf("%.4f", *n)}
}

// signed writes a change: its size, after its sign.
func signed(form func(*float64) cell, change *float64) cell {
	if change == nil {
		return form(nil)
	}
	size, sign := max(*change, -*change), "+"
	if *change < 0 {
		sign = "−"
	}
	c := form(&size)
	if strings.Trim(c.value, "0.") == "" {
		return cell{"0", c.value}
	}
	return cell{sign + c.text, strings.Replace(sign, "−", "-", 1) + c.value}
}
