package cli

import (
	"fmt"
	"maps"
	"math"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"gerastic.example/client"
)

func (a *app) reportSavings() *cobra.Command {
	var q client.SavingsQuery
	c := &cobra.Command{
		Use:   "savings",
		Short: "What the cache saved: round trips, origin time, bytes, and work that applications count",
		Long: `What the cache saved, by route, by fragment (NAMESPACE/NAME), and in total. An application counts its
work with Gerastic-Work: queries=7, rows=120 on an answer or a fragment, and with the durations of
Server-Timing, in milliseconds. What was made counts as spent; what was found, as saved. Per change is
how many requests were answered for each answer that had to be made.`,
		Example: "  gerastic report savings --since 1d\n  gerastic report savings --price queries=0.00001 -o json",
		RunE: func(cmd *cobra.Command, _ []string) error {
			report, err := a.client().Savings(cmd.Context(), q)
			if err != nil {
				return err
			}
			return a.printSavings(report, len(q.Prices) > 0)
		},
	}
	f := c.Flags()
	f.StringVar(&q.Since, "since", "1d", "a length of time before now (15m, 7d) or an RFC 3339 time")
	f.StringVar(&q.Until, "until", "", "likewise; now if left out")
	f.StringVar(&q.Route, "route", "", "only this route, or NAMESPACE/NAME of fragments")
	f.StringArrayVar(&q.Prices, "price", nil, "what one of a kind of work costs: queries=0.00001; may be repeated")
	return c
}

func (a *app) printSavings(report client.SavingsReport, priced bool) error {
	if err := a.print(report, savingsRows(report, priced)); err != nil {
		return err
	}
	a.sayWork(report)
	return nil
}

func savingsRows(report client.SavingsReport, priced bool) *rows {
	t := &rows{columns: []column{left("route"), right("requests"), right("origin requests"), right("round trips saved"), right("origin time saved"), right("bytes saved"), right("per change")}}
	if len(report.Total.Work) > 0 {
		t.columns = append(t.columns, left("work spent"), left("work saved"))
	}
	if priced {
		t.columns = append(t.columns, right("money saved"))
	}
	line := func(name cell, r client.SavingsRow) {
		cells := []cell{name, count(r.Requests), count(r.OriginRequests), count(r.RoundTripsSaved), millis(&r.OriginTimeSavedMS), {size(r.BytesSaved), strconv.FormatInt(r.BytesSaved, 10)}, plainNumber(r.PerChange, 1)}
		if len(report.Total.Work) > 0 {
			cells = append(cells, workCell(r.Work, func(a client.WorkAmount) float64 { return a.Spent }), workCell(r.Work, func(a client.WorkAmount) float64 { return a.Saved }))
		}
		if priced {
			cells = append(cells, plainNumber(r.MoneySaved, 5))
		}
		t.add(cells...)
	}
	for _, r := range report.Rows {
		if r.Route == "" {
			line(cell{"(no route)", ""}, r)
			continue
		}
		line(str(r.Route), r)
	}
	line(cell{"total", "total"}, report.Total)
	return t
}

// workCell is work of every kind: 561 queries, 2 216 rows.
func workCell(work map[string]client.WorkAmount, of func(client.WorkAmount) float64) cell {
	var texts, values []string
	for _, kind := range slices.Sorted(maps.Keys(work)) {
		if amount := amountCell(of(work[kind])); of(work[kind]) > 0 {
			texts, values = append(texts, amount.text+" "+kind), append(values, kind+"="+amount.value)
		}
	}
	return cell{strings.Join(texts, ", "), strings.Join(values, " ")}
}

// amountCell is an amount of work, which is mostly a count.
func amountCell(amount float64) cell {
	if amount == math.Trunc(amount) && math.Abs(amount) < 1e15 {
		return count(int64(amount))
	}
	return plainNumber(&amount, 1)
}

func plainNumber(v *float64, digits int) cell {
	if v == nil {
		return cell{"–", ""}
	}
	return cell{strconv.FormatFloat(*v, 'f', digits, 64), strconv.FormatFloat(*v, 'f', -1, 64)}
}

// sayWork says in a sentence what people ask first.
func (a *app) sayWork(report client.SavingsReport) {
	var parts []string
	for _, kind := range slices.Sorted(maps.Keys(report.Total.Work)) {
		amount := report.Total.Work[kind]
		parts = append(parts, fmt.Sprintf("%s %s spent, %s saved", amountCell(amount.Spent).text, kind, amountCell(amount.Saved).text))
	}
	if len(parts) == 0 {
		return
	}
	a.say("\n%s since %s.", strings.Join(parts, "; "), report.Since.Local().Format("2 January 15:04"))
	if m := report.Total.MoneySaved; m != nil {
		a.say("At these prices that saved %s.", plainNumber(m, 5).text)
	}
}
