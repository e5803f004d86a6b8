package backup

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"time"

	"filippo.io/age"
	"github.com/klauspost/compress/zstd"
	"golang.org/x/sys/unix"

	dataFolder "nexocumula/internal/folder"
)

// List returns the copies in a folder, the oldest first, and what is wrong with others.
func List(dir string) (all []Manifest, bad []error, err error) {
	if _, err := os.Stat(filepath.Join(dir, takenDir)); errors.Is(err, fs.ErrNotExist) {
		return nil, nil, fmt.Errorf("%s is no folder of backups: it has no folder %s", dir, takenDir)
	}
	return folder{dir}.taken()
}

// Restoring says how a copy is put back.
type Restoring struct {
	AsOf       time.Time      // the newest copy taken by then; zero: the newest
	Identities []age.Identity // without any, secrets are left out
}

// FromFolder puts a copy into a folder that is empty or not there.
func FromFolder(ctx context.Context, dir, into string, how Restoring) (m Manifest, err error) {
	free, err := takeEmpty(into)
	if err != nil {
		return m, err
	}
	defer free()
	return putBack(ctx, dir, into, how)
}

// FromStream puts the copy of a stream back.
func FromStream(ctx context.Context, from io.Reader, into string, how Restoring) (m Manifest, err error) {
	free, err := takeEmpty(into)
	if err != nil {
		return m, err
	}
	defer free()
	dir, err := os.MkdirTemp(into, ".unpacked-")
	if err != nil {
		return m, fmt.Errorf("unpacking the backup: %w", err)
	}
	defer func() { err = errors.Join(err, os.RemoveAll(dir)) }()
	unpacked, err := openFolder(dir)
	if err != nil {
		return m, err
	}
	if err := unpack(from, unpacked); err != nil {
		return m, err
	}
	return putBack(ctx, dir, into, how)
}

// takeEmpty takes a folder that nothing is in, so that no service begins there meanwhile.
func takeEmpty(dir string) (free func(), err error) {
	taken, err := dataFolder.Take(dir)
	if err != nil {
		return nil, err
	}
	entries, err := os.ReadDir(dir)
	if err == nil && slices.ContainsFunc(entries, func(e os.DirEntry) bool { return e.Name() != dataFolder.LockFile }) {
		err = fmt.Errorf("the folder %s is not empty; move what is there away first: nothing is written over", dir)
	}
	if err != nil {
		taken.Release()
		return nil, err
	}
	return taken.Release, nil
}

// putBack writes the files beside, and moves them to their places once all are whole, so that what breaks off leaves
// nothing half.
func putBack(ctx context.Context, dir, into string, how Restoring) (m Manifest, err error) {
	all, bad, err := List(dir)
	if err != nil {
		return m, err
	}
	m, ok := newest(all, how.AsOf)
	if !ok {
		return m, errors.Join(append([]error{fmt.Errorf("%s has no backup of that time", dir)}, bad...)...)
	}
	part, err := os.MkdirTemp(into, ".restored-")
	if err != nil {
		return m, fmt.Errorf("restoring into %s: %w", into, err)
	}
	defer func() { err = errors.Join(err, os.RemoveAll(part)) }()
	if err := writeAll(ctx, folder{dir}, m, part, how); err != nil {
		return m, err
	}
	if err := (folder{part}).finish(); err != nil {
		return m, err
	}
	entries, err := os.ReadDir(part)
	if err != nil {
		return m, fmt.Errorf("restoring into %s: %w", into, err)
	}
	for _, e := range entries {
		if err := os.Rename(filepath.Join(part, e.Name()), filepath.Join(into, e.Name())); err != nil {
			return m, fmt.Errorf("restoring into %s: %w", into, err)
		}
	}
	return m, folder{into}.finish()
}

func writeAll(ctx context.Context, from folder, m Manifest, into string, how Restoring) error {
	unpack, err := newUnpacker()
	if err != nil {
		return err
	}
	defer unpack.Close()
	for _, f := range m.Files {
		switch {
		case f.Name != secretsFile:
			err = writeFile(ctx, from, f, filepath.Join(into, f.Name), unpack)
		case len(how.Identities) > 0:
			var locked bytes.Buffer
			if err = write(ctx, from, f, &locked, unpack); err == nil {
				err = unlock(locked.Bytes(), into, how.Identities)
			}
		}
		if err != nil {
			return err
		}
	}
	return nil
}

func newUnpacker() (*zstd.Decoder, error) {
	return zstd.NewReader(nil, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(blockBytes))
}

func writeFile(ctx context.Context, from folder, f File, path string, unpack *zstd.Decoder) error {
	to, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY|unix.O_NOFOLLOW, 0o600)
	if err != nil {
		return fmt.Errorf("restoring %s: %w", f.Name, err)
	}
	return errors.Join(write(ctx, from, f, to, unpack), to.Close())
}

// write puts the blocks of a file one after the other, each as its sum says.
func write(ctx context.Context, from folder, f File, to io.Writer, unpack *zstd.Decoder) error {
	var size int64
	for i, sum := range f.Blocks {
		if err := ctx.Err(); err != nil {
			return err
		}
		packed, err := from.get(blockPath(sum))
		if err != nil {
			return fmt.Errorf("block %d of %s is missing: %w; an older backup may have it whole", i+1, f.Name, err)
		}
		plain, err := unpack.DecodeAll(packed, nil)
		if err != nil || sumOf(plain) != sum {
			return fmt.Errorf("block %d of %s is damaged: it is not as it was written; an older backup may have it whole", i+1, f.Name)
		}
		size += int64(len(plain))
		if _, err := to.Write(plain); err != nil {
			return fmt.Errorf("restoring %s: %w", f.Name, err)
		}
	}
	if size != f.Bytes {
		return fmt.Errorf("%s has %d bytes in its blocks where the manifest says %d", f.Name, size, f.Bytes)
	}
	return nil
}

// Check reads every block of a copy, and writes nothing.
func Check(ctx context.Context, dir string, m Manifest) error {
	unpack, err := newUnpacker()
	if err != nil {
		return err
	}
	defer unpack.Close()
	for _, f := range m.Files {
		if err := write(ctx, folder{dir}, f, io.Discard, unpack); err != nil {
			return err
		}
	}
	return nil
}
