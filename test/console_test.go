package test

import (
	"context"
	"fmt"
	"io/fs"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gerastic.example/client"

	"gerastic/console"
	"gerastic/test/browser"
)

// screen is the console in a real browser.
type screen struct {
	tab     context.Context
	control string
}

func (s screen) do(t *testing.T, actions ...chromedp.Action[chromedp.Void]) {
	t.Helper()
	step, stop := context.WithTimeout(s.tab, 20*time.Second)
	defer stop()
	require.NoError(t, chromedp.Do(step, actions...))
}

func (s screen) text(t *testing.T, selector string) string {
	t.Helper()
	step, stop := context.WithTimeout(s.tab, 20*time.Second)
	defer stop()
	text, err := chromedp.Run(step, chromedp.Text(selector))
	require.NoError(t, err, selector)
	return text
}

// now is what an element shows at this moment, for conditions that become true; text waits until it is seen.
func (s screen) now(t *testing.T, selector string) string {
	t.Helper()
	return s.evaluate(t, "document.querySelector("+strconv.Quote(selector)+")?.innerText ?? ''")
}

func (s screen) evaluate(t *testing.T, script string) string {
	t.Helper()
	step, stop := context.WithTimeout(s.tab, 20*time.Second)
	defer stop()
	v, err := chromedp.Run(step, chromedp.Evaluate[any](script))
	require.NoError(t, err, script)
	return fmt.Sprint(v)
}

func (s screen) count(t *testing.T, selector string) int {
	t.Helper()
	n, err := strconv.Atoi(s.evaluate(t, "document.querySelectorAll("+strconv.Quote(selector)+").length"))
	require.NoError(t, err)
	return n
}

// open goes to a page and waits for what it shows; no page is wider than the window.
func (s screen) open(t *testing.T, page string, shows ...string) {
	t.Helper()
	s.do(t, chromedp.Navigate(s.control+page))
	for _, selector := range shows {
		s.do(t, chromedp.WaitVisible(selector))
	}
	assert.Equal(t, "true", s.evaluate(t, "document.documentElement.scrollWidth <= 1280"), page)
}

// TestConsole drives the console, page by page, as a person would.
func TestConsole(t *testing.T) {
	_, err := fs.Stat(console.Files(), "index.html")
	require.NoError(t, err, "the console is not built; run: make build")
	limit, cancel := context.WithTimeout(ctx, 3*time.Minute)
	defer cancel()
	tab, end, err := browser.Start(limit, 1280, 800)
	require.NoError(t, err, "Chromium is needed; run: make browser")
	defer end()
	s := screen{tab, company.Node.ControlURL()}
	require.True(t, t.Run("sign in", s.signIn))
	for _, page := range []struct {
		name string
		test func(*testing.T)
	}{
		{"overview", s.overview}, {"routes", s.routes}, {"purge", s.purge}, {"names of a purge", s.purgeNames}, {"tags", s.tags}, {"entries and store", s.store},
		{"fragments", s.fragments}, {"panel on a page", s.panel}, {"changes", s.changes}, {"live", s.live}, {"savings", s.savings},
		{"findings", s.findings}, {"keyboard", s.keyboard}, {"appearance", s.appearance}, {"purge of all", s.purgeAll}, {"sign out", s.signOut},
	} {
		t.Run(page.name, page.test)
	}
}

// A wrong token is refused in words; the right one leads to where one wanted to go.
func (s screen) signIn(t *testing.T) {
	s.open(t, "/purge", "#token")
	s.do(t, chromedp.SendKeys("#token", "guess"), chromedp.Click("button[type=submit]"), chromedp.WaitVisible("[role=alert]"))
	assert.Contains(t, s.text(t, "[role=alert]"), "admin.token")
	s.do(t, chromedp.SendKeys("#token", "\b\b\b\b\b"+company.Token), chromedp.Click("button[type=submit]"), chromedp.WaitVisible("#history"))
	assert.Equal(t, "", s.evaluate(t, "document.cookie"), "scripts cannot read the session")
	assert.NotContains(t, s.evaluate(t, "JSON.stringify({...localStorage, ...sessionStorage})"), "ger_")
}

