package service

import (
	"context"
	"encoding/json"
	"fmt"
	"sync"
	"time"

	"nexocumula/internal/core/request"
	"nexocumula/internal/core/series"
	"nexocumula/internal/requests"
	"nexocumula/internal/store/engine"
	"nexocumula/internal/store/outbox"
	"nexocumula/internal/store/records"
)

// sending sends readings that centrals asked for. They are marked in the outbox of the uplink that the request came by,
// and go within its budget, beside what is live.
type sending struct {
	s *Service

	mu    sync.Mutex
	begun map[string]*parcel // by request
}

// parcel is what a request asks for.
type parcel struct {
	series []parcelSeries
	rows   int
	live   time.Time // until when readings are sent as they are made; zero: they are not
}

type parcelSeries struct {
	id       uint32
	from, to int64 // that is marked
	request.SentSeries
}

// mostSent bounds the readings that one request brings.
const mostSent = 5_000_000

func (s *sending) do(ctx context.Context, r records.Request) (out requests.Outcome, err error) {
	box := s.s.outbox(r.By)
	if box == nil {
		s.forget(r.UID)
		return out, &requests.RefusedError{Reason: "uplink " + r.By + " is not there any more"}
	}
	s.mu.Lock()
	p := s.begun[r.UID]
	s.mu.Unlock()
	if p == nil {
		var body request.ReadingsBody
		if err := json.Unmarshal(r.Body, &body); err != nil {
			return out, &requests.RefusedError{Reason: "its body is not as docs/replication.md has it: " + err.Error()}
		}
		if out, err := s.fromBelow(r, body); err != nil || !out.Done {
			return out, err
		}
		if p, err = s.gather(ctx, r, body, box); err != nil {
			return out, err
		}
		for _, one := range p.series {
			if one.Readings > 0 {
				box.AskFor(one.id, one.from, one.to, one.Readings)
			}
		}
		s.mu.Lock()
		s.begun[r.UID] = p
		s.mu.Unlock()
	}
	if left := p.live.Sub(s.s.Store.Judge().Now()); left > 0 {
		out.Detail = fmt.Sprintf("as they are made, for another %s", left.Round(time.Second))
		out.Progress = max(0, 1-float64(left)/float64(request.MostLive))
		return out, nil
	}
	left, any := 0, false
	for _, one := range p.series {
		rows, some := box.AskedLeft(one.id, one.from, one.to)
		left, any = left+rows, any || some
	}
	out.Detail = fmt.Sprintf("%d of %d readings", max(0, p.rows-left), p.rows)
	if any {
		out.Progress = float64(max(0, p.rows-left)) / float64(max(1, p.rows))
		return out, nil
	}
	if !p.live.IsZero() {
		if err := s.recount(ctx, p); err != nil {
			return out, err
		}
	}
	s.forget(r.UID)
	answer := request.ReadingsAnswer{Series: []request.SentSeries{}}
	for _, one := range p.series {
		answer.Series = append(answer.Series, one.SentSeries)
	}
	return requests.Outcome{Done: true, Detail: fmt.Sprintf("%d readings", p.rows), Answer: answer}, nil
}

func (s *sending) forget(uid string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.begun, uid)
}

// gather looks which readings there are. Those that are still to be made are followed from before it looks, so that none is
// between the two.
func (s *sending) gather(ctx context.Context, r records.Request, body request.ReadingsBody, box *outbox.Outbox) (*parcel, error) {
	p := &parcel{}
	if body.Live {
		if body.To.Sub(r.Made) > request.MostLive {
			return nil, &requests.RefusedError{Reason: fmt.Sprintf("readings are sent as they are made for at most %s", request.MostLive)}
		}
		p.live = body.To
	}
	for _, path := range body.Series {
		known, ok := s.s.Store.Find(s.s.Store.Called(path))
		if !ok || known.Path.Site() != r.Site {
			continue
		}
		if body.Live && known.Collected {
			box.Follow(known.ID, body.From.UnixNano(), body.To.UnixNano())
		}
		one, ok, err := s.spanOf(&known, body.From.UnixNano(), body.To.UnixNano(), body.Live)
		if err != nil {
			return nil, err
		}
		if !ok {
			continue
		}
		rows, err := s.s.Store.ReadingsOf(ctx, known.ID, one.from, one.to, mostSent+1)
		if err != nil {
			return nil, err
		}
		one.Readings = rows.Len()
		if p.rows += rows.Len(); p.rows > mostSent {
			return nil, &requests.RefusedError{Reason: fmt.Sprintf("more than %d readings are not sent at once: ask for a shorter time or fewer series", mostSent)}
		}
		p.series = append(p.series, one)
	}
	if len(p.series) == 0 {
		return nil, &requests.RefusedError{Reason: "of this time no readings are kept there"}
	}
	return p, nil
}

// recount counts the readings that were made meanwhile.
func (s *sending) recount(ctx context.Context, p *parcel) error {
	p.rows = 0
	for i := range p.series {
		one := &p.series[i]
		rows, err := s.s.Store.ReadingsOf(ctx, one.id, one.From.UnixNano(), one.to, mostSent)
		if err != nil {
			return err
		}
		one.Readings = rows.Len()
		p.rows += rows.Len()
	}
	return nil
}

// spanOf returns the time for which all readings of a series are here, live those that will be.
func (s *sending) spanOf(known *engine.Series, from, to int64, live bool) (one parcelSeries, ok bool, err error) {
	if !live {
		to = min(to, s.s.Store.Judge().Now().UnixNano())
	}
	if known.Collected {
		since, some, err := s.s.Store.Readings(known.ID)
		if err != nil || !some && !live {
			return one, false, err
		}
		if some && since > known.FirstSeen { // earlier ones have gone
			from = max(from, since)
		}
		from = max(from, known.ThinnedTo)
	} else if !s.s.Store.Fetched.Covers(known.Path, from, to) {
		return one, false, nil
	}
	one = parcelSeries{id: known.ID, from: max(0, from-int64(known.FreshFor)), to: to}
	one.Path, one.From, one.To = known.Path, time.Unix(0, from).UTC(), time.Unix(0, to).UTC()
	return one, from < to, nil
}

// passOn is how long readings that are passed on to a central above stay here.
const passOn = 24 * time.Hour

// fromBelow first asks the gateway below for readings that were not collected here. It is done when they are here.
func (s *sending) fromBelow(r records.Request, body request.ReadingsBody) (out requests.Outcome, err error) {
	var missing []series.Path
	for _, path := range body.Series {
		if known, ok := s.s.Store.Find(s.s.Store.Called(path)); ok && !known.Collected {
			missing = append(missing, known.Path)
		}
	}
	if len(missing) == 0 {
		return requests.Outcome{Done: true}, nil
	}
	below := r
	below.UID, below.By, below.Version, below.Session = r.UID+"+", "", 0, ""
	kept, known, err := s.s.Store.Requests.Get(below.UID)
	switch {
	case err != nil:
		return out, err
	case !known:
		what := body
		what.Series = missing
		if _, err = s.s.ledger.Fetch(below, what, r.Expires.Add(passOn)); err != nil {
			return out, &requests.RefusedError{Reason: err.Error()}
		}
	case kept.State == request.Done:
		out.Done = true
		err = s.s.endFetch(kept)
	case kept.State.Final():
		err = &requests.RefusedError{Reason: kept.Detail}
	default:
		out.Progress, out.Detail = kept.Progress/2, "at the gateway: "+kept.Detail
	}
	return out, err
}
