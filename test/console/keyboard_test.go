package console

import (
	"fmt"
	"strconv"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// key presses keys one after the other.
func (p page) key(keys ...string) {
	p.t.Helper()
	for _, k := range keys {
		p.do(chromedp.KeyEvent(k))
	}
}

// walk goes on with the tabulator until it stands on what a condition of e is true for.
func (p page) walk(condition string) {
	p.t.Helper()
	stands := `((e) => e && (` + condition + `))(document.activeElement)`
	for range 250 {
		p.key("\t")
		if p.is(stands) {
			return
		}
	}
	require.FailNow(p.t, "the tabulator does not lead there", "%s; it stands on %s", condition,
		p.text(`document.activeElement?.outerHTML.slice(0, 300) ?? ""`))
}

// enter walks to a button or link with a name, and takes it.
func (p page) enter(name string) {
	p.t.Helper()
	p.walk(fmt.Sprintf(`/^(BUTTON|A)$/.test(e.tagName) && (e.getAttribute("aria-label") ?? e.innerText).trim().startsWith(%q)`,
		name))
	p.key("\r")
}

// down goes through a menu that opens until it stands on an item. A menu moves on a moment after the key.
func (p page) down(item string) {
	p.t.Helper()
	p.until(`document.activeElement?.getAttribute("role")?.startsWith("menuitem")`)
	for !p.is(fmt.Sprintf(`document.activeElement.innerText.trim() === %q`, item)) {
		p.is(`(window.stood = document.activeElement, true)`)
		p.key(kb.ArrowDown)
		p.until(`document.activeElement !== window.stood`)
	}
}

// jump opens something by the palette.
func (p page) jump(words, name string) {
	p.t.Helper()
	p.do(chromedp.KeyEvent("k", chromedp.KeyModifiers(chromedp.ModifierCtrl)))
	p.until(`document.activeElement?.getAttribute("role") === "combobox"`)
	p.key(words)
	p.until(`document.querySelector("[role=combobox]").value === ` + strconv.Quote(words))
	selected := fmt.Sprintf(`document.querySelector("[role=option][aria-selected=true] span")?.innerText === %q`, name)
	p.until(fmt.Sprintf(`[...document.querySelectorAll("[role=option] span")].some((s) => s.innerText === %q)`, name))
	for range 50 {
		if p.is(selected) {
			break
		}
		p.key(kb.ArrowDown)
	}
	p.until(selected)
	p.key("\r")
	p.until(`!document.querySelector("[role=combobox]")`)
}

// byKeyboard does what people do at a desk, without a mouse.
func byKeyboard(p page, central string) {
	p.do(chromedp.Navigate(central + "/"))
	p.until(`document.querySelector("[data-series]")`)
	p.walk(`e.type === "search"`)
	p.key("raceway-4")
	p.until(`document.querySelectorAll("[data-series]").length === 3`)
	p.walk(`e.closest("[data-series='stony-beck/raceway-4/oxygen']") && e.tagName === "A"`)
	p.key("\r")
	p.until(`location.pathname === "/series" && document.querySelector("[data-present]")`)

	// A board, changed and taken away.
	p.jump("boards page", "Boards")
	p.until(`document.querySelector("[data-board='of:stony-beck/raceway-4']")`)
	p.walk(`e.type === "search"`)
	p.key("raceway-4")
	p.until(`document.querySelectorAll("[data-board]").length <= 2`)
	p.walk(`e.tagName === "A" && e.closest("[data-board='of:stony-beck/raceway-4']")`)
	p.key("\r")
	p.until(`document.querySelectorAll("[data-lane]").length === 5 && ` + lane(0) + `.querySelector("h2")`)
	first := p.text(lane(0) + `.querySelector("h2").innerText`)
	p.enter("Edit")
	p.until(`document.querySelector("[aria-label=Editing]")`)
	const edge = `document.querySelector("[role=separator]")`
	p.walk(`e.getAttribute("role") === "separator"`)
	high := p.text(edge + `.getAttribute("aria-valuenow")`)
	p.key(kb.ArrowDown)
	p.until(fmt.Sprintf(`Number(%s.getAttribute("aria-valuenow")) === %s + 16 && %s.querySelector("[data-plot]").clientHeight === %s + 16`,
		edge, high, lane(0), high))
	p.key(kb.ArrowUp, kb.ArrowUp)
	p.until(fmt.Sprintf(`Number(%s.getAttribute("aria-valuenow")) === %s - 16`, edge, high))
	for range 3 {
		p.enter("Undo")
	}
	p.until(fmt.Sprintf(`%s.getAttribute("aria-valuenow") === %q`, edge, high))
	p.walk(`e.closest("[data-lane]") && e.getAttribute("aria-haspopup") === "menu"`)
	p.key("\r")
	p.down("Move down")
	p.key("\r")
	p.until(fmt.Sprintf(`%s.querySelector("h2")?.innerText === %q`, lane(1), first))
	p.walk(`e.name === "title"`)
	p.do(chromedp.KeyEvent("a", chromedp.KeyModifiers(chromedp.ModifierCtrl)))
	p.key("By keys alone")
	p.until(`document.querySelector("[name=title]").value === "By keys alone"`)
	p.enter("Save")
	p.until(`/^\/boards\/[0-9]+$/.test(location.pathname) && document.querySelector("h1")?.innerText === "By keys alone"`)
	p.enter("On the wall")
	p.until(`document.querySelector("[data-wall] [data-row]")`)
	p.enter("Leave the wall")
	p.until(`location.pathname === "/boards"`)
	p.jump("by keys alone", "By keys alone")
	p.until(`document.querySelector("h1")?.innerText === "By keys alone"`)
	p.enter("Edit")
	p.enter("Delete board")
	p.until(`document.querySelector("[role=alertdialog], [role=dialog]")?.contains(document.activeElement)`)
	p.enter("Delete board")
	p.until(`location.pathname === "/boards" && document.querySelector("[data-board='of:stony-beck/raceway-4']")`)

	// A note, pinned where the axis stands.
	p.jump("raceway-1 board", "stony-beck, raceway-1")
	p.until(`document.querySelector("[data-lane=notes]")`)
	p.walk(`e.hasAttribute("data-axis")`)
	p.key(kb.ArrowLeft, "n")
	p.until(`document.querySelector("[role=dialog]")?.contains(document.activeElement)`)
	p.until(`document.querySelector("[name=note]")`)
	if !p.is(`document.activeElement.name === "note"`) {
		p.walk(`e.name === "note"`)
	}
	p.key("Grating freed of leaves")
	p.enter("Pin")
	p.until(`document.querySelector("[data-note]")?.innerText.includes("Grating freed")`)
	p.jump("notes", "Notes")
	p.until(`document.querySelector("main [data-note]")`)
	p.enter("Delete note")
	p.until(`document.querySelector("[role=alertdialog], [role=dialog]")?.contains(document.activeElement)`)
	p.enter("Delete note")
	p.until(`!document.querySelector("main [data-note]")`)
}

// byKeyboardAtSites opens an outage's story and what was refused without a mouse.
func byKeyboardAtSites(p page, gateway, raceways string) {
	p.do(chromedp.Navigate(gateway + "/"))
	p.until(`document.querySelector("[data-series]")`)
	p.jump("links", "Links")
	p.until(`document.querySelector("[data-outage]")`)
	p.walk(`e.hasAttribute("data-outage")`)
	p.key("\r")
	p.until(`document.querySelector("[data-story]")?.innerText.includes("went down: ")`)
	p.key("\u001b")
	p.until(`!document.querySelector("[role=dialog]")`)
	p.jump("units and", "Units and clocks")
	p.until(`document.querySelector("[role=dialog]")?.contains(document.activeElement)`)
	if !p.is(`document.activeElement.name === "zone"`) {
		p.walk(`e.name === "zone"`)
	}
	p.key("U")
	p.until(`document.querySelector("[name=zone]").value === "UTC"`)
	p.key("\u001b")
	p.until(`!document.querySelector("[role=dialog]")`)
	assert.True(p.t, p.is(`localStorage.getItem("preferences").includes("UTC")`))
	p.until(`(localStorage.removeItem("preferences"), true)`)

	p.do(chromedp.Navigate(raceways + "/"))
	p.until(`document.querySelector("[data-series]")`)
	p.jump("rejects", "Rejects")
	p.until(`document.querySelector("[data-reject] button")`)
	p.walk(`e.closest("[data-reject]")`)
	p.key("\r")
	p.until(`document.querySelector("[data-bytes]")`)
	p.key("\u001b")
	p.until(`!document.querySelector("[role=dialog]")`)
	p.key("?")
	p.until(`document.querySelector("[role=dialog]")?.innerText.includes("did not count")`)
	p.key("\u001b")
	p.until(`!document.querySelector("[role=dialog]")`)
}