// The figures move with the visitors, without a click.
func (s screen) overview(t *testing.T) {
	s.open(t, "/?since=7d", "#requests .value", "canvas")
	digits := regexp.MustCompile(`\D`)
	requests := func() int {
		n, err := strconv.Atoi(digits.ReplaceAllString(s.text(t, "#requests .value"), ""))
		require.NoError(t, err)
		return n
	}
	before := requests()
	for range 25 {
		visit(t, "/vessels/6")
	}
	eventually(t, "the overview counts the visits", func() bool { return requests() >= before+25 })
	assert.Regexp(t, `\d+\.\d %`, s.text(t, "#hit-ratio .value"))
	assert.Equal(t, 2, s.count(t, "canvas"))
	s.do(t, chromedp.Click("summary"))
	eventually(t, "the figures behind the charts", func() bool { return s.count(t, "details tbody td.number") > 0 })
	assert.Contains(t, s.text(t, "details"), "byte hit ratio")
}

func (s screen) routes(t *testing.T) {
	s.open(t, "/routes", `[aria-label="Cache vessel"]`)
	s.do(t, chromedp.Click(`[aria-label="Cache vessel"]`))
	eventually(t, "the route is off", func() bool { return !visit(t, "/vessels/6").hit() })
	s.do(t, chromedp.WaitVisible(`[aria-label="Cache vessel"][aria-checked=false]`), chromedp.Click(`[aria-label="Cache vessel"]`))
	eventually(t, "the route is on, and has what it had", func() bool { return visit(t, "/vessels/6").hit() })

	// A route is added by its fields: what it would match stands beside them, and its YAML.
	visit(t, "/slow?n=1")
	s.do(t, chromedp.Click("#add-route"), chromedp.WaitVisible("#route-name"), chromedp.SendKeys("#route-name", "slow"), chromedp.SendKeys("#route-paths", "slow"), chromedp.WaitVisible("[role=dialog] [role=alert]"))
	assert.Contains(t, s.text(t, "[role=dialog] [role=alert]"), "a path begins with a slash")
	s.do(t, chromedp.SendKeys("#route-paths", "\b\b\b\b/slow"), chromedp.SendKeys("#route-fresh", "10m"), chromedp.SendKeys("#route-query", "none"))
	eventually(t, "the preview", func() bool {
		return strings.Contains(s.evaluate(t, "document.querySelector('#route-source')?.textContent"), "key: { query: none }")
	})
	eventually(t, "what it would match", func() bool {
		return strings.Contains(s.evaluate(t, "document.querySelector('[role=dialog]')?.textContent"), "/slow?n=1")
	})
	s.do(t, chromedp.Click("#route-save"), chromedp.WaitNotPresent("[role=dialog]"), chromedp.WaitVisible(`[aria-label="Change slow"]`))
	assert.Equal(t, "false", s.evaluate(t, "String(document.getElementById('app').inert)"), "the page is reached again")
	s.do(t, chromedp.Click(`[aria-label="Change slow"]`), chromedp.WaitVisible("#route-fresh"))
	assert.Equal(t, "true", s.evaluate(t, "String(document.getElementById('app').inert)"), "nothing behind the form is reached")
	s.do(t, chromedp.SendKeys("#route-fresh", "20m"))
	eventually(t, "the change", func() bool {
		return strings.Contains(s.evaluate(t, "document.querySelector('#route-source')?.textContent"), "fresh: 20m")
	})
	s.do(t, chromedp.Click("#route-save"))
	eventually(t, "it is in force", func() bool {
		p, err := api().Policy(ctx)
		return err == nil && strings.Contains(p.Source, "lifetime: { fresh: 20m }")
	})
	_, err := api().RemoveRoute(ctx, "slow", false)
	require.NoError(t, err)
	s.open(t, "/routes", `[aria-label="Cache vessel"]`)

	// A head that is pressed sorts, by keyboard too, and back.
	names := func() []string {
		return strings.Fields(s.evaluate(t, "[...document.querySelectorAll('tbody [data-col-key=route]')].map((e) => e.textContent.trim().split(' ')[0]).join(' ')"))
	}
	policy := names()
	s.do(t, chromedp.Focus("[data-col-key=route] .by"), chromedp.KeyEvent("\r"))
	eventually(t, "sorted by name, the last first", func() bool {
		return slices.IsSortedFunc(names(), func(a, b string) int { return strings.Compare(b, a) })
	})
	s.do(t, chromedp.KeyEvent("\r"), chromedp.KeyEvent("\r"))
	eventually(t, "as in the policy again", func() bool { return slices.Equal(names(), policy) })
}

