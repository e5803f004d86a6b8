package api

import (
	"io/fs"
	"log/slog"
	"net/http"
	"sync/atomic"
	"time"

	"github.com/gin-gonic/gin"

	"nexocumula/api"
	"nexocumula/client"
	"nexocumula/internal/central"
	"nexocumula/internal/config"
	"nexocumula/internal/gateway"
	"nexocumula/internal/store"
)

// Service is what the interface speaks for. Gateway or Central may be nil.
type Service struct {
	Store   *store.Store
	Gateway *gateway.Gateway
	Central *central.Receiver
	Accept  []string // gateways that may replicate here
	Queries config.Queries
	Dropped func() uint64 // rows that retention has dropped since the start
	Version string
	Started time.Time
	Console fs.FS
	Log     *slog.Logger

	// Stopping ends the live streams when it is closed.
	Stopping <-chan struct{}
}

// Handler is the HTTP handler of a service.
func Handler(s Service) http.Handler {
	gin.SetMode(gin.ReleaseMode)
	router := gin.New()
	router.HandleMethodNotAllowed = true
	router.Use(gin.CustomRecoveryWithWriter(nil, func(c *gin.Context, cause any) {
		s.Log.Error("a request failed inside", "path", c.Request.URL.Path, "cause", cause)
		fail(c, http.StatusInternalServerError, "internal", "the service failed while answering; its log says more")
	}), headers)
	h := handlers{s, new(atomic.Int64)}
	v1 := router.Group("/api/v1")
	v1.GET("/health", h.health)
	v1.GET("/series", h.series)
	v1.GET("/now", h.now)
	v1.GET("/stream", h.stream)
	v1.GET("/windows", h.windows)
	v1.GET("/moment", h.moment)
	v1.GET("/rejects", h.rejects)
	v1.GET("/uplinks", h.uplinks)
	v1.POST("/replication", h.replication)
	router.GET("/api/openapi.yaml", func(c *gin.Context) { c.Data(http.StatusOK, "application/yaml", api.OpenAPI) })
	router.NoRoute(console(s.Console))
	router.NoMethod(func(c *gin.Context) {
		fail(c, http.StatusMethodNotAllowed, "method", "this method is not possible here; see /api/openapi.yaml")
	})
	return router
}

type handlers struct {
	Service
	streams *atomic.Int64 // live streams open now
}

func headers(c *gin.Context) {
	h := c.Writer.Header()
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("X-Frame-Options", "DENY")
	h.Set("Referrer-Policy", "no-referrer")
	h.Set("Content-Security-Policy", "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:")
}

func fail(c *gin.Context, status int, code, message string) {
	c.AbortWithStatusJSON(status, gin.H{"error": client.Error{Code: code, Message: message}})
}
