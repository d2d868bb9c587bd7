package cli

import (
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"gerastic.example/client"

	"gerastic/internal/core/meter"
)

func (a *app) report() *cobra.Command {
	c := &cobra.Command{Use: "report", Short: "Figures: what the cache saved"}
	c.AddCommand(a.reportRatio(), a.reportSize(), a.reportSavings(), a.reportFindings(), a.reportAll())
	return c
}

func (a *app) reportRatio() *cobra.Command {
	var q client.RatioQuery
	var atLeast float64
	var definitions strings.Builder
	for _, d := range meter.Definitions {
		fmt.Fprintf(&definitions, "  %-18s %s\n", d.Name, d.Text)
	}
	c := &cobra.Command{
		Use:   "ratio",
		Short: "Hit ratios, offload, round trips and origin time saved",
		Long: "Hit ratios and what the cache saved. Each figure has one definition:\n\n" + definitions.String() + `
A row without a name is what no route matched. --at-least 0.8 ends with exit code 3 when the
total hit ratio is lower, or when there is nothing to measure.`,
		Example: "  gerastic report ratio --since 1h --by route\n  gerastic report ratio --since 15m --by time --step 1m -o csv",
		RunE: func(cmd *cobra.Command, _ []string) error {
			switch q.By {
			case "route", "time", "total":
			default:
				return usage("--by %q: it is route, time or total", q.By)
			}
			if q.Of != "visitors" && q.Of != "parts" {
				return usage("--of %q: it is visitors or parts", q.Of)
			}
			expects := cmd.Flags().Changed("at-least")
			if expects && !(atLeast >= 0 && atLeast <= 1) { // NaN is neither
				return usage("--at-least is a ratio from 0 to 1, such as 0.8")
			}
			report, err := a.client().Ratio(cmd.Context(), q)
			if err != nil {
				return err
			}
			if err := a.printRatio(report); err != nil {
				return err
			}
			return expectRatio(expects, atLeast, report.Total)
		},
	}
	f := c.Flags()
	f.StringVar(&q.Since, "since", "1h", "a length of time before now (15m, 7d) or an RFC 3339 time")
	f.StringVar(&q.Until, "until", "", "likewise; now if left out")
	f.StringVar(&q.By, "by", "route", "route, time or total")
	f.StringVar(&q.Step, "step", "", "length of a bucket by time; chosen to fit if left out")
	f.StringVar(&q.Route, "route", "", "only this route")
	f.StringVar(&q.Of, "of", "visitors", "visitors: their requests; parts: fragments, and what the edge included in pages")
	f.Float64Var(&atLeast, "at-least", 0, "exit with 3 if the total hit ratio is lower")
	return c
}

func (a *app) printRatio(report client.RatioReport) error {
	if err := a.print(report, ratioRows(report)); err != nil {
		return err
	}
	if report.MadeUp != nil {
		a.say("\nFigures before %s are made up (demo).", report.MadeUp.Local().Format("15:04:05"))
	}
	return nil
}

// reports are all of them for one span of time.
type reports struct {
	Ratio    client.RatioReport   `json:"ratio"`
	Savings  client.SavingsReport `json:"savings"`
	Size     client.SizeReport    `json:"size"`
	Findings []client.Finding     `json:"findings"`
}

func (a *app) reportAll() *cobra.Command {
	var since string
	var prices []string
	c := &cobra.Command{
		Use:     "all",
		Short:   "All of these: ratio by route, savings, size and findings",
		Example: "  gerastic report all --since 1d\n  gerastic report all --price queries=0.00001 -o json",
		Args:    cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) (err error) {
			if a.format == "csv" {
				return usage("all reports are several tables; ask for one of them with -o csv, or for all with -o json")
			}
			var all reports
			if all.Ratio, err = a.client().Ratio(cmd.Context(), client.RatioQuery{Since: since, By: "route", Of: "visitors"}); err != nil {
				return err
			}
			if all.Savings, err = a.client().Savings(cmd.Context(), client.SavingsQuery{Since: since, Prices: prices}); err != nil {
				return err
			}
			if all.Size, err = a.client().Sizes(cmd.Context(), client.SizeQuery{Since: since}); err != nil {
				return err
			}
			if all.Findings, err = a.client().Findings(cmd.Context(), since); err != nil {
				return err
			}
			if a.format == "json" {
				return a.json(all)
			}
			return a.printAll(&all, len(prices) > 0)
		},
	}
	c.Flags().StringVar(&since, "since", "1d", "a length of time before now (15m, 7d) or an RFC 3339 time")
	c.Flags().StringArrayVar(&prices, "price", nil, "what one of a kind of work costs: queries=0.00001; may be repeated")
	return c
}

func (a *app) printAll(all *reports, priced bool) error {
	for i, one := range []struct {
		title string
		print func() error
	}{
		{"Hit ratios", func() error { return a.printRatio(all.Ratio) }},
		{"Savings", func() error { return a.printSavings(all.Savings, priced) }},
		{"Size", func() error { return a.print(all.Size, sizeRows(all.Size)) }},
		{"Findings", func() error { return a.printFindings(all.Findings) }},
	} {
		if i > 0 {
			a.say("")
		}
		a.say("%s\n", one.title)
		if err := one.print(); err != nil {
			return err
		}
	}
	return nil
}

func expectRatio(expects bool, atLeast float64, total client.RatioRow) error {
	switch {
	case !expects:
		return nil
	case total.HitRatio == nil:
		return exit{exitUnexpected, fmt.Errorf("expected a hit ratio of at least %.3f, but nothing was cacheable in that time", atLeast)}
	case *total.HitRatio < atLeast:
		return exit{exitUnexpected, fmt.Errorf("expected a hit ratio of at least %.3f, and it is %.3f", atLeast, *total.HitRatio)}
	}
	return nil
}

func ratioRows(report client.RatioReport) *rows {
	lead := left("route")
	if report.By == "time" {
		lead = left("time")
	}
	t := &rows{columns: []column{lead, right("requests"), right("hit ratio"), right("byte hit ratio"), right("offload"), right("round trips saved"), right("origin time saved"), right("hit median"), right("origin median")}}
	line := func(name cell, r client.RatioRow) {
		t.add(name, count(r.Requests), percent(r.HitRatio), percent(r.ByteHitRatio), percent(r.Offload), count(r.RoundTripsSaved), millis(&r.OriginTimeSavedMS), millis(r.HitLatencyMS.P50), millis(r.OriginLatencyMS.P50))
	}
	for _, r := range report.Rows {
		switch {
		case r.At != nil:
			line(cell{r.At.Local().Format("15:04:05"), r.At.Format(time.RFC3339)}, r)
		case r.Route == "":
			line(cell{"(no route)", ""}, r)
		default:
			line(str(r.Route), r)
		}
	}
	line(cell{"total", "total"}, report.Total)
	return t
}
