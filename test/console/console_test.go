// Package console drives the console in headless Chromium against a running demo.
package console

import (
	"context"
	"fmt"
	"log/slog"
	"net"
	"net/url"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/cdproto/input"
	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
	"nexocumula/internal/demo"
	"nexocumula/internal/sim"
	"nexocumula/internal/store"
	"nexocumula/test/browser"
)

// page is a tab of the browser, looking at the demo.
type page struct {
	t   *testing.T
	tab context.Context
}

func (p page) do(steps ...chromedp.Action[chromedp.Void]) {
	p.t.Helper()
	ctx, cancel := context.WithTimeout(p.tab, 90*time.Second)
	defer cancel()
	require.NoError(p.t, chromedp.Do(ctx, steps...))
}

func (p page) until(expression string) {
	p.t.Helper()
	p.do(browser.Until(expression))
}

func (p page) text(expression string) string {
	p.t.Helper()
	ctx, cancel := context.WithTimeout(p.tab, 30*time.Second)
	defer cancel()
	text, err := chromedp.Run(ctx, chromedp.Evaluate[string](expression))
	require.NoError(p.t, err)
	return text
}

func (p page) is(expression string) bool {
	p.t.Helper()
	ctx, cancel := context.WithTimeout(p.tab, 30*time.Second)
	defer cancel()
	yes, err := chromedp.Run(ctx, chromedp.Evaluate[bool]("Boolean("+expression+")"))
	require.NoError(p.t, err)
	return yes
}

func TestConsole(t *testing.T) {
	world, err := demo.Start(t.Context(), demo.Options{
		Dir: filepath.Join(t.TempDir(), "demo"), Console: "127.0.0.1:0", Days: 2, Seed: 1, Version: "test", Log: slog.New(slog.DiscardHandler),
	})
	require.NoError(t, err)
	defer func() { assert.NoError(t, world.Stop()) }()
	tab, closeTab, err := browser.Open(t.Context(), t.TempDir())
	require.NoError(t, err)
	defer closeTab()
	require.NoError(t, chromedp.Do(tab, browser.Size(1280, 800))) // starts the browser

	central, gateway := world.Central.Address, world.Gateways["long-mere"].Address
	t.Run("Now shows every series and updates by itself", func(t *testing.T) { now(page{t, tab}, gateway) })
	t.Run("Now can be narrowed down", func(t *testing.T) { narrowed(page{t, tab}, central) })
	t.Run("Trends are picked with the keyboard", func(t *testing.T) { picked(page{t, tab}, central) })
	t.Run("Trends show hover, statistics and zoom", func(t *testing.T) { trends(page{t, tab}, central) })
	t.Run("Trends of totals, states and bearings say what these mean", func(t *testing.T) { kinds(page{t, tab}, central) })
	t.Run("Links show an outage and its end", func(t *testing.T) { links(page{t, tab}, gateway, world) })
	t.Run("Field leads from an unknown device and broker to series", func(t *testing.T) { field(page{t, tab}, world.Gateways["alder-weir"].Address) })
	t.Run("Field tries a payload and shows what was refused", func(t *testing.T) { tried(page{t, tab}, gateway, world.Gateways["stony-beck"].Address) })
	t.Run("A series that has fallen silent is called stale", func(t *testing.T) { stale(page{t, tab}, central, world) })
	t.Run("Everything fits a phone, light and dark", func(t *testing.T) { phone(page{t, tab}, central) })
}

const row = `document.querySelector("[data-series='long-mere/mast/wind_speed']")`

func now(p page, gateway string) {
	p.do(chromedp.Navigate(gateway + "/"))
	p.until(`document.querySelectorAll("[data-series]").length === 23`)
	assert.Contains(p.t, p.text(row+".innerText"), "m/s")
	first := p.text(row + ".querySelector('[title]').title")
	p.until(row + fmt.Sprintf(".querySelector('[title]').title !== %q", first)) // a later reading, without a reload
	assert.True(p.t, p.is(`document.querySelector("[role=status]").innerText.includes("23 series")`))
}

