package api

import (
	"net/http"
	"regexp"

	"github.com/gin-gonic/gin"

	"nexocumula/api"
)

// Role is who may make a call.
type Role string

// The roles.
const (
	Anyone   Role = "anyone"   // the description
	Viewer   Role = "viewer"   // looks
	Engineer Role = "engineer" // sees what devices sent and why it was refused
	Sender   Role = "sender"   // sends readings, and proves its name with its token
	Gateway  Role = "gateway"  // replicates, and proves its name with its secret
)

// route is one call of the interface, and the role it needs, which the description says
// too. Until there are accounts, whoever reaches the address counts as an engineer; a
// gateway and a sender always have to prove themselves, which their receivers see to.
type route struct {
	method string
	path   string
	role   Role
	handle gin.HandlerFunc

	endless bool // an answer that goes on
}

func (h handlers) routes() []route {
	return []route{
		{http.MethodGet, "/api/v1/health", Viewer, h.health, false},
		{http.MethodGet, "/api/v1/series", Viewer, h.series, false},
		{http.MethodGet, "/api/v1/now", Viewer, h.latest, false},
		{http.MethodGet, "/api/v1/stream", Viewer, h.stream, true},
		{http.MethodGet, "/api/v1/windows", Viewer, h.inTurn(h.windows), false},
		{http.MethodGet, "/api/v1/readings", Viewer, h.inTurn(h.readings), false},
		{http.MethodPost, "/api/v1/readings", Sender, h.push, false},
		{http.MethodPost, "/api/v1/sources/:source/read", Engineer, h.readSource, false},
		{http.MethodGet, "/api/v1/moment", Viewer, h.inTurn(h.moment), false},
		{http.MethodGet, "/api/v1/rejects", Engineer, h.rejects, false},
		{http.MethodGet, "/api/v1/rejects/counts", Engineer, h.rejectCounts, false},
		{http.MethodGet, "/api/v1/rejects/:id", Engineer, h.reject, false},
		{http.MethodPost, "/api/v1/rejects/replay", Engineer, h.replay, false},
		{http.MethodPost, "/api/v1/sources/:source/try", Engineer, h.try, false},
		{http.MethodPost, "/api/v1/reload", Engineer, h.reload, false},
		{http.MethodPost, "/api/v1/field/probe", Engineer, tool(h, h.probe), true},
		{http.MethodPost, "/api/v1/field/scan", Engineer, tool(h, h.scan), true},
		{http.MethodGet, "/api/v1/field/watch", Engineer, h.watchField, true},
		{http.MethodPost, "/api/v1/field/lines", Engineer, tool(h, h.lines), false},
		{http.MethodPost, "/api/v1/field/check", Engineer, tool(h, h.check), true},
		{http.MethodGet, "/api/v1/field/plan", Engineer, h.plan, false},
		{http.MethodGet, "/api/v1/discovered", Engineer, h.discovered, false},
		{http.MethodPost, "/api/v1/configuration/append", Engineer, tool(h, h.appendLines), false},
		{http.MethodGet, "/api/v1/series/versions", Viewer, h.versions, false},
		{http.MethodGet, "/api/v1/uplinks", Viewer, h.uplinks, false},
		{http.MethodPost, "/api/v1/replication", Gateway, h.replication, false},
		{http.MethodGet, "/api/openapi.yaml", Anyone, func(c *gin.Context) { c.Data(http.StatusOK, "application/yaml", api.OpenAPI) }, false},
	}
}

// inBraces finds what the description has in braces.
var inBraces = regexp.MustCompile(`:(\w+)`)

// Roles is the role that each call needs, by method and path as the description has it.
func Roles() map[string]Role {
	out := map[string]Role{}
	for _, r := range (handlers{}).routes() {
		out[r.method+" "+inBraces.ReplaceAllString(r.path, "{$1}")] = r.role
	}
	return out
}
