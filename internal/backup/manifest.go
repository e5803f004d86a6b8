// Package backup makes copies of what a service keeps while it runs, and puts them back.
//
// A copy is a manifest, which lists the files that were copied and the blocks that they are made of, and these blocks. A
// block is 256 KiB of a file, compressed with Zstandard (RFC 8878), and is called by the SHA-256 of what it is of, so
// what has not changed since the copy before is not written again.
//
//	blocks/3f/3fa9…           the block
//	taken/20260301T080000Z.json   the manifest of the copy of that moment
//
// In a stream the same files follow each other in the form of tar, the manifest last.
package backup

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"path"
	"path/filepath"
	"time"
)

// form of the manifests, and what reads them.
const form = "nexocumula-backup-1"

// blockBytes is how large a block is, before it is compressed.
const blockBytes = 256 << 10

// Manifest says what a copy is made of.
type Manifest struct {
	Form    string    `json:"form"`
	Taken   time.Time `json:"taken"`
	Version string    `json:"version"` // of the program
	Site    string    `json:"site"`
	Faults  int       `json:"faults"`          // that were found in the store when it was copied
	Secrets bool      `json:"secrets"`         // whether they are there, encrypted
	Files   []File    `json:"files,omitempty"` // of a manifest in an answer, none
}

// File is a file of a copy.
type File struct {
	Name   string   `json:"name"`
	Bytes  int64    `json:"bytes"`
	Blocks []string `json:"blocks"` // SHA-256 of each, in order
}

// Bytes of all files.
func (m Manifest) Bytes() (bytes int64) {
	for _, f := range m.Files {
		bytes += f.Bytes
	}
	return bytes
}

const (
	blocksDir = "blocks"
	takenDir  = "taken"
	takenForm = "20060102T150405Z"
)

func blockPath(sum string) string { return path.Join(blocksDir, sum[:2], sum) }

func (m Manifest) path() string { return path.Join(takenDir, m.Taken.UTC().Format(takenForm)+".json") }

// sealed is a manifest as it is written, with a sum that shows whether it is whole.
type sealed struct {
	Manifest
	Sum string `json:"sum"`
}

func (m Manifest) encode() ([]byte, error) {
	plain, err := json.Marshal(m)
	if err != nil {
		return nil, err
	}
	return json.MarshalIndent(sealed{m, sumOf(plain)}, "", " ")
}

func decode(name string, text []byte) (m Manifest, err error) {
	var s sealed
	if err := json.Unmarshal(text, &s); err != nil {
		return m, fmt.Errorf("the manifest %s cannot be read: %w", name, err)
	}
	if s.Form != form {
		return m, fmt.Errorf("the manifest %s is of the form %q; this program reads %s", name, s.Form, form)
	}
	plain, err := json.Marshal(s.Manifest)
	if err != nil {
		return m, err
	}
	if sumOf(plain) != s.Sum {
		return m, fmt.Errorf("the manifest %s does not match its sum: it is not as it was written", name)
	}
	for _, f := range s.Files {
		if !filepath.IsLocal(f.Name) {
			return m, fmt.Errorf("the manifest %s has a file %q, which would leave the folder", name, f.Name)
		}
		for _, sum := range f.Blocks {
			if raw, err := hex.DecodeString(sum); err != nil || len(raw) != sha256.Size {
				return m, fmt.Errorf("the manifest %s has a block %q, which is no SHA-256", name, sum)
			}
		}
	}
	return s.Manifest, nil
}

func sumOf(data []byte) string {
	sum := sha256.Sum256(data)
	return hex.EncodeToString(sum[:])
}
