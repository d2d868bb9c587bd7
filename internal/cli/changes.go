package cli

import (
	"encoding/json"
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"gerastic.example/client"
)

func (a *app) changes() *cobra.Command {
	c := &cobra.Command{
		Use:   "changes",
		Short: "Changes of content: where they are found, and what they make stale",
		Long: `Changes of content: where they are found, and what they make stale. The policy names the
sources (a table read on a schedule, a channel, the database's log, calls) and the rules
that turn a change, old values and new, into tags.`,
	}
	c.AddCommand(a.changesStatus(), a.changesRun(), a.changesLog(), a.changesSend(), a.changesTry())
	return c
}

func (a *app) changesStatus() *cobra.Command {
	return &cobra.Command{
		Use:     "status",
		Short:   "How the sources are; ends with 3 if one has not kept its promise",
		Example: "  gerastic changes status || mail -s 'changes are not read' platform@example.net",
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, err := a.client().ChangesStatus(cmd.Context())
			if err != nil {
				return err
			}
			t := &rows{columns: []column{left("source"), left("kind"), left("state"), left("checked"), right("promise"), right("changes, 1 d"), right("delay, median"), right("99 %"), right("log held back"), left("last run")}}
			for _, x := range s.Sources {
				state, checked, held, last := "well", cell{"–", ""}, cell{"–", ""}, cell{"–", ""}
				if !x.Well {
					state = "failing"
				}
				if x.Checked != nil {
					checked = clock(*x.Checked)
				}
				if x.Retained != nil {
					held = bytes(*x.Retained)
				}
				if x.LastRun != nil {
					last = clock(x.LastRun.Began)
				}
				t.add(str(x.Name), str(x.Kind), str(state), checked, str(span(x.WithinS*1000)), count(x.Changes), millis(x.DelayP50MS), millis(x.DelayP99MS), held, last)
			}
			if err := a.print(s, t); err != nil {
				return err
			}
			if a.format == "table" {
				if len(s.Sources) == 0 {
					a.say("no sources; the policy names them under changes:")
				}
				for _, x := range s.Sources {
					for _, text := range []string{x.Why, x.Note} {
						if text != "" {
							a.say("%s: %s", x.Name, text)
						}
					}
				}
			}
			if !s.Well {
				return exit{exitUnexpected, fmt.Errorf("not every source has kept its promise: %s", s.Why)}
			}
			return nil
		},
	}
}

func (a *app) changesRun() *cobra.Command {
	return &cobra.Command{
		Use:     "run [SOURCE]",
		Short:   "Read a table of the content now, and purge what changed",
		Example: "  gerastic changes run timetable",
		Args:    cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			run, err := a.client().RunChanges(cmd.Context(), strings.Join(args, ""))
			if err != nil {
				return err
			}
			return a.printRun(run)
		},
	}
}

// printRun says in a line what came of a run.
func (a *app) printRun(run client.ChangeRun) error {
	if a.format != "table" {
		return a.printRuns([]client.ChangeRun{run}, run)
	}
	a.say("run %d of %s: %s (%s that no rule counts), %s purged, %s gone, in %s", run.Run, run.Source, plural(run.Changes, "change", "changes"), grouped(run.Skipped),
		plural(run.Tags, "tag", "tags"), plural(run.Entries, "entry", "entries"), span(run.TookMS))
	if run.Error != "" {
		a.say("%s", run.Error)
	}
	return nil
}

func (a *app) printRuns(runs []client.ChangeRun, whole any) error {
	t := &rows{columns: []column{right("run"), left("source"), left("by"), left("when"), right("took"), right("changes"), right("skipped"), right("tags"), right("entries"), left("purges"), left("error")}}
	for _, r := range runs {
		t.add(cell{strconv.FormatInt(r.Run, 10), strconv.FormatInt(r.Run, 10)}, str(r.Source), str(r.Trigger), clock(r.Began), millis(&r.TookMS), count(r.Changes), count(r.Skipped), count(r.Tags), count(r.Entries), str(purgeNumbers(r.Purges)), str(r.Error))
	}
	return a.print(whole, t)
}

// purgeNumbers names the first and the last of a run's purges.
func purgeNumbers(all []int64) string {
	switch len(all) {
	case 0:
		return ""
	case 1:
		return strconv.FormatInt(all[0], 10)
	}
	return fmt.Sprintf("%d … %d", all[0], all[len(all)-1])
}

func (a *app) changesLog() *cobra.Command {
	var limit int
	var source string
	c := &cobra.Command{
		Use:     "log",
		Short:   "What was read from the sources: when, what was found, what went",
		Example: "  gerastic changes log --source timetable --limit 10",
		RunE: func(cmd *cobra.Command, _ []string) error {
			runs, err := a.client().ChangeRuns(cmd.Context(), source, 0, limit)
			if err != nil {
				return err
			}
			return a.printRuns(runs, runs)
		},
	}
	c.Flags().IntVar(&limit, "limit", 20, "how many, newest first")
	c.Flags().StringVar(&source, "source", "", "only this source")
	return c
}

