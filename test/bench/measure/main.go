// Measure runs the benchmarks of test/bench and writes what they report as JSON. With -against
// it builds the test binary of another revision, too, and runs the two in turns, so that a
// noisy machine is as noisy for both; what counts are the medians.
package main

import (
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"time"

	"golang.org/x/perf/benchfmt"
)

// Report is what is written.
type Report struct {
	At       time.Time `json:"at"`
	Go       string    `json:"go"`
	Cores    int       `json:"cores"`
	Revision string    `json:"revision"`
	Against  string    `json:"against,omitempty"`
	Pairs    int       `json:"pairs"` // how often each figure was taken
	Figures  []Figure  `json:"figures"`
}

// Figure is one figure of one benchmark, as medians.
type Figure struct {
	Benchmark string  `json:"benchmark"`
	Unit      string  `json:"unit"`
	Value     float64 `json:"value"`
	Before    float64 `json:"before,omitempty"` // of the other revision
	// Worse is by how much of Before the figure is worse; negative where it is better.
	Worse float64 `json:"worse,omitempty"`
}

// figure names a figure.
type figure struct{ benchmark, unit string }

// figures are the values of each, in the order of the runs.
type figures map[figure][]float64

// quick are the benchmarks that two revisions are compared by, where none are named.
const quick = "HandlerHit|LoopbackHit|LoopbackComposed|FragmentLoopback"

// everything that is measured where nothing is compared.
const everything = "."

func main() {
	out := flag.String("out", "bench.json", "the file that the result is written to")
	against := flag.String("against", "", "a revision to compare with")
	pairs := flag.Int("pairs", 10, "how often each of the two revisions is run")
	names := flag.String("bench", "", "the benchmarks to run, as a regular expression")
	worst := flag.Float64("worst", 0.03, "by how much a share of the bare handler's rate may be worse than before")
	flag.Parse()
	if err := run(*out, *against, *names, *pairs, *worst); err != nil {
		fmt.Fprintln(os.Stderr, "measure:", err)
		os.Exit(1)
	}
}

func run(out, against, names string, pairs int, worst float64) error {
	dir, err := os.MkdirTemp("", "gerastic-bench")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	report := Report{At: time.Now().UTC(), Go: runtime.Version(), Cores: runtime.NumCPU(), Revision: revision("HEAD"), Against: against, Pairs: 1}
	now, before := figures{}, figures{}
	ours := filepath.Join(dir, "now.test")
	if err := build(".", ours); err != nil {
		return err
	}
	var missed error
	if against == "" {
		missed = now.take(ours, or(names, everything), true)
	} else {
		report.Against, report.Pairs = revision(against), pairs
		theirs, err := buildOther(against, dir)
		if err != nil {
			return err
		}
		for pair := range pairs {
			fmt.Fprintf(os.Stderr, "pair %d of %d\n", pair+1, pairs)
			if err := errors.Join(before.take(theirs, or(names, quick), false), now.take(ours, or(names, quick), false)); err != nil {
				return err
			}
		}
	}
	report.Figures = compared(now, before)
	if err := write(out, report); err != nil {
		return err
	}
	return errors.Join(missed, show(os.Stdout, report, worst))
}

func or(a, b string) string {
	if a != "" {
		return a
	}
	return b
}

// revision is a revision's short name; what stands in the tree besides is marked.
func revision(name string) string {
	text, err := exec.Command("git", "describe", "--always", name).Output()
	if name == "HEAD" {
		text, err = exec.Command("git", "describe", "--always", "--dirty").Output()
	}
	if err != nil {
		return name
	}
	return strings.TrimSpace(string(text))
}

func build(tree, to string) error {
	return command(tree, "go", "test", "-c", "-o", to, "./test/bench")
}

// buildOther builds the test binary of another revision in a tree of its own. The console's
// files are part of the program, and are the present ones.
func buildOther(revision, dir string) (binary string, err error) {
	tree := filepath.Join(dir, "tree")
	if err := command(".", "git", "worktree", "add", "--quiet", "--detach", tree, revision); err != nil {
		return "", err
	}
	defer func() { err = errors.Join(err, command(".", "git", "worktree", "remove", "--force", tree)) }()
	if err := os.RemoveAll(filepath.Join(tree, "console", "dist")); err != nil {
		return "", err
	}
	if err := os.CopyFS(filepath.Join(tree, "console", "dist"), os.DirFS("console/dist")); err != nil {
		return "", err
	}
	binary = filepath.Join(dir, "before.test")
	return binary, build(tree, binary)
}

