package console

import (
	"fmt"
	"io"
	"log"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"sync/atomic"

	"github.com/chromedp/cdproto/input"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/test/browser"
)

// dialog presses a button of what stands before the page.
func (p page) dialog(name string) {
	p.t.Helper()
	p.until(fmt.Sprintf(`((b) => b && !b.disabled && (b.click(), true))([...document.querySelectorAll("[role=dialog] button, [role=alertdialog] button")].find((b) => b.innerText === %q))`,
		name))
}

func boards(p page, central string) {
	p.do(chromedp.Navigate(central + "/boards"))
	p.until(`document.querySelector("[data-board='of:stony-beck/raceway-4']")`)
	p.find("raceway-4")
	p.until(`document.querySelectorAll("[data-board]").length <= 2`)
	p.do(chromedp.Click(chromedp.CSS(`[data-board="of:stony-beck/raceway-4"] a`)))
	p.until(`document.querySelectorAll("[data-head]").length === 3 && document.querySelectorAll("[data-gauge]").length === 2 && document.querySelectorAll("[data-lane]").length === 5`)

	p.press("Edit")
	p.until(`document.querySelector("[aria-label=Editing]")`)
	// A lane's lower edge, by the mouse; two clicks give it back its own height.
	const edge = `document.querySelector("[role=separator]")`
	high := p.number(edge + `.getAttribute("aria-valuenow")`)
	x, y := p.middle(edge)
	for i, kind := range []input.DispatchMouseEventType{
		input.DispatchMouseEventTypeMousePressed, input.DispatchMouseEventTypeMouseMoved,
		input.DispatchMouseEventTypeMouseMoved, input.DispatchMouseEventTypeMouseReleased,
	} {
		p.do(chromedp.MouseEvent(kind, x, y+[]float64{0, 20, 60, 60}[i], chromedp.ButtonLeft))
	}
	p.until(fmt.Sprintf(`Number(%s.getAttribute("aria-valuenow")) === %v && %s.querySelector("[data-plot]").clientHeight === %v`,
		edge, high+60, lane(0), high+60))
	p.until(`(` + edge + `.dispatchEvent(new MouseEvent("dblclick", { bubbles: true })), true)`)
	p.until(fmt.Sprintf(`Number(%s.getAttribute("aria-valuenow")) === %v`, edge, high))
	p.chosen(1, "Remove the lane")
	p.until(`document.querySelectorAll("[data-lane]").length === 4`)
	p.until(`(document.querySelector("button[aria-label=Undo]").click(), true)`)
	p.until(`document.querySelectorAll("[data-lane]").length === 5`)
	p.chosen(0, "Move down")
	p.until(lane(0) + `.querySelector("h2")?.innerText === "Oxygen"`)
	const pressed = `.querySelector("button[aria-pressed=true]") !== null`
	p.until(`((b) => b && (b.click(), true))(` + lane(0) + `.querySelector("button[aria-pressed=false]"))`) // a line is singled out
	p.until(lane(0) + pressed)
	// The handle of a lane, by keyboard.
	p.until(`((b) => (b.focus(), document.activeElement === b))(` + lane(0) + `.querySelector("button[aria-roledescription]"))`)
	p.do(chromedp.KeyEvent(" "))
	// It is picked up once the places of all are known: it is over its own.
	p.until(`(() => {
		window.over = () => /over droppable area (lane-[0-9]+)/.exec([...document.querySelectorAll("[id^=DndLiveRegion]")].map((l) => l.innerText).join())?.[1];
		return (window.own = window.over()) !== undefined;
	})()`)
	p.do(chromedp.KeyEvent(kb.ArrowDown))
	// A key that came before the library listened is pressed again.
	p.until(`(() => {
		if (window.over() !== window.own) return true;
		if ((window.looked = (window.looked ?? 0) + 1) % 50 === 0) document.dispatchEvent(new KeyboardEvent("keydown", { code: "ArrowDown", key: "ArrowDown", bubbles: true }));
		return false;
	})()`)
	p.do(chromedp.KeyEvent(" "))
	p.until(lane(1) + `.querySelector("h2")?.innerText === "Oxygen"`)
	p.until(lane(1) + pressed + ` && !(` + lane(0) + pressed + `)`) // which moved with its lane
	p.fill("[name=title]", "Raceway 4 at night")
	p.press("Save")
	p.until(`/^\/boards\/[0-9]+$/.test(location.pathname) && document.querySelector("h1")?.innerText === "Raceway 4 at night"`)
	saved := p.text("location.pathname")

	// It is the board of its place now, and another version of it comes with the next change.
	p.do(chromedp.Navigate(central + "/boards/place?about=stony-beck/raceway-4"))
	p.until(`document.querySelector("h1")?.innerText === "Raceway 4 at night"`)
	p.press("Edit")
	// What is not saved outlasts a reload.
	p.fill("[name=title]", "Half done")
	p.do(chromedp.Reload())
	p.until(`document.querySelector("[data-restored]") && document.querySelector("[name=title]").value === "Half done"`)
	p.press("Discard them")
	p.until(`!document.querySelector("[data-restored]") && document.querySelector("[name=title]").value === "Raceway 4 at night"`)
	p.press("Use for every station")
	p.fill("[name=title]", "Every raceway")
	// Somebody else saves meanwhile; what becomes of both is chosen.
	p.until(fmt.Sprintf(`(fetch("/api/v1%s").then((r) => r.json()).then((f) => fetch("/api/v1%s", { method: "PUT", headers: { "Content-Type": "application/json", "If-Match": '"' + f.saved.version + '"' }, body: JSON.stringify({ ...f.board, width: "1h" }) })).then((r) => { window.theirs = r.status }), true)`,
		saved, saved))
	p.until(`window.theirs === 200`)
	p.press("Save")
	p.until(`document.querySelector("[data-conflict]")`)
	p.press("Save mine over theirs")
	p.until(`document.querySelector("select[aria-label='Which station']")`)
	p.until(`((s) => (Object.getOwnPropertyDescriptor(HTMLSelectElement.prototype, "value").set.call(s, "stony-beck/raceway-2"), s.dispatchEvent(new Event("change", { bubbles: true })), true))(document.querySelector("select[aria-label='Which station']"))`)
	p.until(`document.querySelector("[data-head='stony-beck/raceway-2/oxygen']")`)
	p.press("History")
	p.until(`document.querySelectorAll("[data-version]").length === 3`)
	p.dialog("Bring back")
	p.until(`document.querySelector("h1")?.innerText === "Raceway 4 at night" && !document.querySelector("[role=dialog]")`)

	p.press("Edit")
	p.press("Delete board")
	p.dialog("Delete board")
	p.until(`location.pathname === "/boards" && document.querySelector("[data-board='of:stony-beck/raceway-4']")`)
	p.press("Show removed")
	p.until(`document.querySelector("[data-board] a")?.getAttribute("href") === "` + saved + `"`)

	// A file that is none is refused with the reason, a good one comes in.
	imported := func(text string) string {
		return fmt.Sprintf(`((i) => { const d = new DataTransfer(); d.items.add(new File([%q], "night.json")); i.files = d.files; i.dispatchEvent(new Event("change", { bubbles: true })); return true })(document.querySelector("input[type=file]"))`,
			text)
	}
	p.until(imported("{"))
	p.until(`document.querySelector("[role=alert]")?.innerText.includes("night.json is no JSON") || [...document.querySelectorAll("[role=alert]")].some((a) => a.innerText.includes("night.json is no JSON"))`)
	p.until(imported(`{"form":"nexocumula-board-1","title":"x","lanes":[{"kind":"dial"}]}`))
	p.until(`[...document.querySelectorAll("[role=alert]")].some((a) => a.innerText.includes('lanes[0].kind: "dial" is not known'))`)
	p.until(imported(`{"form":"nexocumula-board-1","title":"Brought along","lanes":[{"kind":"text","text":"hello"}]}`))
	p.until(`[...document.querySelectorAll("[role=status]")].some((a) => a.innerText.includes("“Brought along” was imported"))`)
}

