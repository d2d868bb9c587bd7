package cli

import (
	"bufio"
	"cmp"
	"context"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/signal"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"gerastic.example/client"

	"gerastic/internal/prime"
)

// primeOptions are the flags of prime.
type primeOptions struct {
	request            client.PrimeRequest
	list, sitemap, log string
	top                int
	headers            []string
	anew, detach       bool
}

func (a *app) prime() *cobra.Command {
	var o primeOptions
	c := &cobra.Command{
		Use:   "prime [URL…]",
		Short: "Fill the store before visitors ask",
		Long: `Fill the store before visitors ask: from URLs, a list, a sitemap, an access log, or what was asked
for most before the node's last start. The job runs in the node, and goes on when this command
ends; interrupting it stops the job, unless --detach.

Each URL is asked for as a visitor would, by the same rules. --pace auto goes as fast as the
origin stays about as quick as it is; what is fresh is left as it is, unless --anew. It counts
as primed, beside visitors' requests.`,
		Example: "  gerastic prime /ports /ports/tholm\n  gerastic prime --sitemap https://ferries.example/sitemap.xml --pace 20/s\n  gerastic prime --log access.log --top 1000\n  gerastic prime --previous --detach",
		RunE: func(cmd *cobra.Command, args []string) error {
			o.request.URLs = args
			if err := a.primeSources(cmd, &o); err != nil {
				return err
			}
			if o.anew {
				missing := false
				o.request.OnlyMissing = &missing
			}
			p, err := a.client().Prime(cmd.Context(), o.request)
			if err != nil {
				return err
			}
			if o.detach {
				a.say("it runs in the node; gerastic prime status %s says how far it is", p.ID)
				return a.printPrimes(p, []client.Prime{p})
			}
			return a.followPrime(cmd.Context(), p)
		},
	}
	f := c.Flags()
	f.StringVar(&o.list, "list", "", "file with a URL a line, or - for standard input")
	f.StringVar(&o.sitemap, "sitemap", "", "sitemap or its index: a URL, which the node reads, or a file here")
	f.StringVar(&o.log, "log", "", "access log in common or combined format: what was asked for most in it")
	f.IntVar(&o.top, "top", 1000, "with --log: how many")
	f.BoolVar(&o.request.Previous, "previous", false, "what was asked for most before the node's last start")
	f.StringArrayVar(&o.request.Routes, "route", nil, "only what this route stores; may be repeated")
	f.StringVar(&o.request.Pace, "pace", "auto", "20/s, or auto")
	f.IntVar(&o.request.Limit, "limit", 0, "how many at most (0: 100,000)")
	f.StringArrayVar(&o.headers, "header", nil, "header of each request, such as 'Accept-Language: nb', or 'Host: www.ferries.example' for paths; may be repeated")
	f.BoolVar(&o.anew, "anew", false, "ask for what is fresh, too")
	f.BoolVar(&o.detach, "detach", false, "do not wait")
	c.AddCommand(a.primeStatus(), a.primeStop())
	return c
}

// primeSources reads what is to be primed from where the flags say.
func (a *app) primeSources(cmd *cobra.Command, o *primeOptions) error {
	r := &o.request
	for _, h := range o.headers {
		name, value, ok := strings.Cut(h, ":")
		if !ok {
			return usage("--header %q: write 'Name: value'", h)
		}
		if r.Headers == nil {
			r.Headers = map[string]string{}
		}
		r.Headers[strings.TrimSpace(name)] = strings.TrimSpace(value)
	}
	if o.list != "" {
		in := cmd.InOrStdin()
		if o.list != "-" {
			file, err := os.Open(o.list)
			if err != nil {
				return err
			}
			defer file.Close()
			in = file
		}
		if err := eachLine(in, func(line string) { r.URLs = append(r.URLs, line) }); err != nil {
			return fmt.Errorf("reading --list: %w", err)
		}
	}
	switch {
	case strings.HasPrefix(o.sitemap, "http://"), strings.HasPrefix(o.sitemap, "https://"):
		r.Sitemap = o.sitemap
	case o.sitemap != "":
		text, err := os.ReadFile(o.sitemap)
		if err != nil {
			return err
		}
		urls, sitemaps, err := prime.Sitemap(text)
		if err != nil {
			return err
		}
		if len(sitemaps) > 0 {
			return usage("--sitemap %s is an index of sitemaps; pass its URL, so that the node reads them", o.sitemap)
		}
		r.URLs = append(r.URLs, urls...)
	}
	if o.log != "" {
		top, err := topOfLog(o.log, o.top)
		if err != nil {
			return err
		}
		r.URLs = append(r.URLs, top...)
	}
	if len(r.URLs) == 0 && r.Sitemap == "" && !r.Previous {
		return usage("name what to prime: URLs, --list, --sitemap, --log or --previous")
	}
	return nil
}

// eachLine visits the lines that are not empty.
func eachLine(in io.Reader, visit func(string)) error {
	lines := bufio.NewScanner(in)
	lines.Buffer(nil, 1<<20)
	for lines.Scan() {
		if line := strings.TrimSpace(lines.Text()); line != "" {
			visit(line)
		}
	}
	return lines.Err()
}

