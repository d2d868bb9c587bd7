package cli

import (
	"github.com/spf13/cobra"

	"gerastic.example/client"
)

func (a *app) reportSize() *cobra.Command {
	var q client.SizeQuery
	var curve bool
	c := &cobra.Command{
		Use:   "size",
		Short: "The store's size over time, and what another size would have saved",
		Long: `What each tier had at the end of each step of time, against its limit, and what came and went:
added, evicted (gave way to others), expired (not asked for within its idle time), purged. --curve
shows instead what ¼, ½, 1, 2 and 4 times this node's memory would have saved in the last hour, as
small copies of the store say.`,
		Example: "  gerastic report size --since 15m --step 1m\n  gerastic report size --curve",
		Args:    cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if curve {
				return a.sizeCurve(cmd)
			}
			report, err := a.client().Sizes(cmd.Context(), q)
			if err != nil {
				return err
			}
			return a.print(report, sizeRows(report))
		},
	}
	f := c.Flags()
	f.StringVar(&q.Since, "since", "1h", "a length of time before now (1h, 7d) or a time")
	f.StringVar(&q.Until, "until", "", "likewise; now if left out")
	f.StringVar(&q.Step, "step", "", "length of a step (1m, 1h); chosen to fit if left out")
	f.StringVar(&q.Node, "node", "", "only this node")
	f.BoolVar(&curve, "curve", false, "what other sizes of the memory would have saved")
	return c
}

func sizeRows(report client.SizeReport) *rows {
	t := &rows{columns: []column{left("at"), left("tier"), right("entries"), right("bytes"), right("limit"), right("added"), right("evicted"), right("their age"), right("expired"), right("purged")}}
	for _, r := range report.Rows {
		age := cell{"–", ""}
		if r.EvictedAge != nil {
			age = seconds(*r.EvictedAge)
		}
		t.add(clock(r.At), str(r.Tier), count(r.Entries), bytes(r.Bytes), bytes(r.LimitBytes), count(r.Added), count(r.Evicted), age, count(r.Expired), count(r.Purged))
	}
	return t
}

func (a *app) sizeCurve(cmd *cobra.Command) error {
	curve, err := a.client().Curve(cmd.Context())
	if err != nil {
		return err
	}
	t := &rows{columns: []column{right("memory"), right("hit ratio"), right("origin time saved"), left("")}}
	for i, p := range curve.Points {
		note := ""
		if i == 2 {
			note = "a copy of this node's size"
		}
		t.add(bytes(p.MemoryBytes), percent(p.HitRatio), percent(p.TimeSavedRatio), str(note))
	}
	t.add(bytes(curve.Now.MemoryBytes), percent(curve.Now.HitRatio), percent(curve.Now.TimeSavedRatio), str("this node itself"))
	a.say("since %s: %s", clock(curve.Since).text, curve.Says)
	return a.print(curve, t)
}