func notes(p page, central string) {
	p.do(chromedp.Navigate(trends(central, "last=1d", "chart:stony-beck/raceway-1/oxygen")))
	p.until(`document.querySelector("[data-lane=notes]")`)
	p.chosen(0, "Pin a note")
	p.fill("[name=note]", "Probe cleaned")
	p.dialog("Pin")
	p.until(`document.querySelector("[data-lane=notes] [data-note]")?.innerText.includes("Probe cleaned")`)
	// Pinned to a series, it is seen on its station's board, and not on another's.
	p.do(chromedp.Navigate(central + "/boards/place?about=stony-beck/raceway-1"))
	p.until(`document.querySelector("[data-lane=notes] [data-note]")`)
	p.do(chromedp.Navigate(central + "/boards/place?about=stony-beck/raceway-2"))
	p.until(`document.querySelectorAll("[data-row]").length >= 3`)
	assert.False(p.t, p.is(`document.querySelector("[data-note]")`))
	p.do(chromedp.Navigate(central + "/notes"))
	p.until(`document.querySelector("[data-note]")`)
	p.find("gate")
	p.until(`document.querySelector("main")?.innerText.includes("No note has all these words")`)
	p.find("cleaned probe")
	p.until(`document.querySelector("[data-note]")?.innerText.includes("stony-beck, raceway-1, oxygen")`)
	p.press("Delete note")
	p.dialog("Delete note")
	p.until(`!document.querySelector("[data-note]")`)
}

