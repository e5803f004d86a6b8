package records

import (
	"errors"
	"fmt"
	"time"

	"gorm.io/gorm"

	"nexocumula/internal/store/sqlite"
)

// Board is a saved page of the console, in one of its versions. What it says is text to the
// store.
type Board struct {
	ID      uint64
	Version int // from 1 on
	Title   string
	About   string
	Asks    string
	Author  string
	Saved   time.Time
	Removed bool
	Content string // empty where only the list is asked for
}

const (
	// MostBoards bounds how many there are; those that were taken away count until their
	// history goes.
	MostBoards = 500
	// mostBoardVersions of a board are kept; the oldest go first.
	mostBoardVersions = 100
	keepRemoved       = 90 * 24 * time.Hour // a board that was taken away can come back
)

// ErrChanged says that somebody else saved the board meanwhile.
type ErrChanged struct{ Board Board }

func (e *ErrChanged) Error() string {
	return fmt.Sprintf("%s saved version %d of it at %s", e.Board.Author, e.Board.Version,
		e.Board.Saved.UTC().Format(time.RFC3339))
}

// ErrFull says that no more boards are kept.
var ErrFull = fmt.Errorf("there are %d boards, which is as many as are kept; take some away", MostBoards)

type boardRow struct {
	ID      uint64 `gorm:"primaryKey"`
	Version int
	Removed bool
	Saved   int64
}

type boardVersionRow struct {
	Board   uint64 `gorm:"primaryKey;autoIncrement:false"`
	Version int    `gorm:"primaryKey;autoIncrement:false"`
	Title   string
	About   string
	Asks    string
	Author  string
	Saved   int64
	Removed bool
	Content string
}

func (boardRow) TableName() string        { return "boards" }
func (boardVersionRow) TableName() string { return "board_versions" }

func (r boardVersionRow) board() Board {
	return Board{
		r.Board, r.Version, r.Title, r.About, r.Asks, r.Author, time.Unix(0, r.Saved).UTC(), r.Removed, r.Content,
	}
}

// Boards are the saved pages of the console.
type Boards struct{ file *sqlite.File }

// Save keeps a board as the next version of the one with its ID, or as a new one where
// that is 0. Version says which version was changed: when it is not the newest any more,
// nothing is saved and the error is ErrChanged. It is nil when there is no board with the ID.
func (b Boards) Save(board Board) (out *Board, err error) {
	err = b.file.Write(func(w sqlite.Writer) error {
		return w.Transaction(func(tx *gorm.DB) error {
			out, err = saveBoard(tx, board)
			return err
		})
	})
	if _, changed := errors.AsType[*ErrChanged](err); changed || errors.Is(err, ErrFull) {
		return nil, err
	}
	if err != nil {
		return nil, b.file.SetTrouble("writing a board", fmt.Errorf("writing the board: %w", err))
	}
	b.file.ClearTrouble("writing a board")
	return out, nil
}

func saveBoard(tx *gorm.DB, b Board) (*Board, error) {
	row := boardRow{ID: b.ID}
	if b.ID == 0 {
		var count int64
		if err := tx.Model(&boardRow{}).Count(&count).Error; err != nil {
			return nil, err
		}
		if count >= MostBoards {
			return nil, ErrFull
		}
		if err := tx.Create(&row).Error; err != nil {
			return nil, err
		}
	} else if err := tx.Limit(1).Find(&row, b.ID).Error; err != nil || row.Version == 0 {
		return nil, err
	}
	if row.Version > 0 && b.Version != row.Version {
		newest, err := boardVersion(tx, b.ID, row.Version)
		if err != nil {
			return nil, err
		}
		return nil, &ErrChanged{*newest}
	}
	b.ID, b.Version = row.ID, row.Version+1
	row.Version, row.Removed, row.Saved = b.Version, b.Removed, b.Saved.UnixNano()
	version := boardVersionRow{
		b.ID, b.Version, b.Title, b.About, b.Asks, b.Author, b.Saved.UnixNano(), b.Removed, b.Content,
	}
	if err := tx.Create(&version).Error; err != nil {
		return nil, err
	}
	if err := tx.Save(&row).Error; err != nil {
		return nil, err
	}
	if err := tx.Where("board = ? AND version <= ?", b.ID, b.Version-mostBoardVersions).Delete(&boardVersionRow{}).Error; err != nil {
		return nil, err
	}
	return &b, forgetBoards(tx, b.Saved.Add(-keepRemoved))
}

// forgetBoards drops those that were taken away before a time, with their history.
func forgetBoards(tx *gorm.DB, before time.Time) error {
	gone := tx.Model(&boardRow{}).Select("id").Where("removed AND saved < ?", before.UnixNano())
	if err := tx.Where("board IN (?)", gone).Delete(&boardVersionRow{}).Error; err != nil {
		return err
	}
	return tx.Where("removed AND saved < ?", before.UnixNano()).Delete(&boardRow{}).Error
}

func boardVersion(tx *gorm.DB, id uint64, version int) (*Board, error) {
	var rows []boardVersionRow
	if err := tx.Where("board = ? AND version = ?", id, version).Limit(1).Find(&rows).Error; err != nil ||
		len(rows) == 0 {
		return nil, err
	}
	b := rows[0].board()
	return &b, nil
}

// Get returns a board in a version, the newest when that is 0; nil when there is none.
func (b Boards) Get(id uint64, version int) (*Board, error) {
	if version == 0 {
		var row boardRow
		if err := b.file.Reader().Limit(1).Find(&row, id).Error; err != nil || row.Version == 0 {
			return nil, err
		}
		version = row.Version
	}
	return boardVersion(b.file.Reader(), id, version)
}

// Each visits the newest versions of all boards in order, without what they say unless with is
// set; those that were taken away only when removed is set. One is in memory at a time.
func (b Boards) Each(removed, with bool, visit func(Board)) error {
	return b.each(b.file.Reader().Table("board_versions v").Select(columns(with)).
		Joins("JOIN boards b ON b.id = v.board AND b.version = v.version").Where("b.removed = ?", removed).Order("v.board"), visit)
}

// columns returns the columns of a list, with or without the boards' content.
func columns(with bool) string {
	const listed = "v.board, v.version, v.title, v.about, v.asks, v.author, v.saved, v.removed"
	if with {
		return listed + ", v.content"
	}
	return listed
}

// EachVersion visits the versions of a board that are kept, the newest first, as Each does boards.
func (b Boards) EachVersion(id uint64, with bool, visit func(Board)) error {
	return b.each(b.file.Reader().Table("board_versions v").Select(columns(with)).Where("v.board = ?", id).Order("v.version DESC"),
		visit)
}

func (b Boards) each(query *gorm.DB, visit func(Board)) error {
	rows, err := query.Rows()
	if err != nil {
		return fmt.Errorf("reading the boards: %w", err)
	}
	defer rows.Close()
	for rows.Next() {
		var r boardVersionRow
		if err := b.file.Reader().ScanRows(rows, &r); err != nil {
			return fmt.Errorf("reading the boards: %w", err)
		}
		visit(r.board())
	}
	return rows.Err()
}
