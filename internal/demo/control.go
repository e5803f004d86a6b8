package demo

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"

	"nexocumula/internal/core/span"
	"nexocumula/internal/sim"
)

// contact is the content of a running demo's marker file.
type contact struct {
	Control string            `json:"control"` // where the demo listens for Outage
	Console string            `json:"console"`
	Sites   map[string]string `json:"sites"`
}

// MaxOutage is the longest outage that can be asked for.
const MaxOutage = 24 * time.Hour

// Serve lets other processes on this machine ask for an outage, until ctx ends.
func (w *World) Serve(ctx context.Context, dir string, log *slog.Logger) error {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return fmt.Errorf("opening the demo's control: %w", err)
	}
	c := contact{Control: "http://" + l.Addr().String(), Console: w.Central.Address, Sites: map[string]string{}}
	for site, g := range w.Gateways {
		c.Sites[site] = g.Address
	}
	text, err := json.MarshalIndent(c, "", "  ")
	if err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(dir, marker), append(text, '\n'), 0o640); err != nil {
		return fmt.Errorf("opening the demo's control: %w", err)
	}
	outages := make(chan outage)
	mux := http.NewServeMux()
	mux.HandleFunc("POST /outage", func(rw http.ResponseWriter, r *http.Request) {
		length, err := span.Parse(r.FormValue("for"))
		if err != nil || length > MaxOutage {
			http.Error(rw,
				fmt.Sprintf("for %q: use a duration such as 30s, up to %s", r.FormValue("for"), span.Format(MaxOutage)), http.StatusBadRequest)
			return
		}
		cut := outage{length: length}
		if site := r.FormValue("site"); site != "" {
			if cut.sites = []string{site}; w.links[site] == nil {
				http.Error(rw, fmt.Sprintf("site %q is none of the demo's: %s", site, strings.Join(sim.Sites, ", ")), http.StatusBadRequest)
				return
			}
		}
		select {
		case outages <- cut:
			fmt.Fprintln(rw, "cut off")
		default:
			http.Error(rw, "a link is cut already", http.StatusConflict)
		}
	})
	server := &http.Server{Handler: mux, ReadHeaderTimeout: 5 * time.Second}
	go func() { <-ctx.Done(); server.Close() }()
	go w.playOutages(ctx, outages, log)
	if err := server.Serve(l); err != http.ErrServerClosed {
		return err
	}
	return nil
}

// outage is a cut of the links of some sites, or of all.
type outage struct {
	length time.Duration
	sites  []string
}

// playOutages takes one outage after the other; while one lasts none is taken.
func (w *World) playOutages(ctx context.Context, outages <-chan outage, log *slog.Logger) {
	for {
		select {
		case cut := <-outages:
			log.Info("the central is cut off", "for", cut.length, "sites", cut.sites)
			w.CutOff(true, cut.sites...)
			select {
			case <-time.After(cut.length):
			case <-ctx.Done():
			}
			w.CutOff(false, cut.sites...)
			log.Info("the central is back")
		case <-ctx.Done():
			return
		}
	}
}

// Outage asks the demo that runs in dir to cut its central off from a site for a while, or from all without one.
func Outage(ctx context.Context, dir, site string, length time.Duration) error {
	text, err := os.ReadFile(filepath.Join(dir, marker))
	if err != nil {
		return fmt.Errorf("no demo has been started in %s; name its folder with --dir: %w", dir, err)
	}
	var c contact
	if err := json.Unmarshal(text, &c); err != nil || c.Control == "" {
		return fmt.Errorf("the demo in %s is not ready yet; try again in a moment", dir)
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, c.Control+"/outage?"+url.Values{"for": {span.Format(length)}, "site": {site}}.Encode(), nil)
	if err != nil {
		return err
	}
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		return fmt.Errorf("the demo in %s does not run: %w", dir, err)
	}
	defer resp.Body.Close()
	answer, _ := io.ReadAll(io.LimitReader(resp.Body, 4096))
	if resp.StatusCode != http.StatusOK {
		return fmt.Errorf("the demo refused: %s", strings.TrimSpace(string(answer)))
	}
	return nil
}
