package plain

import (
	"net/url"
	"strings"
)

const longestConsole = 300 // bytes of the address of a console

// Console returns the address of a console as somebody wrote it, without a slash at its end, or "" if a link
// to it could lead anywhere but to a host's pages over HTTP.
func Console(address string) string {
	u, err := url.Parse(address)
	if err != nil || len(address) > longestConsole || u.Host == "" || u.User != nil ||
		u.Scheme != "http" && u.Scheme != "https" || u.RawQuery != "" || u.Fragment != "" {
		return ""
	}
	return strings.TrimRight(u.String(), "/")
}
