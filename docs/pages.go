// Package docs has the pages of the manual, as they stand in this folder.
package docs

import "embed"

// Files are the pages, in Markdown.
//
//go:embed *.md
var Files embed.FS
