package cli

import (
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"gerastic.example/client"
)

func (a *app) routeAdd() *cobra.Command {
	var r client.NewRoute
	c := &cobra.Command{
		Use:   "add NAME --path PATTERN",
		Short: "Add a route to the policy in force: a new revision, its comments kept",
		Example: `  gerastic routes add people --path /people --fresh 10m --query page,sort --tag people --preview
  gerastic routes add files --path '/files/{rest...}' --fresh 7d --query none --before rest`,
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			r.Name = args[0]
			change, err := a.client().AddRoute(cmd.Context(), r)
			return a.showChange(change, err, r.Preview)
		},
	}
	f := c.Flags()
	f.StringArrayVar(&r.Paths, "path", nil, "/people, /people/{id} or /files/{rest...}; may be repeated")
	f.StringVar(&r.Fresh, "fresh", "", "how long answers live where the origin says nothing: 10m")
	f.StringVar(&r.Query, "query", "", "what counts of the query: all, none, page,sort for only these, -utm_*,-ref for all but these")
	f.StringArrayVar(&r.Headers, "header", nil, "a header in the key; may be repeated")
	f.StringArrayVar(&r.Cookies, "cookie", nil, "a cookie in the key; may be repeated")
	f.StringArrayVar(&r.Tags, "tag", nil, "a tag of its entries; may be repeated")
	f.StringArrayVar(&r.Like, "like", nil, "a shape whose settings it takes over; may be repeated")
	f.StringVar(&r.Before, "before", "", "the route before which it counts; the last if left out")
	f.BoolVar(&r.Preview, "preview", false, "change nothing; show the YAML, and which of the latest requests it would have matched")
	_ = c.MarkFlagRequired("path")
	return c
}

func (a *app) routeSet() *cobra.Command {
	var preview bool
	c := &cobra.Command{
		Use:     "set NAME SETTING=VALUE…",
		Short:   "Change settings of a route: a new revision, its comments kept",
		Long:    "Change settings of a route of the policy in force. Values are YAML; one that is empty takes the setting\nout.",
		Example: "  gerastic routes set people lifetime.fresh=5m key.query=none\n  gerastic routes set people lifetime.idle= --preview",
		Args:    cobra.MinimumNArgs(2),
		RunE: func(cmd *cobra.Command, args []string) error {
			change, err := a.client().SetRoute(cmd.Context(), args[0], args[1:], preview)
			return a.showChange(change, err, preview)
		},
	}
	c.Flags().BoolVar(&preview, "preview", false, "change nothing; show what would come of it")
	return c
}

func (a *app) routeRemove() *cobra.Command {
	var preview bool
	c := &cobra.Command{
		Use:     "remove NAME",
		Short:   "Take a route out of the policy in force: a new revision, its comments kept",
		Example: "  gerastic routes remove people",
		Args:    cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			change, err := a.client().RemoveRoute(cmd.Context(), args[0], preview)
			return a.showChange(change, err, preview)
		},
	}
	c.Flags().BoolVar(&preview, "preview", false, "change nothing; show what would come of it")
	return c
}

// showChange tells what came of a change of a route, or would.
func (a *app) showChange(change client.RouteChange, err error, preview bool) error {
	var problem *client.Problem
	if errors.As(err, &problem) && len(problem.Errors) > 0 {
		for _, e := range problem.Errors {
			fmt.Fprintf(a.errs, "%s: %s\n", e.Location, e.Message)
		}
		return errors.New(problem.Detail)
	}
	if err != nil {
		return err
	}
	for _, w := range change.Warnings {
		fmt.Fprintln(a.errs, "warning: "+w)
	}
	if a.format == "json" {
		return a.json(change)
	}
	if change.Source != "" {
		fmt.Fprint(a.out, change.Source, "\n")
	}
	if preview {
		a.say("nothing is changed: this is a preview")
	} else {
		a.say("revision %d is in force", change.Revision)
	}
	if change.Touched > 0 {
		a.say("it touches %s stored on this node", plural(change.Touched, "entry", "entries"))
	}
	if change.Source == "" {
		return nil
	}
	sum := 0
	for _, m := range change.Matched {
		sum += m.Times
	}
	a.say("%d of the last %d requests match it", sum, change.Seen)
	const shown = 20
	for _, m := range change.Matched[:min(len(change.Matched), shown)] {
		before := "passed through before"
		if m.Before != "" {
			before = "route " + m.Before + " before"
		}
		fmt.Fprintf(a.out, "%5d × %s %s  (%s)\n", m.Times, m.Method, m.URL, before)
	}
	if more := len(change.Matched) - shown; more > 0 {
		fmt.Fprintf(a.out, "      and %s\n", strings.TrimSpace(plural(int64(more), "more URL", "more URLs")))
	}
	return nil
}
