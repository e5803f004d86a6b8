package api

import (
	"html/template"
	"net/http"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"nexocumula/client"
	"nexocumula/internal/access"
)

// cookieName returns the name of a session's cookie. Over TLS it is one that no other host and no
// plain HTTP can set (RFC 6265bis, 4.1.3.2).
func cookieName(c *gin.Context) string {
	if c.Request.TLS != nil {
		return "__Host-nexocumula"
	}
	return "nexocumula"
}

func setCookie(c *gin.Context, name, value string, ends time.Time, site http.SameSite) {
	cookie := &http.Cookie{
		Name:     name,
		Value:    value,
		Path:     "/",
		Expires:  ends,
		HttpOnly: true,
		Secure:   c.Request.TLS != nil,
		SameSite: site,
	}
	if value == "" {
		cookie.MaxAge = -1
	}
	http.SetCookie(c.Writer, cookie)
}

// session says who asks, and how one can log in.
func (h handlers) session(c *gin.Context) {
	if _, ok := (names{}).query(c); !ok {
		return
	}
	who := callerOf(c)
	out := client.Session{
		LoginNeeded: h.Gate.Login, Open: h.Gate.Open, Setup: h.Gate.Login &&
			!h.Gate.Book.Governed(), Fingerprint: h.Gate.Fingerprint(), Central: h.Central != nil,
		Name: who.Name, Kind: who.Kind, Role: string(who.Role), Sees: who.Scope.List(), Whole: h.seesAll(who.Scope),
	}
	if p := h.Gate.Provider; p != nil {
		out.Provider = p.Name
	}
	c.JSON(http.StatusOK, out)
}

func attempt(c *gin.Context) access.Attempt {
	a := access.Attempt{From: address(c), Agent: c.GetHeader("User-Agent"), By: "console"}
	if cookie, err := c.Request.Cookie(deviceCookie(c)); err == nil {
		a.Device = cookie.Value
	}
	return a
}

func (h handlers) login(c *gin.Context) {
	in, ok := request[client.Login](c)
	if !ok {
		return
	}
	a := attempt(c)
	a.Account, a.Password, a.Code = in.Account, in.Password, strings.ReplaceAll(in.Code, " ", "")
	switch in.By {
	case "", "console":
	case "command line":
		a.By = in.By
	default:
		fail(c, http.StatusBadRequest, "body", "by is console or command line")
		return
	}
	how := h.Gate.Book.Login
	if a.Account == "" && a.Password == "" {
		how, a.Code = h.Gate.Book.LoginByCode, in.Code
	}
	begun, err := how(a)
	h.begun(c, a, begun, err)
}

// begun answers with a session: a browser gets it as a cookie, which no script can read.
func (h handlers) begun(c *gin.Context, a access.Attempt, s access.Session, err error) {
	if err != nil {
		h.answerWrong(c, err)
		return
	}
	out := client.LoggedIn{Account: s.Account, Ends: s.Ends}
	if a.By == "console" {
		h.keep(c, s)
	} else {
		out.Secret = s.Bearer
	}
	c.JSON(http.StatusOK, out)
}

// keep gives a browser the session, and what it shows the next time of having been here.
func (h handlers) keep(c *gin.Context, s access.Session) {
	setCookie(c, cookieName(c), s.Bearer, s.Ends, http.SameSiteStrictMode)
	if s.Device != "" {
		setCookie(c, deviceCookie(c), s.Device, time.Now().Add(access.DeviceLasts), http.SameSiteStrictMode)
	}
}

// deviceCookie returns the name of the cookie by which a browser shows that somebody logged in with it before.
func deviceCookie(c *gin.Context) string { return cookieName(c) + "-device" }

func (h handlers) logout(c *gin.Context) {
	who := callerOf(c)
	if err := h.Gate.Book.Logout(who.By(), who.Bearer()); err != nil {
		h.answerWrong(c, err)
		return
	}
	setCookie(c, cookieName(c), "", time.Time{}, http.SameSiteStrictMode)
	done(c)
}

