package api

import (
	"errors"
	"fmt"
	"net"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"github.com/gin-gonic/gin"

	"nexocumula/internal/access"
	"nexocumula/internal/core/series"
	"nexocumula/internal/event"
	"nexocumula/internal/query"
	"nexocumula/internal/store/engine"
)

// Gate says who has to say who he is, and how.
type Gate struct {
	Book        *access.Book
	Login       bool // everybody has to
	Open        bool // nobody has to, though other machines reach the service
	Provider    *access.Provider
	Fingerprint func() string // of the certificate, "": there is none
	Vouched     bool          // an authority vouches for the certificate
}

const callerKey = "caller"

// callerOf returns the caller of an admitted request.
func callerOf(c *gin.Context) access.Caller {
	who, _ := c.Get(callerKey)
	out, _ := who.(access.Caller)
	return out
}

// admit lets a call through to whoever may make it, and notes what was refused.
func (h handlers) admit(r route) gin.HandlerFunc {
	action := actionOf(r)
	return func(c *gin.Context) {
		if err := h.guard.cross.Check(c.Request); err != nil {
			h.turnAway(c, access.Nobody(address(c), access.Rights{}), action, http.StatusForbidden, "cross_origin",
				"a page of another site may not do this")
			return
		}
		if !h.Gate.Login && !h.Gate.Open && !local(c.Request.Host) {
			fail(c, http.StatusMisdirectedRequest, "host",
				fmt.Sprintf("nobody has to log in here, so only this machine's own names lead here, such as 127.0.0.1, and not %q; set access: { login: required } for others",
					c.Request.Host))
			return
		}
		who, err := h.who(c)
		if r.role == access.Sender || r.role == access.Gateway { // their receivers know them, and look before they read
			c.Set(callerKey, who)
			return
		}
		if h.Gate.Login && !h.guard.room(who, r.role == access.Anyone && r.method == http.MethodPost) {
			c.Header("Retry-After", "1")
			fail(c, http.StatusTooManyRequests, "too_many", "too many requests come from there; make fewer")
			return
		}
		if err != nil && r.role != access.Anyone {
			c.Header("WWW-Authenticate", "Bearer")
			h.turnAway(c, who, action, http.StatusUnauthorized, codeOf(err), err.Error())
			return
		}
		switch {
		case !who.Role.Allows(r.role) && who.Kind == "anyone" && r.flags&probed != 0:
			h.liveness(c)
		case !who.Role.Allows(r.role) && who.Kind == "anyone":
			c.Header("WWW-Authenticate", "Bearer")
			const message = "log in first: in the console, or with nexocumula login"
			if r.method != http.MethodGet { // looking is what a browser does before anybody has logged in
				h.Gate.Book.Refuse(who.By(), action, "", message)
			}
			fail(c, http.StatusUnauthorized, "login", message)
		case !who.Role.Allows(r.role):
			h.turnAway(c, who, action, http.StatusForbidden, "role",
				fmt.Sprintf("this is for the role %s; %s has the role %s", r.role, who.Name, who.Role))
		case r.flags&ofAll != 0 && !h.seesAll(who.Scope):
			h.turnAway(c, who, action, http.StatusForbidden, "limited",
				"this is about all that the service holds, and "+who.Name+" may see a part of it only")
		case r.flags&own != 0 && who.Kind != "account":
			h.turnAway(c, who, action, http.StatusForbidden, "account",
				"this is about one's own account; log in with one")
		}
		c.Set(callerKey, who)
	}
}

// actionOf returns the audit's name of a call: its nouns with points between, and what is
// added to a list, or removed from it, as the changes of accounts are called.
func actionOf(r route) string {
	name := strings.TrimPrefix(strings.TrimPrefix(r.path, "/api/"), "v1/")
	var parts []string
	for part := range strings.SplitSeq(name, "/") {
		if !strings.HasPrefix(part, ":") {
			parts = append(parts, part)
		}
	}
	name = strings.Join(parts, ".")
	switch {
	case r.method == http.MethodDelete:
		return name + ".remove"
	case r.method == http.MethodPost && slices.Contains(lists, name):
		return name + ".add"
	}
	return name
}

// lists are the calls by which something is added.
var lists = []string{"notes", "boards", "accounts", "tokens", "gateways"}

// who identifies the caller by a bearer, by the cookie of a session, or as unknown.
func (h handlers) who(c *gin.Context) (access.Caller, error) {
	nobody := access.Nobody(address(c), access.Rights{Role: access.Anyone})
	switch {
	case h.Gate.Open:
		nobody.Role = access.Engineer
	case !h.Gate.Login:
		nobody.Role = access.Administrator
	}
	if text := c.GetHeader("Authorization"); text != "" {
		bearer, ok := strings.CutPrefix(text, "Bearer ")
		if !ok {
			return nobody, errors.New("the header Authorization has to be Bearer and a token")
		}
		return h.whoShows(bearer, nobody)
	}
	cookie, err := c.Request.Cookie(cookieName(c))
	if err != nil {
		return nobody, nil
	}
	return h.whoShows(cookie.Value, nobody)
}