// A tag is completed, previewed, purged with a reason, and stands in the history.
func (s screen) purge(t *testing.T) {
	s.open(t, "/purge", "#tag")
	s.do(t, chromedp.SendKeys("#tag", "vessel:"))
	eventually(t, "the tag is completed", func() bool {
		return strings.Contains(s.evaluate(t, "document.querySelector('.n-auto-complete-menu')?.textContent"), "vessel:6")
	})
	s.do(t, chromedp.SendKeys("#tag", "6"), chromedp.SendKeys("#tag", "\r"), chromedp.WaitVisible("#would-go"))
	assert.Contains(t, s.text(t, "#would-go"), "entr")
	assert.Contains(t, s.text(t, "#carry-out"), "Drop ", "the button says what will go")
	assert.True(t, visit(t, "/vessels/6").hit(), "looking changed nothing")
	s.do(t, chromedp.SendKeys("#reason", "new paint"), chromedp.Click("#carry-out"), chromedp.WaitVisible("#done"))
	assert.Contains(t, s.text(t, "#done"), "dropped, in force on demo")
	assert.False(t, visit(t, "/vessels/6").hit())
	eventually(t, "the history shows it", func() bool {
		h := s.now(t, "#history tbody tr")
		return strings.Contains(h, "vessel:6") && strings.Contains(h, "new paint") && strings.Contains(h, "admin")
	})
	s.do(t, chromedp.Click("#history tbody button"), chromedp.WaitVisible("#history .detail"))
	assert.Contains(t, s.text(t, "#history .detail"), "counted and freed after")
}

// A star is spelled out; what is named otherwise is shown before it goes, too.
func (s screen) purgeNames(t *testing.T) {
	for _, path := range []string{"/vessels/4", "/vessels/5", "/vessels/6"} {
		visit(t, path)
	}
	s.open(t, "/purge", "#tag")
	s.do(t, chromedp.SendKeys("#tag", "vessel:*"), chromedp.SendKeys("#tag", "\r"))
	eventually(t, "the star stands for the tags that are stored", func() bool {
		return strings.Count(s.evaluate(t, "document.querySelector('.chosen')?.textContent"), "vessel:") > 1
	})
	s.do(t, chromedp.Click(".kinds label:nth-child(4)"), chromedp.WaitNotPresent(".chosen"), chromedp.SendKeys("#tag", "/vessels/6"), chromedp.SendKeys("#tag", "\r"), chromedp.WaitVisible("#would-go"))
	assert.Contains(t, s.text(t, ".preview"), "/vessels/6")
	assert.True(t, visit(t, "/vessels/6").hit())
}

// What was done is said until something else is named, although the form begins anew.
func (s screen) purgeAll(t *testing.T) {
	visit(t, "/vessels/6")
	s.open(t, "/purge", "#tag")
	s.do(t, chromedp.Click(".kinds label:nth-child(6)"), chromedp.WaitNotPresent("#tag"), chromedp.Click(".modes label:nth-child(2)"))
	eventually(t, "the button says what it does", func() bool { return strings.HasPrefix(s.now(t, "#carry-out"), "Mark ") })
	s.do(t, chromedp.Click("#carry-out"), chromedp.WaitVisible("#done"), chromedp.WaitVisible("#tag"))
	assert.Contains(t, s.text(t, "#done"), "marked stale, in force on demo")
	assert.False(t, visit(t, "/vessels/6").hit(), "it is asked about first")
}

