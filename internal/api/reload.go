package api

import (
	"errors"
	"net/http"

	"github.com/gin-gonic/gin"

	"nexocumula/client"
	"nexocumula/internal/config/shape"
)

// reload has the service read its configuration again.
func (h handlers) reload(c *gin.Context) {
	applied, restart, err := h.Reload(c.Request.Context())
	var problems shape.Problems
	switch {
	case errors.As(err, &problems):
		fail(c, http.StatusUnprocessableEntity, "configuration",
			"everything stays as it is, for the file is not good:\n"+problems.Error())
	case err != nil:
		fail(c, http.StatusConflict, "configuration", "everything stays as it is: "+err.Error())
	default:
		c.JSON(http.StatusOK, client.Reloaded{
			Applied: append([]string{}, applied...), Restart: append([]string{}, restart...),
		})
	}
}
