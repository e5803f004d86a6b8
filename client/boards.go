package client

import (
	"context"
	"fmt"
	"net/http"
	"strconv"
	"time"

	"nexocumula/internal/core/board"
)

// Board is a saved page of the console: a head of present values, and lanes below one time
// axis. /api/board.schema.json describes it.
type (
	Board            = board.Board
	BoardRange       = board.Range
	BoardHead        = board.Head
	BoardLane        = board.Lane
	BoardCalculation = board.Calculation
)

// BoardForm is the form that a board names.
const BoardForm = board.Form

// SavedBoard is a board in a version.
type SavedBoard struct {
	Saved BoardVersion `json:"saved"`
	Board Board        `json:"board"`
}

// BoardVersion says which board something is about, and who saved it when.
type BoardVersion struct {
	ID       uint64     `json:"id"`      // 0 of a board that a place has from the start
	Version  int        `json:"version"` // from 1 on
	Title    string     `json:"title"`
	About    string     `json:"about"`
	Asks     string     `json:"asks"`
	Author   string     `json:"author"`
	SavedAt  *time.Time `json:"saved_at"`
	Standard bool       `json:"standard"` // made from the definitions, and not changed yet
	Removed  bool       `json:"removed"`
}

// Boards are some, or the versions of one.
type Boards struct {
	Boards []BoardVersion `json:"boards"`
}

// Boards calls /boards: those whose title or place contains all words of a text.
func (c *Client) Boards(ctx context.Context, text string) (Boards, error) {
	return get[Boards](ctx, c, "boards", values("text", text))
}

// Board calls /boards/{board}; version 0 is the newest.
func (c *Client) Board(ctx context.Context, id uint64, version int) (SavedBoard, error) {
	text := ""
	if version > 0 {
		text = strconv.Itoa(version)
	}
	return get[SavedBoard](ctx, c, boardCall(id), values("version", text))
}

// StandardBoard returns the one that a site or station has from the start.
func (c *Client) StandardBoard(ctx context.Context, about string) (SavedBoard, error) {
	return get[SavedBoard](ctx, c, "boards/standard", values("about", about))
}

// AddBoard saves a new board.
func (c *Client) AddBoard(ctx context.Context, b Board) (BoardVersion, error) {
	return post[BoardVersion](ctx, c, "boards", b)
}

// ChangeBoard saves a board as its next version. version is the one that was changed; when it is not the newest any
// more, nothing is saved.
func (c *Client) ChangeBoard(ctx context.Context, id uint64, version int, b Board) (BoardVersion, error) {
	return sent[BoardVersion](ctx, c, http.MethodPut, boardCall(id), b, "If-Match", fmt.Sprintf("%q", strconv.Itoa(version)))
}

// RemoveBoard takes a board away; its versions stay for 90 days.
func (c *Client) RemoveBoard(ctx context.Context, id uint64) error {
	return c.remove(ctx, boardCall(id))
}

// BoardHistory calls /boards/{board}/history.
func (c *Client) BoardHistory(ctx context.Context, id uint64) (Boards, error) {
	return get[Boards](ctx, c, boardCall(id)+"/history", nil)
}

func boardCall(id uint64) string { return "boards/" + strconv.FormatUint(id, 10) }
