package console

import (
	"fmt"
	"net/url"
	"time"

	"github.com/chromedp/cdproto/input"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/client"
)

// trends returns the address of lanes.
func trends(at, rest string, lanes ...string) string {
	v := url.Values{"lane": lanes}
	return at + "/trends?" + v.Encode() + "&" + rest
}

// lane returns the one with a place in the page.
func lane(i int) string {
	return fmt.Sprintf(`(document.querySelectorAll("[data-lane]")[%d] ?? document.createElement("p"))`, i)
}

const axis = `document.querySelector("[data-axis]")`

func picked(p page, central string) {
	p.do(chromedp.Navigate(central + "/trends"))
	p.until(`document.querySelector("main h1")?.innerText === "Trends"`)
	p.do(chromedp.Focus(chromedp.CSS("main button[aria-haspopup=dialog]")), chromedp.KeyEvent("\r"))
	p.until(`document.querySelectorAll("[role=checkbox]").length >= 54`)
	p.until(`document.activeElement.type === "search"`)
	p.do(chromedp.KeyEvent("silo"))
	p.until(`document.querySelectorAll("[role=checkbox]").length === 1`)
	p.do(chromedp.KeyEvent("\t"), chromedp.KeyEvent(" "))
	p.until(`document.querySelector("[role=checkbox]").dataset.state === "checked"`)
	p.do(chromedp.KeyEvent("\t"), chromedp.KeyEvent("\r"))
	p.until(`location.search.includes("silo-1%2Ffeed") && document.querySelector("[data-lane=chart] canvas")`)
	// And the time axis, by its own keys.
	p.until(`(` + axis + `.focus(), document.activeElement === ` + axis + `)`)
	p.do(chromedp.KeyEvent(kb.ArrowLeft))
	p.until(axis + `.getAttribute("aria-valuetext").includes("20")`)
	at := p.text(axis + `.getAttribute("aria-valuenow")`)
	p.do(chromedp.KeyEvent(kb.ArrowLeft))
	p.until(axis + `.getAttribute("aria-valuenow") !== "` + at + `"`)
	p.do(chromedp.KeyEvent("+"))
	p.until(`location.search.includes("from=")`)
	p.do(chromedp.KeyEvent("n"))
	p.until(`document.querySelector("[role=dialog]")?.innerText.includes("Pin a note")`)
	p.do(chromedp.KeyEvent("\u001b"))
	p.until(`!document.querySelector("[role=dialog]")`)
}

// mouse moves or presses over a lane, at a share of its width.
func (p page) mouse(kind input.DispatchMouseEventType, i int, share float64) {
	p.t.Helper()
	at := func(script string) float64 {
		return p.number(`(() => { const box = ` + lane(i) + `.querySelector("[data-plot]").getBoundingClientRect(); return ` + script + ` })()`)
	}
	p.do(chromedp.MouseEvent(kind, at(fmt.Sprintf("box.left + %v * box.width", share)),
		at("box.top + Math.min(box.height, innerHeight - box.top) / 2"), chromedp.ButtonLeft))
}

