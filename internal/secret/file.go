package secret

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"syscall"
)

// OnlyOwner refuses a file with a secret that everybody on this machine may read.
func OnlyOwner(file string) error {
	about, err := os.Stat(file)
	if err != nil {
		return err
	}
	if mode := about.Mode().Perm(); mode&0o007 != 0 {
		return fmt.Errorf("everybody on this machine may read or write %s (mode %04o), which holds a secret; run chmod 640 %s, or 600",
			file, mode, file)
	}
	return nil
}

// WriteFile writes a file that only its owner may read, whole or not at all. What root
// writes belongs to whoever the folder belongs to, which is the account of a service that
// has to read it.
func WriteFile(path string, text []byte) (err error) {
	dir := filepath.Dir(path)
	if err := makeFolder(dir); err != nil {
		return err
	}
	f, err := os.CreateTemp(dir, ".new-*") // with mode 0600
	if err != nil {
		return err
	}
	defer func() {
		if err != nil {
			os.Remove(f.Name())
		}
	}()
	_, err = f.Write(text)
	if err == nil {
		err = f.Sync()
	}
	if err == nil {
		err = sameOwner(f.Name(), dir)
	}
	if e := f.Close(); err == nil {
		err = e
	}
	if err != nil {
		return err
	}
	if err = os.Rename(f.Name(), path); err != nil {
		return err
	}
	folder, err := os.Open(dir)
	if err != nil {
		return err
	}
	defer folder.Close()
	return folder.Sync()
}

func makeFolder(dir string) error {
	if _, err := os.Stat(dir); err == nil {
		return nil
	}
	if err := makeFolder(filepath.Dir(dir)); err != nil {
		return err
	}
	if err := os.Mkdir(dir, 0o700); err != nil && !errors.Is(err, fs.ErrExist) {
		return err
	}
	return sameOwner(dir, filepath.Dir(dir))
}

// sameOwner gives root's file or folder to whoever its folder belongs to.
func sameOwner(path, dir string) error {
	if os.Geteuid() != 0 {
		return nil
	}
	about, err := os.Stat(dir)
	if err != nil {
		return err
	}
	if of, ok := about.Sys().(*syscall.Stat_t); ok {
		return os.Chown(path, int(of.Uid), int(of.Gid))
	}
	return nil
}
