// Package console drives the console in headless Chromium against a running demo.
package console

import (
	"context"
	"fmt"
	"log/slog"
	"net"
	"path/filepath"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
	"nexocumula/internal/demo"
	"nexocumula/internal/sim"
	"nexocumula/internal/store/engine"
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
	ctx, cancel := context.WithTimeout(p.tab, 90*time.Second)
	defer cancel()
	if err := chromedp.Do(ctx, browser.Until(expression)); err != nil {
		require.NoError(p.t, err, "the page says:\n%s",
			p.text(`location.href + "\n" + document.body.innerText.slice(0, 2000)`))
	}
}

func (p page) text(expression string) string {
	p.t.Helper()
	ctx, cancel := context.WithTimeout(p.tab, 30*time.Second)
	defer cancel()
	text, err := chromedp.Run(ctx, chromedp.Evaluate[string](expression))
	require.NoError(p.t, err)
	return text
}

func (p page) number(expression string) float64 {
	p.t.Helper()
	ctx, cancel := context.WithTimeout(p.tab, 30*time.Second)
	defer cancel()
	number, err := chromedp.Run(ctx, chromedp.Evaluate[float64]("Number("+expression+")"))
	require.NoError(p.t, err)
	return number
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
		Dir: filepath.Join(t.TempDir(), "demo"), Console: "127.0.0.1:0", Days: 2, Seed: 1, Starts: demo.Midday(), Version: "test", Log: slog.New(slog.DiscardHandler),
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
	t.Run("Now tells what happened", func(t *testing.T) { happened(page{t, tab}, central, gateway) })
	t.Run("Trends are picked with the keyboard alone", func(t *testing.T) { picked(page{t, tab}, central) })
	t.Run("Lanes share one cursor and one range", func(t *testing.T) { lanes(page{t, tab}, central) })
	t.Run("Any time can be shown", func(t *testing.T) { ranges(page{t, tab}, central) })
	t.Run("Lanes are drawn as their kind wants it", func(t *testing.T) { laneKinds(page{t, tab}, central) })
	t.Run("Trends are compared, calculated and kept", func(t *testing.T) { compared(page{t, tab}, central) })
	t.Run("An address that says nonsense is answered with a reason",
		func(t *testing.T) { nonsense(page{t, tab}, central) })
	t.Run("A gateway shows the readings and what was refused", func(t *testing.T) {
		readings(page{t, tab}, world.Gateways["stony-beck"].Address)
	})
	t.Run("A finger zooms, and moves lanes", func(t *testing.T) { touched(page{t, tab}, central) })
	t.Run("Paper has all that a screen shows", func(t *testing.T) { printed(page{t, tab}, central) })
	t.Run("A board is edited, undone, saved and brought back", func(t *testing.T) { boards(page{t, tab}, central) })
	t.Run("A note is pinned, found and taken away", func(t *testing.T) { notes(page{t, tab}, central) })
	t.Run("A series has a page of its own", func(t *testing.T) { series1(page{t, tab}, central) })
	t.Run("Everything is found from the palette, and has help", func(t *testing.T) { palette(page{t, tab}, central) })
	t.Run("Units and clocks are as the viewer likes them", func(t *testing.T) { preferred(page{t, tab}, central) })
	t.Run("A wall takes turns and says when it is old", func(t *testing.T) { wall(page{t, tab}, central) })
	t.Run("Links show an outage and its end", func(t *testing.T) { links(page{t, tab}, gateway, world) })
	t.Run("Field leads from an unknown device and broker to series",
		func(t *testing.T) { field(page{t, tab}, world.Gateways["alder-weir"].Address) })
	t.Run("Field tries a payload and shows what was refused", func(t *testing.T) {
		tried(page{t, tab}, gateway, world.Gateways["stony-beck"].Address)
	})
	t.Run("Readings are fetched, and both ends compared", func(t *testing.T) { fetched(page{t, tab}, central, gateway) })
	t.Run("A series that has fallen silent is called stale", func(t *testing.T) { stale(page{t, tab}, central, world) })
	t.Run("A desk without a mouse", func(t *testing.T) { byKeyboard(page{t, tab}, central) })
	t.Run("A site without a mouse", func(t *testing.T) {
		byKeyboardAtSites(page{t, tab}, gateway, world.Gateways["stony-beck"].Address)
	})
	t.Run("Every page is for everybody, light and dark, on a phone and on a wall", func(t *testing.T) {
		accessible(page{t, tab}, central, world.Gateways["stony-beck"].Address)
	})
}

const row = `document.querySelector("[data-series='long-mere/mast/wind_speed']")`