// done answers a call that has nothing more to say.
func done(c *gin.Context) { c.JSON(http.StatusOK, gin.H{}) }

func (h handlers) redeem(c *gin.Context) {
	in, ok := request[client.Redeem](c)
	if !ok {
		return
	}
	name, err := h.Gate.Book.Redeem(address(c), in.Code, in.Account, in.Password)
	if err != nil {
		h.answerWrong(c, err)
		return
	}
	c.JSON(http.StatusOK, client.Redeemed{Account: name})
}

// placeOf returns where a browser reached the service.
func placeOf(c *gin.Context) access.WebOrigin {
	host, scheme := c.Request.Host, "http://"
	if c.Request.TLS != nil {
		scheme = "https://"
	}
	name := host
	if i := strings.LastIndexByte(host, ':'); i >= 0 && !strings.HasSuffix(host, "]") {
		name = host[:i]
	}
	return access.WebOrigin{Host: strings.Trim(name, "[]"), Origin: scheme + host}
}

func (h handlers) beginPasskeyLogin(c *gin.Context) {
	options, name, err := h.Gate.Book.BeginPasskeyLogin(placeOf(c))
	if err != nil {
		h.answerWrong(c, err)
		return
	}
	c.JSON(http.StatusOK, client.Ceremony{Ceremony: name, Options: options})
}

func (h handlers) passkeyLogin(c *gin.Context) {
	in, ok := request[client.CeremonyDone](c)
	if !ok {
		return
	}
	a := attempt(c)
	begun, err := h.Gate.Book.PasskeyLogin(a, in.Ceremony, placeOf(c), in.Passkey)
	h.begun(c, a, begun, err)
}

// errandCookie ties whoever comes back from the provider to the browser that went there.
const errandCookie = "nexocumula-errand"

func (h handlers) goToProvider(c *gin.Context) {
	if h.Gate.Provider == nil {
		fail(c, http.StatusNotFound, "provider",
			"this service has no provider; see access.provider in its configuration")
		return
	}
	url, state, err := h.Gate.Book.GoToProvider(c.Request.Context(), h.Gate.Provider)
	if err != nil {
		h.answerWrong(c, err)
		return
	}
	setCookie(c, errandCookie, state, time.Now().Add(10*time.Minute), http.SameSiteLaxMode)
	c.Redirect(http.StatusSeeOther, url)
}

// backFromProvider is where a browser comes back to, so that what went wrong is a page.
func (h handlers) backFromProvider(c *gin.Context) {
	c.Set(asPage, true)
	cookie, err := c.Request.Cookie(errandCookie)
	setCookie(c, errandCookie, "", time.Time{}, http.SameSiteLaxMode)
	state := c.Query("state")
	switch {
	case h.Gate.Provider == nil:
		fail(c, http.StatusNotFound, "provider",
			"this service has no provider; see access.provider in its configuration")
		return
	case err != nil || state == "" || cookie.Value != state:
		h.turnAway(c, callerOf(c), "login", http.StatusForbidden, "provider",
			"this login was not begun in this browser; begin again")
		return
	case c.Query("code") == "":
		fail(c, http.StatusForbidden, "provider",
			"the provider let nobody in: "+clipped(c.Query("error_description")+" "+c.Query("error")))
		return
	}
	begun, err := h.Gate.Book.BackFromProvider(c.Request.Context(), h.Gate.Provider, state, c.Query("code"), attempt(c))
	if err != nil {
		h.answerWrong(c, err)
		return
	}
	h.keep(c, begun)
	c.Redirect(http.StatusSeeOther, "/")
}

// asPage has fail answer with a page for people instead of JSON.
const asPage = "as page"

var failedPage = template.Must(template.New("").Parse(`<!doctype html><meta charset="utf-8"><title>Nexocumula</title><p>{{.}}</p><p><a href="/">Back to the log-in</a></p>`))

func clipped(text string) string {
	const most = 200
	return strings.ToValidUTF8(text[:min(len(text), most)], "")
}
