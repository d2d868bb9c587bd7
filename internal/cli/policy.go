package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/fsnotify/fsnotify"
	"github.com/spf13/cobra"

	"gerastic.example/client"

	"gerastic/internal/core/policy"
	"gerastic/internal/keyset"
	"gerastic/internal/secrets"
)

func (a *app) policy() *cobra.Command {
	c := &cobra.Command{Use: "policy", Short: "The policy: check, apply, show"}
	c.AddCommand(a.policyCheck(), a.policyApply(), a.policyShow())
	return c
}

func (a *app) policyCheck() *cobra.Command {
	var origin, secretFiles string
	c := &cobra.Command{
		Use:     "check FILE",
		Short:   "Check a policy, without a node",
		Long:    "Check a policy, without a node. Every mistake is shown with its line and column;\nFILE - reads standard input. Exit code 1 when there are mistakes.",
		Example: "  gerastic policy check policy.yaml",
		Args:    cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			source, err := read(args[0])
			if err != nil {
				return err
			}
			outside := policy.Outside{Lookup: os.LookupEnv, Secret: secrets.Reader(secretFiles), Keys: keyset.Opener{Log: slog.New(slog.DiscardHandler)}}
			if origin != "" {
				if outside.Origin, err = policy.ParseOrigin(origin); err != nil {
					return usage("--origin: %w", err)
				}
			}
			p, err := outside.Parse(args[0], source)
			var problems policy.Problems
			if errors.As(err, &problems) {
				return a.showProblems(problems)
			}
			for _, w := range p.Warnings {
				fmt.Fprintln(a.errs, "warning: "+w.Error())
			}
			a.say("%s holds: %s, %s", args[0], plural(int64(len(p.Origins)), "origin", "origins"), plural(int64(len(p.Routes)), "route", "routes"))
			if a.format == "json" {
				return a.json(map[string]any{"ok": true, "warnings": p.Warnings})
			}
			return nil
		},
	}
	c.Flags().StringVar(&origin, "origin", "", "check it for a node that is started with this --origin")
	c.Flags().StringVar(&secretFiles, "secrets", "", "look at the files of secrets below this directory, too")
	return c
}

func (a *app) showProblems(problems policy.Problems) error {
	if a.format == "json" {
		if err := a.json(map[string]any{"ok": false, "problems": problems}); err != nil {
			return err
		}
	} else {
		for _, p := range problems {
			fmt.Fprintln(a.errs, p.Error())
		}
	}
	return fmt.Errorf("%s; correct the lines above and check again", plural(int64(len(problems)), "mistake", "mistakes"))
}

func read(path string) ([]byte, error) {
	if path == "-" {
		return io.ReadAll(os.Stdin)
	}
	source, err := os.ReadFile(path)
	if err != nil {
		return nil, fmt.Errorf("reading the file: %w", err)
	}
	return source, nil
}

func (a *app) policyApply() *cobra.Command {
	var note string
	var watch bool
	c := &cobra.Command{
		Use:     "apply FILE",
		Short:   "Check a policy and put it in force",
		Long:    "Check a policy and put it in force, in place of the revision there is: what routes were added there and\nare not in the file goes, and is said. With --watch, the file is applied at each save that is in order.",
		Example: "  gerastic policy apply policy.yaml --note 'cache the fares'\n  gerastic policy apply policy.yaml --watch",
		Args:    cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if watch {
				return a.watchPolicy(cmd.Context(), args[0], note)
			}
			return a.applyPolicy(cmd.Context(), args[0], note)
		},
	}
	c.Flags().StringVar(&note, "note", "", "what changed, for the history")
	c.Flags().BoolVar(&watch, "watch", false, "apply it at each save, until interrupted")
	return c
}

