package api

import (
	"net/http"

	"github.com/gin-gonic/gin"

	"nexocumula/client"
	"nexocumula/internal/manual"
)

// pages lists the pages of the manual, with what stands on them.
func (h handlers) pages(c *gin.Context) {
	if _, ok := (names{}).query(c); !ok {
		return
	}
	all, err := manual.Pages()
	if err != nil {
		fail(c, http.StatusInternalServerError, "internal", err.Error())
		return
	}
	out := client.Manual{Pages: make([]client.ManualPage, len(all))}
	for i, p := range all {
		out.Pages[i] = client.ManualPage{Name: p.Name, Title: p.Title, Headings: []client.ManualHeading{}}
		for _, one := range p.Headings {
			out.Pages[i].Headings = append(out.Pages[i].Headings, client.ManualHeading(one))
		}
	}
	c.JSON(http.StatusOK, out)
}

// manualPage answers with a page as HTML.
func (h handlers) manualPage(c *gin.Context) {
	if _, ok := (names{}).query(c); !ok {
		return
	}
	p, err := manual.Find(c.Param("page"))
	if err != nil {
		fail(c, http.StatusNotFound, "unknown", err.Error())
		return
	}
	c.Data(http.StatusOK, "text/html; charset=utf-8", []byte(p.HTML))
}
