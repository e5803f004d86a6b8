package api

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"mime"
	"net/http"

	"github.com/gin-gonic/gin"

	"nexocumula/internal/gateway"
	"nexocumula/internal/plain"
)

const largestRequest = 1 << 20

// request reads what a call brings as JSON, and answers the call when it is not as the
// description has it. A page of somewhere else cannot send that type without being asked first.
func request[T any](c *gin.Context) (out T, ok bool) {
	if media, _, _ := mime.ParseMediaType(c.GetHeader("Content-Type")); media != "application/json" {
		fail(c, http.StatusUnsupportedMediaType, "content_type",
			fmt.Sprintf("Content-Type %q is not taken; use application/json", media))
		return out, false
	}
	d := json.NewDecoder(http.MaxBytesReader(c.Writer, c.Request.Body, largestRequest))
	d.DisallowUnknownFields()
	err := d.Decode(&out)
	if err == nil {
		if _, more := d.Token(); !errors.Is(more, io.EOF) {
			err = errors.New("something follows the first JSON value")
		}
	}
	if _, large := errors.AsType[*http.MaxBytesError](err); large {
		fail(c, http.StatusRequestEntityTooLarge, "too_large",
			fmt.Sprintf("the body is longer than %d bytes", largestRequest))
		return out, false
	}
	if err != nil {
		fail(c, http.StatusBadRequest, "body",
			fmt.Sprintf("the body is not as /api/openapi.yaml has it: %v", plain.JSON(err)))
		return out, false
	}
	return out, true
}

// created answers with what was made, and says where it is.
func created(c *gin.Context, call string, what any) {
	c.Header("Location", "/api/v1/"+call)
	c.JSON(http.StatusCreated, what)
}

// collecting returns the gateway, or answers that there is none.
func (h handlers) collecting(c *gin.Context) (*gateway.Gateway, bool) {
	if h.Gateway == nil {
		fail(c, http.StatusNotFound, "no_gateway", "this service collects nothing; ask a gateway")
	}
	return h.Gateway, h.Gateway != nil
}