func lanes(p page, central string) {
	p.do(chromedp.Navigate(trends(central, "last=1d", "chart:stony-beck/+/oxygen",
		"states:stony-beck/raceway-4/aerator")))
	p.until(`document.querySelectorAll("[data-lane=chart] [data-row]").length === 6 && document.querySelector("[data-lane=states] [data-row]")`)
	figures := p.text(lane(0) + `.querySelector("[data-legend]").innerText`)
	for _, says := range []string{"raceway-1", "raceway-6", "mean", "lowest", "highest"} {
		assert.Contains(p.t, figures, says)
	}
	assert.Contains(p.t, p.text(lane(0)+".innerText"), "coverage", "a picture says what it stands on")
	assert.Equal(p.t, "mg/l", p.text(lane(0)+`.querySelector("[data-units]").textContent`))
	assert.Contains(p.t, p.text(`document.querySelector("[data-says]").innerText`), "Europe/Oslo")

	p.mouse(input.DispatchMouseEventTypeMouseMoved, 0, 0.5)
	p.until(`[...document.querySelectorAll("[data-cursor]")].filter((c) => c.style.display === "block").length >= 3`) // the axis, and every lane
	p.until(lane(1) + `.querySelector("[data-present]").innerText === "on"`)
	p.mouse(input.DispatchMouseEventTypeMousePressed, 0, 0.4)
	p.mouse(input.DispatchMouseEventTypeMouseMoved, 0, 0.5)
	p.mouse(input.DispatchMouseEventTypeMouseMoved, 0, 0.6)
	p.mouse(input.DispatchMouseEventTypeMouseReleased, 0, 0.6)
	p.until(`location.search.includes("from=") && !location.search.includes("last=")`)
	from, to := p.text(`new URL(location).searchParams.get("from")`), p.text(`new URL(location).searchParams.get("to")`)
	assert.Less(p.t, from, to)
	p.press("Zoom back")
	p.until(`location.search.includes("last=1d") && location.pathname === "/trends"`)

	// A bookmark of a zoomed range has nothing to go back to, and stays in the console.
	p.do(chromedp.Navigate(trends(central, url.Values{"from": {from}, "to": {to}}.Encode(),
		"chart:stony-beck/raceway-1/oxygen")))
	p.until(`document.querySelector("[data-row]")`)
	assert.False(p.t, p.is(`[...document.querySelectorAll("main button")].some((b) => b.innerText === "Zoom back")`))
	p.until(`(document.querySelector("button[aria-label='Zoom out']").click(), true)`)
	p.until(fmt.Sprintf(`new URL(location).searchParams.get("from") < %q`, from))

	// A click singles one out.
	p.do(chromedp.Navigate(trends(central, "last=1d", "chart:stony-beck/+/oxygen")))
	p.until(`((b) => b && (b.click(), true))(document.querySelector("[data-row='stony-beck/raceway-3/oxygen']"))`)
	p.until(`document.querySelector("[data-row='stony-beck/raceway-3/oxygen']").getAttribute("aria-pressed") === "true"`)
}

// choose takes something in a list.
func (p page) choose(label, value string) {
	p.t.Helper()
	p.until(fmt.Sprintf(`((s) => s && (Object.getOwnPropertyDescriptor(HTMLSelectElement.prototype, "value").set.call(s, %q), s.dispatchEvent(new Event("change", { bubbles: true })), true))([...document.querySelectorAll("select[aria-label='%s']")].find((s) => s.offsetParent))`,
		value, label))
}

func ranges(p page, central string) {
	p.do(chromedp.Navigate(trends(central, "last=6h", "chart:stony-beck/raceway-4/oxygen")))
	p.until(`document.querySelector("[data-row]")`)
	quick := func(name string) {
		p.until(`((b) => b && (b.click(), true))(document.querySelector("[data-range]"))`)
		p.until(fmt.Sprintf(`((b) => b && (b.click(), true))([...document.querySelectorAll("[role=dialog] button")].find((b) => b.innerText === %q))`,
			name))
	}
	quick("yesterday")
	p.until(`new URL(location).searchParams.get("range") === "yesterday" && !document.querySelector("[data-follows]")`)
	p.until(`document.querySelector("[data-range]").innerText.startsWith("yesterday")`)
	quick("past 3 d")
	p.until(`new URL(location).searchParams.get("last") === "3d" && document.querySelector("[data-follows]")`)
	p.choose("Windows", "1h")
	p.until(`document.querySelector("[data-says]").innerText.includes("1 h windows") && ` + lane(0) + `.innerText.includes("1 h windows")`)
	p.choose("Clocks of", "UTC")
	p.until(`document.querySelector("[data-says]").innerText.startsWith("UTC")`)
	// From and to by the clocks that are shown, and only the nights.
	p.until(`((b) => b && (b.click(), true))(document.querySelector("[data-range]"))`)
	now := time.Now().UTC()
	set := func(name, value string) {
		p.until(fmt.Sprintf(`((i) => i && (Object.getOwnPropertyDescriptor(HTMLInputElement.prototype, "value").set.call(i, %q), i.dispatchEvent(new Event("input", { bubbles: true })), true))(document.querySelector("[role=dialog] [name=%s]"))`,
			value, name))
	}
	from := now.Add(-36 * time.Hour).Truncate(time.Hour)
	set("from", now.Format("2006-01-02T15:04:05"))
	set("to", from.Format("2006-01-02T15:04:05"))
	p.until(`document.querySelector("[role=dialog]").innerText.includes("The second time has to be later")`)
	set("from", from.Format("2006-01-02T15:04:05"))
	set("to", now.Truncate(time.Hour).Format("2006-01-02T15:04:05"))
	set("hours", "22 to 6")
	p.until(`document.querySelector("[role=dialog]").innerText.includes("written like 22:00-06:00")`)
	set("hours", "22:00-06:00")
	p.until(`((b) => b && !b.disabled && (b.click(), true))([...document.querySelectorAll("[role=dialog] button")].find((b) => b.innerText === "Show"))`)
	p.until(fmt.Sprintf(`new URL(location).searchParams.get("from") === %q && document.querySelector("[data-says]").innerText.includes("only 22:00-06:00")`,
		from.Format("2006-01-02T15:04:05.000Z")))
	// Other stats of a window, percentiles among them.
	p.do(chromedp.Navigate(trends(central, "last=1d",
		`{"kind":"chart","series":["stony-beck/raceway-4/oxygen"],"stat":"p95~","draw":"steps","no_band":true,"join":true}`)))
	p.until(`document.querySelector("[data-legend]")?.innerText.includes("p95~")`)
}

