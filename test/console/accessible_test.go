package console

import (
	"context"
	"fmt"
	"os"
	"strings"

	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/test/browser"
)

// accessible holds every page to the rules of axe-core, in both looks and in the sizes that people
// have, and to that it does not scroll sideways.
func accessible(p page, central, gateway string) {
	axe, err := os.ReadFile("../../web/node_modules/axe-core/axe.min.js")
	require.NoError(p.t, err)
	pages := map[string]string{
		central + "/": `document.querySelector("[data-series]")`,
		trends(central, "last=1d&head=stony-beck/raceway-4/oxygen|gauge", "chart:stony-beck/+/oxygen",
			"states:stony-beck/+/aerator", "bearing:long-mere/mast/wind_direction", "growth:alder-weir/pump-1/energy",
			"coverage:stony-beck/+/oxygen"): `document.querySelectorAll("[data-row]").length > 12`,
		central + "/?view=happened&last=24h":                 `document.querySelector("[data-happened-row] svg path")`,
		central + "/trends":                                  `document.querySelector("main h1")`,
		central + "/boards":                                  `document.querySelector("[data-board]")`,
		central + "/boards/place?about=stony-beck":           `document.querySelectorAll("[data-row]").length > 6`,
		central + "/boards/place?about=stony-beck&edit=yes":  `document.querySelector("[aria-label=Editing]") && document.querySelector("[data-row]")`,
		central + "/series?path=stony-beck/raceway-4/oxygen": `document.querySelector("[data-mean-day]") && document.querySelector("[data-distribution]") && document.querySelector("[data-year]")`,
		central + "/notes":                                   `document.querySelector("main h1")`,
		gateway + "/links":                                   `document.querySelector("[data-days]")`,
		gateway + "/rejects":                                 `document.querySelector("[data-reject]")`,
		gateway + "/field":                                   `document.querySelector("main h1")`,
		central + "/access":                                  `document.querySelector("main h1")`,
		central + "/wall?board=of:stony-beck":                `document.querySelector("[data-wall] h1")`,
	}
	for address, shown := range pages {
		p.do(browser.Size(1280, 900), chromedp.Navigate(address))
		p.until(shown)
		p.do(script(string(axe)))
		for _, look := range []string{"light", "dark"} {
			for _, width := range []int64{390, 1280, 2560} {
				name := fmt.Sprintf("%s, %s, %d px", address[strings.LastIndex(address, "127"):], look, width)
				p.do(browser.Size(width, 900))
				p.until(fmt.Sprintf(`((document.documentElement.dataset.theme = %q, dispatchEvent(new Event("themechange"))), new Promise((done) => requestAnimationFrame(() => requestAnimationFrame(done))), true)`,
					look))
				p.until(shown)
				p.until(`!document.querySelector("main [aria-busy=true]")`)
				if !strings.Contains(address, "/wall") { // nobody holds a wall in his hand
					p.until(fmt.Sprintf(`document.documentElement.scrollWidth <= %d`, width)) // else it is too wide: name
					if width == 390 {
						assert.LessOrEqual(p.t, p.number(`document.querySelector("header").offsetHeight`), 96.0,
							"the head of "+name)
					}
				}
				p.until(`((window.found = undefined, axe.run(document, { resultTypes: ["violations"], rules: { "target-size": { enabled: true } } }).then((r) => { window.found = r.violations.map((v) => v.id + ": " + v.nodes.slice(0, 3).map((n) => n.html.slice(0, 160)).join(" | ")) })), true)`)
				p.until(`window.found`)
				assert.Empty(p.t, p.text(`window.found.join("\n")`), name)
			}
		}
	}
	p.do(browser.Size(390, 900), browser.Dark(true), chromedp.Navigate(central+"/"))
	p.until(`document.querySelector("[data-series]")`)
	assert.Equal(p.t, "rgb(19, 27, 29)", p.text(`getComputedStyle(document.body).backgroundColor`),
		"dark before the first picture, where the system is")
}

// script runs one in the page.
func script(text string) chromedp.Action[chromedp.Void] {
	return func(ctx context.Context, t *chromedp.Target) (chromedp.Void, error) {
		_, err := chromedp.Evaluate[*runtime.RemoteObject](text)(ctx, t)
		return chromedp.Void{}, err
	}
}
