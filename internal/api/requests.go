package api

import (
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"nexocumula/client"
	asked "nexocumula/internal/core/request"
	"nexocumula/internal/core/series"
	"nexocumula/internal/core/span"
	"nexocumula/internal/requests"
	"nexocumula/internal/store/records"
)

// Ledger keeps what is asked of gateways.
type Ledger interface {
	Ask(r records.Request) (records.Request, error)
	Fetch(r records.Request, what asked.ReadingsBody, until time.Time) (records.Request, error)
	Withdraw(uid, by string) (withdrawn bool, err error)
}

const (
	expiresUsual     = 24 * time.Hour // of requests for readings
	expiresSoon      = 2 * time.Minute
	expiresReconcile = time.Hour
	expiresMost      = 30 * 24 * time.Hour
	keptUsual        = 7 * 24 * time.Hour
	keptMost         = 90 * 24 * time.Hour
	mostAsked        = 200 // series of one request, whose body then fits
)

// askGateways makes requests.
func (h handlers) askGateways(c *gin.Context) {
	in, ok := request[client.NewRequest](c)
	if !ok {
		return
	}
	var made []records.Request
	var err error
	switch in.Kind {
	case asked.Readings:
		made, err = h.askReadings(c, in)
	case asked.Read:
		made, err = h.askRead(c, in)
	case asked.Reconcile:
		made, err = h.askReconcile(c, in)
	case asked.Notes:
		made, err = h.askNote(c, in)
	default:
		err = fmt.Errorf("kind %q is not one of %s", in.Kind, strings.Join(asked.Kinds(), ", "))
	}
	if c.IsAborted() {
		return
	}
	if unrouted, ok := errors.AsType[*requests.UnroutedError](err); ok {
		fail(c, http.StatusNotFound, "gateway", unrouted.Error())
		return
	}
	if err != nil {
		fail(c, http.StatusBadRequest, "body", err.Error())
		return
	}
	out := client.Requests{Requests: []client.Request{}}
	for _, r := range made {
		out.Requests = append(out.Requests, shownRequest(r))
		note(c, "%s", requests.Target(r))
	}
	c.Header("Location", "/api/v1/requests")
	if len(made) == 1 {
		c.Header("Location", "/api/v1/requests/"+made[0].UID)
	}
	c.JSON(http.StatusCreated, out)
}

func askedLength(key, text string, usual, most time.Duration) (time.Duration, error) {
	if text == "" {
		return usual, nil
	}
	got, err := span.Parse(text)
	if err != nil || got <= 0 || got > most {
		return 0, fmt.Errorf("%s %q is not a length up to %s, such as %s", key, text, span.Format(most), span.Format(cmp.Or(usual, most)))
	}
	return got, nil
}

// askReadings asks each gateway for the readings of its series.
func (h handlers) askReadings(c *gin.Context, in client.NewRequest) (made []records.Request, err error) {
	live, err := askedLength("live", in.Live, 0, asked.MostLive)
	if err != nil {
		return nil, err
	}
	if live > 0 {
		now := h.now()
		to := now.Add(live)
		if in.To != nil || in.From != nil && in.From.After(now) {
			return nil, errors.New("live is until that long from now: it has no to, and a from that is not later than now")
		}
		if in.To = &to; in.From == nil {
			in.From = &now
		}
	}
	if in.From == nil || in.To == nil || !in.To.After(*in.From) || in.From.Before(time.Unix(0, 0)) || in.Site+in.Source+in.Group != "" {
		return nil, errors.New("readings are asked for with select, from and to, where to is later than from; or with select and live")
	}
	expires, err := askedLength("expires", in.Expires, expiresUsual, expiresMost)
	if err != nil {
		return nil, err
	}
	keep, err := askedLength("keep", in.Keep, keptUsual, keptMost)
	if err != nil {
		return nil, err
	}
	selector, err := series.ParseSelector(in.Select)
	if err != nil {
		return nil, err
	}
	bySite := map[string][]series.Path{}
	found := h.view(c).List(selector)
	for _, s := range found {
		if !s.Collected { // else they are here
			bySite[s.Path.Site()] = append(bySite[s.Path.Site()], s.Path)
		}
	}
	if len(found) == 0 {
		fail(c, http.StatusNotFound, "unknown_series",
			fmt.Sprintf("no series matches %s; nexocumula series list shows what there is", in.Select))
		return nil, nil
	}
	if len(bySite) == 0 {
		return nil, fmt.Errorf("the readings of %s are collected here: nexocumula readings shows them", in.Select)
	}
	for _, site := range slices.Sorted(maps.Keys(bySite)) {
		for paths := range slices.Chunk(bySite[site], mostAsked) {
			what := asked.ReadingsBody{Series: paths, From: in.From.UTC(), To: in.To.UTC(), Live: live > 0}
			r := records.Request{Site: site, Kind: asked.Readings, Author: callerOf(c).Name, Expires: h.now().Add(expires)}
			if r, err = h.Ledger.Fetch(r, what, h.now().Add(expires+keep)); err != nil {
				return made, err
			}
			made = append(made, r)
		}
	}
	return made, nil
}

// askRead asks a gateway to read a source.
func (h handlers) askRead(c *gin.Context, in client.NewRequest) ([]records.Request, error) {
	if in.Site == "" || in.Source == "" || in.Select+in.Keep != "" || in.From != nil || in.To != nil {
		return nil, errors.New("a source is read with site, source and perhaps group")
	}
	expires, err := askedLength("expires", in.Expires, expiresSoon, expiresMost)
	if err != nil {
		return nil, err
	}
	body, err := json.Marshal(asked.ReadBody{Source: in.Source, Group: in.Group})
	if err != nil {
		return nil, err
	}
	r, err := h.Ledger.Ask(records.Request{
		Site: in.Site, Kind: asked.Read, Author: callerOf(c).Name, Expires: h.now().Add(expires), Body: body,
	})
	return []records.Request{r}, err
}

