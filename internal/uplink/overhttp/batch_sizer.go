package overhttp

import "time"

// batchSizer finds how much to send at once: as much as the link carries in a few seconds, so
// that on a slow one every batch arrives and the present does not wait for the past.
type batchSizer struct {
	bytes  float64 // of the next batch
	perRow float64 // bytes a summary took lately
}

const (
	firstBytes  = 32 << 10
	fewestBytes = 4 << 10
	mostBytes   = 1 << 20
	mostRows    = 8_000
	aimAt       = 5 * time.Second
	slowest     = 4 << 10 // bytes a second; half of a link of 64 kbit/s
	patience    = 30 * time.Second
)

func newBatchSizer() *batchSizer { return &batchSizer{bytes: firstBytes, perRow: 12} }

// rows returns how many summaries to put into the next batch.
func (p *batchSizer) rows() int { return max(1, min(mostRows, int(p.bytes/p.perRow))) }

// within returns how long a request may take.
func (p *batchSizer) within(bytes int) time.Duration {
	return patience + time.Duration(bytes)*time.Second/slowest
}

// sent learns from a batch that was answered.
func (p *batchSizer) sent(bytes, rows int, took time.Duration) {
	if rows == 0 {
		return
	}
	p.perRow += (float64(bytes)/float64(rows) - p.perRow) / 4
	fits := float64(bytes) * float64(aimAt) / float64(max(took, time.Millisecond))
	p.bytes = min(max(fits, fewestBytes), 2*max(p.bytes, float64(bytes)), mostBytes)
}

// lost learns from one that was not.
func (p *batchSizer) lost() { p.bytes = max(p.bytes/2, fewestBytes) }
