package api

import (
	"context"
	"errors"
	"io"
	"net/http"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"nexocumula/internal/access"
	"nexocumula/internal/central"
	"nexocumula/internal/wire"
)

// crossWithin is how long an envelope may take to arrive.
const crossWithin = 10 * time.Minute

// replication takes an envelope from a gateway. The answer goes out when it is on
// disk.
func (h handlers) replication(c *gin.Context) {
	if h.Central == nil {
		fail(c, http.StatusNotFound, "no_central", "this service is no central; set central: in its configuration")
		return
	}
	token, _ := strings.CutPrefix(c.GetHeader("Authorization"), "Bearer ")
	if err := h.Central.Knows(token); err != nil { // before any of the body is read
		h.refuseGateway(c, central.RefusalOf(err))
		return
	}
	// A batch has its time to cross a slow link.
	_ = http.NewResponseController(c.Writer).SetReadDeadline(time.Now().Add(crossWithin))
	body, err := io.ReadAll(http.MaxBytesReader(c.Writer, c.Request.Body, wire.MaxEnvelope))
	var large *http.MaxBytesError
	if errors.As(err, &large) {
		refuseEnvelope(c, http.StatusRequestEntityTooLarge, wire.Refusal{
			Code: wire.CodeMalformed, Message: "the envelope is larger than 4 MiB; send fewer summaries",
		})
		return
	}
	if err != nil {
		return // the gateway went away; it will send the envelope again
	}
	reply, err := h.Central.Receive(c.Request.Context(), token, c.Request.RemoteAddr, body)
	if err != nil {
		h.refuseGateway(c, central.RefusalOf(err))
		return
	}
	c.JSON(http.StatusOK, reply)
}

// waitForRequests answers once something is asked of a gateway, or after a while.
func (h handlers) waitForRequests(c *gin.Context) {
	if !h.receiving(c) {
		return
	}
	in, ok := request[wire.Wait](c)
	if !ok {
		return
	}
	token, _ := strings.CutPrefix(c.GetHeader("Authorization"), "Bearer ")
	ctx, cancel := context.WithCancel(c.Request.Context())
	defer cancel()
	go func() {
		select {
		case <-h.Stopping:
			cancel()
		case <-ctx.Done():
		}
	}()
	asked, err := h.Central.Waits(ctx, in.Gateway, token, c.Request.RemoteAddr)
	if err != nil {
		h.refuseGateway(c, central.RefusalOf(err))
		return
	}
	c.JSON(http.StatusOK, wire.Waited{Asked: asked})
}

var refusalStatus = map[string]int{
	wire.CodeTwin:      http.StatusConflict,
	wire.CodeOld:       http.StatusConflict,
	wire.CodeMalformed: http.StatusUnprocessableEntity,
	wire.CodeVersion:   http.StatusUnprocessableEntity,
	wire.CodeToken:     http.StatusUnauthorized,
	wire.CodeRevoked:   http.StatusForbidden,
	wire.CodeBusy:      http.StatusServiceUnavailable,
}

// refuseGateway refuses an envelope; that somebody is not the gateway he says is noted.
func (h handlers) refuseGateway(c *gin.Context, r wire.Refusal) {
	if r.Code == wire.CodeToken || r.Code == wire.CodeRevoked {
		h.Gate.Book.Refuse(access.Nobody(address(c), access.Rights{}).By(), "replication", "", r.Message)
	}
	refuseEnvelope(c, refusalStatus[r.Code], r)
}

func refuseEnvelope(c *gin.Context, status int, r wire.Refusal) {
	r.Title, r.Status = http.StatusText(status), status
	problem(c, status, r)
}
