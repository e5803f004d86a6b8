package api

import (
	"context"
	"io/fs"
	"log/slog"
	"net/http"
	"runtime"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"nexocumula/client"
	"nexocumula/internal/central"
	"nexocumula/internal/clock"
	"nexocumula/internal/config"
	asked "nexocumula/internal/core/request"
	"nexocumula/internal/core/series"
	"nexocumula/internal/event"
	"nexocumula/internal/gateway"
	"nexocumula/internal/links"
	"nexocumula/internal/query"
	"nexocumula/internal/store/engine"
	"nexocumula/internal/store/outbox"
	"nexocumula/internal/store/records"
	"nexocumula/internal/store/sqlite"
	"nexocumula/internal/turns"
	"nexocumula/internal/uplink"
	"nexocumula/internal/wire"
)

// Store is what the interface asks of the store besides its records.
type Store interface {
	query.Reader
	Page(selector series.Selector, after series.Path, most int, sees func(series.Path) bool) (page []engine.Series, more bool)
	Count() int
	UnsealedRows() int
	Follower
	Judge() *clock.Judge
	Path() string

	Damaged() uint64
	Missing() ([]string, error)
	SetAside() []string
	Troubles() []string
	CommitTimes() sqlite.Commits
	Space() (used, free uint64)
}

// Service is the service behind the interface. Gateway or Central may be nil.
type Service struct {
	Store        Store
	Records      records.Records
	Gate         Gate
	Gateway      *gateway.Gateway
	Central      *central.Receiver
	Uplinks      func() []Uplink
	LinkStates   func() []links.State
	Pace         func(link string) links.CatchUp
	Zone         string                   // IANA name
	Zones        func() map[string]string // of sites, as far as it is known
	Queries      func() config.Queries
	Field        func() config.Field
	Reload       func(context.Context) (applied, restart []string, err error) // of the configuration
	File         func() string                                                // of the configuration; "": it came from none
	Certificates func() []string                                              // what is wrong with those of the interface, or will be soon
	Backup       func() (state client.BackupHealth, trouble string, wanted bool)
	Space        func() []string // what is the matter with the room on the disk
	Remover      Remover
	Rename       func(ctx context.Context, all []records.Rename) error
	RoomDropped  func() uint64 // rows that were dropped to make room, since the start
	Dropped      func() uint64 // rows that retention has dropped since the start
	Version      string
	Started      time.Time
	Console      fs.FS
	Log          *slog.Logger

	// Reconcile compares what an uplink has sent with what there is at the other end, and may mend it there; Compare answers who does.
	Reconcile func(ctx context.Context, uplink string, from, to time.Time, mend bool) (asked.ReconcileAnswer, error)
	Compare   func(ctx context.Context, token, from string, body []byte) ([]byte, error)

	Ledger  Ledger        // of what is asked of gateways
	Fetched query.Fetched // readings that gateways were asked for

	// Stopping ends the live streams when it is closed.
	Stopping <-chan struct{}
}

// Handler returns the HTTP handler of a service.
func Handler(s Service) http.Handler {
	gin.SetMode(gin.ReleaseMode)
	router := gin.New()
	router.HandleMethodNotAllowed = true
	router.Use(gin.CustomRecoveryWithWriter(nil, func(c *gin.Context, cause any) {
		event.RequestFailed.To(s.Log, "path", c.Request.URL.Path, "cause", cause)
		fail(c, http.StatusInternalServerError, "internal", "the service failed while answering; its log says more")
	}), headers(s.Gate.Vouched), refuseLong)
	places := max(1, runtime.GOMAXPROCS(0)-1)
	h := handlers{
		s, new(quota), newHub(s.Store, s.Store.Judge().Now), turns.New(places, runtime.GOMAXPROCS(0)-places), newGuard(),
	}
	for _, r := range h.routes() {
		way := []gin.HandlerFunc{h.admit(r)}
		if r.flags&audited != 0 {
			way = append(way, h.noted(r))
		}
		way = append(way, r.handle)
		router.Handle(r.method, r.path, way...)
		if r.method == http.MethodGet && r.flags&endless == 0 {
			router.HEAD(r.path, way...) // the same without its body, which the server leaves out
		}
	}
	router.NoRoute(console(s.Console))
	router.NoMethod(func(c *gin.Context) {
		fail(c, http.StatusMethodNotAllowed, "method", "this method is not possible here; see /api/openapi.yaml")
	})
	return WithDeadlines(writeWithin, compressed(router))
}

type handlers struct {
	Service
	streams *quota // live streams open now
	hub     *hub
	turns   *turns.Queue
	guard   guard
}

// Uplink describes the state of an uplink and its backlog.
type Uplink struct {
	uplink.Tally
	Acked      outbox.Acked
	Backlog    outbox.Backlog
	Refused    []outbox.Refused
	Used       uplink.Used
	BytesLeft  *uint64                // that may still go today; nil: there is no limit
	Reconciled *asked.ReconcileAnswer // the last comparison; nil: none
}

// headers go with every answer. Browsers are told to come by TLS only where an authority vouches
// for the certificate: it counts for all ports of a name, and a small machine at a site has
// other pages too. Answers to gateways leave out what only a browser needs: each byte of a link costs money.
func headers(vouched bool) gin.HandlerFunc {
	return func(c *gin.Context) {
		h := c.Writer.Header()
		h.Set("X-Content-Type-Options", "nosniff")
		if p := c.Request.URL.Path; p == wire.Path || strings.HasPrefix(p, wire.Path+"/") {
			h.Set("Cache-Control", "no-store")
			return
		}
		h.Set("X-Frame-Options", "DENY")
		h.Set("Referrer-Policy", "no-referrer")
		h.Set("Content-Security-Policy",
			"default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; object-src 'none'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'")
		h.Set("Cross-Origin-Opener-Policy", "same-origin")
		h.Set("Cross-Origin-Resource-Policy", "same-origin")
		h.Set("Permissions-Policy", "camera=(), microphone=(), geolocation=()")
		if strings.HasPrefix(c.Request.URL.Path, "/api/") {
			h.Set("Cache-Control", "no-store")
		}
		if vouched {
			h.Set("Strict-Transport-Security", "max-age=31536000")
		}
	}
}

func fail(c *gin.Context, status int, code, message string) {
	if c.GetBool(asPage) {
		c.Abort()
		c.Header("Content-Type", "text/html; charset=utf-8")
		c.Status(status)
		_ = failedPage.Execute(c.Writer, message) // who does not read any more went away
		return
	}
	problem(c, status, client.Problem{
		Title:  http.StatusText(status),
		Status: status,
		Detail: message,
		Code:   code,
		Type:   "/docs/refusals#" + code,
	})
}

// problem answers with problem details (RFC 9457).
func problem(c *gin.Context, status int, details any) {
	c.Header("Content-Type", "application/problem+json")
	c.AbortWithStatusJSON(status, details)
}