func laneKinds(p page, central string) {
	p.do(chromedp.Navigate(trends(central, "last=1d", "growth:alder-weir/pump-1/energy", "states:alder-weir/+/running", "bearing:long-mere/mast/wind_direction", "coverage:stony-beck/+/oxygen",
		`{"kind":"text","text":"See [the boards](/boards), not [this](javascript:alert(1))."}`)))
	p.until(lane(0) + `.querySelectorAll("svg rect").length > 20`)
	p.until(lane(1) + `.querySelectorAll("svg rect").length > 20 && ` + lane(1) + `.querySelector("[data-legend]").innerText.includes("running")`)
	p.until(lane(2) + `.querySelector("canvas") && ` + lane(2) + `.querySelector("[data-row]")`)
	p.until(lane(3) + `.querySelectorAll("svg rect").length >= 6`)
	for i, says := range [][]string{
		{"grew by", "an hour", "kWh"}, {"changes", "stopped", "running"}, {"vector mean", "steadiness", "°"},
		{"windows without data"},
	} {
		for _, text := range says {
			assert.Contains(p.t, p.text(lane(i)+".innerText"), text)
		}
	}
	assert.Equal(p.t, "/boards", p.text(lane(4)+`.querySelector("a").getAttribute("href")`))
	assert.True(p.t, p.is(lane(4)+`.querySelectorAll("a").length === 1`), "an address that runs is none")
	assert.NotContains(p.t, p.text(`document.querySelector("main").innerText`), "NaN")
	// Nothing is drawn on the axis of another unit.
	p.do(chromedp.Navigate(trends(central, "last=1d",
		"chart:stony-beck/raceway-4/oxygen,stony-beck/raceway-4/water_temp,long-mere/lake/level,alder-weir/pump-1/power,long-mere/buoy-1/battery")))
	p.until(lane(0) + `.querySelectorAll("[data-row]").length === 5 && ` + lane(0) + `.querySelectorAll("[data-label]").length === 4`)
	assert.Equal(p.t, "mg/l, °C, m, kW",
		p.text(`[...`+lane(0)+`.querySelectorAll("[data-units] text")].map((t) => t.textContent).join(", ")`))
	assert.Contains(p.t, p.text(lane(0)+`.querySelector("[data-left-out]").innerText`), "what is in V.")
	// A plain link to a series becomes the lane that its kind wants.
	p.do(chromedp.Navigate(central + "/trends?series=" + url.QueryEscape("alder-weir/pump-1/running")))
	p.until(`document.querySelector("[data-lane=states] svg rect") && location.search.includes("lane=states")`)
	p.do(chromedp.Navigate(central + "/trends?series=" + url.QueryEscape("alder-weir/pump-9/energy")))
	p.until(`[...document.querySelectorAll("[role=alert]")].some((a) => a.innerText.includes("near it are alder-weir/pump-1/energy"))`)
}

