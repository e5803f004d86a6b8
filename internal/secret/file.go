package secret

import (
	"fmt"
	"os"
)

// OnlyOwner refuses a file with a secret that everybody on this machine may read.
func OnlyOwner(file string) error {
	about, err := os.Stat(file)
	if err != nil {
		return err
	}
	if mode := about.Mode().Perm(); mode&0o007 != 0 {
		return fmt.Errorf("everybody on this machine may read or write %s (mode %04o), which holds a secret; run chmod 640 %s, or 600", file, mode, file)
	}
	return nil
}