func narrowed(p page, central string) {
	p.do(chromedp.Navigate(central + "/"))
	p.until(`document.querySelectorAll("[data-series]").length >= 54`)
	p.do(chromedp.SendKeys(chromedp.CSS("input[type=search]"), "raceway-4"))
	p.until(`document.querySelectorAll("[data-series]").length === 3`)
	p.do(chromedp.Click(chromedp.CSS(`[data-series="stony-beck/raceway-4/oxygen"] a`)))
	p.until(`location.pathname === "/trends" && document.querySelector("canvas")`)
	assert.Equal(p.t, "stony-beck/raceway-4/oxygen", p.text(`document.querySelector("h2").innerText`))
}

func picked(p page, central string) {
	p.do(chromedp.Navigate(central+"/trends"), browser.Until(`document.querySelector("h1")`))
	p.do(chromedp.Focus(chromedp.CSS("button[aria-haspopup=dialog]")), chromedp.KeyEvent("\r"))
	p.until(`document.querySelectorAll("[role=checkbox]").length >= 54`)
	p.until(`document.activeElement.type === "search"`)
	p.do(chromedp.KeyEvent("silo"))
	p.until(`document.querySelectorAll("[role=checkbox]").length === 1`)
	p.do(chromedp.KeyEvent("\t"), chromedp.KeyEvent(" "))
	p.until(`location.search.includes("silo-1%2Ffeed")`)
	p.do(chromedp.KeyEvent("\u001b"))
	p.until(`!document.querySelector("[role=dialog]") && document.querySelector("canvas")`)
}

func trends(p page, central string) {
	address := central + "/trends?last=1d&series=" + url.QueryEscape("stony-beck/raceway-1/oxygen")
	p.do(chromedp.Navigate(address))
	p.until(`document.querySelector("canvas") && document.querySelector("dl")`)
	stats := p.text(`document.querySelector("dl").innerText`)
	for _, name := range []string{"mean", "lowest", "highest", "standard deviation", "coverage", "readings"} {
		assert.Contains(p.t, stats, name)
	}
	p.mouse(input.DispatchMouseEventTypeMouseMoved, 0.5)
	p.until(`document.querySelector("[data-readout]").innerText.includes("mean")`)
	hovered := p.text(`document.querySelector("[data-readout]").innerText`)
	assert.Contains(p.t, hovered, " UTC: mean ")
	assert.Contains(p.t, hovered, ", from ")

	p.mouse(input.DispatchMouseEventTypeMousePressed, 0.4)
	p.mouse(input.DispatchMouseEventTypeMouseMoved, 0.5)
	p.mouse(input.DispatchMouseEventTypeMouseMoved, 0.6)
	p.mouse(input.DispatchMouseEventTypeMouseReleased, 0.6)
	p.until(`location.search.includes("from=")`)
	p.until(`[...document.querySelectorAll("button")].some((b) => b.innerText === "Zoom back")`)
	from, to := p.text(`new URL(location).searchParams.get("from")`), p.text(`new URL(location).searchParams.get("to")`)
	assert.Less(p.t, from, to)
	p.until(`([...document.querySelectorAll("button")].find((b) => b.innerText === "Zoom back").click(), true)`)
	p.until(`location.search.includes("last=1d")`)
}

func kinds(p page, central string) {
	for series, says := range map[string][]string{
		"alder-weir/pump-1/energy":      {"grew by", "per hour", "restarts"},
		"alder-weir/pump-1/running":     {"mean over time", "changes"},
		"long-mere/mast/wind_direction": {"vector mean", "steadiness"},
	} {
		p.do(chromedp.Navigate(central + "/trends?last=1d&series=" + url.QueryEscape(series)))
		p.until(`document.querySelector("canvas") && document.querySelector("dl")`)
		stats := p.text(`document.querySelector("dl").innerText`)
		for _, name := range append(says, "readings", "coverage") {
			assert.Contains(p.t, stats, name, series)
		}
		assert.NotContains(p.t, stats, "standard deviation", series)
		assert.NotContains(p.t, stats, "NaN", series)
		p.mouse(input.DispatchMouseEventTypeMouseMoved, 0.5)
		p.until(fmt.Sprintf(`document.querySelector("[data-readout]").innerText.includes(" UTC: %s ")`, says[0]))
	}
	p.do(chromedp.Navigate(central + "/trends?last=1d&series=" + url.QueryEscape("alder-weir/pump-9/energy")))
	p.until(`document.querySelector("[role=alert]")?.innerText.includes("near it are alder-weir/pump-1/energy")`)
}

