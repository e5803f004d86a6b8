package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"nexocumula/internal/access"
	"nexocumula/internal/config"
	"nexocumula/internal/core/request"
	"nexocumula/internal/event"
	"nexocumula/internal/gateway/source"
	"nexocumula/internal/requests"
	"nexocumula/internal/store/fetched"
	"nexocumula/internal/store/records"
)

// newLedger makes what keeps requests, and carries out those for this service.
func (s *Service) newLedger(settings config.Settings) *requests.Ledger {
	site, route := "", (func(string) (string, bool))(nil)
	if settings.Gateway != nil {
		site = settings.Gateway.Site
	}
	if s.Central != nil {
		route = s.Central.Route
	}
	doers := map[string]requests.Doer{request.Readings: (&sending{s: s, begun: map[string]*parcel{}}).do, request.Notes: s.takeNotes, request.Reconcile: s.reconcileAsAsked}
	if s.Gateway != nil {
		doers[request.Read] = s.readNow
	}
	audit := func(who, action, target, outcome, reason string) {
		by := access.By{Who: who, Kind: "gateway"}
		_ = s.book.Note(by, access.Entry{Action: action, Target: target, Outcome: outcome, Reason: reason}) // the book says itself that it could not
	}
	return requests.New(s.Store.Requests, s.Store.Judge().Now, site, route, doers, audit, s.Store.Fetched.Expect, s.endFetch, s.log)
}

// readNow has a source read its devices.
func (s *Service) readNow(ctx context.Context, r records.Request) (out requests.Outcome, err error) {
	var what request.ReadBody
	if err := json.Unmarshal(r.Body, &what); err != nil {
		return out, &requests.RefusedError{Reason: "its body is not as docs/replication.md has it: " + err.Error()}
	}
	reader, names := s.Gateway.Reader(what.Source)
	if reader == nil {
		there := "this gateway has none"
		if len(names) > 0 {
			there = "there is " + strings.Join(names, ", ")
		}
		return out, &requests.RefusedError{Reason: fmt.Sprintf("no source that asks devices is called %.80q; %s", what.Source, there)}
	}
	got, err := reader.Read(ctx, what.Group)
	if _, none := errors.AsType[source.NoGroup](err); none {
		return out, &requests.RefusedError{Reason: err.Error()}
	}
	if err != nil {
		return out, err
	}
	return requests.Outcome{
		Done: true, Detail: fmt.Sprintf("%d readings, %d rejects, %d failed", got.Readings, got.Rejects, len(got.Failed)),
		Answer: request.ReadAnswer{Readings: got.Readings, Rejects: got.Rejects, Failed: append([]string{}, got.Failed...)},
	}, nil
}

// takeNotes keeps notes that were written at a central.
func (s *Service) takeNotes(_ context.Context, r records.Request) (out requests.Outcome, err error) {
	var what request.NotesBody
	if err := json.Unmarshal(r.Body, &what); err != nil {
		return out, &requests.RefusedError{Reason: "its body is not as docs/replication.md has it: " + err.Error()}
	}
	now := s.Store.Judge().Now()
	var notes []records.NoteVersion
	for i, n := range what.Notes {
		one := records.NoteVersion{UID: n.ID, Version: n.Version, Removed: n.Removed}
		one.Note = records.Note{About: n.About, At: n.At, Text: n.Text, Author: n.Author, Written: n.Written}
		if err := one.Check(now); err != nil {
			return out, &requests.RefusedError{Reason: fmt.Sprintf("note %d: %v", i, err)}
		}
		if site, _, _ := strings.Cut(n.About, "/"); site != r.Site {
			return out, &requests.RefusedError{Reason: fmt.Sprintf("note %d is about %s, which is not of %s", i, n.About, r.Site)}
		}
		notes = append(notes, one)
	}
	if err := s.Store.Notes.Keep(notes); err != nil {
		return out, err
	}
	return requests.Outcome{Done: true, Detail: fmt.Sprintf("%d notes", len(notes))}, nil
}

// endFetch settles what a request for readings brought. It may be called more than once.
func (s *Service) endFetch(r records.Request) error {
	if r.Kind != request.Readings || r.To == "" {
		return nil
	}
	if r.State != request.Done {
		return s.Store.Fetched.Forget(r.UID)
	}
	var got request.ReadingsAnswer
	if err := json.Unmarshal(r.Answer, &got); err != nil {
		return fmt.Errorf("reading what request %s brought: %w", r.UID, err)
	}
	var spans []fetched.Span
	for _, one := range got.Series {
		spans = append(spans, fetched.Span{Series: s.Store.Called(one.Path), From: one.From.UnixNano(), To: one.To.UnixNano()})
	}
	return s.Store.Fetched.Complete(r.UID, spans)
}

const dropFetchedEvery = time.Minute

// keepFetched settles what an earlier run left, and forgets what has been here for its time, until ctx ends.
func (s *Service) keepFetched(ctx context.Context) error {
	tick := time.NewTicker(dropFetchedEvery)
	defer tick.Stop()
	for {
		err := s.Store.Fetched.Drop(s.Store.Judge().Now())
		for _, uid := range s.Store.Fetched.Unsettled() {
			if r, ok, getErr := s.Store.Requests.Get(uid); err == nil && getErr == nil && (!ok || r.State.Final()) {
				r.UID = uid
				err = s.endFetch(r)
			}
		}
		if err == nil {
			err = s.Store.Requests.Drop(s.Store.Judge().Now())
		}
		if err != nil && ctx.Err() == nil {
			event.RequestsFailed.To(s.log, "error", err)
		}
		select {
		case <-tick.C:
		case <-ctx.Done():
			return nil
		}
	}
}