func series1(p page, central string) {
	p.do(chromedp.Navigate(central + "/series?path=stony-beck/raceway-4/oxygen"))
	p.until(`document.querySelector("[data-present]")?.innerText.includes("mg/l") && document.querySelectorAll("[data-latest] tr").length >= 3`)
	p.until(`document.querySelectorAll("[data-year] rect").length > 360`)
	p.until(`document.querySelectorAll("[data-distribution] rect").length > 4`)
	p.until(`document.querySelectorAll("[data-mean-day] path").length >= 2`)
	definition := p.text(`document.querySelector("section[aria-label=Definition]").innerText`)
	for _, says := range []string{"gauge", "mg/l", "6.5 to 12", "5 to 14", "90 s"} {
		assert.Contains(p.t, definition, says)
	}
	p.do(chromedp.Navigate(central + "/series?path=nowhere/at/all"))
	p.until(`document.querySelector("main")?.innerText.includes("There is no series nowhere/at/all here")`)
}

func palette(p page, central string) {
	p.do(chromedp.Navigate(central + "/"))
	p.until(`document.querySelector("[data-series]")`)
	p.until(`(dispatchEvent(new KeyboardEvent("keydown", { key: "k", ctrlKey: true })), true)`)
	p.until(`document.querySelector("[role=combobox]")`)
	p.fill("[role=combobox]", "raceway-4 oxygen")
	p.until(`document.querySelectorAll("[role=option]").length === 1`)
	p.do(chromedp.KeyEvent("\r"))
	p.until(`location.pathname === "/series" && !document.querySelector("[role=dialog]")`)
	p.until(`(document.querySelector("button[aria-label='Help for this page']").click(), document.querySelector("[role=dialog]")?.innerText.includes("Help: a series"))`)
	p.do(chromedp.KeyEvent("\u001b"))
	for path, says := range map[string]string{
		"/":                              "Help: Now",
		"/trends":                        "pin a note",
		"/boards":                        "JSON file",
		"/links":                         "30 days",
		"/rejects":                       "did not count",
		"/notes":                         "pinned",
		"/boards/place?about=stony-beck": "Undo",
	} {
		p.do(chromedp.Navigate(central + path))
		p.until(`document.querySelector("main h1")`)
		p.do(chromedp.KeyEvent("?"))
		p.until(fmt.Sprintf(`document.querySelector("[role=dialog]")?.innerText.includes(%q)`, says))
	}
}

func preferred(p page, central string) {
	p.do(chromedp.Navigate(central + "/"))
	p.until(`document.querySelector("[data-series]")`)
	p.until(`(document.querySelector("button[aria-label='Units and clocks']").click(), document.querySelector("[name=unit-Cel]"))`)
	set := func(name, value string) {
		p.until(fmt.Sprintf(`((s) => (Object.getOwnPropertyDescriptor(HTMLSelectElement.prototype, "value").set.call(s, %q), s.dispatchEvent(new Event("change", { bubbles: true })), true))(document.querySelector("[name='%s']"))`,
			value, name))
	}
	set("unit-Cel", "degF")
	set("zone", "UTC")
	p.do(chromedp.KeyEvent("\u001b"))
	p.find("buoy-1/water_temp_1m")
	p.until(`/[45][0-9]\.[0-9]+\s*°F/.test(document.querySelector("[data-series='long-mere/buoy-1/water_temp_1m']")?.innerText)`)
	p.do(chromedp.Navigate(trends(central, "last=1d", "chart:long-mere/buoy-1/water_temp_1m")))
	p.until(`/^[456][0-9]\.[0-9]+ °F$/.test(document.querySelector("[data-present]")?.innerText) && document.querySelector("[data-says]").innerText.startsWith("UTC")`)
	p.until(`(localStorage.removeItem("preferences"), true)`)
}

// front stands before a service, as a proxy does, and can let nothing through.
type front struct {
	*httptest.Server
	away atomic.Bool
}