// happened asks what happened: the dip of oxygen has its extreme and leads to the lane that shows it.
func happened(p page, central, gateway string) {
	p.do(chromedp.Navigate(central + "/"))
	p.until(`((a) => a && (a.click(), true))([...document.querySelectorAll("nav[aria-label=Views] a")].find((a) => a.innerText === "What happened"))`)
	p.until(`document.querySelector("[data-happened] section")`)
	p.until(`((s) => (s.value = "2", s.dispatchEvent(new Event("change", { bubbles: true })), new URL(location).searchParams.get("last") === "24h"))(document.querySelector("[data-happened] select"))`)
	dip := `document.querySelector("[data-happened-row='stony-beck, raceway-4, oxygen']")`
	p.until(dip + `?.querySelector("svg path")`)
	assert.Regexp(p.t, `[0-9.]+ mg/l at .*, below [0-9.]+ mg/l`, p.text(dip+".innerText"))
	p.until(`document.querySelector("[data-happened-row='long-mere, buoy-4, battery']")?.innerText.includes("still outside")`)
	p.until(dip + `.querySelector("a").click() ?? true`)
	p.until(`location.pathname === "/trends" && document.querySelectorAll("[data-row]").length === 1`)
	p.do(chromedp.Navigate(central + "/rejects"))
	p.until(`document.querySelector("[data-of-gateways]")?.innerText.includes("stony-beck")`)
	p.until(fmt.Sprintf(`[...document.querySelectorAll("[data-of-gateways] a")].some((a) => a.href === %q)`,
		gateway+"/rejects"))
	p.until(`document.title === "Rejects – central – Nexocumula"`)
}

// find narrows Now down.
func (p page) find(text string) {
	p.t.Helper()
	p.fill("main input[type=search]", text)
}

func now(p page, gateway string) {
	p.do(chromedp.Navigate(gateway + "/"))
	p.until(`document.querySelector("[role=status]")?.innerText.includes("23 series")`)
	// What needs a look stands first.
	p.until(`document.querySelector("[data-look]")?.innerText.includes("buoy-4") && document.querySelector("[data-finding='long-mere/buoy-4/battery']").innerText.includes("normal 11.8 to 14.8 V")`)
	p.find("mast")
	p.until(row)
	assert.Contains(p.t, p.text(row+".innerText"), "m/s")
	first := p.text(row + ".querySelector('td[title]').title")
	p.until(row + fmt.Sprintf(".querySelector('td[title]').title !== %q", first)) // a later reading, without a reload
	p.find("water_temp_1m")
	p.until(`document.querySelector("[data-series='long-mere/buoy-1/water_temp_1m']")?.innerText.includes("°C")`)
	p.until(`document.querySelector("[data-series='long-mere/buoy-1/water_temp_1m'] svg path")`) // its last day
}

func narrowed(p page, central string) {
	p.do(chromedp.Navigate(central + "/"))
	p.until(`/5[4-9] series/.test(document.querySelector("[role=status]")?.innerText)`)
	p.find("raceway-4")
	p.until(`document.querySelectorAll("[data-series]").length === 3`)
	p.find("no such thing")
	p.until(`document.querySelector("main")?.innerText.includes("No series contains “no such thing”")`)
	p.find("raceway-4")
	p.until(`document.querySelector("[data-series='stony-beck/raceway-4/oxygen'] a")`)
	p.do(chromedp.Click(chromedp.CSS(`[data-series="stony-beck/raceway-4/oxygen"] a`)))
	p.until(`location.pathname === "/series" && document.querySelector("h1")?.innerText === "stony-beck/raceway-4/oxygen"`)
}

func links(p page, gateway string, world *demo.World) {
	p.do(chromedp.Navigate(gateway + "/links"))
	p.until(`document.querySelector("section")?.innerText.includes("up")`)
	world.CutOff(true)
	p.until(`/\bdown\b/.test(document.querySelector("section").innerText)`)
	p.until(`/backlog\s+[1-9]/.test(document.querySelector("section").innerText)`)
	p.until(`document.querySelector("[data-days='to head-office'] [data-outage]")`)
	world.CutOff(false)
	p.until(`/backlog\s+0 summaries/.test(document.querySelector("section").innerText) && /\bup\b/.test(document.querySelector("section").innerText)`)
	p.until(`((b) => b && (b.click(), true))([...document.querySelectorAll("[data-days='to head-office'] [data-outage]")].pop())`)
	p.until(`document.querySelector("[data-story]")?.innerText.includes("summaries that had waited arrived")`)
	story := p.text(`document.querySelector("[data-story]").innerText`)
	for _, says := range []string{
		"went down: ", "It was up again, after", "was late, at most by", "Nothing of it is lost",
	} {
		assert.Contains(p.t, story, says)
	}
	assert.NotContains(p.t, story, "dial tcp", "people are not told of sockets")
	assert.True(p.t, p.is(`new URL(location).searchParams.get("outage")`), "a link opens this story")
}

