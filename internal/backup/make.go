package backup

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"time"

	"filippo.io/age"
	"github.com/klauspost/compress/zstd"

	"nexocumula/internal/access"
	dataFolder "nexocumula/internal/folder"
	"nexocumula/internal/store"
	"nexocumula/internal/store/engine"
	"nexocumula/internal/store/sqlite"
)

// Wanted says what is copied.
type Wanted struct {
	Data          string // the folder of the service
	Store         string // the file of its store there
	Configuration string // its configuration, which has no secrets; "": none is copied
	Site, Version string
	Taken         time.Time
	Keep          int             // of a folder, how many copies stay; 0: all
	For           []age.Recipient // for whom secrets are encrypted; without any they are not copied
	// Read, if given, is told how many bytes were read, and may wait; an error of it ends the copy.
	Read func(ctx context.Context, bytes int) error
	Log  *slog.Logger
}

// Made says what became of a copy.
type Made struct {
	Manifest
	Written int64          // bytes that were not there yet, as they are on disk
	Found   []engine.Fault // by looking through the store
}

// IntoFolder copies into a folder, which has what was copied before.
func IntoFolder(ctx context.Context, dir string, w Wanted) (made Made, err error) {
	if dataFolder.Inside(dir, w.Data) {
		return made, fmt.Errorf("%s is inside of the service's own folder: what takes that takes its backups as well; use another, better on another disk", dir)
	}
	into, err := openFolder(dir)
	if err != nil {
		return made, err
	}
	free, err := into.lock()
	if err != nil {
		return made, err
	}
	defer free()
	if made, err = w.make(ctx, into); err != nil || w.Keep == 0 {
		return made, err
	}
	return made, into.prune(w.Keep)
}

// IntoStream copies everything into a stream.
func IntoStream(ctx context.Context, to io.Writer, w Wanted) (Made, error) {
	into := newStream(to, w.Taken)
	made, err := w.make(ctx, into)
	if err == nil {
		err = into.to.Close()
	}
	return made, err
}

// copying is a copy that is being made.
type copying struct {
	Wanted
	into  target
	pack  *zstd.Encoder
	made  Made
	file  *File // that is being copied
	block []byte
}

func (w Wanted) make(ctx context.Context, into target) (Made, error) {
	pack, err := zstd.NewWriter(nil, zstd.WithEncoderConcurrency(1))
	if err != nil {
		return Made{}, err
	}
	defer pack.Close()
	c := copying{Wanted: w, into: into, pack: pack}
	c.made.Manifest = Manifest{
		Form: form, Taken: w.Taken.UTC().Truncate(time.Second), Version: w.Version, Site: w.Site, Secrets: len(w.For) > 0,
	}
	if into.has(c.made.path()) {
		return Made{}, fmt.Errorf("there is a backup of %s already", c.made.Taken.Format(time.RFC3339))
	}
	// The store is looked through before it is copied: a copy of what is damaged says so.
	err = store.VerifySums(ctx, filepath.Join(w.Data, w.Store), w.Log, func(f engine.Fault) { c.made.Found = append(c.made.Found, f) }, c.read)
	if err != nil {
		return Made{}, err
	}
	c.made.Faults = len(c.made.Found)
	if err := c.all(ctx); err != nil {
		return Made{}, err
	}
	if err := into.finish(); err != nil {
		return Made{}, err
	}
	text, err := c.made.encode()
	if err != nil {
		return Made{}, err
	}
	if err := into.put(c.made.path(), text); err != nil {
		return Made{}, err
	}
	return c.made, into.finish()
}

func (c *copying) read(ctx context.Context, bytes int) error {
	if c.Read == nil {
		return ctx.Err()
	}
	return c.Read(ctx, bytes)
}

// all copies file after file. What the head of the audit says is copied before the audit, which may go on meanwhile.
func (c *copying) all(ctx context.Context) error {
	if err := c.plain(ctx, filepath.Join(c.Data, access.HeadFile), access.HeadFile); err != nil {
		return err
	}
	for _, name := range []string{access.File, c.Store} {
		if err := c.database(ctx, name); err != nil {
			return err
		}
	}
	if c.Configuration != "" {
		if err := c.plain(ctx, c.Configuration, "configuration.yaml"); err != nil {
			return err
		}
	}
	if len(c.For) == 0 {
		return nil
	}
	secrets, err := lockUp(c.Data, c.For)
	if err != nil {
		return err
	}
	c.begin(secretsFile)
	if err := c.take(ctx, secrets); err != nil {
		return err
	}
	return c.end()
}

// plain copies a file that is small, if it is there.
func (c *copying) plain(ctx context.Context, path, name string) error {
	text, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return fmt.Errorf("copying %s: %w", name, err)
	}
	c.begin(name)
	if err := c.take(ctx, text); err != nil {
		return err
	}
	return c.end()
}

// database copies a database as it is at one moment, if it is there.
func (c *copying) database(ctx context.Context, name string) error {
	path := filepath.Join(c.Data, name)
	if _, err := os.Stat(path); errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	c.begin(name)
	if err := sqlite.Snapshot(ctx, path, c.Log, func(bytes []byte) error { return c.take(ctx, bytes) }); err != nil {
		return err
	}
	return c.end()
}

func (c *copying) begin(name string) {
	c.made.Files = append(c.made.Files, File{Name: name})
	c.file = &c.made.Files[len(c.made.Files)-1]
}

// take adds bytes to the file, and puts away each block that is full.
func (c *copying) take(ctx context.Context, data []byte) error {
	c.file.Bytes += int64(len(data))
	for len(data) > 0 {
		n := min(len(data), blockBytes-len(c.block))
		c.block, data = append(c.block, data[:n]...), data[n:]
		if len(c.block) == blockBytes {
			if err := c.read(ctx, blockBytes); err != nil {
				return err
			}
			if err := c.put(); err != nil {
				return err
			}
		}
	}
	return nil
}

func (c *copying) end() error {
	if len(c.block) > 0 {
		return c.put()
	}
	return nil
}

func (c *copying) put() error {
	sum := sumOf(c.block)
	c.file.Blocks = append(c.file.Blocks, sum)
	if path := blockPath(sum); !c.into.has(path) {
		packed := c.pack.EncodeAll(c.block, nil)
		if err := c.into.put(path, packed); err != nil {
			return err
		}
		c.made.Written += int64(len(packed))
	}
	c.block = c.block[:0]
	return nil
}
