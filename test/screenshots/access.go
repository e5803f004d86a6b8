package main

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"time"

	"github.com/chromedp/chromedp"

	"nexocumula/test/browser"
)

// guardedConfig is a central at which everybody has to log in.
const guardedConfig = `data: %s
listen: 127.0.0.1:0
access: { login: required }
central: { accept: [] }
`

var (
	codes   = regexp.MustCompile(`(?m)^  ([a-z0-9]{5}(?:-[a-z0-9]{5}){3})$`)
	address = regexp.MustCompile(`interface at (\S+)`)
)

// access shows the pages of those who log in, and who may do what.
func (s *studio) access() error {
	dir := filepath.Join(filepath.Dir(s.demo), "guarded")
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	file := filepath.Join(dir, "central.yaml")
	if err := os.WriteFile(file, fmt.Appendf(nil, guardedConfig, filepath.Join(dir, "data")), 0o600); err != nil {
		return err
	}
	said, err := os.Create(filepath.Join(dir, "said"))
	if err != nil {
		return err
	}
	defer said.Close()
	run := exec.Command(s.binary, "run", "--config", file)
	run.Stdout = said
	if err := run.Start(); err != nil {
		return err
	}
	defer func() {
		_ = run.Process.Signal(os.Interrupt)
		_ = run.Wait()
	}()
	var text []byte
	for tries := 0; !codes.Match(text); tries++ {
		if tries > 100 {
			return fmt.Errorf("the guarded central does not start: %s", text)
		}
		time.Sleep(100 * time.Millisecond)
		if text, err = os.ReadFile(said.Name()); err != nil {
			return err
		}
	}
	at := string(address.FindSubmatch(text)[1])
	do := func(input string, args ...string) (string, error) {
		cmd := exec.Command(s.binary, args...)
		cmd.Env = append(os.Environ(), "NEXOCUMULA_AT="+at, "HOME="+dir, "XDG_CONFIG_HOME="+dir)
		cmd.Stdin = strings.NewReader(input)
		out, err := cmd.CombinedOutput()
		if err != nil {
			err = fmt.Errorf("%v: %w\n%s", args, err, out)
		}
		return string(out), err
	}
	const words = "four words of trout\n"
	if _, err := do(string(codes.FindSubmatch(text)[1])+"\n"+words, "login", "--code", "--account", "warden"); err != nil {
		return err
	}
	for _, args := range [][]string{
		{"user", "add", "ranger", "--sees", "stony-beck/#"}, {
			"user", "add", "gill", "--role", "operator", "--sees", "stony-beck/#", "--sees", "alder-weir/#",
		},
		{"user", "add", "finch", "--role", "engineer"}, {"user", "change", "finch", "--lock"},
	} {
		if _, err := do("", args...); err != nil {
			return err
		}
	}
	settle := chromedp.Sleep(700 * time.Millisecond)
	enter := func(name, value string) chromedp.Action[chromedp.Void] {
		return chromedp.SendKeys(chromedp.CSS("[name="+name+"]"), value)
	}
	if err := s.take("console-login", chromedp.Navigate(at+"/"),
		browser.Until(`document.querySelector("[name=password]")`), settle); err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(s.tab, 90*time.Second)
	defer cancel()
	if err := chromedp.Do(ctx, enter("account", "warden"), enter("password", words),
		browser.Until(`document.querySelector("nav")`)); err != nil {
		return err
	}
	return s.take("console-access", chromedp.Navigate(at+"/access"), browser.Until(`document.querySelectorAll("[data-account]").length === 4`),
		browser.Until(`(document.querySelector("[data-account=gill] button").click(), true)`), settle)
}
