package cli

import (
	"strings"

	"github.com/spf13/cobra"
)

func (a *app) routes() *cobra.Command {
	var since string
	c := &cobra.Command{
		Use:     "routes",
		Short:   "The routes with their figures, and their switches",
		Example: "  gerastic routes --since 15m\n  gerastic routes off departures",
		RunE: func(cmd *cobra.Command, _ []string) error {
			routes, err := a.client().Routes(cmd.Context(), since)
			if err != nil {
				return err
			}
			t := &rows{columns: []column{left("route"), left("path"), left("caching"), right("entries"), right("requests"), right("hit ratio"), right("hit median"), right("origin median")}}
			for _, r := range routes {
				t.add(str(r.Name), str(r.Path), str(strings.ReplaceAll(r.Switch, "-", " ")), count(int64(r.Entries)), count(r.Figures.Requests),
					percent(r.Figures.HitRatio), millis(r.Figures.HitLatencyMS.P50), millis(r.Figures.OriginLatencyMS.P50))
			}
			return a.print(routes, t)
		},
	}
	c.Flags().StringVar(&since, "since", "1h", "figures since: 15m, 7d or an RFC 3339 time")
	c.AddCommand(a.routeSwitch("on", true), a.routeSwitch("off", false), a.routeAdd(), a.routeSet(), a.routeRemove())
	return c
}

func (a *app) routeSwitch(word string, on bool) *cobra.Command {
	var all bool
	c := &cobra.Command{
		Use:     word + " NAME",
		Short:   "Switch a route " + word + ", at once; nothing stored is lost",
		Example: "  gerastic routes " + word + " departures\n  gerastic routes " + word + " --all",
		Args: func(_ *cobra.Command, args []string) error {
			if all == (len(args) == 1) || len(args) > 1 {
				return usage("name one route, or pass --all")
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			name, what := "*", "all routes are"
			if !all {
				name, what = args[0], args[0]+" is"
			}
			if err := a.client().SwitchRoute(cmd.Context(), name, on); err != nil {
				return err
			}
			if on {
				a.say("%s cached again; what was stored is still there", what)
			} else {
				a.say("%s passed through to the origin; what is stored stays", what)
			}
			return nil
		},
	}
	c.Flags().BoolVar(&all, "all", false, "all routes")
	return c
}
