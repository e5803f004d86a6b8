package api

import (
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"github.com/gin-gonic/gin"

	"nexocumula/internal/core/series"
)

// longestQuery bounds the address of a call; what is longer no person wrote.
const longestQuery = 32 << 10

// names are parameters of a call; those that may come several times end with an asterisk.
type names []string

// read returns the parameters of a call. Whatever the call does not know is refused, lest a
// typing error go unnoticed.
func (n names) read(c *gin.Context) (url.Values, error) {
	v, err := url.ParseQuery(c.Request.URL.RawQuery)
	if err != nil {
		return nil, fmt.Errorf("the query cannot be read: %w; write what is not a letter or digit as %% and two hexadecimal digits, such as %%20",
			err)
	}
	for name, values := range v {
		switch {
		case slices.Contains(n, name+"*"):
		case !slices.Contains(n, name):
			if len(n) == 0 {
				return nil, fmt.Errorf("parameter %q is not known; this call takes none", name)
			}
			return nil, fmt.Errorf("parameter %q is not known; use some of %s", name,
				strings.ReplaceAll(strings.Join(n, ", "), "*", ""))
		case len(values) > 1:
			return nil, fmt.Errorf("%s is given twice, %q and %q; give it once", name, values[0], values[1])
		}
	}
	return v, nil
}

// longestHead bounds what comes before the body of a call.
const longestHead = 64 << 10

// refuseLong answers addresses and headers that are too long to be read.
func refuseLong(c *gin.Context) {
	size := len(c.Request.URL.RawPath) + len(c.Request.URL.Path)
	for name, values := range c.Request.Header {
		for _, v := range values {
			size += len(name) + len(v)
		}
	}
	if size > longestHead {
		fail(c, http.StatusRequestHeaderFieldsTooLarge, "headers",
			fmt.Sprintf("the request's headers have %d bytes; at most %d are read", size, longestHead))
		return
	}
	if len(c.Request.URL.RawQuery) > longestQuery {
		fail(c, http.StatusRequestURITooLong, "query",
			fmt.Sprintf("the query has %d characters; at most %d are read", len(c.Request.URL.RawQuery), longestQuery))
	}
}

// query reads the parameters of a call and answers it when they are wrong.
func (n names) query(c *gin.Context) (url.Values, bool) {
	v, err := n.read(c)
	if err != nil {
		fail(c, http.StatusBadRequest, "query", err.Error())
		return nil, false
	}
	return v, true
}

func readSelector(v url.Values) (series.Selector, error) {
	if v.Get("select") == "" {
		return series.Selector{}, fmt.Errorf("select is missing; name the series, such as select=long-mere/+/water_temp")
	}
	return readSelected(v)
}

const mostSelectors = 500

// readSelectors returns the series that several selects name, of which each narrows by all labels.
func readSelectors(v url.Values) ([]series.Selector, error) {
	texts := v["select"]
	switch {
	case len(texts) == 0:
		texts = []string{""} // which is told what is missing
	case len(texts) > mostSelectors:
		return nil, fmt.Errorf("select is given %d times; at most %d are read: use wildcards, such as select=long-mere/+/water_temp",
			len(texts), mostSelectors)
	}
	out := make([]series.Selector, len(texts))
	for i, text := range texts {
		var err error
		if out[i], err = readSelector(url.Values{"select": {text}, "label": v["label"]}); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// readSelected returns the series that select and label name, all of them without.
func readSelected(v url.Values) (series.Selector, error) {
	text := v.Get("select")
	if text == "" {
		text = "#"
	}
	selector, err := series.ParseSelector(text)
	if err != nil {
		return selector, err
	}
	labels, err := series.ParseLabels(strings.Join(v["label"], ","))
	return selector.With(labels), err
}