// mouse moves or presses over the chart, at a share of its width.
func (p page) mouse(kind input.DispatchMouseEventType, share float64) {
	p.t.Helper()
	at := func(script string) float64 {
		ctx, cancel := context.WithTimeout(p.tab, 30*time.Second)
		defer cancel()
		v, err := chromedp.Run(ctx, chromedp.Evaluate[float64](`(() => { const box = document.querySelector(".u-over").getBoundingClientRect(); return `+script+` })()`))
		require.NoError(p.t, err)
		return v
	}
	p.do(chromedp.MouseEvent(kind, at(fmt.Sprintf("box.left + %v * box.width", share)), at("box.top + box.height / 2"), chromedp.ButtonLeft))
}

func links(p page, gateway string, world *demo.World) {
	p.do(chromedp.Navigate(gateway + "/links"))
	p.until(`document.querySelector("section")?.innerText.includes("up")`)
	world.CutOff(true)
	p.until(`/\bdown\b/.test(document.querySelector("section").innerText)`)
	p.until(`/backlog\s+[1-9]/.test(document.querySelector("section").innerText)`)
	world.CutOff(false)
	p.until(`/backlog\s+0 summaries/.test(document.querySelector("section").innerText) && /\bup\b/.test(document.querySelector("section").innerText)`)
}

// free is an address where nothing listens yet.
func free(t *testing.T) string {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	return l.Addr().String()
}

// fill enters something where a person would.
func (p page) fill(place, text string) {
	p.t.Helper()
	p.until(fmt.Sprintf(`document.querySelector(%q)`, place))
	p.do(chromedp.Focus(chromedp.CSS(place)))
	p.until(fmt.Sprintf(`((e) => { e.select(); return document.activeElement === e })(document.querySelector(%q))`, place))
	p.do(chromedp.KeyEvent(text))
	p.until(fmt.Sprintf(`document.querySelector(%q).value === %q`, place, text))
}

// press presses a button that can be pressed.
func (p page) press(name string) {
	p.t.Helper()
	p.until(fmt.Sprintf(`((b) => b && !b.disabled && (b.click(), true))([...document.querySelectorAll("main button:not([role=tab])")].find((b) => b.innerText.startsWith(%q)))`, name))
}

// field finds out what a device and a broker are that no configuration knows, and has the
// gateway collect them.
func field(p page, gateway string) {
	panel, err := sim.PumpPanel(sim.Field{Seed: 2}, free(p.t))
	require.NoError(p.t, err)
	defer panel.Close()
	p.do(chromedp.Navigate(gateway + "/field?tool=registers"))
	p.fill("[name=device]", panel.Address)
	p.press("Who answers")
	p.until(`document.querySelector("[data-units]")?.innerText.includes("1 (holding")`)
	p.press("What does it give")
	p.until(`document.querySelector("[data-ranges]")?.innerText.includes("0 to 2, 10 to 13")`)
	p.fill("[name=count]", "3")
	p.fill("[name=times]", "2")
	p.fill("[name=low]", "0")
	p.fill("[name=high]", "400")
	p.press("Read")
	p.until(`document.querySelectorAll("[data-address]").length === 3`)
	assert.Contains(p.t, p.text(`document.querySelector("[data-address='0']").innerText`), "within 0 to 400")
	p.fill("[data-address='0'] input[placeholder='station/quantity']", "spare-panel/flow")
	p.fill("[data-address='0'] input[placeholder='mg/l']", "l/s")
	p.fill("main [name=source]", "spare-panel")
	p.press("Lines for")
	p.until(`document.querySelector("[data-lines]")?.innerText.includes("spare-panel/flow")`)
	taken(p, gateway, "alder-weir/spare-panel/flow")

	broker, err := sim.StartSiteBroker(free(p.t))
	require.NoError(p.t, err)
	defer broker.Close()
	ctx, stop := context.WithCancel(p.t.Context())
	defer stop()
	scale := sim.SiloScale(ctx, sim.Field{Seed: 2}, broker.Address, 500*time.Millisecond)
	defer scale.Close()
	p.do(chromedp.Navigate(gateway + "/field"))
	p.fill("[name=broker]", broker.Address)
	p.press("Watch")
	p.until(`document.querySelector("[data-topic='feed/silo-1/weight']")?.innerText.includes("a number and kg")`)
	p.fill("main [name=source]", "spare-broker")
	p.press("Lines for 1 topics")
	p.until(`document.querySelector("[data-lines]")?.innerText.includes("followed_by")`)
	taken(p, gateway, "alder-weir/feed/silo-1/weight")
}

