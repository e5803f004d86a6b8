package api

import (
	"errors"
	"fmt"
	"io"
	"mime"
	"net/http"
	"slices"
	"strings"
	"unicode/utf8"

	"github.com/gin-gonic/gin"

	"nexocumula/client"
	"nexocumula/internal/access"
	"nexocumula/internal/core/screen"
	"nexocumula/internal/core/series"
	"nexocumula/internal/gateway/payload"
	"nexocumula/internal/gateway/push"
	"nexocumula/internal/store/records"
)

var pushForms = map[string]push.Form{
	"text/csv": push.CSV, "application/senml+json": push.SenMLJSON, "application/senml+cbor": push.SenMLCBOR,
}

const (
	mostRefusedTold = 100 // rows
	longestKey      = 200
)

// push takes readings from a sender. The answer goes out when they are on disk.
func (h handlers) push(c *gin.Context) {
	token, _ := strings.CutPrefix(c.GetHeader("Authorization"), "Bearer ")
	if h.Gateway == nil {
		fail(c, http.StatusNotFound, "no_gateway", "this service collects nothing; post to a gateway")
		return
	}
	receiver, sender := h.Gateway.Receiver(token)
	var may func(series.Path) bool
	if who, err := h.who(c); receiver == nil && err == nil && who.Kind == "token" && who.Role == access.Sender {
		receiver, sender = h.Gateway.ReceiverNamed(who.Name)
		may = who.Scope.Sees
	}
	if receiver == nil {
		c.Header("WWW-Authenticate", "Bearer")
		h.turnAway(c, access.Nobody(address(c), access.Rights{}), "readings", http.StatusUnauthorized, "token",
			"no sender of an http_push source has this token; send it as Authorization: Bearer TOKEN. A token made here is for the sender of its name, and has the role sender")
		return
	}
	topic := c.Query("topic")
	media, _, _ := mime.ParseMediaType(c.GetHeader("Content-Type"))
	form, ok := pushForms[media]
	if topic != "" {
		form, ok = push.Message, true
	}
	if !ok {
		fail(c, http.StatusUnsupportedMediaType, "content_type",
			fmt.Sprintf("Content-Type %q is not taken; use application/senml+json, application/senml+cbor or text/csv, or say with ?topic= which of the source's messages: it is",
				media))
		return
	}
	key := c.GetHeader("Idempotency-Key")
	if len(key) > longestKey || !utf8.ValidString(key) {
		fail(c, http.StatusBadRequest, "key",
			fmt.Sprintf("the Idempotency-Key has %d bytes; at most %d are taken", len(key), longestKey))
		return
	}
	body, err := io.ReadAll(http.MaxBytesReader(c.Writer, c.Request.Body, int64(receiver.MaxBody())))
	if _, large := errors.AsType[*http.MaxBytesError](err); large {
		fail(c, http.StatusRequestEntityTooLarge, "too_large",
			fmt.Sprintf("the body is longer than max_body allows, %d bytes; send fewer rows at a time",
				receiver.MaxBody()))
		return
	}
	if err != nil {
		return // the sender went away
	}
	if packed := c.GetHeader("Content-Encoding"); packed != "" && packed != "identity" {
		if !slices.Contains(payload.Compressions, packed) {
			c.Header("Accept-Encoding", strings.Join(payload.Compressions, ", "))
			fail(c, http.StatusUnsupportedMediaType, "content_encoding",
				fmt.Sprintf("Content-Encoding %q is not taken; use %s", packed,
					strings.Join(payload.Compressions, ", ")))
			return
		}
		if body, err = payload.Unpack(packed, body, receiver.MaxBody()); err != nil {
			fail(c, http.StatusUnprocessableEntity, "unreadable", err.Error())
			return
		}
	}
	document := push.Document{Sender: sender, Form: form, Topic: topic, Body: body, Key: key, May: may}
	if c.Query("preview") == "true" {
		h.previewPush(c, receiver, document)
		return
	}
	outcome, err := receiver.Take(c.Request.Context(), document)
	if bad, ok := errors.AsType[push.Unreadable](err); ok {
		fail(c, http.StatusUnprocessableEntity, "unreadable", bad.Error())
		return
	}
	if errors.Is(err, records.ErrOtherBody) {
		fail(c, http.StatusConflict, "key",
			fmt.Sprintf("the Idempotency-Key %q came before with another body, so nothing was stored; give each new request a key of its own",
				key))
		return
	}
	if err != nil {
		fail(c, http.StatusServiceUnavailable, "not_stored",
			"the readings could not be stored now; send them again: "+err.Error())
		return
	}
	answer := client.Pushed{Accepted: outcome.Accepted, Refused: len(outcome.Refused), Rows: []client.RefusedRow{}}
	for _, r := range outcome.Refused[:min(len(outcome.Refused), mostRefusedTold)] {
		answer.Rows = append(answer.Rows, client.RefusedRow{Place: r.Place, Reason: r.Reason})
	}
	status := http.StatusOK
	if answer.Refused > 0 && answer.Accepted == 0 {
		status = http.StatusUnprocessableEntity
	}
	c.JSON(status, answer)
}

// previewPush says what would become of a document.
func (h handlers) previewPush(c *gin.Context, receiver *push.Receiver, d push.Document) {
	trials, rejects, err := receiver.Preview(d)
	if bad, ok := errors.AsType[push.Unreadable](err); ok {
		fail(c, http.StatusUnprocessableEntity, "unreadable", bad.Error())
		return
	}
	if err != nil {
		fail(c, http.StatusServiceUnavailable, "not_now", err.Error())
		return
	}
	out := client.Pushed{Rows: []client.RefusedRow{}, Previews: []client.PreviewedRow{}}
	refuse := func(place, reason string) {
		if out.Refused++; len(out.Rows) < mostRefusedTold {
			out.Rows = append(out.Rows, client.RefusedRow{Place: place, Reason: reason})
		}
	}
	for _, r := range rejects {
		_, place, _ := strings.Cut(r.Place, ": ")
		refuse(place, r.Reason)
	}
	for _, t := range trials {
		if t.Reading.From == nil || !strings.HasPrefix(t.Reading.From.Place, "sender ") {
			continue // it would be derived, and is no row of the sender's
		}
		place := push.PlaceOf(t.Reading.From)
		if t.Rule != "" && t.Then == screen.Reject {
			refuse(place, t.Reason)
			continue
		}
		out.Accepted++
		out.Previews = append(out.Previews, client.PreviewedRow{
			Place: place, Series: string(t.Def.Path), Time: at(t.Reading.Time), Value: client.Number(t.Value), Unit: t.Def.Unit, State: t.Def.States.Name(t.Value),
		})
	}
	c.JSON(http.StatusOK, out)
}
