package console

import (
	"bytes"
	"context"
	"fmt"

	"github.com/chromedp/cdproto/cdp"
	devtools "github.com/chromedp/cdproto/page"
	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"

	"nexocumula/test/browser"
)

// paper prints the page, and is what an expression comes to when the browser begins to lay the paper out.
func (p page) paper(expression string) string {
	p.t.Helper()
	p.until(fmt.Sprintf(`(addEventListener("beforeprint", () => { window.onPaper = String(%s) }, { once: true }), true)`,
		expression))
	p.do(func(ctx context.Context, t *chromedp.Target) (chromedp.Void, error) {
		made, err := cdp.Call(ctx, t, devtools.PrintToPDF, devtools.PrintToPDFParams{})
		if err == nil {
			assert.True(p.t, bytes.HasPrefix(made.Data, []byte("%PDF")))
		}
		return chromedp.Void{}, err
	})
	return p.text(`window.onPaper`)
}

// printed puts pages on paper, which has all that a screen shows as one scrolls, in light colours.
func printed(p page, central string) {
	p.do(browser.Size(390, 500), browser.Dark(true), chromedp.Navigate(central))
	defer p.do(browser.Dark(false), browser.Size(1280, 800))
	p.until(`document.querySelectorAll("[data-station]").length > 3`)
	const sheets = `document.querySelectorAll("[data-station]").length`
	p.until(`(window.stations ??= (fetch("/api/v1/series").then((a) => a.json()).then((a) => { window.stations = new Set(a.series.map((s) => s.path).filter((s) => !s.endsWith("/quality")).map((s) => s.slice(0, s.lastIndexOf("/")))).size }), 0)) > 0`)
	all := p.number(`window.stations`)
	assert.Less(p.t, p.number(sheets), all, "the screen draws what is in sight")
	assert.Equal(p.t, fmt.Sprintf("%v of 44rem, light", all),
		p.paper(sheets+` + " of " + document.body.clientWidth / parseFloat(getComputedStyle(document.documentElement).fontSize) + "rem, " + document.documentElement.dataset.theme`))
	assert.Equal(p.t, "dark", p.text(`document.documentElement.dataset.theme`), "the screen is as it was")
	assert.Less(p.t, p.number(sheets), all)

	p.do(browser.Size(1280, 800),
		chromedp.Navigate(trends(central, "last=1d", "chart:stony-beck/+/oxygen",
			"states:stony-beck/raceway-4/aerator")))
	p.until(`document.querySelectorAll("[data-row]").length === 7 && document.querySelector("canvas")`)
	const drawn = `document.querySelector("[data-chart] .uplot").clientWidth`
	assert.Equal(p.t, "true 7 3",
		p.paper(`(`+drawn+` <= document.body.clientWidth) + " " + document.querySelectorAll("[data-row]").length + " " + [...document.querySelectorAll("[data-lane] [data-picture]")].filter((e) => !e.closest("[data-plot]")).length`),
		"fits, with its figures, and a time axis for each lane as there are many sheets")
	p.until(drawn + ` > 704 && ` + drawn + ` === ` + axis + `.clientWidth`) // as on the screen again
	assert.True(p.t,
		p.is(`document.querySelectorAll("[data-lane] [data-picture]").length === document.querySelectorAll("[data-plot] [data-picture]").length`))

	p.do(browser.OnPaper(true))
	shown := func(place string) bool {
		return p.is(fmt.Sprintf(`((e) => e && getComputedStyle(e).display !== "none" && e.offsetParent)(document.querySelector(%q))`,
			place))
	}
	assert.False(p.t, shown("header"), "nobody presses on paper")
	assert.False(p.t, shown("[role=group][aria-label=Time]"))
	assert.False(p.t, shown("main button[aria-haspopup]"))
	assert.True(p.t, shown("[data-lane=chart]"))
	assert.True(p.t, shown("[data-says]"), "paper says its zone and its windows too")
	p.do(browser.OnPaper(false))
}