// taken writes the lines into the file and has the gateway read it.
func taken(p page, gateway, series string) {
	p.t.Helper()
	p.press("Show the difference")
	p.until(`document.querySelector("[data-lines]")?.innerText.includes("+++")`)
	p.press("Write it into")
	p.press("Have the gateway")
	p.until(`document.querySelector("main [role=status].text-good")?.innerText.includes("Taken over: gateway.series, source spare-")`)
	p.do(chromedp.Navigate(gateway + "/"))
	p.until(fmt.Sprintf(`document.querySelector("[data-series='%s']")`, series))
}

func tried(p page, gateway, raceways string) {
	p.do(chromedp.Navigate(gateway + "/field?tool=try"))
	p.fill("[name=place]", "mast/wind")
	p.fill("[name=payload]", "99 m/s 200")
	p.press("Try it")
	p.until(`document.querySelectorAll("[data-tried]").length === 2`)
	assert.Contains(p.t, p.text(`document.querySelector("[data-tried]").innerText`), "above the range's high end 75")
	tab := func(n int) {
		place := fmt.Sprintf("[role=tab]:nth-child(%d)", n)
		p.do(browser.Until(fmt.Sprintf("document.querySelector(%q)", place)), chromedp.Click(chromedp.CSS(place)))
	}
	p.do(chromedp.Navigate(raceways + "/field?tool=check"))
	p.press("Check it with")
	p.until(`document.querySelector("[data-checked=probes]")?.innerText.includes("it runs as the file has it") && document.querySelector("[data-checked=head-office]")?.innerText.includes("works")`)
	p.press("What does it cost")
	p.until(`document.querySelector("[data-cost='requests of probes']")?.innerText.includes("an hour")`)
	p.do(chromedp.Navigate(raceways + "/field"))
	tab(3)
	p.until(`document.querySelector("main").innerText.includes("No rule of this gateway finds series")`)
	tab(6)
	p.until(`location.search === "?tool=rejects" && document.querySelector("[data-reject]")`)
	p.until(`document.querySelector("main").innerText.includes("Refused in the last day")`)
}

// stale gives the central a series that was last heard three hours ago.
func stale(p page, central string, world *demo.World) {
	st := world.Central.Store
	ids, err := st.Define([]series.Definition{{Path: "alder-weir/old-well/level", Kind: series.Gauge, Unit: "m", FreshFor: time.Minute}})
	require.NoError(p.t, err)
	rows, at := rollup.NewBlock(series.Gauge, 1), rollup.Minute.Start(time.Now().Add(-3*time.Hour).UnixNano())
	rollup.Summary{Count: 1, Last: 2.5, FirstAt: at, LastAt: at}.AddTo(&rows, at, series.Gauge)
	require.NoError(p.t, st.Append(store.Batch{Entries: []store.Entry{{Series: ids[0], Tier: rollup.Minute, Rows: rows}}}))
	p.do(chromedp.Navigate(central + "/"))
	p.until(`document.querySelector("[data-series='alder-weir/old-well/level']")?.innerText.includes("missing, 3 h")`)
	p.until(`/[1-9][0-9]* stale/.test(document.querySelector("[role=status]").innerText)`)
}

func phone(p page, central string) {
	for _, look := range []struct {
		dark  bool
		paper string
	}{{false, "rgb(244, 241, 234)"}, {true, "rgb(19, 27, 29)"}} {
		p.do(browser.Dark(look.dark), browser.Size(390, 800))
		for _, path := range []string{"/", "/trends?series=" + url.QueryEscape("long-mere/mast/wind_direction"), "/links", "/field"} {
			p.do(chromedp.Navigate(central + path))
			p.until(`document.querySelector("section") || document.querySelector("main h1")?.innerText === "Field"`)
			assert.True(p.t, p.is(`document.documentElement.scrollWidth <= 390`), "%s is wider than a phone", path)
			assert.Equal(p.t, look.paper, p.text(`getComputedStyle(document.body).backgroundColor`), strings.TrimPrefix(path, "/"))
		}
	}
}
