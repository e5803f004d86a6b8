// Command screenshots takes the pictures of docs/screenshots from a running demo:
// every page of the console, and the output of the main commands.
//
//	screenshots BINARY FOLDER
package main

import (
	"context"
	"fmt"
	"html"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"github.com/chromedp/chromedp"

	"nexocumula/internal/demo"
	"nexocumula/test/asking"
	"nexocumula/test/browser"
)

func main() {
	if len(os.Args) != 3 {
		fmt.Fprintln(os.Stderr, "usage: screenshots BINARY FOLDER")
		os.Exit(2)
	}
	if err := takeAll(os.Args[1], os.Args[2]); err != nil {
		fmt.Fprintln(os.Stderr, "screenshots:", err)
		os.Exit(1)
	}
}

// studio is the running demo and a browser to look at it.
type studio struct {
	tab     context.Context
	binary  string
	folder  string
	demo    string            // the demo's folder
	said    string            // what the demo printed at its start
	console map[string]string // addresses by service
}

func takeAll(binary, folder string) error {
	work, err := os.MkdirTemp("", "nexocumula-screenshots-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(work)
	s := &studio{binary: binary, folder: folder, demo: filepath.Join(work, "demo"), console: map[string]string{}}
	stop, err := s.startDemo()
	if err != nil {
		return err
	}
	defer stop()
	tab, closeTab, err := browser.Open(context.Background(), filepath.Join(work, "profile"))
	if err != nil {
		return err
	}
	defer closeTab()
	s.tab = tab
	time.Sleep(25 * time.Second) // let some live windows close, and a probe glitch
	for _, take := range []func() error{s.asking, s.pages, s.access, s.commands, s.outage} {
		if err := take(); err != nil {
			return err
		}
	}
	return nil
}

func (s *studio) startDemo() (stop func(), err error) {
	cmd := exec.Command(s.binary, "demo", "--dir", s.demo, "--console", "127.0.0.1:0", "--world-time",
		demo.Midday().Format(time.RFC3339))
	out, err := cmd.StdoutPipe()
	if err != nil {
		return nil, err
	}
	cmd.Stderr = os.Stderr
	if err := cmd.Start(); err != nil {
		return nil, err
	}
	stop = func() {
		_ = cmd.Process.Signal(os.Interrupt)
		_ = cmd.Wait()
	}
	var said strings.Builder
	buffer := make([]byte, 4096)
	for !strings.Contains(said.String(), "Ctrl-C") {
		n, err := out.Read(buffer)
		said.Write(buffer[:n])
		if err != nil {
			stop()
			return nil, fmt.Errorf("the demo ended early: %w\n%s", err, said.String())
		}
	}
	s.console = asking.Consoles(said.String())
	go func() {
		for {
			if _, err := out.Read(buffer); err != nil {
				return
			}
		}
	}()
	s.said = strings.NewReplacer(" --dir "+s.demo, "", s.demo, "nexocumula-demo", s.binary, "nexocumula").Replace(said.String())
	return stop, nil
}

// asking writes the answers into docs/asking.md, which stands beside the pictures.
func (s *studio) asking() error {
	return asking.Demo{Binary: s.binary, Consoles: s.console}.Refresh(filepath.Join(s.folder, "..", "asking.md"))
}

func (s *studio) take(name string, steps ...chromedp.Action[chromedp.Void]) error {
	ctx, cancel := context.WithTimeout(s.tab, 90*time.Second)
	defer cancel()
	if err := chromedp.Do(ctx, steps...); err != nil {
		return fmt.Errorf("picture %s: %w", name, err)
	}
	picture, err := chromedp.Run(ctx, chromedp.CaptureScreenshot())
	if err != nil {
		return fmt.Errorf("picture %s: %w", name, err)
	}
	fmt.Println("taking", name)
	return os.WriteFile(filepath.Join(s.folder, name+".png"), picture, 0o644)
}

func (s *studio) pages() error {
	if err := chromedp.Do(s.tab, browser.Size(1280, 800)); err != nil { // starts the browser
		return err
	}
	central := s.console["central"]
	compared := central + "/trends?" + url.Values{
		"last":    {"3d"},
		"compare": {"1d"},
		"lane": {
			"chart:stony-beck/raceway-4/oxygen,stony-beck/raceway-1/oxygen", "states:stony-beck/raceway-4/aerator",
			"bearing:long-mere/mast/wind_direction", "growth:alder-weir/pump-1/energy",
		},
	}.Encode()
	drawn := browser.Until(`document.querySelector("[data-row]") && [...document.querySelectorAll("[data-lane=chart]")].every((l) => l.querySelector("[data-row]"))`)
	rows := browser.Until(`document.querySelectorAll("[data-series] svg path").length > 10`)
	settle := chromedp.Sleep(1200 * time.Millisecond)
	night := time.Now().UTC().Add(-7*time.Hour - 20*time.Minute) // 04:40 of the simulated world, where it is midday
	for about, text := range map[string]string{
		"stony-beck/raceway-4": "Aerator tripped; reset by hand", "stony-beck/raceway-4/oxygen": "Probe cleaned",
	} {
		out, err := exec.Command(s.binary, "note", "add", about, text, "--at", central, "--time",
			night.Format(time.RFC3339)).CombinedOutput()
		if err != nil {
			return fmt.Errorf("pinning a note: %w\n%s", err, out)
		}
		night = night.Add(4 * time.Hour)
	}
	shots := []struct {
		name  string
		steps []chromedp.Action[chromedp.Void]
	}{
		{
			"console-now",
			[]chromedp.Action[chromedp.Void]{browser.Dark(false), chromedp.Navigate(central + "/"), rows, settle},
		},
		{
			"console-happened",
			[]chromedp.Action[chromedp.Void]{
				chromedp.Navigate(central + "/?view=happened&last=24h"),
				browser.Until(`document.querySelectorAll("[data-happened-row] svg path").length >= 2`), settle,
			},
		},
		{"console-trends", []chromedp.Action[chromedp.Void]{
			chromedp.Navigate(compared), drawn, settle,
			browser.Until(`(document.querySelector("[data-axis]").focus(), true)`), chromedp.KeyEvent("\u0302"), settle,
		}},
		{"console-series", []chromedp.Action[chromedp.Void]{
			chromedp.Navigate(central + "/series?path=stony-beck/raceway-4/oxygen"), browser.Until(`document.querySelector("[data-mean-day]") && document.querySelector("[data-distribution]")`), settle,
		}},
		{"console-rejects", []chromedp.Action[chromedp.Void]{
			chromedp.Navigate(s.console["stony-beck"] + "/rejects"), browser.Until(`document.querySelector("[data-reject]")`), settle,
		}},
		{"console-field", []chromedp.Action[chromedp.Void]{
			chromedp.Navigate(s.console["long-mere"] + "/field"), browser.Until(`document.querySelectorAll("select option").length > 1`),
			chromedp.SetValue(chromedp.CSS("select"), "lake"), chromedp.Focus(chromedp.CSS("select")),
			browser.Until(`(document.querySelector("select").dispatchEvent(new Event("change", { bubbles: true })), [...document.querySelectorAll("main button:not([role=tab])")].find((b) => b.innerText === "Watch" && !b.disabled)?.click(), true)`),
			browser.Until(`document.querySelectorAll("[data-topic]").length >= 5`),
			browser.Until(`([...document.querySelectorAll("main button")].find((b) => b.innerText.startsWith("Lines for"))?.click(), true)`),
			browser.Until(`document.querySelector("[data-lines]")`), settle,
		}},
		{"console-board", []chromedp.Action[chromedp.Void]{
			browser.Dark(true), chromedp.Navigate(central + "/boards/place?about=stony-beck/raceway-4&last=3d"), drawn, settle,
		}},
		{
			"console-wall",
			[]chromedp.Action[chromedp.Void]{
				chromedp.Navigate(central + "/wall?board=of:stony-beck/raceway-4"), drawn, settle,
			},
		},
		{"console-phone", []chromedp.Action[chromedp.Void]{
			browser.Dark(false), browser.Size(390, 800), chromedp.Navigate(central + "/boards/place?about=stony-beck/raceway-4&last=2d"),
			browser.Until(`document.querySelectorAll("[data-lane] canvas").length >= 2`), settle,
			browser.Until(`(document.querySelector("[data-axis]").scrollIntoView({ block: "center" }), true)`), settle,
		}},
	}
	for _, shot := range shots {
		if err := s.take(shot.name, shot.steps...); err != nil {
			return err
		}
	}
	return chromedp.Do(s.tab, browser.Size(1280, 800))
}

// commands shows what people see when they type.
func (s *studio) commands() error {
	if err := s.terminal("cli-demo", "nexocumula demo", s.said); err != nil {
		return err
	}
	for _, c := range []struct {
		name, service string
		args          []string
	}{
		{"cli-now", "central", []string{"now", "long-mere/#"}},
		{
			"cli-windows", "central",
			[]string{
				"windows", "stony-beck/raceway-4/+", "--last", "2d", "--width", "12h", "--stats", "mean,min,max",
				"--chart", "always",
			},
		},
		{"cli-rejects", "stony-beck", []string{"reject", "list"}},
		{"cli-excursions", "central", []string{"excursions", "--last", "24h"}},
	} {
		if err := s.command(c.name, c.service, c.args...); err != nil {
			return err
		}
	}
	return nil
}

func (s *studio) command(name, service string, args ...string) error {
	cmd := exec.Command(s.binary, args...)
	cmd.Env = append(os.Environ(), "NEXOCUMULA_AT="+s.console[service])
	out, err := cmd.CombinedOutput()
	if err != nil {
		return fmt.Errorf("%s: %w\n%s", strings.Join(args, " "), err, out)
	}
	line := "nexocumula"
	for _, arg := range args {
		if strings.ContainsAny(arg, " #") {
			arg = "'" + arg + "'"
		}
		line += " " + arg
	}
	return s.terminal(name, line, string(out))
}

// terminal draws text as a terminal of 1280×800 would show it.
func (s *studio) terminal(name, command, text string) error {
	size := "13px/17px"
	if strings.Count(text, "\n") > 44 {
		size = "11px/14px" // what is long fits all the same
	}
	page := `<meta charset="utf-8"><body style="margin:0;background:#131b1d;color:#e6e9e2"><pre style="margin:16px;font:` + size + ` 'DejaVu Sans Mono','Liberation Mono',monospace">` +
		`<span style="color:#6fc3b8">$ ` + html.EscapeString(command) + "</span>\n" + html.EscapeString(text) + "</pre>"
	return s.take(name, chromedp.Navigate("data:text/html;charset=utf-8,"+url.PathEscape(page)))
}

// outage shows a gateway while its central is cut off, and what is told of it afterwards.
func (s *studio) outage() error {
	if out, err := exec.Command(s.binary, "demo", "outage", "--for", "40s", "--dir", s.demo).CombinedOutput(); err != nil {
		return fmt.Errorf("demo outage: %w\n%s", err, out)
	}
	time.Sleep(24 * time.Second)
	if err := s.command("cli-uplinks", "long-mere", "uplink", "list"); err != nil {
		return err
	}
	if err := s.take("console-links", chromedp.Navigate(s.console["long-mere"]+"/links"),
		browser.Until(`document.querySelector("[data-outage]")`), chromedp.Sleep(time.Second)); err != nil {
		return err
	}
	return s.take("console-outage", browser.Until(`/backlog\s+0 summaries/.test(document.querySelector("section").innerText)`),
		browser.Until(`((b) => b && (b.click(), true))([...document.querySelectorAll("[data-outage]")].pop())`),
		browser.Until(`document.querySelector("[data-story]")?.innerText.includes("had waited arrived")`), chromedp.Sleep(time.Second))
}
