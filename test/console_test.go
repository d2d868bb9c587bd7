package test

import (
	"context"
	"fmt"
	"io/fs"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gerastic/console"
	"gerastic/test/browser"
)

// TestConsole drives the console in a real browser: sign in, see the figures change
// after visits, switch a route, purge a tag, see its history.
func TestConsole(t *testing.T) {
	_, err := fs.Stat(console.Files(), "index.html")
	require.NoError(t, err, "the console is not built; run: make build")
	limit, cancel := context.WithTimeout(ctx, 2*time.Minute)
	defer cancel()
	tab, end, err := browser.Start(limit, 1280, 800)
	require.NoError(t, err, "Chromium is needed; run: make browser")
	defer end()
	control := company.Node.ControlURL()
	do := func(actions ...chromedp.Action[chromedp.Void]) {
		t.Helper()
		step, stop := context.WithTimeout(tab, 20*time.Second)
		defer stop()
		require.NoError(t, chromedp.Do(step, actions...))
	}
	text := func(selector string) string {
		t.Helper()
		step, stop := context.WithTimeout(tab, 20*time.Second)
		defer stop()
		s, err := chromedp.Run(step, chromedp.Text(selector))
		require.NoError(t, err, selector)
		return s
	}
	evaluate := func(script string) string {
		t.Helper()
		v, err := chromedp.Run(tab, chromedp.Evaluate[any](script))
		require.NoError(t, err, script)
		return fmt.Sprint(v)
	}

	// A wrong token is refused in words; the right one leads to where one wanted to go.
	do(chromedp.Navigate(control+"/purge"), chromedp.WaitVisible("#token"), chromedp.SendKeys("#token", "guess"), chromedp.Click("button[type=submit]"), chromedp.WaitVisible("[role=alert]"))
	assert.Contains(t, text("[role=alert]"), "admin.token")
	do(chromedp.SendKeys("#token", "\b\b\b\b\b"+company.Token), chromedp.Click("button[type=submit]"), chromedp.WaitVisible("#history"))
	assert.Equal(t, "", evaluate("document.cookie"), "scripts cannot read the session")
	assert.NotContains(t, evaluate("JSON.stringify({...localStorage, ...sessionStorage})"), "ger_")

	// The figures move with the visitors, without a click.
	do(chromedp.Navigate(control+"/?since=7d"), chromedp.WaitVisible("#requests .value"), chromedp.WaitVisible("canvas"))
	requests := func() int {
		var n int
		_, _ = fmt.Sscan(strings.Map(func(r rune) rune {
			if r >= '0' && r <= '9' {
				return r
			}
			return -1
		}, text("#requests .value")), &n)
		return n
	}
	before := requests()
	for range 25 {
		visit(t, "/vessels/6")
	}
	eventually(t, "the overview counts the visits", func() bool { return requests() >= before+25 })
	assert.Regexp(t, `\d+\.\d %`, text("#hit-ratio .value"))
	assert.Equal(t, "2", evaluate("document.querySelectorAll('canvas').length"))
	assert.Equal(t, "true", evaluate("document.documentElement.scrollWidth <= 1280"))

	// A route is switched off and on.
	do(chromedp.Navigate(control+"/routes"), chromedp.WaitVisible(`[aria-label="Cache vessel"]`), chromedp.Click(`[aria-label="Cache vessel"]`))
	eventually(t, "the route is off", func() bool { return !visit(t, "/vessels/6").hit() })
	do(chromedp.WaitVisible(`[aria-label="Cache vessel"][aria-checked=false]`), chromedp.Click(`[aria-label="Cache vessel"]`))
	eventually(t, "the route is on, and has what it had", func() bool { return visit(t, "/vessels/6").hit() })
	assert.Equal(t, "true", evaluate("document.documentElement.scrollWidth <= 1280"))

	// A tag is completed, previewed, purged with a reason, and stands in the history.
	do(chromedp.Navigate(control+"/purge"), chromedp.WaitVisible("#tag"), chromedp.SendKeys("#tag", "vessel:"))
	eventually(t, "the tag is completed", func() bool {
		return strings.Contains(evaluate("document.querySelector('.n-auto-complete-menu')?.textContent"), "vessel:6")
	})
	do(chromedp.SendKeys("#tag", "6"), chromedp.SendKeys("#tag", "\r"), chromedp.WaitVisible("#would-go"))
	assert.Contains(t, text("#would-go"), "entr")
	assert.Contains(t, text("#carry-out"), "Drop ", "the button says what will go")
	assert.True(t, visit(t, "/vessels/6").hit(), "looking changed nothing")
	do(chromedp.SendKeys("#reason", "new paint"), chromedp.Click("#carry-out"), chromedp.WaitVisible("#done"))
	assert.Contains(t, text("#done"), "dropped, in force on demo")
	assert.False(t, visit(t, "/vessels/6").hit())
	eventually(t, "the history shows it", func() bool {
		h := text("#history tbody tr")
		return strings.Contains(h, "vessel:6") && strings.Contains(h, "new paint") && strings.Contains(h, "admin")
	})

	do(chromedp.Click("#history tbody button"), chromedp.WaitVisible("#history tr.detail"))
	assert.Contains(t, text("#history tr.detail"), "counted and freed after")

	visit(t, "/vessels/4")
	visit(t, "/vessels/5")
	// A star is spelled out; what is named otherwise is shown before it goes, too.
	do(chromedp.Navigate(control+"/purge"), chromedp.WaitVisible("#tag"), chromedp.SendKeys("#tag", "vessel:*"), chromedp.SendKeys("#tag", "\r"))
	eventually(t, "the star stands for the tags that are stored", func() bool {
		return strings.Count(evaluate("document.querySelector('.chosen')?.textContent"), "vessel:") > 1
	})
	visit(t, "/vessels/6")
	do(chromedp.Click(".kinds label:nth-child(4)"), chromedp.WaitNotPresent(".chosen"), chromedp.SendKeys("#tag", "/vessels/6"), chromedp.SendKeys("#tag", "\r"), chromedp.WaitVisible("#would-go"))
	assert.Contains(t, text(".preview"), "/vessels/6")
	assert.True(t, visit(t, "/vessels/6").hit())

	// Tags with what carries them, and where each came from.
	do(chromedp.Navigate(control+"/tags"), chromedp.WaitVisible("#prefix"), chromedp.SendKeys("#prefix", "vessel:6"))
	eventually(t, "the tag is found, with its last purge", func() bool {
		row := text("#tags tbody")
		return strings.Contains(row, "vessel:6") && strings.Contains(row, "by admin") && !strings.Contains(row, "vessel:5")
	})
	do(chromedp.Click("#tags tbody button"), chromedp.WaitVisible("#carrying tbody td.tags"))
	assert.Contains(t, text("#carrying"), "origin")
	assert.Contains(t, text("#carrying"), "vessel:6")
	assert.Equal(t, "true", evaluate("document.documentElement.scrollWidth <= 1280"))

	// What a page is made of, and what a purge of one piece would take.
	visit(t, "/ports/norrisay")
	do(chromedp.Navigate(control+"/fragments"), chromedp.WaitVisible("#names tbody td"), chromedp.SendKeys("#of", "/ports/norrisay"), chromedp.SendKeys("#of", "\r"), chromedp.WaitVisible("#made tbody tr:nth-child(4)"))
	assert.Contains(t, text("#names"), "site/card")
	assert.Contains(t, text("#made"), `site/board("norrisay")`)
	evaluate("[...document.querySelectorAll('#made .tag')].find((b) => b.textContent.startsWith('vessel:')).click()")
	eventually(t, "what would go is marked", func() bool {
		return strings.Contains(evaluate("document.querySelector('[role=status]')?.textContent"), "the others stay as they are")
	})
	marked, all := 0, 0
	_, _ = fmt.Sscan(evaluate("document.querySelectorAll('#made tr.touched').length"), &marked)
	_, _ = fmt.Sscan(evaluate("document.querySelectorAll('#made tbody tr').length"), &all)
	assert.GreaterOrEqual(t, marked, 4, "page, board, row and card")
	assert.Less(t, marked, all, "the port's card and the weather stay")
	do(chromedp.Navigate(control+"/fragments?of=site/none"), chromedp.WaitVisible(".problem"))
	assert.Contains(t, text(".problem"), "no fragment site/none is stored here")
	assert.Equal(t, "true", evaluate("document.documentElement.scrollWidth <= 1280"))

	// The panel on a page, for those who carry a token; without one there is none.
	do(chromedp.Navigate(company.Node.EdgeURL()+"/ports/norrisay"), chromedp.WaitVisible(".board"))
	assert.Equal(t, "0", evaluate("document.querySelectorAll('.pieces').length"))
	do(chromedp.Navigate(company.Node.EdgeURL()+"/#explain="+company.Token), chromedp.WaitVisible(".pieces td"))
	assert.Contains(t, text(".pieces"), "/pieces/departures")
	assert.NotContains(t, evaluate("location.href"), company.Token)
	do(chromedp.Click(".pieces button"), chromedp.WaitNotPresent(".pieces"))

	// Sources and runs; a rule is tried; a table is read now.
	do(chromedp.Navigate(control+"/changes"), chromedp.WaitVisible(`[aria-label="Run timetable now"]`), chromedp.Click("#try"), chromedp.WaitVisible("#effects li"))
	assert.Contains(t, text("#effects"), "departures:tholm, sailings-of:3, departures:saltern")
	runs := evaluate("document.querySelectorAll('#runs tbody tr').length")
	do(chromedp.Click(`[aria-label="Run timetable now"]`))
	eventually(t, "the run is in the log", func() bool {
		return strings.Contains(evaluate("document.querySelector('#runs tbody')?.textContent"), "asked")
	})
	assert.NotEqual(t, "0", runs)
	assert.Contains(t, text("#sources"), "replication")
	assert.Equal(t, "true", evaluate("document.documentElement.scrollWidth <= 1280"))

	// Requests are followed as they are answered, filtered; findings say that there are none.
	do(chromedp.Navigate(control+"/live?outcome=hit&path=/vessels"), chromedp.WaitVisible("#live"))
	visit(t, "/vessels/5")
	eventually(t, "a hit appears", func() bool {
		visit(t, "/fares")
		visit(t, "/vessels/5")
		return strings.Contains(text("#live tbody"), "/vessels/5")
	})
	assert.NotContains(t, text("#live tbody"), "/fares")
	do(chromedp.Navigate(control+"/findings"), chromedp.WaitVisible("#findings tbody td"))
	assert.Contains(t, text("#findings"), "Nothing was found")

	// By keyboard: the slash finds a route; light and dark can be set.
	do(chromedp.Navigate(control+"/"), chromedp.WaitVisible("#hit-ratio"), chromedp.KeyEvent("/"), chromedp.WaitVisible("[role=dialog] input"), chromedp.SendKeys("[role=dialog] input", "departures"), chromedp.WaitVisible("[role=dialog] li.chosen"))
	eventually(t, "the route is found", func() bool { return strings.Contains(text("[role=dialog] ul"), "/ports/{port}/departures") })
	do(chromedp.SendKeys("[role=dialog] input", "\r"), chromedp.WaitVisible("tr.marked"), chromedp.WaitNotPresent("[role=dialog]"))
	ground := evaluate("getComputedStyle(document.body).backgroundColor")
	evaluate("(() => { const s = document.querySelector('#appearance'); s.value = 'dark'; s.dispatchEvent(new Event('change')) })()")
	eventually(t, "it is dark", func() bool { return evaluate("getComputedStyle(document.body).backgroundColor") != ground })
	do(chromedp.Click(".foot button"), chromedp.WaitVisible("#token"))
}