func before(service string) (*front, error) {
	to, err := url.Parse(service)
	if err != nil {
		return nil, err
	}
	proxy := httputil.NewSingleHostReverseProxy(to)
	proxy.FlushInterval = -1 // the stream goes on without end
	proxy.ErrorLog = log.New(io.Discard, "", 0)
	f := &front{}
	f.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if f.away.Load() {
			http.Error(w, "Bad Gateway", http.StatusBadGateway)
			return
		}
		proxy.ServeHTTP(w, r)
	}))
	return f, nil
}

func (f *front) goAway() {
	f.away.Store(true)
	f.CloseClientConnections()
}

func wall(p page, central string) {
	f, err := before(central)
	require.NoError(p.t, err)
	defer f.Close()
	defer f.goAway() // Close waits for streams
	p.do(chromedp.Navigate(f.URL + "/wall?board=of:stony-beck&board=of:long-mere&turn=5"))
	p.until(`document.querySelector("[data-wall] h1")?.innerText === "stony-beck" && document.querySelectorAll("[data-wall] [data-row]").length > 6`)
	assert.False(p.t, p.is(`document.querySelector("nav")`))
	p.until(`document.querySelector("[data-wall] h1")?.innerText === "long-mere"`)
	// A saved board comes before the one that its place has from the start, and all of it can be read: on one page, or
	// on several that the wall turns by itself.
	saved := `{form: "nexocumula-board-1", title: "Night", about: "stony-beck", head: [{series: "stony-beck/raceway-4/oxygen", gauge: true}],
		lanes: ["oxygen", "water_temp", "aerator", "oxygen"].map((q, i) => ({kind: ["chart", "chart", "states", "coverage"][i], series: ["stony-beck/+/" + q]}))
			.concat([{kind: "text", text: "Call the pond house"}, {kind: "notes"}])}`
	p.until(`(window.saved ??= fetch("/api/v1/boards", {method: "POST", headers: {"Content-Type": "application/json"}, body: JSON.stringify(` + saved + `)}).then((r) => (window.answered = r.status)), window.answered === 201)`)
	for _, size := range [][2]int64{{1280, 800}, {3840, 2160}, {1080, 1920}} {
		p.do(browser.Size(size[0], size[1]), chromedp.Navigate(f.URL+"/wall?board=of:stony-beck&turn=5"))
		p.until(`document.querySelector("[data-wall] h1")?.innerText === "Night" && document.querySelectorAll("[data-wall] [data-row]").length > 5`)
		p.until(`(() => {
			const seen = (window.seen ??= new Set());
			for (const lane of document.querySelectorAll("[data-lane]")) seen.add(lane.ariaLabel + lane.dataset.lane);
			return seen.size === 6;
		})()`)
		assert.True(p.t,
			p.is(`[...document.querySelectorAll("[data-lane], [data-says]")].every((e) => e.getBoundingClientRect().bottom <= innerHeight)`),
			"all is on the screen of %v", size)
		assert.True(p.t,
			p.is(`/page [12] of 2/.test(document.querySelector("[data-turn]").innerText) === document.querySelector("[data-says]").innerText.includes("on 2 pages")`),
			"it says that there are pages")
	}
	p.do(browser.Size(1280, 800))
	// The service goes away, and comes back.
	f.goAway()
	p.until(`document.querySelector("[data-away]")?.innerText.includes("No connection for")`)
	f.away.Store(false)
	p.until(`!document.querySelector("[data-away]")`)
	p.do(chromedp.Navigate(f.URL + "/"))
	p.until(`document.querySelector("[data-station]")`)
	f.goAway()
	p.until(`document.querySelector("[data-away]")?.innerText.includes("what is shown is from")`)
	assert.True(p.t, p.is(`document.querySelector("[data-station]")`), "what was known stays in sight")
	for _, raw := range []string{"Failed to fetch", "TypeError", "Unexpected token"} {
		assert.False(p.t, p.is(fmt.Sprintf(`document.body.innerText.includes(%q)`, raw)))
	}
	f.away.Store(false)
	p.until(`!document.querySelector("[data-away]")`)
	// Opened while it is away, the console comes by itself once it is there again.
	p.do(chromedp.Navigate(f.URL + "/boards"))
	p.until(`document.querySelector("[data-board]")`)
	f.goAway()
	p.until(`(document.querySelector("[data-board='of:long-mere'] a").click(), true)`)
	p.until(`document.querySelector("[data-away]")`)
	f.away.Store(false)
	p.until(`!document.querySelector("[data-away]")`)
}
