// Screenshots takes the pictures of the documentation from a running demo.
//
//	go run ./test/screenshots CONTROL-URL TOKEN DIRECTORY
package main

import (
	"context"
	"fmt"
	"log"
	"os"
	"path/filepath"
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
	steps := []struct {
		name    string
		actions []chromedp.Action[chromedp.Void]
	}{
		{"sign-in", []chromedp.Action[chromedp.Void]{open("/"), appearance("light"), open("/"), chromedp.WaitVisible("#token")}},
		{"overview", []chromedp.Action[chromedp.Void]{chromedp.SendKeys("#token", token), chromedp.Click("button[type=submit]"), chromedp.WaitVisible("#hit-ratio"), chromedp.WaitVisible("canvas")}},
		{"routes", []chromedp.Action[chromedp.Void]{open("/routes"), chromedp.WaitVisible("tbody td.switch")}},
		{"purge", []chromedp.Action[chromedp.Void]{open("/purge?tag=port%3Atholm"), chromedp.WaitVisible("#history tbody td")}},
		{"overview-dark", []chromedp.Action[chromedp.Void]{appearance("dark"), open("/"), chromedp.WaitVisible("canvas")}},
		{"routes-dark", []chromedp.Action[chromedp.Void]{open("/routes"), chromedp.WaitVisible("tbody td.switch")}},
		{"purge-dark", []chromedp.Action[chromedp.Void]{open("/purge?tag=port%3Atholm"), chromedp.WaitVisible("#history tbody td")}},
	}
	for _, s := range steps {
		if err := chromedp.Do(tab, append(s.actions, chromedp.Sleep(1500*time.Millisecond))...); err != nil {
			return fmt.Errorf("%s: %w", s.name, err)
		}
		picture, err := chromedp.Run(tab, chromedp.CaptureScreenshot())
		if err != nil {
			return fmt.Errorf("%s: %w", s.name, err)
		}
		if err := os.WriteFile(filepath.Join(dir, s.name+".png"), picture, 0o644); err != nil {
			return err
		}
	}
	return nil
}
