package client

import (
	"bytes"
	"cmp"
	"context"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"math/rand/v2"
	"net/url"
	"reflect"
	"runtime"
	"strings"
	"sync"
	"sync/atomic"
	"time"
)

// checking notices wrong keys: what was found is filled, too, and compared.
type checking struct {
	mu     sync.Mutex
	places map[string]place     // of each name
	told   map[string]time.Time // of names that clashed

	running atomic.Int64 // loads whose keys are checked behind their callers
}

// place is where a fill stands in the code, and what it does.
type place struct{ at, shape string }

const (
	// clashGrace is the time in which a purge may come that explains a difference.
	clashGrace = time.Second
	clashAgain = time.Minute
	mostNames  = 1000
	mostChecks = 16
	longSample = 400
)

// copied says what is wrong if another place fills this name otherwise; "" if none does.
func (c *checking) copied(name string, fill any) string {
	f := runtime.FuncForPC(reflect.ValueOf(fill).Pointer())
	if f == nil {
		return ""
	}
	file, line := f.FileLine(f.Entry())
	at := fmt.Sprintf("%s:%d", file, line)
	c.mu.Lock()
	defer c.mu.Unlock()
	before, known := c.places[name]
	switch {
	case known && before.at == at:
		return ""
	case known:
		if shapeOf(file, line) == before.shape {
			return ""
		}
		return fmt.Sprintf("the fragment %s is filled in two places, %s and %s; give each a name of its own, or share one fill", name, before.at, at)
	}
	if c.places == nil {
		c.places = map[string]place{}
	}
	if len(c.places) < mostNames {
		c.places[name] = place{at, shapeOf(file, line)}
	}
	return ""
}

// shapeOf is what the functions do that begin in a line of a source file, but for the numbers in them,
// and however their variables are called; the line, where the source is not at hand.
func shapeOf(file string, line int) string {
	set := token.NewFileSet()
	tree, err := parser.ParseFile(set, file, nil, parser.SkipObjectResolution)
	if err != nil {
		return fmt.Sprintf("%s:%d", file, line)
	}
	var shape strings.Builder
	write := func(body ast.Node) {
		ast.Inspect(body, func(n ast.Node) bool {
			fmt.Fprintf(&shape, "%T", n)
			switch n := n.(type) {
			case *ast.BasicLit:
				if n.Kind == token.STRING {
					shape.WriteString(n.Value)
				}
			case *ast.SelectorExpr:
				shape.WriteString(n.Sel.Name)
			case *ast.CallExpr:
				if name, plain := n.Fun.(*ast.Ident); plain {
					shape.WriteString(name.Name)
				}
			}
			return true
		})
	}
	ast.Inspect(tree, func(n ast.Node) bool {
		switch n := n.(type) {
		case *ast.FuncLit:
			if set.Position(n.Pos()).Line == line {
				write(n.Body)
				return false
			}
		case *ast.FuncDecl:
			if n.Body != nil && set.Position(n.Pos()).Line == line {
				write(n.Body)
				return false
			}
		}
		return true
	})
	return shape.String()
}

// due reports whether a name has not clashed lately.
func (c *checking) due(name string) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	return time.Since(c.told[name]) >= clashAgain
}

// first reports whether a name has not clashed lately, and notes it.
func (c *checking) first(name string) bool {
	if !c.due(name) {
		return false
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.told == nil || len(c.told) >= mostNames {
		c.told = map[string]time.Time{}
	}
	c.told[name] = time.Now()
	return true
}

// checkPlaces warns of names that are filled in two places.
func (l *loading) checkPlaces(all []wantedFragment, code any) {
	for i := range all {
		if all[i].key != "" {
			if line := l.checking.copied(all[i].Name, code); line != "" {
				l.warn(line, nil)
			}
		}
	}
}

// checkSome fills a share of what was found, one after the other behind the caller; while many do, no
// more begin.
func (l *loading) checkSome(all []wantedFragment) {
	var some []*wantedFragment
	var found [][]byte
	for i := range all {
		if p := &all[i]; p.err == nil && p.done && p.found == Reused && rand.Float64() < l.options.Check {
			wanted := *p.Fragment // the caller may change theirs
			some, found = append(some, &wantedFragment{Fragment: &wanted, at: p.at, key: p.key}), append(found, p.body)
		}
	}
	if len(some) == 0 || l.checking.running.Add(1) > mostChecks {
		if len(some) > 0 {
			l.checking.running.Add(-1)
		}
		return
	}
	behind := &loading{Fragments: l.Fragments, fill: l.fill}
	ctx, cancel := context.WithTimeout(withPage(context.WithoutCancel(l.ctx), nil), l.options.Lease)
	l.behind.Go(func() {
		defer l.checking.running.Add(-1)
		defer cancel()
		behind.ctx = ctx
		for i, p := range some {
			if l.checking.due(p.Name) {
				behind.compare(p, found[i])
			}
		}
	})
}

// compare fills what was found. Twice, since what is made differently each time says nothing of the
// key; and after a moment it is there still, if no purge explains the difference.
func (l *loading) compare(p *wantedFragment, found []byte) {
	var made []byte
	for range 2 {
		l.make(l.ctx, p)
		if p.err != nil || bytes.Equal(p.made.body, found) || made != nil && !bytes.Equal(made, p.made.body) {
			return
		}
		made = append([]byte{}, p.made.body...)
	}
	select {
	case <-time.After(clashGrace):
	case <-l.ctx.Done():
		return
	}
	answers, err := l.ask([]*wantedFragment{p}, ask{fresh: true, only: true})
	if err != nil || answers.items[0].State != "fresh" {
		return
	}
	if now, err := plain(&answers.items[0]); err != nil || !bytes.Equal(now, found) || !l.checking.first(p.Name) {
		return
	}
	from := max(0, firstDifference(found, made)-longSample/2)
	if max(len(found), len(made)) <= longSample {
		from = 0
	}
	clash := FragmentClash{Key: p.key, Samples: []string{sampleFrom(found, from), sampleFrom(made, from)}}
	l.warn(fmt.Sprintf("the key %s leaves something out: what was there is '%.80s', and a fill made '%.80s'", clash.Key, oneLine(clash.Samples[0]), oneLine(clash.Samples[1])), nil)
	q := url.Values{}
	if l.options.Namespace != "" {
		q.Set("namespace", l.options.Namespace)
	}
	if err := l.wire.client.call(l.ctx, "POST", "/v1/fragments/clashes", q, clash, nil); err != nil {
		l.warn("the clash could not be noted", err)
	}
}

func firstDifference(a, b []byte) int {
	for i := range min(len(a), len(b)) {
		if a[i] != b[i] {
			return i
		}
	}
	return min(len(a), len(b))
}

func sampleFrom(body []byte, from int) string {
	body = body[min(from, len(body)):]
	return strings.ToValidUTF8(string(body[:min(len(body), longSample)]), "")
}

func oneLine(text string) string { return cmp.Or(strings.Join(strings.Fields(text), " "), " ") }
