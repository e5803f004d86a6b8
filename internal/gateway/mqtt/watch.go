package mqtt

import (
	"context"
	"time"
)

// watch tells again who is connected, and whether the files of certificates and accounts can
// still be used, until ctx ends.
func (l *listener) watch(ctx context.Context) {
	tick := time.NewTicker(presentEvery)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			l.presence.end()
			return
		case <-tick.C:
		}
		if l.settings.tls != nil {
			if err := l.settings.tls.Trouble(); err != nil {
				l.Failed("tls", err.Error()+"; those read before still count")
			} else if err := l.settings.tls.Expiring(time.Now()); err != nil {
				l.Failed("tls", err.Error())
			}
		}
		if l.settings.accounts != nil {
			if err := l.settings.accounts.problem(); err != nil {
				l.Failed("accounts", err.Error()+"; those read before still count")
			}
		}
		if l.settings.presence != "" {
			l.tell(l.presence.all())
		}
	}
}
