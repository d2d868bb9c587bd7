package test

import (
	"context"
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gerastic/test/browser"
)

// TestTheJavaScriptClientInABrowser: it fills a fragment once, and finds it again.
func TestTheJavaScriptClientInABrowser(t *testing.T) {
	limit, cancel := context.WithTimeout(ctx, time.Minute)
	defer cancel()
	tab, end, err := browser.Start(limit, 1280, 800)
	require.NoError(t, err, "Chromium is needed; run: make browser")
	defer end()
	control, err := url.Parse(company.Node.ControlURL())
	require.NoError(t, err)
	site := http.NewServeMux() // as a site may give its pages the calls under its own name
	site.Handle("/v1/", &httputil.ReverseProxy{Rewrite: func(p *httputil.ProxyRequest) { p.SetURL(control) }})
	site.Handle("/clients/", http.StripPrefix("/clients/", http.FileServer(http.Dir("../clients/js"))))
	site.HandleFunc("/", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/html")
		fmt.Fprintf(w, `<!doctype html><p id="said"></p><script type="module">
			import { Fragments } from "/clients/gerastic.js"
			try {
			const g = new Fragments({ control: location.origin, token: %q, namespace: "browser", timeout: 5000 })
			let fills = 0
			const get = () => g.loadOrFill({ name: "card", parts: [Date.now() > 0], lifetime: 3600 }, async () => {
				await new Promise((soon) => setTimeout(soon, 50)) // what costs nothing is the first to make room
				return "made " + ++fills
			})
			const all = await Promise.all([get(), get()])
			document.getElementById("said").textContent = [...all, await get(), fills].join(", ")
			} catch (e) { document.getElementById("said").textContent = String(e) }
			</script>`, company.Token)
	})
	server := httptest.NewServer(site)
	defer server.Close()
	require.NoError(t, chromedp.Do(tab, chromedp.Navigate(server.URL+"/")))
	said := ""
	eventually(t, "the client says nothing", func() bool {
		said, err = chromedp.Run(tab, chromedp.Evaluate[string](`document.getElementById("said").textContent`))
		return err == nil && said != ""
	})
	assert.Equal(t, "made 1, made 1, made 1, 1", said)
}
