package records

import (
	"crypto/rand"
	"fmt"
	"time"

	"gorm.io/gorm"

	"nexocumula/internal/core/request"
	"nexocumula/internal/store/sqlite"
)

// Request is what somebody asks of a gateway.
type Request struct {
	UID     string // the same in all stores
	Site    string // whose gateway carries it out
	Kind    string
	Author  string
	Made    time.Time
	Expires time.Time
	Body    []byte // JSON, as its kind wants it

	By      string // uplink that it came by; "": it was made here
	To      string // gateway that it is handed to; "": it is carried out here
	Session string // of that gateway's process, once it was handed out

	State    request.State
	Version  uint64 // of the state; rises with each change of it
	Progress float64
	Detail   string
	Answer   []byte // JSON
	Changed  time.Time
	Change   uint64 // number of the last change of requests in this store
}

type requestRow struct {
	ID       uint64 `gorm:"primaryKey"`
	UID      string `gorm:"column:uid;uniqueIndex:requests_uid"`
	Site     string
	Kind     string
	Author   string
	Made     int64
	Expires  int64
	Body     []byte
	By       string `gorm:"column:came_by"`
	To       string `gorm:"column:goes_to"`
	Session  string
	State    string `gorm:"index:requests_state"`
	Version  uint64
	Progress float64
	Detail   string
	Answer   []byte
	Changed  int64
	Change   uint64 `gorm:"index:requests_change"`
}

func (requestRow) TableName() string { return "requests" }

func (r requestRow) request() Request {
	return Request{
		UID: r.UID, Site: r.Site, Kind: r.Kind, Author: r.Author, Made: timeOf(r.Made), Expires: timeOf(r.Expires), Body: r.Body,
		By: r.By, To: r.To, Session: r.Session, State: request.State(r.State), Version: r.Version, Progress: r.Progress,
		Detail: r.Detail, Answer: r.Answer, Changed: timeOf(r.Changed), Change: r.Change,
	}
}

func (r *requestRow) take(of Request) {
	r.UID, r.Site, r.Kind, r.Author, r.Made, r.Expires, r.Body = of.UID, of.Site, of.Kind, of.Author, nanosOf(of.Made), nanosOf(of.Expires), of.Body
	r.By, r.To, r.Session, r.State, r.Version = of.By, of.To, of.Session, string(of.State), of.Version
	r.Progress, r.Detail, r.Answer = of.Progress, of.Detail, of.Answer
}

const (
	keepRequests = 90 * 24 * time.Hour
	mostRequests = 10_000 // that are over; the oldest go first
)

// Requests are what this service asks of gateways, and what centrals ask of it.
type Requests struct {
	file    *sqlite.File
	changed *announcement
}

// Add keeps a request that is new, and returns it as it is kept; one that is known stays as it is.
func (r Requests) Add(one Request) (kept Request, isNew bool, err error) {
	if one.UID == "" {
		one.UID = rand.Text()
	}
	err = r.Write(func(tx *gorm.DB) error {
		row, err := requestOf(tx, one.UID)
		if err != nil || row.ID != 0 {
			kept = row.request()
			return err
		}
		isNew = true
		row.take(one)
		row.Changed = nanosOf(r.file.Judge().Now())
		kept = row.request()
		return saveRequest(tx, &row)
	})
	return kept, isNew, err
}

// Change changes a request as change says, unless that returns false.
func (r Requests) Change(uid string, change func(*Request) bool) error {
	return r.Write(func(tx *gorm.DB) error {
		row, err := requestOf(tx, uid)
		if err != nil || row.ID == 0 {
			return err
		}
		one := row.request()
		if !change(&one) {
			return nil
		}
		row.take(one)
		row.Changed = nanosOf(r.file.Judge().Now())
		return saveRequest(tx, &row)
	})
}

// Take takes over, in the transaction that the change becomes part of, what a gateway says of a request about a site,
// if it is known, and that follows what is known.
func (r Requests) Take(in Request) sqlite.Change {
	return func(tx *gorm.DB) error {
		row, err := requestOf(tx, in.UID)
		version := in.Version
		if row.By != "" {
			version++ // the first version of a request that is passed on said that it is here
		}
		if err != nil || row.ID == 0 || row.To == "" || row.Site != in.Site || version <= row.Version {
			return err
		}
		if before := request.State(row.State); in.State != before && !in.State.Follows(before) || before.Final() && in.State == before {
			return nil
		}
		row.State, row.Version, row.Progress, row.Detail, row.Answer = string(in.State), version, in.Progress, in.Detail, in.Answer
		row.Changed = nanosOf(r.file.Judge().Now())
		return saveRequest(tx, &row)
	}
}

