package sim

import (
	"context"
	"fmt"
	"net/http"
	"strings"
	"sync/atomic"
	"time"
)

// LakeLevel at the gauge of long-mere in m.
func (f Field) LakeLevel(t time.Time) float64 {
	return round(4.18+0.11*f.drift("lake-level", t, 60*time.Hour)+0.03*f.drift("rain", t, 9*time.Hour)+0.004*f.noise("wave",
		t.Unix()),
		0.001)
}

// LevelScript is a script at long-mere that posts what the lake's gauge shows, as CSV. Accepted
// counts its requests that were answered well.
type LevelScript struct{ Sent, Accepted atomic.Uint64 }

// StartLevelScript posts to a gateway until ctx ends. Every tenth time somebody has typed in the reading of the
// staff gauge as well, with a comma.
func StartLevelScript(ctx context.Context, f Field, gateway, token string, every time.Duration) *LevelScript {
	s := &LevelScript{}
	go func() {
		tick := time.NewTicker(every)
		defer tick.Stop()
		for n := 1; ; n++ {
			s.post(ctx, f, gateway, token, n%10 == 0)
			select {
			case <-tick.C:
			case <-ctx.Done():
				return
			}
		}
	}()
	return s
}

func (s *LevelScript) post(ctx context.Context, f Field, gateway, token string, typed bool) {
	t := time.Now()
	level := f.LakeLevel(f.Clock(t))
	body := fmt.Sprintf("series,time,value,unit\nlake/level,%s,%.3f,m\n", t.UTC().Format(time.RFC3339), level)
	if typed {
		body += fmt.Sprintf("lake/level,%s,\"%s\",m\n", t.UTC().Format(time.RFC3339),
			strings.Replace(fmt.Sprintf("%.2f", level), ".", ",", 1))
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, gateway+"/api/v1/readings", strings.NewReader(body))
	if err != nil {
		return
	}
	req.Header.Set("Authorization", "Bearer "+token)
	req.Header.Set("Content-Type", "text/csv")
	req.Header.Set("Idempotency-Key", t.UTC().Format(time.RFC3339Nano))
	s.Sent.Add(1)
	if answer, err := http.DefaultClient.Do(req); err == nil {
		answer.Body.Close()
		if answer.StatusCode < 300 {
			s.Accepted.Add(1)
		}
	}
}
