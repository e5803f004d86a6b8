package api

import (
	"net/http"
	"slices"
	"strings"

	"github.com/klauspost/compress/gzhttp"
)

// leastCompressed is how long an answer is, in bytes, that is worth compressing.
const leastCompressed = 2048

// asTheyAre are not compressed: all who watch a live stream share the bytes of an event, and tables for
// programs are dense already.
var asTheyAre = []string{"text/event-stream", "application/vnd.apache."}

// compressed lets answers be compressed with gzip or zstd, as the client takes them: sites hang on slow
// links.
func compressed(next http.Handler) http.Handler {
	wrap, err := gzhttp.NewWrapper(
		gzhttp.MinSize(leastCompressed),
		gzhttp.CompressionLevel(1), // it is many times as fast as the best, and nearly as small
		gzhttp.EnableZstd(true),
		gzhttp.ContentTypeFilter(func(kind string) bool {
			return gzhttp.DefaultContentTypeFilter(kind) &&
				!slices.ContainsFunc(asTheyAre, func(one string) bool { return strings.HasPrefix(kind, one) })
		}),
	)
	if err != nil {
		panic(err) // these options do not depend on anything
	}
	return wrap(next)
}
