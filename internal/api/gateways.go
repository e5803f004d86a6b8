package api

import (
	"net/http"
	"net/url"
	"strings"

	"github.com/gin-gonic/gin"

	"nexocumula/client"
	"nexocumula/internal/core/series"
)

func (h handlers) gateways(c *gin.Context) {
	if _, ok := (names{}).query(c); !ok {
		return
	}
	out := client.EnrolledGateways{Gateways: []client.EnrolledGateway{}}
	for _, g := range h.Gate.Book.Gateways() {
		out.Gateways = append(out.Gateways, client.EnrolledGateway{
			Gateway: g.Name, Sites: g.Sites, Enrolled: g.Enrolled, Renewed: g.Renewed, Revoked: pointer(g.Revoked), Used: pointer(g.Used), From: g.From,
		})
	}
	c.JSON(http.StatusOK, out)
}

// receiving answers that the service is no central, where that is so.
func (h handlers) receiving(c *gin.Context) bool {
	if h.Central == nil {
		fail(c, http.StatusNotFound, "no_central", "this service is no central; set central: in its configuration")
	}
	return h.Central != nil
}

// enrol makes the code with which a gateway gets a credential.
func (h handlers) enrol(c *gin.Context) {
	if !h.receiving(c) {
		return
	}
	in, ok := request[client.Enrol](c)
	if !ok {
		return
	}
	if len(in.Sites) == 0 {
		in.Sites = []string{in.Gateway}
	}
	for _, name := range append([]string{in.Gateway}, in.Sites...) {
		if err := series.CheckLevel(name); err != nil {
			fail(c, http.StatusBadRequest, "body",
				"the name of a gateway is its site, the first level of its series, which "+err.Error())
			return
		}
	}
	code, ends, err := h.Gate.Book.Enrol(callerOf(c).By(), in.Gateway, in.Sites)
	if err != nil {
		h.answerWrong(c, err)
		return
	}
	created(c, "gateways/"+url.PathEscape(in.Gateway), client.Enrolment{
		Gateway:     in.Gateway,
		Code:        code,
		Ends:        ends,
		Fingerprint: h.Gate.Fingerprint(),
	})
}

func (h handlers) join(c *gin.Context) {
	if !h.receiving(c) {
		return
	}
	in, ok := request[client.Join](c)
	if !ok {
		return
	}
	secret, err := h.Gate.Book.Join(address(c), in.Gateway, in.Code)
	if err != nil {
		h.answerWrong(c, err)
		return
	}
	c.JSON(http.StatusOK, client.Joined{Gateway: in.Gateway, Secret: secret})
}

func (h handlers) revokeGateway(c *gin.Context) {
	h.answered(c, h.Gate.Book.RevokeGateway(callerOf(c).By(), c.Param("gateway")))
}

// renewCredential gives a gateway the credential that follows its present one.
func (h handlers) renewCredential(c *gin.Context) {
	if !h.receiving(c) {
		return
	}
	in, ok := request[struct {
		Gateway string `json:"gateway"`
	}](c)
	if !ok {
		return
	}
	bearer, _ := strings.CutPrefix(c.GetHeader("Authorization"), "Bearer ")
	found, err := h.Gate.Book.CheckCredential(in.Gateway, bearer, address(c))
	if err != nil {
		h.answerWrong(c, err)
		return
	}
	if !found.Good {
		h.turnAway(c, callerOf(c), "gateways.renew", http.StatusUnauthorized, "token",
			"this is no credential of a gateway of that name")
		return
	}
	next, err := h.Gate.Book.Renew(in.Gateway)
	if err != nil {
		h.answerWrong(c, err)
		return
	}
	c.JSON(http.StatusOK, client.Joined{Gateway: in.Gateway, Secret: next})
}
