package sqlite

import (
	"bufio"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"time"
)

// Layout of a write-ahead log, from SQLite's "Database File Format", 4: a header of 32
// bytes, then frames of a header of 24 bytes and a page. Checksums run on from frame to
// frame. A frame counts when its salts are those of the log's header and its checksum is
// right; a frame that ends a transaction has the database's size in its header.
const (
	logHeader   = 32
	frameHeader = 24
)

// brokenLog says what a write-ahead log has lost: SQLite reads it up to the first frame
// that is not right. That is as it should be after a power cut, in the last transaction,
// which nobody was told of. When another transaction follows, the broken one had been
// synced and was damaged since. The log is kept beside it, for whoever can mend it.
//
// An error says that the file could not be read, for its rights or its disk.
func brokenLog(path string) (string, error) {
	f, err := os.Open(path)
	if err != nil {
		return "", fmt.Errorf("the write-ahead log of the store cannot be read: %w; let the account that runs the service read and write it",
			err)
	}
	defer f.Close()
	in := bufio.NewReaderSize(f, 64<<10)
	lost, err := followLog(in)
	if failed, ok := errors.AsType[*fs.PathError](err); ok {
		return "", fmt.Errorf("the write-ahead log of the store cannot be read: %w; look at the system's log for the disk",
			failed)
	}
	switch {
	case err != nil:
		return fmt.Sprintf("the write-ahead log %s cannot be read: %v", path, err), nil
	case lost == 0:
		return "", nil
	}
	aside := fmt.Sprintf("%s-damaged-%s", path, time.Now().UTC().Format("20060102T150405Z"))
	kept := "as " + aside
	if err := copyFile(path, aside); err != nil {
		kept = fmt.Sprintf("nowhere, as it could not be copied: %v", err)
	}
	return fmt.Sprintf("the write-ahead log %s is damaged: %d transactions in it cannot be read and are missing; it is kept %s",
		path, lost, kept), nil
}

// followLog counts the synced transactions after the first broken frame.
func followLog(in io.Reader) (lost int, err error) {
	head := make([]byte, logHeader)
	if _, err := io.ReadFull(in, head); err != nil {
		return 0, unlessEnd(err) // no log yet
	}
	var order binary.ByteOrder = binary.LittleEndian
	magic := binary.BigEndian.Uint32(head)
	if magic == 0x377f0683 {
		order = binary.BigEndian
	} else if magic != 0x377f0682 {
		return 0, fmt.Errorf("it is no write-ahead log")
	}
	page := int(binary.BigEndian.Uint32(head[8:]))
	if page < 512 || page > 65536 {
		return 0, fmt.Errorf("its pages of %d bytes are not possible", page)
	}
	var sum [2]uint32
	addSum(&sum, head[:24], order)
	if sum[0] != binary.BigEndian.Uint32(head[24:]) || sum[1] != binary.BigEndian.Uint32(head[28:]) {
		return 0, fmt.Errorf("its header does not match its checksum, so nothing of it can be used")
	}
	frame := make([]byte, frameHeader+page)
	broken, ended := false, 0
	for {
		if _, err := io.ReadFull(in, frame); err != nil {
			if err := unlessEnd(err); err != nil {
				return 0, err
			}
			break
		}
		ours := string(frame[8:16]) == string(head[16:24])
		if !broken {
			addSum(&sum, frame[:8], order)
			addSum(&sum, frame[frameHeader:], order)
			right := sum[0] == binary.BigEndian.Uint32(frame[16:]) && sum[1] == binary.BigEndian.Uint32(frame[20:])
			broken = !ours || !right
			if !broken {
				continue
			}
			// A log begun anew has frames of the old one after it. A flip in a salt looks the
			// same, until frames of this one follow.
		}
		if !ours {
			continue
		}
		if ended > 0 {
			lost = ended // something came after a transaction's end, so that was synced
		}
		if binary.BigEndian.Uint32(frame[4:]) != 0 {
			ended++
		}
	}
	return lost, nil
}

// unlessEnd returns an error of reading, but for the end of the file.
func unlessEnd(err error) error {
	if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
		return nil
	}
	return err
}

// addSum is the checksum of 4.2, over pairs of 32-bit words.
func addSum(sum *[2]uint32, data []byte, order binary.ByteOrder) {
	for i := 0; i+8 <= len(data); i += 8 {
		sum[0] += order.Uint32(data[i:]) + sum[1]
		sum[1] += order.Uint32(data[i+4:]) + sum[0]
	}
}

func copyFile(from, to string) error {
	in, err := os.Open(from)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := os.OpenFile(to, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = io.Copy(out, in)
	if closeErr := out.Close(); err == nil {
		err = closeErr
	}
	return err
}