// askReconcile asks a gateway to compare what it has sent to here.
func (h handlers) askReconcile(c *gin.Context, in client.NewRequest) ([]records.Request, error) {
	if in.Site == "" || in.Select+in.Keep+in.Source+in.Group != "" {
		return nil, errors.New("a comparison is asked for with site, and perhaps from, to and mend")
	}
	expires, err := askedLength("expires", in.Expires, expiresReconcile, expiresMost)
	if err != nil {
		return nil, err
	}
	what := asked.ReconcileBody{From: h.now().Add(-reconcileOver).UTC(), To: h.now().UTC(), Mend: in.Mend}
	if in.From != nil {
		what.From = in.From.UTC()
	}
	if in.To != nil {
		what.To = in.To.UTC()
	}
	if !what.To.After(what.From) {
		return nil, errors.New("to is not later than from")
	}
	body, err := json.Marshal(what)
	if err != nil {
		return nil, err
	}
	r, err := h.Ledger.Ask(records.Request{
		Site: in.Site, Kind: asked.Reconcile, Author: callerOf(c).Name, Expires: h.now().Add(expires), Body: body,
	})
	return []records.Request{r}, err
}

// askNote asks the gateway of a note's site to keep it.
func (h handlers) askNote(c *gin.Context, in client.NewRequest) ([]records.Request, error) {
	if in.Note == 0 || in.Select+in.Keep+in.Site+in.Source+in.Group != "" || in.From != nil || in.To != nil {
		return nil, errors.New("a note is sent with its number")
	}
	expires, err := askedLength("expires", in.Expires, expiresUsual, expiresMost)
	if err != nil {
		return nil, err
	}
	n, ok, err := h.Records.Notes.VersionOf(in.Note)
	if err != nil {
		return nil, err
	}
	if !ok {
		fail(c, http.StatusNotFound, "unknown", fmt.Sprintf("there is no note %d", in.Note))
		return nil, nil
	}
	body, err := json.Marshal(asked.NotesBody{Notes: []asked.Note{{
		ID: n.UID, Version: n.Version, Removed: n.Removed, About: n.About, At: n.At.UTC(), Text: n.Text, Author: n.Author, Written: n.Written.UTC(),
	}}})
	if err != nil {
		return nil, err
	}
	r, err := h.Ledger.Ask(records.Request{
		Site: series.Path(n.About).Site(), Kind: asked.Notes, Author: callerOf(c).Name, Expires: h.now().Add(expires), Body: body,
	})
	return []records.Request{r}, err
}

func shownRequest(r records.Request) client.Request {
	out := client.Request{
		ID: r.UID, Site: r.Site, Kind: r.Kind, Author: r.Author, MadeAt: r.Made.UTC(), ExpiresAt: r.Expires.UTC(), Gateway: r.To, Uplink: r.By,
		State: string(r.State), Progress: r.Progress, Detail: r.Detail, ChangedAt: r.Changed.UTC(), Body: r.Body, Answer: json.RawMessage("null"),
	}
	if len(r.Answer) > 0 {
		out.Answer = r.Answer
	}
	return out
}

const mostRequestsListed = 1000

// requests lists what gateways were asked.
func (h handlers) requests(c *gin.Context) {
	v, ok := names{"state", "limit"}.query(c)
	if !ok {
		return
	}
	state := asked.State(v.Get("state"))
	most, err := whole(v, "limit", 50, 1, mostRequestsListed)
	if err == nil && state != "" && !slices.Contains(asked.States, state) {
		err = fmt.Errorf("state %q is not known; use one of %v", state, asked.States)
	}
	if err != nil {
		fail(c, http.StatusBadRequest, "query", err.Error())
		return
	}
	found, err := h.Records.Requests.List(records.RequestFilter{State: state, Most: int(most)})
	if err != nil {
		fail(c, http.StatusInternalServerError, "store", err.Error())
		return
	}
	out := client.Requests{Requests: []client.Request{}}
	for _, r := range found {
		out.Requests = append(out.Requests, shownRequest(r))
	}
	c.JSON(http.StatusOK, out)
}

// request answers one.
func (h handlers) request(c *gin.Context) {
	if _, ok := (names{}).query(c); !ok {
		return
	}
	if r, ok := h.knownRequest(c); ok {
		c.JSON(http.StatusOK, shownRequest(r))
	}
}

func (h handlers) knownRequest(c *gin.Context) (records.Request, bool) {
	r, ok, err := h.Records.Requests.Get(c.Param("request"))
	switch {
	case err != nil:
		fail(c, http.StatusInternalServerError, "store", err.Error())
	case !ok:
		fail(c, http.StatusNotFound, "unknown", fmt.Sprintf("there is no request %.80q", c.Param("request")))
	}
	return r, ok && err == nil
}

// withdrawRequest takes one back.
func (h handlers) withdrawRequest(c *gin.Context) {
	if _, ok := (names{}).query(c); !ok {
		return
	}
	r, ok := h.knownRequest(c)
	if !ok {
		return
	}
	withdrawn, err := h.Ledger.Withdraw(r.UID, callerOf(c).Name)
	switch {
	case err != nil:
		fail(c, http.StatusServiceUnavailable, "store", err.Error())
		return
	case !withdrawn:
		fail(c, http.StatusConflict, "delivered", fmt.Sprintf("request %s is %s, and can be withdrawn only before its gateway has it", r.UID, r.State))
		return
	}
	note(c, "%s", requests.Target(r))
	if r, ok = h.knownRequest(c); ok {
		c.JSON(http.StatusOK, shownRequest(r))
	}
}
