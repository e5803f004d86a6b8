package requests

import (
	"fmt"
	"slices"
	"strings"

	"nexocumula/internal/core/request"
	"nexocumula/internal/event"
	"nexocumula/internal/store/records"
	"nexocumula/internal/wire"
)

// Take keeps what a central asks over an uplink whose configuration allows some kinds. What is for gateways below is
// passed on to them.
func (l *Ledger) Take(uplink string, allow []string, in []wire.Request) error {
	for _, one := range in {
		r := records.Request{
			UID: one.ID, Site: one.Site, Kind: one.Kind, Author: one.Author, Made: one.MadeAt, Expires: one.ExpiresAt, Body: one.Body,
			By: uplink, State: request.Delivered, Version: one.Version + 1,
		}
		if why := l.refuses(&r, uplink, allow); why != "" {
			r.State, r.Detail = request.Refused, why
		}
		kept, isNew, err := l.kept.Add(r)
		switch {
		case err != nil:
			return err
		case !isNew && kept.By == uplink:
			err = l.kept.Change(r.UID, func(kept *records.Request) bool { // its answer goes up again
				kept.Version = max(kept.Version, one.Version+1)
				return true
			})
		case isNew:
			event.RequestTaken.To(l.log, "request", r.UID, "kind", r.Kind, "site", r.Site, "author", r.Author, "uplink", uplink)
			outcome := "done"
			if r.State == request.Refused {
				outcome = "failed"
			}
			l.audit(r.Author+" at "+uplink, "requests.take", Target(r), outcome, r.Detail)
		}
		if err != nil {
			return err
		}
	}
	if len(in) > 0 {
		l.wake()
	}
	return nil
}

// refuses says why a request is not taken on, "" when it is, and gives one that goes on to a gateway its way.
func (l *Ledger) refuses(r *records.Request, uplink string, allow []string) string {
	kind, known := request.Of(r.Kind)
	switch {
	case !known:
		return fmt.Sprintf("requests of kind %.40q are not known here; this service knows %s", r.Kind, strings.Join(request.Kinds(), ", "))
	case !slices.Contains(allow, kind.Name):
		return fmt.Sprintf("uplink %s does not allow requests of kind %s: its allow: has %s", uplink, kind.Name,
			strings.Join(allow, ", "))
	case !l.now().Before(r.Expires):
		return "it came after its time was over"
	case l.site != "" && r.Site == l.site:
		return ""
	}
	if l.route != nil {
		gateway, ok := l.route(r.Site)
		if ok && kind.Name != request.Readings { // readings are fetched to here first
			r.To, r.State = gateway, request.Waiting
		}
		if ok {
			return ""
		}
	}
	return fmt.Sprintf("site %.80s is not known here", r.Site)
}
