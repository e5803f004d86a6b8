package console

import (
	"net/url"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
)

// fetched: a central draws summaries, and on request the readings, which it fetches from the gateway; both ends are compared.
func fetched(p page, central, gateway string) {
	begin := time.Now().UTC().Add(-4 * time.Hour).Truncate(time.Hour)
	at := url.Values{
		"lane": {"chart:stony-beck/raceway-4/oxygen"}, "from": {begin.Format(time.RFC3339)}, "to": {begin.Add(20 * time.Minute).Format(time.RFC3339)},
	}
	p.do(chromedp.Navigate(central + "/trends?" + at.Encode()))
	p.until(`document.querySelector("[data-fetch] button")`)
	assert.NotContains(p.t, p.text(lane(0)+`.innerText`), "the readings themselves")
	p.do(chromedp.Evaluate[chromedp.Void](`document.querySelector("[data-fetch] button").click()`))
	p.until(lane(0) + `.innerText.includes("the readings themselves")`)
	p.until(lane(0) + `.querySelector("[data-row]")`)
	assert.False(p.t, p.is(`!!document.querySelector("[data-fetch]")`))

	p.do(chromedp.Navigate(central + "/links"))
	p.until(`document.querySelector("section[aria-label=Requests]")?.innerText.includes("readings")`)
	p.do(chromedp.Evaluate[chromedp.Void](`[...document.querySelectorAll("section[aria-label='from alder-weir'] button")].find((b) => b.textContent === "Compare both ends").click()`))
	p.until(`document.querySelector("section[aria-label=Requests]").innerText.includes("0 different")`)

	p.do(chromedp.Navigate(gateway + "/links"))
	p.until(`[...document.querySelectorAll("button")].some((b) => b.textContent === "Compare both ends")`)
	p.do(chromedp.Evaluate[chromedp.Void](`[...document.querySelectorAll("button")].find((b) => b.textContent === "Compare both ends").click()`))
	p.until(`[...document.querySelectorAll("[role=status]")].some((s) => s.innerText.includes("records equal, 0 different"))`)
}