// whoShows identifies the caller by a bearer. Where no login is needed, an expired one takes nothing away:
// a browser and a command line keep those of other services that were at the same address.
func (h handlers) whoShows(bearer string, nobody access.Caller) (access.Caller, error) {
	who, err := h.Gate.Book.Who(bearer, nobody.From)
	if err != nil && !h.Gate.Login {
		return nobody, nil
	}
	return who, err
}

func codeOf(err error) string {
	if w, ok := errors.AsType[*access.Wrong](err); ok {
		return w.Code
	}
	return "token"
}

// turnAway refuses a call, and notes it.
func (h handlers) turnAway(c *gin.Context, who access.Caller, action string, status int, code, message string) {
	h.Gate.Book.Refuse(who.By(), action, "", message)
	fail(c, status, code, message)
}

// noted writes in the audit what a call did, or failed to do.
func (h handlers) noted(r route) gin.HandlerFunc {
	action := actionOf(r)
	return func(c *gin.Context) {
		c.Next()
		e := access.Entry{Action: action, Outcome: access.Done, Target: noteOf(c)}
		if status := c.Writer.Status(); status >= http.StatusBadRequest {
			e.Outcome, e.Reason = access.Failed, http.StatusText(status)
		}
		_ = h.Gate.Book.Note(callerOf(c).By(), e) // reported as a trouble
	}
}

const noteKey = "note"

// note says what a call that is audited is about.
func note(c *gin.Context, format string, args ...any) { c.Set(noteKey, fmt.Sprintf(format, args...)) }

func noteOf(c *gin.Context) string {
	if text := c.GetString(noteKey); text != "" {
		return text
	}
	return c.Param("source")
}

// address returns where a request comes from.
func address(c *gin.Context) string {
	host, _, err := net.SplitHostPort(c.Request.RemoteAddr)
	if err != nil {
		return c.Request.RemoteAddr
	}
	return host
}

// local reports whether a name in a request means this machine: one of another site that
// was made to lead here does not.
func local(host string) bool {
	if name, _, err := net.SplitHostPort(host); err == nil {
		host = name
	}
	host = strings.Trim(host, "[]")
	return host == "localhost" || net.ParseIP(host).IsLoopback()
}

// seesAll reports whether a scope is all that the service holds.
func (h handlers) seesAll(s access.Scope) bool {
	return s.Everything() || h.Central == nil && h.Gateway != nil && s.Covers(h.Gateway.Site)
}

// view is the store as somebody may see it: what he may not see is not there.
type view struct {
	Store
	sees access.Scope
}

// List returns the series that a selector names, of those that may be seen.
func (v view) List(selector series.Selector) []engine.Series {
	found := v.Store.List(selector)
	out := found[:0:0]
	for _, s := range found {
		if v.sees.Sees(s.Path) {
			out = append(out, s)
		}
	}
	return out
}

// view returns the store as whoever makes the request may see it.
func (h handlers) view(c *gin.Context) query.Reader {
	sees := callerOf(c).Scope
	if sees.Everything() {
		return h.Store
	}
	return view{h.Store, sees}
}

// answerWrong says what is wrong with a request about accounts, or that it could not be done.
func (h handlers) answerWrong(c *gin.Context, err error) {
	if soon, ok := errors.AsType[*access.TooSoon](err); ok {
		c.Header("Retry-After", strconv.Itoa(int(soon.Wait.Seconds())))
		fail(c, http.StatusTooManyRequests, "too_soon", err.Error())
		return
	}
	w, ok := errors.AsType[*access.Wrong](err)
	if !ok {
		event.AccessUnwritten.To(h.Log, "path", c.Request.URL.Path, "error", err)
		fail(c, http.StatusServiceUnavailable, "store",
			"it could not be written, and nothing was changed: "+err.Error())
		return
	}
	status, known := statusOf[w.Code]
	if !known {
		status = http.StatusBadRequest
	}
	fail(c, status, w.Code, w.Text)
}

var statusOf = map[string]int{
	"unknown": http.StatusNotFound, "taken": http.StatusConflict, "last": http.StatusConflict, "many": http.StatusConflict, "busy": http.StatusServiceUnavailable,
	"login": http.StatusUnauthorized, "second_factor": http.StatusUnauthorized, "session": http.StatusUnauthorized, "token": http.StatusUnauthorized,
	"code": http.StatusForbidden, "passkey": http.StatusForbidden, "provider": http.StatusForbidden, "locked": http.StatusForbidden, "key": http.StatusForbidden,
}
