// Package folder guards the folder in which a service keeps its files: one process uses it at a
// time, and only the account of the service can put files there.
package folder

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"
)

// LockFile stays when a service ends; what counts is who holds a lock on it.
const LockFile = "nexocumula.lock"

// Folder is a folder that this process uses.
type Folder struct{ lock *os.File }

// InUseError says that another process uses a folder.
type InUseError struct{ Path, By string }

func (e *InUseError) Error() string {
	return fmt.Sprintf("the folder %s is in use by %s; stop that first, or set data: to another folder", e.Path, e.By)
}

// Take makes a folder where there is none, checks who may write into it, and locks it for this process.
func Take(path string) (*Folder, error) {
	if err := os.MkdirAll(path, 0o750); err != nil {
		return nil, fmt.Errorf("creating the folder %s: %w; set data: to a folder that this account may make", path,
			reason(err))
	}
	if err := Check(path); err != nil {
		return nil, err
	}
	f, err := os.OpenFile(filepath.Join(path, LockFile), os.O_CREATE|os.O_RDWR|syscall.O_NOFOLLOW, 0o600)
	if errors.Is(err, syscall.ENOSPC) {
		return nil, fmt.Errorf("the disk of the folder %s is full: not even a lock can be put there; free some space",
			path)
	}
	if err != nil {
		return nil, fmt.Errorf("the folder %s cannot be written: %w; let the account that runs the service write it and the files in it, or set data: to another folder",
			path, reason(err))
	}
	if err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		defer f.Close()
		if errors.Is(err, syscall.EWOULDBLOCK) {
			return nil, &InUseError{path, holder(f)}
		}
		return nil, fmt.Errorf("locking the folder %s: %w", path, err)
	}
	// That who holds it cannot be written down, on a full disk, must not keep a service from starting.
	_ = f.Truncate(0)
	_, _ = f.WriteAt(fmt.Appendf(nil, "process %d (%s)\n", os.Getpid(), strings.Join(os.Args, " ")), 0)
	return &Folder{f}, nil
}

// holder returns what the process that holds the lock wrote down of itself.
func holder(f *os.File) string {
	text, err := io.ReadAll(io.LimitReader(f, 300))
	if by := strings.TrimSpace(string(text)); err == nil && by != "" {
		return by
	}
	return "another process"
}

// Inside reports whether a folder is another, or in it.
func Inside(dir, other string) bool {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return false
	}
	if other, err = filepath.Abs(other); err != nil {
		return false
	}
	rel, err := filepath.Rel(other, dir)
	return err == nil && filepath.IsLocal(rel)
}

// Release lets other processes use the folder. A folder that was never taken can be released.
func (f *Folder) Release() {
	if f != nil && f.lock != nil {
		_ = f.lock.Close() // which ends the lock
	}
}

// Check refuses a folder into which every account of the machine can put files, and links in it that
// lead the files of a service elsewhere.
func Check(path string) error {
	info, err := os.Stat(path)
	if err != nil {
		return fmt.Errorf("the folder %s: %w", path, reason(err))
	}
	if !info.IsDir() {
		return fmt.Errorf("%s is a file; data: names a folder", path)
	}
	if info.Mode().Perm()&0o002 != 0 {
		return fmt.Errorf("every account of this machine can write into the folder %s (mode %04o), so anybody could replace what is kept there; run chmod o-w %s, or set data: to another folder",
			path, info.Mode().Perm(), path)
	}
	entries, err := os.ReadDir(path)
	if err != nil {
		return fmt.Errorf("the folder %s cannot be read: %w", path, reason(err))
	}
	for _, e := range entries {
		if e.Type()&fs.ModeSymlink != 0 {
			return fmt.Errorf("%s is a symbolic link; the folder of a service holds its files themselves: put the file there, or set data: to the folder it is in",
				filepath.Join(path, e.Name()))
		}
	}
	return nil
}

// reason returns an error without the path, which the caller names.
func reason(err error) error {
	if e, ok := errors.AsType[*fs.PathError](err); ok {
		return e.Err
	}
	return err
}
