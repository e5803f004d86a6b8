package api

import (
	"net/http"
	"net/url"
	"time"

	"github.com/gin-gonic/gin"

	"nexocumula/client"
	"nexocumula/internal/access"
)

func (h handlers) accounts(c *gin.Context) {
	if _, ok := (names{}).query(c); !ok {
		return
	}
	out := client.Accounts{Accounts: []client.Account{}}
	for _, a := range h.Gate.Book.Accounts() {
		out.Accounts = append(out.Accounts, accountOf(a))
	}
	c.JSON(http.StatusOK, out)
}

// rights reads a role and selectors, and answers when they are none.
func rights(c *gin.Context, role string, sees []string, token bool) (out access.Rights, ok bool) {
	var err error
	if out.Role, err = access.ParseRole(role, token); err == nil {
		out.Scope, err = access.ParseScope(sees)
	}
	if err != nil {
		fail(c, http.StatusBadRequest, "body", err.Error())
	}
	return out, err == nil
}

func (h handlers) addAccount(c *gin.Context) {
	in, ok := request[client.NewAccount](c)
	if !ok {
		return
	}
	may, ok := rights(c, in.Role, in.Sees, false)
	if !ok {
		return
	}
	code, err := h.Gate.Book.AddAccount(callerOf(c).By(), in.Name, may)
	if err != nil {
		h.answerWrong(c, err)
		return
	}
	created(c, "accounts/"+url.PathEscape(in.Name), client.AccountCode{Account: in.Name, Code: code})
}

func (h handlers) coded(c *gin.Context, name, code string, err error) {
	if err != nil {
		h.answerWrong(c, err)
		return
	}
	c.JSON(http.StatusOK, client.AccountCode{Account: name, Code: code})
}

func (h handlers) changeAccount(c *gin.Context) {
	in, ok := request[client.AccountChange](c)
	if !ok {
		return
	}
	change := access.Change{Locked: in.Locked}
	if in.Role != nil {
		r, ok := rights(c, *in.Role, nil, false)
		if !ok {
			return
		}
		change.Role = &r.Role
	}
	if in.Sees != nil {
		r, ok := rights(c, string(access.Viewer), *in.Sees, false)
		if !ok {
			return
		}
		change.Scope = &r.Scope
	}
	name := c.Param("account")
	err := h.Gate.Book.ChangeAccount(callerOf(c).By(), name, change)
	var after access.Account
	if err == nil {
		after, err = h.Gate.Book.Account(name)
	}
	if err != nil {
		h.answerWrong(c, err)
		return
	}
	c.JSON(http.StatusOK, accountOf(after))
}

func (h handlers) removeAccount(c *gin.Context) {
	h.answered(c, h.Gate.Book.RemoveAccount(callerOf(c).By(), c.Param("account")))
}

func (h handlers) accountCode(c *gin.Context) {
	name := c.Param("account")
	code, err := h.Gate.Book.PasswordCode(callerOf(c).By(), name)
	h.coded(c, name, code, err)
}

func (h handlers) logoutAccount(c *gin.Context) {
	h.answered(c, h.Gate.Book.LogoutAccount(callerOf(c).By(), c.Param("account")))
}

func (h handlers) tokens(c *gin.Context) {
	if _, ok := (names{}).query(c); !ok {
		return
	}
	out := client.Tokens{Tokens: []client.Token{}}
	for _, t := range h.Gate.Book.Tokens() {
		out.Tokens = append(out.Tokens, client.Token{
			Name: t.Name, Role: string(t.Role), Sees: t.Selectors, Creator: t.Creator, Created: t.Created, Ends: pointer(t.Ends), Used: pointer(t.Used), From: t.From,
		})
	}
	c.JSON(http.StatusOK, out)
}

func (h handlers) addToken(c *gin.Context) {
	in, ok := request[client.NewToken](c)
	if !ok {
		return
	}
	may, ok := rights(c, in.Role, in.Sees, true)
	if !ok {
		return
	}
	var ends time.Time
	if in.Ends != nil {
		ends = *in.Ends
	}
	bearer, err := h.Gate.Book.AddToken(callerOf(c).By(), in.Name, may, ends)
	if err != nil {
		h.answerWrong(c, err)
		return
	}
	created(c, "tokens/"+url.PathEscape(in.Name), client.MadeToken{Name: in.Name, Secret: bearer})
}

func (h handlers) revokeToken(c *gin.Context) {
	h.answered(c, h.Gate.Book.RevokeToken(callerOf(c).By(), c.Param("token")))
}
