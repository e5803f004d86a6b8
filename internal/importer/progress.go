package importer

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
)

// Progress is the part of a file that was imported.
type Progress struct {
	File     string `json:"file"`     // what it begins with, how long it is, and how it is read
	Records  int    `json:"records"`  // that are on the gateway's disk, or refused
	Accepted int    `json:"accepted"` // readings
	Refused  int    `json:"refused"`
	Finished bool   `json:"finished"`
	path     string
}

const begins = 1 << 20 // bytes that a file is told from others by

// identity tells a file, and how it is read, from others.
func identity(file *os.File, columns Columns) (string, error) {
	about, err := file.Stat()
	if err != nil {
		return "", err
	}
	sum := sha256.New()
	if _, err := io.Copy(sum, io.NewSectionReader(file, 0, begins)); err != nil {
		return "", err
	}
	how, err := json.Marshal(columns)
	if err != nil {
		return "", err
	}
	fmt.Fprintf(sum, "%d %s", about.Size(), how)
	return hex.EncodeToString(sum.Sum(nil)), nil
}

// loadProgress returns the progress of a file, or a new one if there is none or it belongs to another file.
func loadProgress(path, file string) (Progress, error) {
	out := Progress{File: file, path: path}
	text, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		return out, nil
	}
	if err != nil {
		return out, err
	}
	var was Progress
	if err := json.Unmarshal(bytes.TrimSpace(text), &was); err != nil {
		return out, fmt.Errorf("%s is not the progress of an import; remove it, or name another with --progress: %w",
			path, err)
	}
	if was.File == file {
		was.path = path
		return was, nil
	}
	return out, nil
}

// save keeps it in a way that a kill leaves the old or the new.
func (p Progress) save() error {
	text, err := json.MarshalIndent(p, "", "  ")
	if err != nil {
		return err
	}
	next := p.path + ".next"
	if err := os.WriteFile(next, append(text, '\n'), 0o600); err != nil {
		return err
	}
	return os.Rename(next, p.path)
}
