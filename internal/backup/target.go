package backup

import (
	"archive/tar"
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"time"

	"golang.org/x/sys/unix"
)

// target is where a copy goes.
type target interface {
	has(path string) bool
	put(path string, data []byte) error
	// finish makes all that was put there durable; then the manifest follows.
	finish() error
}

// folder keeps copies, and blocks that they share.
type folder struct{ dir string }

func openFolder(dir string) (folder, error) {
	for _, one := range []string{blocksDir, takenDir} {
		if err := os.MkdirAll(filepath.Join(dir, one), 0o700); err != nil {
			return folder{}, fmt.Errorf("making the folder of backups: %w", err)
		}
	}
	return folder{dir}, nil
}

// lock keeps others from writing into the folder until it is freed.
func (f folder) lock() (free func(), err error) {
	dir, err := os.Open(f.dir)
	if err != nil {
		return nil, fmt.Errorf("opening the folder of backups: %w", err)
	}
	if err := unix.Flock(int(dir.Fd()), unix.LOCK_EX|unix.LOCK_NB); err != nil {
		return nil, errors.Join(fmt.Errorf("another backup is being made in %s; wait for it", f.dir), dir.Close())
	}
	return func() { _ = dir.Close() }, nil // which ends the lock
}

func (f folder) has(path string) bool {
	info, err := os.Stat(filepath.Join(f.dir, path))
	return err == nil && info.Size() > 0
}

// put writes a file in whole or not at all.
func (f folder) put(path string, data []byte) error {
	file := filepath.Join(f.dir, path)
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return fmt.Errorf("writing the backup: %w", err)
	}
	part := file + ".part"
	err := os.WriteFile(part, data, 0o600)
	if err == nil {
		err = os.Rename(part, file)
	}
	if err != nil {
		_ = os.Remove(part) // what matters is why it could not be written
		return fmt.Errorf("writing the backup: %w", err)
	}
	return nil
}

// finish has the disk take all that was written at once: a sync of each block would take longer than all the rest.
func (f folder) finish() error {
	dir, err := os.Open(f.dir)
	if err != nil {
		return fmt.Errorf("writing the backup: %w", err)
	}
	err = unix.Syncfs(int(dir.Fd()))
	if err := errors.Join(err, dir.Close()); err != nil {
		return fmt.Errorf("writing the backup: %w", err)
	}
	return nil
}

func (f folder) get(path string) ([]byte, error) { return os.ReadFile(filepath.Join(f.dir, path)) }

// taken returns the manifests that are there, the oldest first, and why others cannot be read.
func (f folder) taken() (all []Manifest, bad []error, err error) {
	names, err := filepath.Glob(filepath.Join(f.dir, takenDir, "*.json"))
	if err != nil {
		return nil, nil, err
	}
	for _, name := range names {
		text, err := os.ReadFile(name)
		if err != nil {
			return nil, nil, err
		}
		if m, err := decode(name, text); err == nil {
			all = append(all, m)
		} else {
			bad = append(bad, err)
		}
	}
	slices.SortFunc(all, func(a, b Manifest) int { return a.Taken.Compare(b.Taken) })
	return all, bad, nil
}

// prune removes all copies but the newest, and the blocks that none of these has. Where a manifest cannot be read, the
// blocks stay: it may be of them.
func (f folder) prune(keep int) error {
	all, bad, err := f.taken()
	if err != nil {
		return err
	}
	for _, old := range all[:max(0, len(all)-keep)] {
		if err := os.Remove(filepath.Join(f.dir, old.path())); err != nil {
			return fmt.Errorf("removing an old backup: %w", err)
		}
	}
	if len(bad) > 0 {
		return errors.Join(bad...)
	}
	used := map[string]bool{}
	for _, m := range all[max(0, len(all)-keep):] {
		for _, file := range m.Files {
			for _, sum := range file.Blocks {
				used[sum] = true
			}
		}
	}
	return filepath.WalkDir(filepath.Join(f.dir, blocksDir), func(path string, entry fs.DirEntry, err error) error {
		if err != nil || entry.IsDir() || used[entry.Name()] {
			return err
		}
		return os.Remove(path)
	})
}

// stream is one copy as a tar.
type stream struct {
	to   *tar.Writer
	seen map[string]bool
	at   time.Time
}

func newStream(to io.Writer, at time.Time) *stream {
	return &stream{tar.NewWriter(to), map[string]bool{}, at.Truncate(time.Second)}
}

func (s *stream) has(path string) bool { return s.seen[path] }

func (s *stream) put(path string, data []byte) error {
	s.seen[path] = true
	err := s.to.WriteHeader(&tar.Header{Name: path, Mode: 0o600, Size: int64(len(data)), ModTime: s.at, Format: tar.FormatUSTAR})
	if err == nil {
		_, err = s.to.Write(data)
	}
	if err != nil {
		return fmt.Errorf("writing the backup: %w", err)
	}
	return nil
}

func (s *stream) finish() error { return nil }

// unpack puts a stream into a folder, from which it is restored.
func unpack(from io.Reader, into folder) error {
	read := tar.NewReader(from)
	for {
		head, err := read.Next()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return fmt.Errorf("reading the backup: %w", err)
		}
		if !filepath.IsLocal(head.Name) || head.Typeflag != tar.TypeReg {
			return fmt.Errorf("reading the backup: %q is no file of a backup", head.Name)
		}
		var data bytes.Buffer
		if _, err := io.Copy(&data, io.LimitReader(read, mostPart)); err != nil {
			return fmt.Errorf("reading the backup: %w", err)
		}
		if err := into.put(head.Name, data.Bytes()); err != nil {
			return err
		}
	}
}

// mostPart bounds what one file of a stream may have: a manifest of a store of a terabyte.
const mostPart = 1 << 30

// newest returns the newest copy that was taken no later than a time; of a zero time, the newest of all.
func newest(all []Manifest, asOf time.Time) (Manifest, bool) {
	for _, m := range slices.Backward(all) {
		if asOf.IsZero() || !m.Taken.After(asOf) {
			return m, true
		}
	}
	return Manifest{}, false
}
