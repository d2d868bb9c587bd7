// Screenshots takes the pictures of the documentation from a running demo.
//
//	go run ./test/screenshots CONTROL-URL TOKEN DIRECTORY
package main

import (
	"context"
	"encoding/base64"
	"fmt"
	"html"
	"log"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"github.com/chromedp/chromedp"

	"gerastic/test/browser"
)

func main() {
	if len(os.Args) != 4 {
		log.Fatal("usage: screenshots CONTROL-URL TOKEN DIRECTORY")
	}
	if err := take(os.Args[1], os.Args[2], os.Args[3]); err != nil {
		log.Fatal(err)
	}
}

func take(control, token, dir string) error {
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Minute)
	defer cancel()
	tab, end, err := browser.Start(ctx, 1280, 800)
	if err != nil {
		return fmt.Errorf("starting Chromium: %w", err)
	}
	defer end()
	appearance := func(choice string) chromedp.Action[chromedp.Void] {
		return func(ctx context.Context, t *chromedp.Target) (chromedp.Void, error) {
			_, err := chromedp.Evaluate[any]("localStorage.setItem('appearance', '"+choice+"')")(ctx, t)
			return chromedp.Void{}, err
		}
	}
	open := func(path string) chromedp.Action[chromedp.Void] { return chromedp.Navigate(control + path) }
	steps := []step{
		{"sign-in", []chromedp.Action[chromedp.Void]{open("/"), appearance("light"), open("/"), chromedp.WaitVisible("#token")}},
		{"overview", []chromedp.Action[chromedp.Void]{chromedp.SendKeys("#token", token), chromedp.Click("button[type=submit]"), chromedp.WaitVisible("#hit-ratio"), chromedp.WaitVisible("canvas")}},
		{"routes", []chromedp.Action[chromedp.Void]{open("/routes"), chromedp.WaitVisible("tbody .switch")}},
		{"live", []chromedp.Action[chromedp.Void]{open("/live"), chromedp.WaitVisible("#live tbody tr:nth-child(15)")}},
		{"live-fragments", []chromedp.Action[chromedp.Void]{open("/live?of=fragments"), chromedp.WaitVisible("#live tbody tr:nth-child(15)")}},
		{"savings", []chromedp.Action[chromedp.Void]{open("/savings?since=15m"), chromedp.WaitVisible("#savings tbody tr:nth-child(9)")}},
		{"findings", []chromedp.Action[chromedp.Void]{open("/findings"), chromedp.WaitVisible("#findings .empty, #findings tbody td")}},
		{"purge", []chromedp.Action[chromedp.Void]{open("/purge?tag=port%3Atholm"), chromedp.WaitVisible("#history tbody tr")}},
		{"store", []chromedp.Action[chromedp.Void]{open("/store?since=15m"), chromedp.WaitVisible("#size canvas"), chromedp.WaitVisible("#primes tbody progress")}},
		{"entries", []chromedp.Action[chromedp.Void]{open("/entries"), chromedp.WaitVisible("#list tbody tr:nth-child(9)"), chromedp.Click("#list tbody tr:nth-child(2) .url"), chromedp.WaitVisible("#entry .acts")}},
		{"tags", []chromedp.Action[chromedp.Void]{open("/tags?tag=vessel%3A3"), chromedp.WaitVisible("#carrying tbody td")}},
		{"fragments", []chromedp.Action[chromedp.Void]{open("/fragments?of=%2Fports%2Ftholm&tag=vessel%3A3"), chromedp.WaitVisible("#made tbody tr:nth-child(9)")}},
		{"changes", []chromedp.Action[chromedp.Void]{open("/changes"), chromedp.WaitVisible("#runs tbody tr:nth-child(5)"), chromedp.Click("#try"), chromedp.WaitVisible("#effects li")}},
		{"ferries", []chromedp.Action[chromedp.Void]{chromedp.Navigate("http://127.0.0.1:8480/ports/tholm"), chromedp.WaitVisible(".board")}},
		{"panel", []chromedp.Action[chromedp.Void]{chromedp.Navigate("http://127.0.0.1:8480/ports/saltern#explain=" + token), chromedp.WaitVisible(".parts td")}},
		{"overview-dark", []chromedp.Action[chromedp.Void]{open("/"), appearance("dark"), open("/"), chromedp.WaitVisible("canvas")}},
	}
	for _, name := range []string{"explain", "report", "parts"} {
		page, err := terminal(name, control, token)
		if err != nil {
			return err
		}
		steps = append(steps, step{name, []chromedp.Action[chromedp.Void]{chromedp.Navigate(page), chromedp.WaitVisible("pre")}})
	}
	return capture(tab, steps, dir)
}

// step is a picture, and what leads to it.
type step struct {
	name    string
	actions []chromedp.Action[chromedp.Void]
}

func capture(tab context.Context, steps []step, dir string) error {
	for _, s := range steps {
		if err := chromedp.Do(tab, append(s.actions, chromedp.Sleep(1500*time.Millisecond))...); err != nil {
			return fmt.Errorf("%s: %w", s.name, err)
		}
		shot := chromedp.CaptureScreenshot()
		if s.name == "explain" || s.name == "report" || s.name == "parts" {
			shot = chromedp.Screenshot("pre")
		}
		picture, err := chromedp.Run(tab, shot)
		if err != nil {
			return fmt.Errorf("%s: %w", s.name, err)
		}
		if err := os.WriteFile(filepath.Join(dir, s.name+".png"), picture, 0o644); err != nil {
			return err
		}
	}
	return nil
}

// terminal runs a command and returns a page that shows it as a terminal would.
func terminal(name, control, token string) (string, error) {
	args := map[string][]string{
		"explain": {"explain", "http://127.0.0.1:8480/ports/tholm/departures?page=2&utm_source=letter", "-H", "Cookie: theme=dark"},
		"report":  {"report", "ratio", "--since", "15m"},
		"parts":   {"fragments", "list", "--since", "15m"},
	}[name]
	command := exec.Command("bin/gerastic", append(args, "--control", control)...)
	command.Env = append(os.Environ(), "GERASTIC_TOKEN="+token)
	out, err := command.Output()
	if err != nil {
		return "", fmt.Errorf("%s: %w", name, err)
	}
	for i, a := range args {
		if strings.ContainsAny(a, "?& ") {
			args[i] = "'" + a + "'"
		}
	}
	text := "$ gerastic " + strings.Join(args, " ") + "\n" + string(out)
	page := `<meta charset=utf-8><body style="margin:0;background:#12171B"><pre style="color:#E4E9EC;background:#12171B;margin:0;width:1248px;font:13px/1.5 'DejaVu Sans Mono',monospace;padding:16px">` + html.EscapeString(text) + `</pre>`
	return "data:text/html;base64," + base64.StdEncoding.EncodeToString([]byte(page)), nil
}
