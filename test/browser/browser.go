// Package browser drives headless Chromium for tests and pictures of the console.
package browser

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"strings"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/cdproto/page"
	"github.com/chromedp/chromedp"
)

// Find returns the path of Chromium, or an error that says what to install.
func Find() (string, error) {
	for _, name := range []string{"chromium", "chromium-browser", "google-chrome"} {
		if path, err := exec.LookPath(name); err == nil {
			return path, nil
		}
	}
	return "", fmt.Errorf("chromium is not installed; on Debian: apt-get install chromium")
}

// Trusting has a browser trust a certificate that nobody vouches for, as somebody does who has
// installed it: by the SHA-256 of its public key, in base64.
func Trusting(keys string) chromedp.ExecAllocatorOption {
	return chromedp.Flag("ignore-certificate-errors-spki-list", keys)
}

// Open starts a browser; cancel ends it.
func Open(ctx context.Context, profile string, more ...chromedp.ExecAllocatorOption) (_ context.Context, cancel func(), err error) {
	path, err := Find()
	if err != nil {
		return nil, nil, err
	}
	flags := append(chromedp.DefaultExecAllocatorOptions[:],
		chromedp.ExecPath(path), chromedp.UserDataDir(profile), chromedp.NoSandbox, chromedp.DisableGPU, chromedp.NoFirstRun,
		chromedp.Flag("disable-quic", true), chromedp.Flag("disable-background-networking", true),
		chromedp.Flag("disable-component-update", true), chromedp.Flag("disable-sync", true), chromedp.Flag("disable-dev-shm-usage",
			true),
		chromedp.WSURLReadTimeout(60*time.Second), chromedp.Env("LD_PRELOAD="),
	)
	allocated, endAllocated := chromedp.NewExecAllocator(ctx, append(flags, more...)...)
	tab, endTab := chromedp.NewContext(allocated)
	end := func() { endTab(); endAllocated() }
	if err := chromedp.Do(tab, ahead(os.Getenv("CLOCKS_AHEAD"))); err != nil {
		end()
		return nil, nil, fmt.Errorf("starting the browser: %w", err)
	}
	return tab, end, nil
}

// ahead sets the clock of every page ahead, as test/clocks sets that of the service.
func ahead(seconds string) chromedp.Action[chromedp.Void] {
	return func(ctx context.Context, t *chromedp.Target) (chromedp.Void, error) {
		if seconds == "" {
			return chromedp.Void{}, nil
		}
		_, err := cdp.Call(ctx, t, page.AddScriptToEvaluateOnNewDocument, page.AddScriptToEvaluateOnNewDocumentParams{Source: `{
			const real = Date, now = () => real.now() + 1000 * ` + seconds + `
			window.Date = class Date extends real { constructor(...a) { a.length ? super(...a) : super(now()) } static now() { return now() } }
		}`})
		return chromedp.Void{}, err
	}
}

// Size sets the size of the page.
func Size(width, height int64) chromedp.Action[chromedp.Void] {
	return chromedp.EmulateViewport(width, height)
}

// Dark chooses the dark look, or the light one, as the system would.
func Dark(dark bool) chromedp.Action[chromedp.Void] {
	value := "light"
	if dark {
		value = "dark"
	}
	return func(ctx context.Context, t *chromedp.Target) (chromedp.Void, error) {
		_, err := cdp.Call(ctx, t, emulation.SetEmulatedMedia, emulation.SetEmulatedMediaParams{
			Features: []*emulation.MediaFeature{{Name: "prefers-color-scheme", Value: value}},
		})
		return chromedp.Void{}, err
	}
}

// OnPaper has the page look as it would be printed, or as on a screen again.
func OnPaper(paper bool) chromedp.Action[chromedp.Void] {
	media := ""
	if paper {
		media = "print"
	}
	return func(ctx context.Context, t *chromedp.Target) (chromedp.Void, error) {
		_, err := cdp.Call(ctx, t, emulation.SetEmulatedMedia, emulation.SetEmulatedMediaParams{Media: media})
		return chromedp.Void{}, err
	}
}

// Until waits until a JavaScript expression is true. A page that is replaced while it is asked is asked again
// as what it has become.
func Until(expression string) chromedp.Action[chromedp.Void] {
	return func(ctx context.Context, t *chromedp.Target) (chromedp.Void, error) {
		for {
			_, err := chromedp.Poll[bool]("Boolean("+expression+")",
				chromedp.WithPollingInterval(100*time.Millisecond), chromedp.WithPollingTimeout(60*time.Second))(ctx,
				t)
			if err == nil {
				return chromedp.Void{}, nil
			}
			if ctx.Err() != nil || !strings.Contains(err.Error(), "Cannot find context") &&
				!strings.Contains(err.Error(), "target navigated") {
				return chromedp.Void{}, fmt.Errorf("waiting until %s: %w", expression, err)
			}
			time.Sleep(50 * time.Millisecond)
		}
	}
}
