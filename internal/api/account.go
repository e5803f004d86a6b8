package api

import (
	"net/http"

	"github.com/gin-gonic/gin"

	"nexocumula/client"
	"nexocumula/internal/access"
)

// account is the one that asks.
func (h handlers) account(c *gin.Context) {
	who, book := callerOf(c), h.Gate.Book
	a, err := book.Account(who.Name)
	if err != nil {
		h.answerWrong(c, err)
		return
	}
	out := client.OwnAccount{Account: accountOf(a), Sessions: []client.OpenSession{}, Passkeys: []client.Passkey{}}
	for _, s := range book.Sessions(who.Name) {
		out.Sessions = append(out.Sessions, client.OpenSession{
			ID: s.ID, By: s.By, From: s.From, Agent: s.Agent, Created: s.Created, Used: s.Used, Ends: s.Ends, Present: s.ID == access.SessionID(who.Bearer()),
		})
	}
	out.Account.Sessions = len(out.Sessions)
	for _, k := range book.Passkeys(who.Name) {
		out.Passkeys = append(out.Passkeys, client.Passkey{
			ID:      k.ID,
			Name:    k.Name,
			Created: k.Created,
			Used:    pointer(k.Used),
		})
	}
	c.JSON(http.StatusOK, out)
}

func accountOf(a access.Account) client.Account {
	return client.Account{
		Name: a.Name, Role: string(a.Role), Sees: a.Selectors, Password: a.Password, Authenticator: a.Codes, Passkeys: a.Passkeys,
		Provider: a.Provider, Locked: a.Locked, Created: a.Created, Sessions: a.Sessions,
	}
}

// confirmed reads a request and checks the password in it: what lets somebody in does not
// change because a screen was left unlocked.
func confirmed[T any](h handlers, c *gin.Context, password func(T) string) (in T, ok bool) {
	if in, ok = request[T](c); !ok {
		return in, false
	}
	who := callerOf(c)
	if err := h.Gate.Book.Confirm(who.Name, password(in), who.From); err != nil {
		h.answerWrong(c, err)
		return in, false
	}
	return in, true
}

func (h handlers) answered(c *gin.Context, err error) {
	if err != nil {
		h.answerWrong(c, err)
		return
	}
	done(c)
}

func (h handlers) setPassword(c *gin.Context) {
	in, ok := confirmed(h, c, func(p client.NewPassword) string { return p.Present })
	if ok {
		who := callerOf(c)
		h.answered(c, h.Gate.Book.SetPassword(who.By(), who.Name, in.Password, who.Bearer()))
	}
}

func proofOf(p client.Proof) string { return p.Password }

func (h handlers) beginAuthenticator(c *gin.Context) {
	if _, ok := confirmed(h, c, proofOf); !ok {
		return
	}
	out, err := h.Gate.Book.BeginAuthenticator(callerOf(c).Name, "Nexocumula "+h.site())
	if err != nil {
		h.answerWrong(c, err)
		return
	}
	c.JSON(http.StatusOK, client.Authenticator(out))
}

func (h handlers) useAuthenticator(c *gin.Context) {
	in, ok := confirmed(h, c, func(a client.AuthenticatorCode) string { return a.Password })
	if ok {
		who := callerOf(c)
		h.answered(c, h.Gate.Book.UseAuthenticator(who.By(), who.Name, in.Secret, in.Code))
	}
}

func (h handlers) forgetAuthenticator(c *gin.Context) {
	if _, ok := confirmed(h, c, proofOf); ok {
		who := callerOf(c)
		h.answered(c, h.Gate.Book.ForgetAuthenticator(who.By(), who.Name))
	}
}

func (h handlers) beginPasskey(c *gin.Context) {
	if _, ok := confirmed(h, c, proofOf); !ok {
		return
	}
	options, name, err := h.Gate.Book.BeginPasskey(callerOf(c).Name, placeOf(c))
	if err != nil {
		h.answerWrong(c, err)
		return
	}
	c.JSON(http.StatusOK, client.Ceremony{Ceremony: name, Options: options})
}

func (h handlers) addPasskey(c *gin.Context) {
	in, ok := request[client.CeremonyDone](c)
	if ok {
		who := callerOf(c)
		h.answered(c, h.Gate.Book.AddPasskey(who.By(), who.Name, in.Ceremony, in.Name, placeOf(c), in.Passkey))
	}
}

func (h handlers) removePasskey(c *gin.Context) {
	in, ok := confirmed(h, c, proofOf)
	if ok {
		who := callerOf(c)
		h.answered(c, h.Gate.Book.RemovePasskey(who.By(), who.Name, in.ID))
	}
}

func (h handlers) endSession(c *gin.Context) {
	who := callerOf(c)
	h.answered(c, h.Gate.Book.EndSession(who.By(), who.Name, c.Param("session")))
}

func (h handlers) sessionCode(c *gin.Context) {
	who := callerOf(c)
	code, err := h.Gate.Book.SessionCode(who.By(), who.Name)
	h.coded(c, who.Name, code, err)
}