func requestOf(tx *gorm.DB, uid string) (row requestRow, err error) {
	if err = tx.Where("uid = ?", uid).Limit(1).Find(&row).Error; err != nil {
		err = fmt.Errorf("reading request %s: %w", uid, err)
	}
	return row, err
}

func saveRequest(tx *gorm.DB, row *requestRow) error {
	last, err := lastRequest(tx)
	if err != nil {
		return err
	}
	row.Change = last + 1
	if err := tx.Save(row).Error; err != nil {
		return fmt.Errorf("writing request %s: %w", row.UID, err)
	}
	return nil
}

func lastRequest(tx *gorm.DB) (change uint64, err error) {
	if err = tx.Model(&requestRow{}).Select("coalesce(max(change), 0)").Scan(&change).Error; err != nil {
		err = fmt.Errorf("reading the number of the last request: %w", err)
	}
	return change, err
}

// Write makes a change of requests by itself, and announces it.
func (r Requests) Write(change sqlite.Change) error {
	err := r.file.Write(func(w sqlite.Writer) error { return w.Transaction(change) })
	if err != nil {
		return r.file.SetTrouble("writing requests", err)
	}
	r.file.ClearTrouble("writing requests")
	r.changed.announce()
	return nil
}

// Newest returns the number of the last change of one that came by an uplink.
func (r Requests) Newest() (uint64, error) {
	return lastRequest(r.file.Reader().Where("came_by <> ''"))
}

// Since returns the requests that came by uplinks and changed after a change, in the order of their last changes, at
// most so many.
func (r Requests) Since(change uint64, most int) ([]Request, error) {
	return r.find(r.file.Reader().Where("change > ? AND came_by <> ''", change).Order("change").Limit(most))
}

// Open returns the requests that are not over, the oldest first.
func (r Requests) Open() ([]Request, error) {
	return r.find(r.file.Reader().Where("state IN ?", []string{string(request.Waiting), string(request.Delivered)}).Order("id"))
}

// Get returns a request.
func (r Requests) Get(uid string) (one Request, ok bool, err error) {
	row, err := requestOf(r.file.Reader(), uid)
	return row.request(), row.ID != 0, err
}

// RequestFilter says which requests are wanted; what is empty does not narrow.
type RequestFilter struct {
	State request.State
	Sites []string // nil: all
	Since time.Time
	Most  int
}

// List returns requests, the newest first.
func (r Requests) List(f RequestFilter) ([]Request, error) {
	query := r.file.Reader().Order("id DESC").Limit(f.Most)
	if f.State != "" {
		query = query.Where("state = ?", string(f.State))
	}
	if f.Sites != nil {
		query = query.Where("site IN ?", f.Sites)
	}
	if !f.Since.IsZero() {
		query = query.Where("made >= ?", f.Since.UnixNano())
	}
	return r.find(query)
}

func (r Requests) find(query *gorm.DB) ([]Request, error) {
	var rows []requestRow
	if err := query.Find(&rows).Error; err != nil {
		return nil, fmt.Errorf("reading requests: %w", err)
	}
	out := make([]Request, len(rows))
	for i, row := range rows {
		out[i] = row.request()
	}
	return out, nil
}

// Drop forgets requests that were over long before a time.
func (r Requests) Drop(now time.Time) error {
	return r.file.Write(func(w sqlite.Writer) error {
		over := []string{string(request.Done), string(request.Refused), string(request.Expired)}
		tx := w.DB()
		if err := tx.Where("state IN ? AND changed < ?", over, now.Add(-keepRequests).UnixNano()).Delete(&requestRow{}).Error; err != nil {
			return fmt.Errorf("forgetting old requests: %w", err)
		}
		return tx.Exec("DELETE FROM requests WHERE state IN ? AND id NOT IN (SELECT id FROM requests WHERE state IN ? ORDER BY id DESC LIMIT ?)",
			over, over, mostRequests).Error
	})
}
