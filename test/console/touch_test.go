package console

import (
	"context"
	"fmt"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/input"
	"github.com/chromedp/chromedp"

	"nexocumula/test/browser"
)

// finger touches, moves and leaves, from one place over others.
func (p page) finger(places ...[2]float64) {
	p.t.Helper()
	event := func(kind input.DispatchTouchEventType, at ...*input.TouchPoint) {
		p.t.Helper()
		p.do(func(ctx context.Context, t *chromedp.Target) (chromedp.Void, error) {
			_, err := cdp.Call(ctx, t, input.DispatchTouchEvent,
				input.DispatchTouchEventParams{Type: kind, TouchPoints: append([]*input.TouchPoint{}, at...)})
			return chromedp.Void{}, err
		})
	}
	kind := input.DispatchTouchEventTypeTouchStart
	for _, at := range places {
		event(kind, &input.TouchPoint{X: at[0], Y: at[1]})
		kind = input.DispatchTouchEventTypeTouchMove
	}
	event(input.DispatchTouchEventTypeTouchEnd)
}

// middle returns where something is on the page.
func (p page) middle(of string) (x, y float64) {
	p.t.Helper()
	p.until(`(` + of + `.scrollIntoView({ block: "center" }), true)`)
	box := of + `.getBoundingClientRect()`
	return p.number(`((b) => b.left + b.width / 2)(` + box + `)`), p.number(`((b) => b.top + b.height / 2)(` + box + `)`)
}

// touched zooms with a finger, and changes how high lanes are and their order.
func touched(p page, central string) {
	p.do(browser.Size(390, 800), chromedp.Navigate(trends(central, "last=1d", "chart:stony-beck/raceway-4/oxygen")))
	defer p.do(browser.Size(1280, 800))
	p.until(`document.querySelector("[data-lane=chart] canvas") && document.querySelector("[data-lane=chart] details")`)
	p.until(`(` + lane(0) + `.querySelector("summary").click(), ` + lane(0) + `.querySelector("[data-row]")?.offsetParent)`)
	x, y := p.middle(lane(0) + `.querySelector("[data-plot]")`)
	p.finger([2]float64{x - 40, y}, [2]float64{x, y}, [2]float64{x + 40, y}, [2]float64{x + 80, y})
	p.until(`location.search.includes("from=")`)

	p.do(chromedp.Navigate(trends(central, "last=1d", "chart:stony-beck/raceway-4/oxygen",
		"states:stony-beck/raceway-4/aerator")))
	p.until(lane(0) + `.querySelector("canvas") && document.querySelectorAll("[data-row]").length === 2`) // nothing moves any more
	const edge = `document.querySelector("[role=separator]")`
	high := p.number(edge + `.getAttribute("aria-valuenow")`)
	x, y = p.middle(edge)
	p.finger([2]float64{x, y}, [2]float64{x, y + 20}, [2]float64{x, y + 40})
	p.until(fmt.Sprintf(`Number(%s.getAttribute("aria-valuenow")) === %v && %s.querySelector("[data-plot]").clientHeight === %v`,
		edge, high+40, lane(0), high+40))

	p.until(`location.search.includes("height")`) // it is kept, and so the page is drawn as it stays
	moved := lane(0) + `.dataset.lane === "states" && ` + lane(1) + `.dataset.lane === "chart"`
	for tries := 0; tries < 5 && p.text("String("+moved+")") != "true"; tries++ { // a busy machine can miss a move
		x, y = p.middle(lane(0) + `.querySelector("[aria-label^='Drag the lane']")`)
		to := p.number(`((b) => b.top + b.height / 2)(` + lane(1) + `.getBoundingClientRect())`)
		p.finger([2]float64{x, y}, [2]float64{x, y + 20}, [2]float64{x, to}, [2]float64{x, to + 10})
		time.Sleep(500 * time.Millisecond)
	}
	p.until(moved)
}