// free returns an address where nothing listens yet.
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
	p.until(fmt.Sprintf(`((e) => { e.select(); return document.activeElement === e })(document.querySelector(%q))`,
		place))
	p.do(chromedp.KeyEvent(text))
	p.until(fmt.Sprintf(`document.querySelector(%q).value === %q`, place, text))
}

// press presses a button that can be pressed.
func (p page) press(name string) {
	p.t.Helper()
	p.until(fmt.Sprintf(`((b) => b && !b.disabled && (b.click(), true))([...document.querySelectorAll("main button:not([role=tab])")].find((b) => b.innerText.startsWith(%q)))`,
		name))
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
	p.press("Write to")
	p.press("Reload the gateway")
	p.until(`document.querySelector("main [role=status].text-good")?.innerText.includes("Taken over: gateway.series, source spare-")`)
	p.do(chromedp.Navigate(gateway + "/"))
	p.until(fmt.Sprintf(`document.querySelector("[data-series='%s']")`, series))
}

func tried(p page, gateway, raceways string) {
	p.do(chromedp.Navigate(gateway + "/field?tool=try"))
	p.fill("[name=place]", "mast/wind")
	p.fill("[name=payload]", "99 m/s 200")
	p.press("Try")
	p.until(`document.querySelectorAll("[data-tried]").length === 2`)
	assert.Contains(p.t, p.text(`document.querySelector("[data-tried]").innerText`), "above the range's high end 75")
	tab := func(n int) {
		place := fmt.Sprintf("[role=tab]:nth-child(%d)", n)
		p.do(browser.Until(fmt.Sprintf("document.querySelector(%q)", place)), chromedp.Click(chromedp.CSS(place)))
	}
	p.do(chromedp.Navigate(raceways + "/field?tool=check"))
	p.press("Check with")
	// The plug of a probe is loose: for 40 s of each quarter of an hour the check finds that.
	p.until(`/it runs as the file has it|unit 6 has not answered/.test(document.querySelector("[data-checked=probes]")?.innerText) && document.querySelector("[data-checked=head-office]")?.innerText.includes("works")`)
	p.press("Estimate the cost")
	p.until(`document.querySelector("[data-cost='requests of probes']")?.innerText.includes("an hour")`)
	p.do(chromedp.Navigate(raceways + "/field"))
	tab(3)
	p.until(`document.querySelector("main")?.innerText.includes("No rule of this gateway finds series")`)
	p.do(chromedp.Navigate(raceways + "/rejects?days=7"))
	p.until(`document.querySelectorAll("[data-over-time] rect").length > 1 && document.querySelector("[data-reject]")`)
	p.until(`((b) => b && (b.click(), true))(document.querySelector("[data-reject] button"))`)
	p.until(`document.querySelector("[data-bytes]")?.innerText.startsWith("0000  ")`)
	p.do(chromedp.KeyEvent("\u001b"))
	p.until(`!document.querySelector("[role=dialog]")`)
	p.until(`((b) => b && (b.click(), true))(document.querySelector("section[aria-label='By rule'] button"))`)
	p.until(`new URL(location).searchParams.get("rule") && [...document.querySelectorAll("main button")].some((b) => b.innerText.startsWith("Process again"))`)
}

// stale gives the central a series that was last heard three hours ago.
func stale(p page, central string, world *demo.World) {
	st := world.Central.Store
	ids, err := st.Define(p.t.Context(), []series.Definition{{
		Path:     "alder-weir/old-well/level",
		Kind:     series.Gauge,
		Unit:     "m",
		FreshFor: time.Minute,
	}})
	require.NoError(p.t, err)
	rows, at := rollup.NewBlock(series.Gauge, 1), series.Minute.Start(time.Now().Add(-3*time.Hour).UnixNano())
	rollup.Summary{Count: 1, Last: 2.5, FirstAt: at, LastAt: at}.AddTo(&rows, at, series.Gauge)
	require.NoError(p.t,
		st.Append(p.t.Context(),
			engine.Batch{Entries: []engine.Entry{{Series: ids[0], Tier: series.Minute, Rows: rows}}}))
	p.do(chromedp.Navigate(central + "/"))
	p.until(`document.querySelector("[data-finding='alder-weir/old-well/level']")?.innerText.includes("missing, 3 h")`)
	p.until(`/[1-9][0-9]* stale/.test(document.querySelector("[role=status]").innerText)`)
	p.find("old-well")
	p.until(`document.querySelector("[data-series='alder-weir/old-well/level']")?.innerText.includes("missing, 3 h")`)
}