// Tags with what carries them, and where each came from.
func (s screen) tags(t *testing.T) {
	s.open(t, "/tags", "#prefix")
	s.do(t, chromedp.SendKeys("#prefix", "vessel:6"))
	eventually(t, "the tag is found, with its last purge", func() bool {
		row := s.now(t, "#tags tbody")
		return strings.Contains(row, "vessel:6") && strings.Contains(row, "by admin") && !strings.Contains(row, "vessel:5")
	})
	s.do(t, chromedp.Click("#tags tbody button"), chromedp.WaitVisible("#carrying tbody .tags"))
	assert.Contains(t, s.text(t, "#carrying"), "origin")
	assert.Contains(t, s.text(t, "#carrying"), "vessel:6")
}

// Entries: searched, looked at, and dropped after what goes was shown; the store's size over time.
func (s screen) store(t *testing.T) {
	visit(t, "/vessels/4")
	s.open(t, "/entries?below=/vessels/4", "#list tbody .url")
	s.do(t, chromedp.Click("#list tbody .url"), chromedp.WaitVisible("#entry .acts button"))
	assert.Contains(t, s.text(t, "#entry"), "its purge takes")
	assert.Contains(t, s.text(t, "#entry .header"), "Content-Type")
	s.do(t, chromedp.Click("#entry .acts button"))
	eventually(t, "the button says what goes", func() bool {
		return strings.HasPrefix(strings.TrimSpace(s.evaluate(t, "document.querySelector('#entry .acts button')?.textContent")), "Drop 1 entry")
	})
	s.do(t, chromedp.Click("#entry .acts button"))
	eventually(t, "it is dropped", func() bool {
		return strings.Contains(s.evaluate(t, "document.querySelector('#entry')?.textContent"), "Dropped, with purge")
	})
	assert.False(t, visit(t, "/vessels/4").hit())
	s.open(t, "/store?since=15m", "#size canvas")
	s.do(t, chromedp.WaitVisible("#came tbody td"))
	assert.Contains(t, s.text(t, "#curve"), "origin time")
	assert.Contains(t, s.text(t, "#primes"), "gerastic prime")
}

// What a page is made of, and what a purge of one part would take.
func (s screen) fragments(t *testing.T) {
	visit(t, "/ports/norrisay")
	s.open(t, "/fragments", "#names tbody td")
	s.do(t, chromedp.SendKeys("#of", "/ports/norrisay"), chromedp.SendKeys("#of", "\r"), chromedp.WaitVisible("#made tbody tr:nth-child(4)"))
	assert.Contains(t, s.text(t, "#names"), "site/card")
	assert.Contains(t, s.text(t, "#made"), `site/board("norrisay")`)
	s.evaluate(t, "[...document.querySelectorAll('#made .tag')].find((b) => b.textContent.startsWith('vessel:')).click()")
	eventually(t, "what would go is marked", func() bool {
		return strings.Contains(s.evaluate(t, "document.querySelector('[role=status]')?.textContent"), "the others stay as they are")
	})
	marked := s.count(t, "#made tr.touched")
	assert.GreaterOrEqual(t, marked, 4, "page, board, row and card")
	assert.Less(t, marked, s.count(t, "#made tbody tr"), "the port's card and the weather stay")
	s.open(t, "/fragments?of=site/none", ".problem")
	assert.Contains(t, s.text(t, ".problem"), "no fragment site/none is stored here")
}

// The panel on a page is for those who carry a token; without one there is none.
func (s screen) panel(t *testing.T) {
	s.do(t, chromedp.Navigate(company.Node.EdgeURL()+"/ports/norrisay"), chromedp.WaitVisible(".board"))
	assert.Equal(t, 0, s.count(t, ".parts"))
	s.do(t, chromedp.Navigate(company.Node.EdgeURL()+"/#explain="+company.Token), chromedp.WaitVisible(".parts td"))
	assert.Contains(t, s.text(t, ".parts"), "/pieces/departures")
	assert.NotContains(t, s.evaluate(t, "location.href"), company.Token)
	s.do(t, chromedp.Click(".parts button"), chromedp.WaitNotPresent(".parts"))
}

