package browser

import (
	"context"
	"os"

	"github.com/chromedp/chromedp"
)

// Start starts a browser with a profile of its own. end stops it and removes the profile.
func Start(ctx context.Context, width, height int) (tab context.Context, end func(), err error) {
	profile, err := os.MkdirTemp("", "gerastic-chromium-")
	if err != nil {
		return nil, nil, err
	}
	options := []chromedp.ExecAllocatorOption{
		chromedp.NoFirstRun, chromedp.Headless, chromedp.NoSandbox, chromedp.DisableGPU,
		chromedp.Flag("disable-quic", true), chromedp.Flag("disable-background-networking", true),
		chromedp.Flag("disable-component-update", true), chromedp.Flag("disable-sync", true),
		chromedp.Flag("disable-dev-shm-usage", true), chromedp.Flag("hide-scrollbars", true),
		chromedp.UserDataDir(profile), chromedp.WindowSize(width, height),
	}
	allocator, stop := chromedp.NewExecAllocator(ctx, options...)
	tab, closeTab := chromedp.NewContext(allocator)
	end = func() {
		closeTab()
		stop()
		_ = os.RemoveAll(profile)
	}
	if err := chromedp.Do(tab, chromedp.EmulateViewport(int64(width), int64(height))); err != nil {
		end()
		return nil, nil, err
	}
	return tab, end, nil
}