// changeFlags are those that make one change.
type changeFlags struct{ kind, op, before, after, id string }

func (f *changeFlags) on(c *cobra.Command) {
	c.Flags().StringVar(&f.kind, "kind", "", "kind of thing, as the rules name it")
	c.Flags().StringVar(&f.op, "op", "", "create, update or delete; told from --before and --after if left out")
	c.Flags().StringVar(&f.before, "before", "", `old values, JSON: '{"id":7,"from_port":"tholm"}'; @FILE reads them`)
	c.Flags().StringVar(&f.after, "after", "", "new values, JSON; @FILE reads them")
	c.Flags().StringVar(&f.id, "id", "", "the change's own name: sent twice, it counts once")
}

func (f *changeFlags) change() (c client.Change, err error) {
	if f.kind == "" || f.before == "" && f.after == "" {
		return c, usage(`name the change: --kind sailing --before '{"id":7,…}' --after '{"id":7,…}'`)
	}
	values := func(flag, text string) (any, error) {
		if name, ok := strings.CutPrefix(text, "@"); ok {
			read, err := os.ReadFile(name)
			if err != nil {
				return nil, usage("%s: %w", flag, err)
			}
			text = string(read)
		}
		if strings.TrimSpace(text) == "" {
			return nil, nil
		}
		if !json.Valid([]byte(text)) || strings.TrimSpace(text)[0] != '{' {
			return nil, usage(`%s is not a JSON object, such as '{"id":7}'`, flag)
		}
		return json.RawMessage(text), nil
	}
	before, err := values("--before", f.before)
	if err != nil {
		return c, err
	}
	after, err := values("--after", f.after)
	if err != nil {
		return c, err
	}
	c = client.ChangeOf(f.kind, before, after)
	if f.op != "" {
		c.Op = f.op
	}
	c.ID = f.id
	return c, nil
}

func (a *app) changesSend() *cobra.Command {
	var f changeFlags
	var source, file string
	c := &cobra.Command{
		Use:   "send",
		Short: "Tell of a change, after its commit; what showed it is purged",
		Long: `Tell of a change, after its commit; what showed it is purged. --file sends a list of
changes, as POST /v1/changes takes them; - reads it from standard input.`,
		Example: `  gerastic changes send --kind sailing --before '{"id":7,"from_port":"tholm"}' --after '{"id":7,"from_port":"saltern"}'`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			var all []client.Change
			if file == "" {
				change, err := f.change()
				if err != nil {
					return err
				}
				change.At = new(time.Time)
				*change.At = time.Now()
				all = append(all, change)
			} else {
				in := io.Reader(os.Stdin)
				if file != "-" {
					opened, err := os.Open(file)
					if err != nil {
						return usage("--file: %w", err)
					}
					defer opened.Close()
					in = opened
				}
				d := json.NewDecoder(in)
				d.UseNumber()
				d.DisallowUnknownFields()
				if err := d.Decode(&all); err != nil {
					return usage("--file holds a list of changes, [{\"kind\": …, \"op\": …, \"before\": …, \"after\": …}]: %w", err)
				}
			}
			run, err := a.client().SendChanges(cmd.Context(), source, all...)
			if err != nil {
				return err
			}
			return a.printRun(run)
		},
	}
	f.on(c)
	c.Flags().StringVar(&source, "source", "", "the policy's webhook that this is; may be left out where there is one")
	c.Flags().StringVar(&file, "file", "", "a JSON list of changes; - for standard input")
	return c
}

func (a *app) changesTry() *cobra.Command {
	var f changeFlags
	c := &cobra.Command{
		Use:     "try",
		Short:   "Show which tags a change would purge, and purge nothing",
		Example: `  gerastic changes try --kind sailing --before '{"id":7,"from_port":"tholm"}' --after '{"id":7,"from_port":"saltern"}'`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			change, err := f.change()
			if err != nil {
				return err
			}
			trial, err := a.client().TryChange(cmd.Context(), change)
			if err != nil {
				return err
			}
			t := &rows{columns: []column{right("rule"), left("counts"), left("mode"), left("tag")}}
			notes := []string{}
			for _, e := range trial.Effects {
				counts := map[bool]string{true: "yes", false: "no"}[e.Fired]
				if len(e.Tags) == 0 {
					t.add(count(int64(e.Rule)), str(counts), str(e.Mode), cell{"–", ""})
				}
				for _, tag := range e.Tags {
					t.add(count(int64(e.Rule)), str(counts), str(e.Mode), str(tag))
				}
				if e.Why != "" {
					notes = append(notes, fmt.Sprintf("rule %d: %s", e.Rule, e.Why))
				}
			}
			if err := a.print(trial, t); err != nil {
				return err
			}
			if a.format == "table" {
				for _, n := range notes {
					a.say("%s", n)
				}
				if len(trial.Effects) == 0 {
					a.say("no rule is for %s; there are rules for %s", f.kind, strings.Join(trial.Kinds, ", "))
				}
			}
			return nil
		},
	}
	f.on(c)
	return c
}
