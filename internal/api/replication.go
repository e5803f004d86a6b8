package api

import (
	"errors"
	"io"
	"net/http"
	"strings"

	"github.com/gin-gonic/gin"

	"nexocumula/internal/central"
	"nexocumula/internal/wire"
)

// replication takes an envelope from a gateway. The answer goes out when it is on
// disk.
func (h handlers) replication(c *gin.Context) {
	if h.Central == nil {
		fail(c, http.StatusNotFound, "no_central", "this service is no central; set central: in its configuration")
		return
	}
	body, err := io.ReadAll(http.MaxBytesReader(c.Writer, c.Request.Body, wire.MaxEnvelope))
	var large *http.MaxBytesError
	if errors.As(err, &large) {
		refuseEnvelope(c, http.StatusRequestEntityTooLarge, wire.Refusal{Code: wire.CodeMalformed, Message: "the envelope is larger than 16 MiB; send fewer batches"})
		return
	}
	if err != nil {
		return // the gateway went away; it will send the envelope again
	}
	token, _ := strings.CutPrefix(c.GetHeader("Authorization"), "Bearer ")
	reply, err := h.Central.Receive(token, body)
	if err != nil {
		r := central.RefusalOf(err)
		refuseEnvelope(c, refusalStatus[r.Code], r)
		return
	}
	c.JSON(http.StatusOK, reply)
}

var refusalStatus = map[string]int{
	wire.CodeGap:       http.StatusConflict,
	wire.CodeMalformed: http.StatusUnprocessableEntity,
	wire.CodeToken:     http.StatusUnauthorized,
	wire.CodeBusy:      http.StatusServiceUnavailable,
}

func refuseEnvelope(c *gin.Context, status int, r wire.Refusal) {
	c.AbortWithStatusJSON(status, gin.H{"error": r})
}