// chosen opens a lane's menu and takes something in it.
func (p page) chosen(i int, name string) {
	p.t.Helper()
	p.until(`!document.querySelector("[role=menu]")`)
	p.until(lane(i) + `?.querySelector("button[aria-haspopup=menu]")`)
	p.until(`(` + lane(i) + `.querySelector("button[aria-haspopup=menu]").focus(), true)`)
	p.do(chromedp.KeyEvent("\r"))
	p.until(`document.querySelector("[role=menu]")`)
	p.until(fmt.Sprintf(`((b) => b && (b.click(), true))([...document.querySelectorAll("[role^=menuitem]")].find((b) => b.innerText.trim().replace(/^✓\s*/, "").startsWith(%q)))`,
		name))
}

func compared(p page, central string) {
	p.do(chromedp.Navigate(trends(central, "last=1d&compare=1d",
		"chart:stony-beck/raceway-4/oxygen,stony-beck/raceway-1/oxygen")))
	p.until(`document.querySelector("[data-legend]")?.innerText.includes("a day earlier")`)
	p.chosen(0, "Difference of the first two")
	p.until(`document.querySelector("[data-row=difference]")`)
	p.until(`/^−?-?[0-9.]+ mg\/l$/.test(document.querySelector("[data-row=difference] [data-present]").innerText)`)
	p.chosen(0, "Difference of the first two")
	p.until(`document.querySelector("[data-row='stony-beck/raceway-1/oxygen']")`)
	p.chosen(0, "Calculate")
	p.fill("[name=formula]", "raceway_4 / raceway_1 * 100")
	p.fill("[name=called]", "share")
	p.fill("[name=unit]", "%")
	p.until(`((b) => b && (b.click(), true))([...document.querySelectorAll("[role=dialog] button")].find((b) => b.innerText === "Draw"))`)
	p.until(`/ %$/.test(document.querySelector("[data-row=share] [data-present]")?.innerText)`)
	p.chosen(0, "Windows as a table")
	p.until(`document.querySelectorAll("[role=dialog] tbody tr").length > 10`)
	p.do(chromedp.KeyEvent("\u001b"))
	p.until(`!document.querySelector("[role=dialog]")`)
	// What a picture holds, and that a link opens exactly this.
	shown := p.text(`location.href`)
	assert.Contains(p.t, shown, "raceway_4+%2F+raceway_1")
	p.do(chromedp.Navigate(shown))
	p.until(`/ %$/.test(document.querySelector("[data-row=share] [data-present]")?.innerText)`)
	p.until(`((window.saved = [], HTMLAnchorElement.prototype.click = function () { window.saved.push(this.download) }), (window.blobs = [], URL.createObjectURL = (b) => { window.blobs.push(b); return "blob:x" }), true)`)
	p.chosen(0, "Picture as SVG")
	p.until(`window.saved.length === 1 && window.saved[0].endsWith(".svg")`)
	p.until(`(window.blobs[0].text().then((t) => { window.svg = t }), window.svg)`)
	assert.True(p.t,
		p.is(`new DOMParser().parseFromString(window.svg, "image/svg+xml").querySelectorAll("path").length >= 3 && !window.svg.includes("var(--")`))
	assert.Contains(p.t, p.text(`window.svg`), ">mg/l<", "an axis says its unit in a picture too")
	svg := p.text(`window.svg`)
	assert.Regexp(p.t, `>[^<]*20\d\d[^<]* to [^<]*20\d\d[^<]*<`, svg, "its range has years")
	assert.Contains(p.t, svg, "Europe/Oslo, UTC+", "and its zone")
	assert.Regexp(p.t, `>[^<]* · last [0-9.]+ mg/l · mean [0-9.]+ · lowest `, svg, "and what the legend says")
	p.chosen(0, "Windows as a table")
	p.until(`document.querySelector("[role=dialog] table")`)
	p.do(chromedp.KeyEvent("\u001b"))
	p.until(`!document.querySelector("[role=dialog]") && document.activeElement === ` + lane(0) + `.querySelector("button[aria-haspopup=menu]")`) // where the dialog was opened
	p.chosen(0, "Picture as PNG")
	p.until(`window.saved.some((name) => name.endsWith(".png")) && window.blobs[1].size > 5000`)
	// The CSV behind it is the service's own.
	p.until(`(` + lane(0) + `.querySelector("button[aria-haspopup=menu]").focus(), true)`)
	p.do(chromedp.KeyEvent("\r"))
	p.until(`document.querySelector("[role=menu] a[download]")`)
	p.until(`(fetch(document.querySelector("[role=menu] a[download]").href).then((a) => a.text()).then((t) => { window.csv = t }), window.csv)`)
	assert.Contains(p.t, p.text(`window.csv.slice(0, 60)`), "series,start,end,place,")
	p.do(chromedp.KeyEvent("\u001b"))
	p.press("Keep as a board")
	p.fill("[name=title]", "Raceway 4 against 1")
	p.until(`((b) => b && (b.click(), true))([...document.querySelectorAll("[role=dialog] button")].find((b) => b.innerText === "Save"))`)
	p.until(`/^\/boards\/[0-9]+$/.test(location.pathname) && document.querySelector("h1")?.innerText === "Raceway 4 against 1"`)
	p.until(`/ %$/.test(document.querySelector("[data-row=share] [data-present]")?.innerText)`)
}

