package api

import (
	"errors"
	"fmt"
	"io"
	"net/http"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"nexocumula/client"
	"nexocumula/internal/central"
	"nexocumula/internal/uplink"
	"nexocumula/internal/wire"
)

// reconcileOver is the time that is compared unless another is asked for.
const reconcileOver = 30 * 24 * time.Hour

// reconcile compares what an uplink has sent with what there is at the other end.
func (h handlers) reconcile(c *gin.Context) {
	in, ok := request[client.NewReconcile](c)
	if !ok {
		return
	}
	from, to := h.now().Add(-reconcileOver), h.now()
	if in.From != nil {
		from = *in.From
	}
	if in.To != nil {
		to = *in.To
	}
	if !to.After(from) || from.Before(time.Unix(0, 0)) {
		fail(c, http.StatusBadRequest, "body", fmt.Sprintf("from %s to %s is no time; to is later than from, and both are after 1970",
			from.Format(time.RFC3339), to.Format(time.RFC3339)))
		return
	}
	out, err := h.Reconcile(c.Request.Context(), c.Param("uplink"), from, to, in.Mend)
	switch unknown := (interface{ UnknownUplink() })(nil); {
	case errors.As(err, &unknown):
		fail(c, http.StatusNotFound, "unknown", err.Error())
	case errors.Is(err, uplink.ErrNoComparison):
		fail(c, http.StatusConflict, "no_comparison", err.Error())
	case err != nil:
		fail(c, http.StatusBadGateway, "link", err.Error())
	default:
		note(c, "%s", out.Text)
		c.JSON(http.StatusOK, out)
	}
}

// compare answers a gateway that compares.
func (h handlers) compare(c *gin.Context) {
	if !h.receiving(c) {
		return
	}
	token, _ := strings.CutPrefix(c.GetHeader("Authorization"), "Bearer ")
	if err := h.Central.Knows(token); err != nil {
		h.refuseGateway(c, central.RefusalOf(err))
		return
	}
	_ = http.NewResponseController(c.Writer).SetReadDeadline(time.Now().Add(crossWithin))
	body, err := io.ReadAll(http.MaxBytesReader(c.Writer, c.Request.Body, wire.MaxEnvelope))
	if err != nil {
		refuseEnvelope(c, http.StatusRequestEntityTooLarge, wire.Refusal{
			Code: wire.CodeMalformed, Message: "the comparison is larger than 4 MiB, or did not arrive in full",
		})
		return
	}
	out, err := h.Compare(c.Request.Context(), token, c.Request.RemoteAddr, body)
	if err != nil {
		h.refuseGateway(c, central.RefusalOf(err))
		return
	}
	c.Data(http.StatusOK, wire.ContentType, out)
}
