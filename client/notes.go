package client

import (
	"context"
	"strconv"
	"time"
)

// Note is a person's text, pinned to a time and a place.
type Note struct {
	ID      uint64    `json:"id"`
	At      time.Time `json:"at"`
	About   string    `json:"about"` // path of a site, a station or a series
	Text    string    `json:"text"`
	Author  string    `json:"author"`
	Written time.Time `json:"written"`
}

// Notes are some, the newest first.
type Notes struct {
	Notes []Note  `json:"notes"`
	Next  *string `json:"next"` // the cursor of those before; nil: there are none
}

// NewNote is one to be pinned.
type NewNote struct {
	About string     `json:"about"`
	Text  string     `json:"text"`
	At    *time.Time `json:"at,omitempty"` // now, when missing
}

// Notes calls /notes; an empty selector and length do not narrow.
func (c *Client) Notes(ctx context.Context, selector, last string) (Notes, error) {
	query := values("select", selector, "last", last)
	out, err := get[Notes](ctx, c, "notes", query)
	for err == nil && out.Next != nil {
		var more Notes
		query.Set("cursor", *out.Next)
		more, err = get[Notes](ctx, c, "notes", query)
		out.Notes, out.Next = append(out.Notes, more.Notes...), more.Next
	}
	return out, err
}

// AddNote pins a note.
func (c *Client) AddNote(ctx context.Context, n NewNote) (Note, error) {
	return post[Note](ctx, c, "notes", n)
}

// RemoveNote takes one away.
func (c *Client) RemoveNote(ctx context.Context, id uint64) error {
	return c.remove(ctx, "notes/"+strconv.FormatUint(id, 10))
}