// applyPolicy puts a file in force, and says how it differs from what was.
func (a *app) applyPolicy(ctx context.Context, file, note string) error {
	source, err := read(file)
	if err != nil {
		return err
	}
	before, unknown := a.client().Policy(ctx)
	p, err := a.client().ApplyPolicy(ctx, string(source), note)
	var problem *client.Problem
	if errors.As(err, &problem) && len(problem.Errors) > 0 {
		for _, e := range problem.Errors {
			fmt.Fprintf(a.errs, "%s: %s\n", strings.Replace(e.Location, "policy.yaml", file, 1), e.Message)
		}
		return errors.New(problem.Detail)
	}
	if err != nil {
		return err
	}
	for _, w := range p.Warnings {
		fmt.Fprintf(a.errs, "warning: %s:%d:%d: %s\n", file, w.Line, w.Column, w.Message)
	}
	a.say("revision %d is in force", p.Revision)
	if unknown == nil {
		a.say("%s", differences(before, string(source)))
	}
	if p.Touched > 0 {
		a.say("it touches %s stored on this node; each is judged anew at its next use, or not used any more", plural(p.Touched, "entry", "entries"))
	}
	if a.format == "json" {
		return a.json(p)
	}
	return nil
}

// differences says how a policy differs from the revision before it.
func differences(before client.Policy, source string) string {
	if before.Source == source {
		return fmt.Sprintf("nothing is changed against revision %d", before.Revision)
	}
	outside := policy.Outside{Elsewhere: true, Lookup: func(string) (string, bool) { return "http://x", true }}
	old, err := outside.Parse("policy", []byte(before.Source))
	if err != nil {
		return fmt.Sprintf("it takes the place of revision %d, which this program cannot read", before.Revision)
	}
	now, err := outside.Parse("policy", []byte(source))
	if err != nil {
		return fmt.Sprintf("it takes the place of revision %d", before.Revision)
	}
	said := now.DifferencesFrom(old).String()
	if said == "" {
		said = "what routes, writes and targets do is the same"
	}
	return fmt.Sprintf("against revision %d (%s, by %s): %s", before.Revision, cmp.Or(before.Note, "no note"), before.Actor, said)
}

// watchPolicy applies a file now, and at each save that is in order, until the context ends.
func (a *app) watchPolicy(ctx context.Context, file, note string) error {
	path, err := filepath.Abs(file)
	if err != nil {
		return err
	}
	watcher, err := fsnotify.NewWatcher()
	if err != nil {
		return fmt.Errorf("watching %s: %w", file, err)
	}
	defer watcher.Close()
	if err := watcher.Add(filepath.Dir(path)); err != nil { // editors put a new file in its place
		return fmt.Errorf("watching %s: %w", file, err)
	}
	last := ""
	for {
		if text, err := os.ReadFile(path); err == nil && string(text) != last {
			last = string(text)
			if err := a.applyPolicy(ctx, file, note); err != nil {
				fmt.Fprintf(a.errs, "%v; what was in force stays\n", err)
			}
		} else if err != nil && last == "" {
			return fmt.Errorf("reading the file: %w", err)
		}
		if !settled(ctx, watcher, path) {
			return ctx.Err()
		}
	}
}

// settled waits for a change of a file and for a moment without another; false if the context ended.
func settled(ctx context.Context, watcher *fsnotify.Watcher, path string) bool {
	var quiet <-chan time.Time
	for {
		select {
		case e := <-watcher.Events:
			if filepath.Clean(e.Name) == path {
				quiet = time.After(50 * time.Millisecond)
			}
		case <-watcher.Errors: // something was missed
			quiet = time.After(50 * time.Millisecond)
		case <-quiet:
			return true
		case <-ctx.Done():
			return false
		}
	}
}

func (a *app) policyShow() *cobra.Command {
	var full bool
	c := &cobra.Command{
		Use:     "show",
		Short:   "Print the policy in force",
		Long:    "Print the policy in force, as it was applied. With --full, each route is printed with all that it\ntakes over from defaults and shapes, and where each setting is from.",
		Example: "  gerastic policy show > policy.yaml\n  gerastic policy show --full",
		RunE: func(cmd *cobra.Command, _ []string) error {
			p, err := a.client().Policy(cmd.Context())
			if err != nil {
				return err
			}
			if a.format == "json" {
				return a.json(p)
			}
			text := p.Source
			if full {
				known := func(string) (string, bool) { return "http://x", true } // what stands in the node's environment is not shown
				if text, err = (policy.Outside{Elsewhere: true, Lookup: known}).Full("policy", []byte(p.Source)); err != nil {
					return fmt.Errorf("the policy in force cannot be read by this program: %w", err)
				}
			}
			_, err = fmt.Fprint(a.raw(), text)
			return err
		},
	}
	c.Flags().BoolVar(&full, "full", false, "with all that routes take over")
	return c
}