func nonsense(p page, central string) {
	for rest, says := range map[string]string{
		"from=99999999999999999&to=1":          "times are between 1971 and 2200",
		"last=forever":                         "is no length of time",
		"range=next+week":                      "is no range of the calendar",
		"zone=Middle/Earth":                    "is not known here",
		"lane={oops":                           "a lane that cannot be read",
		`lane={"kind":"chart","series":[1,2]}`: "a lane that cannot be read",
	} {
		p.do(chromedp.Navigate(trends(central, rest, "chart:stony-beck/raceway-1/oxygen")))
		p.until(fmt.Sprintf(`[...document.querySelectorAll("[role=alert]")].some((a) => a.innerText.includes(%q)) && document.querySelector("[data-row]")`,
			says))
	}
}

func readings(p page, gateway string) {
	p.do(chromedp.Navigate(trends(gateway, "last=1h", "chart:stony-beck/raceway-1/oxygen,stony-beck/raceway-2/oxygen")))
	p.until(lane(0) + `.innerText.includes("the readings themselves")`)
	p.until(lane(0) + `.querySelectorAll("[data-label]").length === 2`) // a line for each
	p.do(chromedp.Navigate(trends(gateway, "last=1d", "chart:stony-beck/raceway-1/oxygen")))
	p.until(lane(0) + `.innerText.includes("5 min windows from ")`)
	// What was refused, in its place: the range around one that is known.
	found, err := client.New(gateway).Rejects(p.t.Context(),
		client.RejectFilter{Select: "stony-beck/raceway-2/oxygen", Limit: 1})
	require.NoError(p.t, err)
	require.NotEmpty(p.t, found.Rejects)
	of := *found.Rejects[0].ReadingTime
	span := url.Values{
		"from": {of.Add(-10 * time.Minute).Format(time.RFC3339)},
		"to":   {of.Add(10 * time.Minute).Format(time.RFC3339)},
	}
	p.do(chromedp.Navigate(trends(gateway, span.Encode(), "chart:stony-beck/raceway-2/oxygen")))
	p.until(lane(0) + `.innerText.includes("the readings themselves")`)
	p.chosen(0, "Rejects in the chart")
	mark := fmt.Sprintf(`document.querySelector("a[href='/rejects?id=%d']")`, found.Rejects[0].ID)
	p.until(mark)
	p.until(`(` + mark + `.click(), true)`)
	p.until(`location.pathname === "/rejects" && document.querySelector("[data-one-reject]")?.innerText.includes("range") && document.querySelector("[data-bytes]")`)
}
