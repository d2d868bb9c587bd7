// Command attack puts a node under what visitors, origins and strangers may do to it, one
// thing after the other, on loopback, and writes what the site's ordinary visitors got
// meanwhile and how much memory the node took. See docs/performance.md.
package main

import (
	"context"
	"flag"
	"fmt"
	"os"
	"os/signal"
	"strings"
	"text/tabwriter"
	"time"
)

// attack is one thing that somebody does to a site for a while.
type attack struct {
	name string
	run  func(ctx context.Context, s *site)
}

func main() {
	program := flag.String("program", "bin/gerastic", "the program to put under attack")
	memory := flag.Int("memory", 128, "its --memory, in MiB")
	length := flag.Duration("length", 6*time.Second, "how long each attack goes on")
	only := flag.String("only", "", "only attacks whose name contains this")
	flag.Parse()
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt)
	defer stop()
	out := tabwriter.NewWriter(os.Stdout, 0, 0, 3, ' ', tabwriter.AlignRight)
	fmt.Fprintln(out, "attack\tresident\thits/s calm\thits/s\tmisses\tanswered\tlongest wait\t")
	for _, a := range attacks {
		if ctx.Err() != nil || !strings.Contains(a.name, *only) {
			continue
		}
		line, err := under(ctx, *program, *memory, *length, a)
		if err != nil {
			fmt.Fprintf(os.Stderr, "%s: %v\n", a.name, err)
			os.Exit(1)
		}
		fmt.Fprintln(out, line)
	}
	out.Flush()
}

// under starts a site, measures it calm, and then under an attack.
func under(ctx context.Context, program string, memory int, length time.Duration, a attack) (string, error) {
	s, err := open(ctx, program, memory)
	if err != nil {
		return "", err
	}
	defer s.close()
	calm := s.visit(ctx, 2*time.Second)
	attacking, end := context.WithTimeout(ctx, length+time.Second)
	defer end()
	done := make(chan struct{})
	go func() {
		defer close(done)
		a.run(attacking, s)
	}()
	select { // let it take hold
	case <-time.After(time.Second):
	case <-ctx.Done():
	}
	meanwhile := s.visit(attacking, length)
	end()
	<-done
	return fmt.Sprintf("%s\t%d MiB\t%d\t%d\t%d\t%d\t%s\t", a.name, s.resident.Load()>>20, calm.hits, meanwhile.hits, meanwhile.misses, meanwhile.answered, meanwhile.longest.Round(time.Millisecond)), nil
}