// Sources and runs; a rule is tried; a table is read now.
func (s screen) changes(t *testing.T) {
	s.open(t, "/changes", `[aria-label="Run timetable now"]`)
	s.do(t, chromedp.Click("#try"), chromedp.WaitVisible("#effects li"))
	assert.Contains(t, s.text(t, "#effects"), "departures:tholm, sailings-of:3, departures:saltern")
	s.do(t, chromedp.Click(`[aria-label="Run timetable now"]`))
	eventually(t, "the run is in the log", func() bool {
		return strings.Contains(s.evaluate(t, "document.querySelector('#runs tbody')?.textContent"), "asked")
	})
	assert.Contains(t, s.text(t, "#sources"), "replication")
}

// Requests are followed as they are answered, filtered.
func (s screen) live(t *testing.T) {
	s.open(t, "/live?outcome=hit&path=/vessels", "#live")
	eventually(t, "a hit appears", func() bool {
		visit(t, "/fares")
		visit(t, "/vessels/5")
		return strings.Contains(s.now(t, "#live"), "/vessels/5")
	})
	assert.NotContains(t, s.text(t, "#live"), "/fares")

	s.open(t, "/live?of=fragments&path=shown(", "#live")
	fragments := fragmentsFor(t, "console")
	n := 0
	eventually(t, "a fragment appears as it is filled", func() bool {
		n++
		_, err := fragments.LoadOrFill(ctx, client.Fragment{Name: "shown", Parts: []any{n}, Lifetime: time.Hour}, text("shown"))
		require.NoError(t, err)
		shown := s.now(t, "#live")
		return strings.Contains(shown, "console/shown(") && strings.Contains(shown, "filled")
	})
	assert.NotContains(t, s.text(t, "#live"), "http://", "requests are not among them")
}

// What was saved, and in money.
func (s screen) savings(t *testing.T) {
	visit(t, "/fares")
	visit(t, "/fares")
	s.open(t, "/savings?since=1h", "#savings tbody tr")
	assert.Contains(t, s.text(t, "#savings"), "queries spent")
	assert.NotContains(t, s.text(t, "#savings"), "At these prices")
	s.do(t, chromedp.SendKeys("#prices", "queries=0.5\r"))
	eventually(t, "the money is counted", func() bool { return strings.Contains(s.now(t, "#savings"), "At these prices that saved") })
}

func (s screen) findings(t *testing.T) {
	s.open(t, "/findings", "#findings .empty")
	assert.Contains(t, s.text(t, "#findings"), "Nothing was found")
}

// The slash finds a route.
func (s screen) keyboard(t *testing.T) {
	s.open(t, "/", "#hit-ratio")
	s.do(t, chromedp.KeyEvent("/"), chromedp.WaitVisible("[role=dialog] input"), chromedp.SendKeys("[role=dialog] input", "departures"), chromedp.WaitVisible("[role=dialog] li.chosen"))
	eventually(t, "the route is found", func() bool { return strings.Contains(s.now(t, "[role=dialog] ul"), "/ports/{port}/departures") })
	s.do(t, chromedp.SendKeys("[role=dialog] input", "\r"), chromedp.WaitVisible("tr.marked"), chromedp.WaitNotPresent("[role=dialog]"))
}

// Light and dark can be set, by keyboard too.
func (s screen) appearance(t *testing.T) {
	ground := func() string { return s.evaluate(t, "getComputedStyle(document.body).backgroundColor") }
	before := ground()
	s.do(t, chromedp.Focus("#appearance [tabindex]"), chromedp.KeyEvent("\r"))
	eventually(t, "the choices are there", func() bool { return s.count(t, ".n-base-select-option") == 3 })
	s.do(t, chromedp.KeyEvent(kb.ArrowDown), chromedp.KeyEvent(kb.ArrowDown), chromedp.KeyEvent("\r"))
	eventually(t, "it is dark", func() bool { return ground() != before })
	assert.Contains(t, s.text(t, "#appearance"), "dark")
}

func (s screen) signOut(t *testing.T) {
	s.do(t, chromedp.Click(".foot button"), chromedp.WaitVisible("#token"))
}