// topOfLog are the targets of an access log that were asked for most with GET.
func topOfLog(path string, top int) ([]string, error) {
	file, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	counts := map[string]int{}
	read := 0
	err = eachLine(file, func(line string) {
		_, request, ok := strings.Cut(line, `"GET `)
		if !ok {
			return
		}
		target, _, ok := strings.Cut(request, " ")
		if ok && strings.HasPrefix(target, "/") {
			counts[target]++
			read++
		}
	})
	if err != nil {
		return nil, fmt.Errorf("reading --log: %w", err)
	}
	if read == 0 {
		return nil, usage(`--log %s: no line has a request such as "GET /ports HTTP/1.1"; common and combined format are read`, path)
	}
	all := make([]string, 0, len(counts))
	for target := range counts {
		all = append(all, target)
	}
	slices.SortFunc(all, func(a, b string) int { return cmp.Or(counts[b]-counts[a], strings.Compare(a, b)) })
	return all[:min(max(top, 0), len(all))], nil
}

// followPrime shows how a job goes on until it ends; an interrupt stops it.
func (a *app) followPrime(ctx context.Context, p client.Prime) (err error) {
	ctx, cancel := signal.NotifyContext(ctx, os.Interrupt)
	defer cancel()
	shows := term.IsTerminal(int(os.Stderr.Fd()))
	for p.State == "running" {
		select {
		case <-time.After(300 * time.Millisecond):
			p, err = a.client().PrimeOf(ctx, p.ID)
		case <-ctx.Done():
			p, err = a.client().StopPrime(context.WithoutCancel(ctx), p.ID)
		}
		if err != nil {
			return err
		}
		if shows {
			fmt.Fprintf(a.errs, "\r\x1b[K%s", progress(p))
		}
	}
	if shows {
		fmt.Fprintln(a.errs)
	}
	if err := a.printPrimes(p, []client.Prime{p}); err != nil {
		return err
	}
	for _, problem := range p.Errors {
		a.say("%s: %s", problem.URL, statusText(problem))
	}
	if p.State == "failed" {
		return fmt.Errorf("the prime %s gave up", p.ID)
	}
	return nil
}

func statusText(p client.PrimeError) string {
	if p.Status == 0 {
		return cmp.Or(p.Error, "no answer")
	}
	return fmt.Sprintf("%d %s", p.Status, cmp.Or(p.Error, http.StatusText(p.Status)))
}

// progress is a bar of thirty places, and how long it will take.
func progress(p client.Prime) string {
	const places = 30
	full := 0
	if p.Wanted > 0 {
		full = places * p.Done / p.Wanted
	}
	text := fmt.Sprintf("[%s%s] %d of %d", strings.Repeat("#", full), strings.Repeat("·", places-full), p.Done, p.Wanted)
	if p.PacePerS != nil {
		text += fmt.Sprintf(", %.1f/s", *p.PacePerS)
	}
	if p.LeftS != nil {
		text += ", " + time.Duration(*p.LeftS*float64(time.Second)).Round(time.Second).String() + " left"
	}
	return text
}

func (a *app) printPrimes(out any, all []client.Prime) error {
	t := &rows{columns: []column{left("id"), left("state"), right("wanted"), right("done"), right("filled"), right("fresh"), right("failed"), right("skipped"), right("pace"), right("left")}}
	for _, p := range all {
		pace, rest := cell{"–", ""}, cell{"–", ""}
		if p.PacePerS != nil {
			pace = cell{fmt.Sprintf("%.1f/s", *p.PacePerS), fmt.Sprint(*p.PacePerS)}
		}
		if p.LeftS != nil && p.State == "running" {
			rest = seconds(*p.LeftS)
		}
		t.add(str(p.ID), str(p.State), count(int64(p.Wanted)), count(int64(p.Done)), count(int64(p.Filled)), count(int64(p.Fresh)), count(int64(p.Failed)), count(int64(p.Skipped)), pace, rest)
	}
	return a.print(out, t)
}

func (a *app) primeStatus() *cobra.Command {
	return &cobra.Command{
		Use:     "status [ID]",
		Short:   "How far a prime has come, or all since the node's start",
		Example: "  gerastic prime status\n  gerastic prime status 4k2m7qab -o json",
		Args:    cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) == 0 {
				all, err := a.client().Primes(cmd.Context())
				if err != nil {
					return err
				}
				return a.printPrimes(map[string]any{"primes": all}, all)
			}
			p, err := a.client().PrimeOf(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return a.printPrimes(p, []client.Prime{p})
		},
	}
}

func (a *app) primeStop() *cobra.Command {
	return &cobra.Command{
		Use:     "stop ID",
		Short:   "Stop a prime; what it has filled stays",
		Example: "  gerastic prime stop 4k2m7qab",
		Args:    cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			p, err := a.client().StopPrime(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return a.printPrimes(p, []client.Prime{p})
		},
	}
}
