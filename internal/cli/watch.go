package cli

import (
	"encoding/json"
	"fmt"
	"strconv"

	"github.com/spf13/cobra"

	"gerastic.example/client"

	"gerastic/internal/core/fragment"
	"gerastic/internal/core/meter"
)

func (a *app) watch() *cobra.Command {
	var f client.WatchFilter
	var of string
	var most int
	c := &cobra.Command{
		Use:   "watch",
		Short: "Follow requests as they are answered, or fragments as they are found and made",
		Long: `Follow requests as they are answered: time, outcome, cause, status, time taken, route
and URL, one line each; with -o json one object a line. A watcher who is slow misses some
and is told how many; the edge never waits for it. Ends with an interrupt.

With --of fragments, what becomes of the fragments of applications: found, filled, stored on its own
account, waited for, dropped; --route is NAMESPACE/NAME then, and --path how keys begin.`,
		Example: "  gerastic watch --outcome miss\n  gerastic watch --route departures --keys\n  gerastic watch --of fragments --route site/row",
		RunE: func(cmd *cobra.Command, _ []string) error {
			_, isOutcome := meter.ParseOutcome(f.Outcome)
			switch {
			case of != "requests" && of != "fragments":
				return usage("--of %q: it is requests or fragments", of)
			case f.Outcome != "" && of == "fragments" && !fragment.IsBecame(f.Outcome):
				return usage("--outcome %q: the outcomes of fragments are found, filled, stored, waited and dropped", f.Outcome)
			case f.Outcome != "" && of == "requests" && !isOutcome:
				return usage("--outcome %q: the outcomes are hit, stale, revalidated, joined, miss, bypass and error", f.Outcome)
			case of == "fragments" && (f.Status != 0 || f.Keys):
				return usage("--status and --keys are for requests; fragments are shown with their keys")
			}
			if a.format == "csv" {
				return usage("watch writes lines or, with -o json, objects")
			}
			seen := 0
			done := fmt.Errorf("enough")
			enough := func(err error) error {
				if seen++; err == nil && seen == most {
					return done
				}
				return err
			}
			var err error
			if of == "fragments" {
				err = a.client().WatchFragments(cmd.Context(), f, func(e client.FragmentEvent) error { return enough(a.showFragmentEvent(e)) })
			} else {
				err = a.client().Watch(cmd.Context(), f, func(e client.Event) error { return enough(a.showEvent(e)) })
			}
			if err == done {
				return nil
			}
			return err
		},
	}
	flags := c.Flags()
	flags.StringVar(&of, "of", "requests", "requests or fragments")
	flags.StringVar(&f.Route, "route", "", "only this route")
	flags.StringVar(&f.Outcome, "outcome", "", "only this outcome")
	flags.StringVar(&f.Path, "path", "", "only paths that begin so")
	flags.IntVar(&f.Status, "status", 0, "only this status")
	flags.BoolVar(&f.Keys, "keys", false, "show each request's key")
	flags.IntVar(&most, "count", 0, "end after so many; 0 for no end")
	return c
}

func (a *app) showEvent(e client.Event) error {
	if a.format == "json" {
		return json.NewEncoder(plainJSON(a.out)).Encode(e)
	}
	if e.Missed > 0 {
		fmt.Fprintf(a.out, "… %s missed\n", plural(e.Missed, "request", "requests"))
	}
	outcome := e.Outcome
	if e.Cause != "" {
		outcome += " (" + e.Cause + ")"
	}
	route := e.Route
	if route == "" {
		route = "–"
	}
	status := strconv.Itoa(e.Status)
	if e.Status == 0 {
		status = " – " // who asked had left
	}
	_, err := fmt.Fprintf(a.out, "%s  %-26s %s  %9s  %-12s %s %s\n", e.At.Local().Format("15:04:05.000"), outcome, status, span(e.TookMS), route, e.Method, e.URL)
	if err == nil && e.Key != "" {
		_, err = fmt.Fprintf(a.out, "              %s\n", e.Key)
	}
	return err
}

func (a *app) showFragmentEvent(e client.FragmentEvent) error {
	if a.format == "json" {
		return json.NewEncoder(plainJSON(a.out)).Encode(e)
	}
	if e.Missed > 0 {
		fmt.Fprintf(a.out, "… %s missed\n", plural(e.Missed, "event", "events"))
	}
	_, err := fmt.Fprintf(a.out, "%s  %-8s %9s  %9s  %s/%s\n", e.At.Local().Format("15:04:05.000"), e.Outcome, span(e.TookMS), size(e.Bytes), e.Namespace, e.Key)
	return err
}

func (a *app) reportFindings() *cobra.Command {
	var since string
	c := &cobra.Command{
		Use:   "findings",
		Short: "What may be wrong with a route's key or lifetime",
		Long: `What may be wrong with a route's key or lifetime. Hits whose answer was not what the
origin would have given are found by asking it again for the share of hits that a route's
compare names: "key" means that something which the key leaves out matters, so that it
belongs into the key; "changed" means that the content changed and nothing was purged, so
that a purge is missing or the lifetime is too long. "unkeyed-cookie" and "unkeyed-field"
name what comes with many of a route's requests although the key leaves it out: if it says
who is signed in, name it under visitors.signed_in; if it changes the page, put it into
the key. "fragment-clash" names a fragment of which an application filled another one than
was there: give its key the argument that is named.`,
		Example: "  gerastic report findings --since 1d",
		RunE: func(cmd *cobra.Command, _ []string) error {
			found, err := a.client().Findings(cmd.Context(), since)
			if err != nil {
				return err
			}
			return a.printFindings(found)
		},
	}
	c.Flags().StringVar(&since, "since", "7d", "a length of time before now, or an RFC 3339 time")
	return c
}

func (a *app) printFindings(found []client.Finding) error {
	t := &rows{columns: []column{left("when"), left("route"), left("kind"), left("by"), left("stored"), left("origin"), left("url")}}
	for _, f := range found {
		if f.Kind == client.FragmentClashes {
			f.Stored, f.Origin, f.URL = f.Samples[0], f.Samples[1], f.Key
		}
		t.add(clock(f.At), str(f.Route), str(f.Kind), str(f.Separator), str(f.Stored), str(f.Origin), str(f.URL))
	}
	if len(found) == 0 && a.format == "table" {
		a.say("Nothing was found. Hits are compared where the policy states how long answers live, or says compare: 0.1%%")
		return nil
	}
	return a.print(found, t)
}
