package api

import (
	"net/http"
	"regexp"

	"github.com/gin-gonic/gin"

	"nexocumula/api"
	"nexocumula/internal/access"
	"nexocumula/internal/wire"
)

// route is one call of the interface, and the role it needs, which the description says
// too. A gateway and a sender prove who they are to their receivers.
type route struct {
	method string
	path   string
	role   access.Role
	handle gin.HandlerFunc
	flags  callFlags
}

// callFlags says more about a call.
type callFlags uint8

const (
	endless callFlags = 1 << iota // its answer goes on
	ofAll                         // it is about all that the service holds: who may see only a part may not make it
	own                           // it is about the account that makes it, so that no token may
	probed                        // to those who have not logged in it says whether the service lives
	audited                       // what it does is noted here; others note it themselves, where they know more
)

func (h handlers) routes() []route {
	const get, post, put, patch, remove = http.MethodGet, http.MethodPost, http.MethodPut, http.MethodPatch, http.MethodDelete
	return []route{
		{get, "/api/v1/health", access.Viewer, h.health, probed},
		{get, "/api/v1/series", access.Viewer, h.series, 0},
		{get, "/api/v1/now", access.Viewer, h.latest, 0},
		{get, "/api/v1/stream", access.Viewer, h.stream, endless},
		{get, "/api/v1/windows", access.Viewer, h.inTurn(h.windows), 0},
		{get, "/api/v1/readings", access.Viewer, h.inTurn(h.readings), 0},
		{post, "/api/v1/readings", access.Sender, h.push, 0},
		{post, "/api/v1/sources/:source/read", access.Engineer, h.readSource, ofAll | audited},
		{get, "/api/v1/excursions", access.Viewer, h.inTurn(h.excursions), 0},
		{get, "/api/v1/gaps", access.Viewer, h.inTurn(h.gaps), 0},
		{post, "/api/v1/removals", access.Engineer, h.removeRows, audited},
		{get, "/api/v1/requests", access.Viewer, h.requests, ofAll},
		{post, "/api/v1/requests", access.Operator, h.askGateways, ofAll | audited},
		{get, "/api/v1/requests/:request", access.Viewer, h.request, ofAll},
		{remove, "/api/v1/requests/:request", access.Operator, h.withdrawRequest, ofAll | audited},
		{get, "/api/v1/moment", access.Viewer, h.inTurn(h.moment), 0},
		{get, "/api/v1/rejects", access.Engineer, h.rejects, ofAll},
		{get, "/api/v1/rejects/counts", access.Engineer, h.rejectCounts, ofAll},
		{get, "/api/v1/rejects/:id", access.Engineer, h.reject, ofAll},
		{post, "/api/v1/rejects/replay", access.Engineer, h.replay, ofAll | audited},
		{post, "/api/v1/sources/:source/try", access.Engineer, h.try, ofAll},
		{post, "/api/v1/reload", access.Engineer, h.reload, ofAll | audited},
		{post, "/api/v1/field/probe", access.Engineer, h.probe, endless | ofAll | audited},
		{post, "/api/v1/field/scan", access.Engineer, h.scan, endless | ofAll | audited},
		{get, "/api/v1/field/watch", access.Engineer, h.watchField, endless | ofAll},
		{post, "/api/v1/field/lines", access.Engineer, tool(h, h.lines), ofAll},
		{post, "/api/v1/field/check", access.Engineer, tool(h, h.check), endless | ofAll | audited},
		{get, "/api/v1/field/plan", access.Engineer, h.plan, ofAll},
		{get, "/api/v1/discovered", access.Engineer, h.discovered, ofAll},
		{post, "/api/v1/configuration/append", access.Engineer, h.appendLines, ofAll | audited},
		{post, "/api/v1/series/rename", access.Engineer, h.renameSeries, audited},
		{get, "/api/v1/series/versions", access.Viewer, h.versions, 0},
		{get, "/api/v1/uplinks", access.Viewer, h.uplinks, 0},
		{post, "/api/v1/uplinks/:uplink/reconcile", access.Operator, h.reconcile, endless | ofAll | audited},
		{get, "/api/v1/links", access.Viewer, h.linkHistory, 0},
		{get, "/api/v1/units", access.Viewer, h.units, 0},
		{get, "/api/v1/boards", access.Viewer, h.boards, 0},
		{post, "/api/v1/boards", access.Operator, h.addBoard, audited},
		{get, "/api/v1/boards/standard", access.Viewer, h.standardBoard, 0},
		{get, "/api/v1/boards/:board", access.Viewer, h.board, 0},
		{put, "/api/v1/boards/:board", access.Operator, h.changeBoard, audited},
		{remove, "/api/v1/boards/:board", access.Operator, h.removeBoard, audited},
		{get, "/api/v1/boards/:board/history", access.Viewer, h.boardHistory, 0},
		{get, "/api/v1/notes", access.Viewer, h.notes, 0},
		{post, "/api/v1/notes", access.Operator, h.addNote, audited},
		{remove, "/api/v1/notes/:note", access.Operator, h.removeNote, audited},
		{post, wire.Path, access.Gateway, h.replication, 0},
		{post, wire.ComparePath, access.Gateway, h.compare, endless},
		{post, wire.WaitPath, access.Gateway, h.waitForRequests, endless},
		{post, wire.CredentialPath, access.Gateway, h.renewCredential, 0},
		{
			get, "/api/openapi.yaml", access.Anyone,
			func(c *gin.Context) { c.Data(http.StatusOK, "application/yaml", api.OpenAPI) }, 0,
		},
		{
			get, "/api/board.schema.json", access.Anyone,
			func(c *gin.Context) { c.Data(http.StatusOK, "application/schema+json", api.BoardSchema) }, 0,
		},

		{get, "/metrics", access.Viewer, h.metrics(), ofAll},
		{get, "/api/v1/manual", access.Anyone, h.pages, 0},
		{get, "/api/v1/manual/:page", access.Anyone, h.manualPage, 0},

		{get, "/api/v1/session", access.Anyone, h.session, 0},
		{post, "/api/v1/session", access.Anyone, h.login, 0},
		{remove, "/api/v1/session", access.Anyone, h.logout, 0},
		{post, "/api/v1/session/redeem", access.Anyone, h.redeem, 0},
		{post, "/api/v1/session/passkey", access.Anyone, h.beginPasskeyLogin, 0},
		{post, "/api/v1/session/passkey/finish", access.Anyone, h.passkeyLogin, 0},
		{get, "/api/v1/session/provider", access.Anyone, h.goToProvider, endless},
		{get, access.CallbackPath, access.Anyone, h.backFromProvider, endless},

		{get, "/api/v1/account", access.Viewer, h.account, own},
		{post, "/api/v1/account/password", access.Viewer, h.setPassword, own},
		{post, "/api/v1/account/authenticator", access.Viewer, h.beginAuthenticator, own},
		{post, "/api/v1/account/authenticator/finish", access.Viewer, h.useAuthenticator, own},
		{post, "/api/v1/account/authenticator/remove", access.Viewer, h.forgetAuthenticator, own},
		{post, "/api/v1/account/passkeys", access.Viewer, h.beginPasskey, own},
		{post, "/api/v1/account/passkeys/finish", access.Viewer, h.addPasskey, own},
		{post, "/api/v1/account/passkeys/remove", access.Viewer, h.removePasskey, own},
		{post, "/api/v1/account/code", access.Viewer, h.sessionCode, own},
		{remove, "/api/v1/account/sessions/:session", access.Viewer, h.endSession, own},

		{get, "/api/v1/accounts", access.Administrator, h.accounts, ofAll},
		{post, "/api/v1/accounts", access.Administrator, h.addAccount, ofAll},
		{patch, "/api/v1/accounts/:account", access.Administrator, h.changeAccount, ofAll},
		{remove, "/api/v1/accounts/:account", access.Administrator, h.removeAccount, ofAll},
		{post, "/api/v1/accounts/:account/code", access.Administrator, h.accountCode, ofAll},
		{remove, "/api/v1/accounts/:account/sessions", access.Administrator, h.logoutAccount, ofAll},
		{get, "/api/v1/tokens", access.Administrator, h.tokens, ofAll},
		{post, "/api/v1/tokens", access.Administrator, h.addToken, ofAll},
		{remove, "/api/v1/tokens/:token", access.Administrator, h.revokeToken, ofAll},
		{get, "/api/v1/gateways", access.Administrator, h.gateways, ofAll},
		{post, "/api/v1/gateways", access.Administrator, h.enrol, ofAll},
		{remove, "/api/v1/gateways/:gateway", access.Administrator, h.revokeGateway, ofAll},
		{post, "/api/v1/join", access.Anyone, h.join, 0},
		{get, "/api/v1/audit", access.Administrator, h.audit, ofAll},
		{get, "/api/v1/audit/verify", access.Administrator, h.verifyAudit, ofAll},
	}
}

// inBraces finds what the description has in braces.
var inBraces = regexp.MustCompile(`:(\w+)`)

// Needs says who may make a call.
type Needs struct {
	Role  access.Role
	OfAll bool // and has to see everything
	Own   bool // and has to be an account
}

// Calls returns the role that each call needs, by method and path as in the description.
func Calls() map[string]Needs {
	out := map[string]Needs{}
	for _, r := range (handlers{}).routes() {
		out[r.method+" "+inBraces.ReplaceAllString(r.path, "{$1}")] = Needs{r.role, r.flags&ofAll != 0, r.flags&own != 0}
	}
	return out
}