func command(dir, name string, args ...string) error {
	c := exec.Command(name, args...)
	c.Dir, c.Stderr = dir, os.Stderr
	if err := c.Run(); err != nil {
		return fmt.Errorf("%s %s: %w", name, strings.Join(args, " "), err)
	}
	return nil
}

// take runs a binary's benchmarks once and adds what they report. A figure that is missed is an
// error where limits hold.
func (f figures) take(binary, names string, limits bool) error {
	c := exec.Command(binary, "-test.run", "^$", "-test.bench", names, "-test.benchmem", "-test.benchtime", "1x", "-test.timeout", "30m")
	handlers := exec.Command(binary, "-test.run", "^$", "-test.bench", "Handler", "-test.benchmem")
	for _, c := range []*exec.Cmd{c, handlers} {
		c.Dir, c.Stderr = filepath.Join("test", "bench"), os.Stderr
		if !limits {
			// Two revisions whose idle heaps differ by a MiB would differ by how often that little is
			// collected; a node's heap is its store's, whichever revision it is of.
			c.Env = append(os.Environ(), "GERASTIC_BENCH_LIMITS=off", "GOGC=1000")
		}
	}
	output, failed := c.Output()
	if err := f.add(string(output), func(name string) bool { return !strings.HasPrefix(name, "Handler") }); err != nil {
		return err
	}
	if failed != nil {
		failed = fmt.Errorf("%w:\n%s", failed, output)
	}
	// What takes microseconds is not measured by one turn.
	output, err := handlers.Output()
	return errors.Join(failed, err, f.add(string(output), func(string) bool { return true }))
}

// add reads the benchmarks' own format.
func (f figures) add(text string, wanted func(name string) bool) error {
	in := benchfmt.NewReader(strings.NewReader(text), "benchmarks")
	for in.Scan() {
		result, ok := in.Result().(*benchfmt.Result)
		if !ok || !wanted(result.Name.String()) {
			continue
		}
		name, _, _ := strings.Cut(string(result.Name.Full()), fmt.Sprintf("-%d", runtime.GOMAXPROCS(0)))
		for _, v := range result.Values {
			at := figure{name, or(v.OrigUnit, v.Unit)}
			value := v.Value
			if v.OrigUnit != "" {
				value = v.OrigValue
			}
			f[at] = append(f[at], value)
		}
	}
	return in.Err()
}

// compared lists the medians, and where there is another revision, by how much each is worse.
func compared(now, before figures) []Figure {
	var all []Figure
	for at, values := range now {
		one := Figure{Benchmark: at.benchmark, Unit: at.unit, Value: median(values)}
		if others := before[at]; len(others) > 0 {
			one.Before = median(others)
			if one.Before != 0 {
				one.Worse = math.Round((one.Value/one.Before-1)*1e4) / 1e4
			}
			if rises(at.unit) {
				one.Worse = -one.Worse
			}
		}
		all = append(all, one)
	}
	slices.SortFunc(all, func(a, b Figure) int {
		return strings.Compare(a.Benchmark+" "+a.Unit, b.Benchmark+" "+b.Unit)
	})
	return all
}

func median(values []float64) float64 {
	sorted := slices.Sorted(slices.Values(values))
	middle := len(sorted) / 2
	if len(sorted)%2 == 1 {
		return sorted[middle]
	}
	return (sorted[middle-1] + sorted[middle]) / 2
}

// rises reports whether more of a unit is better: a rate, or a share of one.
func rises(unit string) bool {
	return strings.HasSuffix(unit, "/s") || isShare(unit) || unit == "times-faster"
}

// isShare reports whether a unit is a share of what a bare handler does in the same run.
func isShare(unit string) bool { return unit == "share" || strings.HasSuffix(unit, "-share") }

func write(name string, report Report) error {
	text, err := json.MarshalIndent(report, "", "  ")
	if err != nil {
		return err
	}
	return os.WriteFile(name, append(text, '\n'), 0o644)
}

// show prints the figures, and returns an error for each share that is worse than it may be.
func show(out io.Writer, report Report, worst float64) (worse error) {
	for _, f := range report.Figures {
		line := fmt.Sprintf("%-40s %14.4g %s", f.Benchmark, f.Value, f.Unit)
		if report.Against != "" {
			line = fmt.Sprintf("%-40s %14.4g %14.4g %+7.1f %% worse  %s", f.Benchmark, f.Before, f.Value, 100*f.Worse, f.Unit)
		}
		fmt.Fprintln(out, line)
		if isShare(f.Unit) && f.Worse > worst {
			worse = errors.Join(worse, fmt.Errorf("%s: %.3f %s, %.3f before", f.Benchmark, f.Value, f.Unit, f.Before))
		}
	}
	return worse
}
