package records

import (
	"bytes"
	"errors"
	"fmt"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"nexocumula/internal/store/sqlite"
)

// pushesKept is how long a request is known again.
const pushesKept = 7 * 24 * time.Hour

// ErrOtherBody says that a request came before with another body.
var ErrOtherBody = errors.New("the request was sent before with another body")

// pushRow is a request of a sender that may come again, with the time at which it came first.
type pushRow struct {
	Request string `gorm:"primaryKey"` // sender and key
	Arrived int64  `gorm:"index"`      // nanoseconds since 1970
	Digest  []byte // SHA-256 of its body; empty of rows that an older version wrote
}

func (pushRow) TableName() string { return "pushes" }

// Pushes are the requests of senders that may come again.
type Pushes struct{ file *sqlite.File }

// FirstArrival returns when a request came first: at, unless it is known. Readings without a time
// of their own get this one, so that what comes twice is the same readings. The digest is of the request's body.
func (p Pushes) FirstArrival(request string, digest []byte, at int64) (first int64, err error) {
	row := pushRow{Request: request}
	err = p.file.Write(func(w sqlite.Writer) error {
		return w.Transaction(func(tx *gorm.DB) error {
			if err := tx.Where("arrived < ?", at-int64(pushesKept)).Delete(&pushRow{}).Error; err != nil {
				return err
			}
			if err := tx.Clauses(clause.OnConflict{DoNothing: true}).Create(&pushRow{Request: request, Arrived: at, Digest: digest}).Error; err != nil {
				return err
			}
			return tx.First(&row).Error
		})
	})
	if err != nil {
		return 0, fmt.Errorf("remembering a request: %w", err)
	}
	if len(row.Digest) > 0 && !bytes.Equal(row.Digest, digest) {
		return 0, ErrOtherBody
	}
	return row.Arrived, nil
}
