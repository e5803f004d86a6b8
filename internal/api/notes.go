package api

import (
	"encoding/csv"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"nexocumula/client"
	"nexocumula/internal/access"
	"nexocumula/internal/core/series"
	"nexocumula/internal/plain"
	"nexocumula/internal/store/records"
)

const mostNotes = 1000

// notes answers the notes of a range, newest first.
func (h handlers) notes(c *gin.Context) {
	v, ok := names{"select", "text", "from", "to", "last", "range", "zone", "cursor", "limit", "format"}.query(c)
	if !ok {
		return
	}
	from, to, given, err := readSpan(v, h.now())
	if !given {
		from, to = time.Unix(0, 0), h.now().Add(366*24*time.Hour)
	}
	var selector series.Selector
	if err == nil {
		selector, err = readSelected(v)
	}
	var most uint64
	if err == nil {
		most, err = whole(v, "limit", 100, 1, mostNotes)
	}
	var after notePlace
	if text := v.Get("cursor"); text != "" && err == nil {
		if after, err = parseNotePlace(text); err == nil {
			to = time.Unix(0, min(to.UnixNano(), after.at+1))
		}
	}
	if err != nil {
		fail(c, http.StatusBadRequest, "query", err.Error())
		return
	}
	form, err := formOf(c)
	if err != nil || form == asArrow {
		fail(c, http.StatusNotAcceptable, "format", "use json or csv")
		return
	}
	sees, words := callerOf(c).Scope, strings.Fields(strings.ToLower(v.Get("text")))
	found, err := h.Records.Notes.Between(from, to, int(most), func(n records.Note) bool {
		said := strings.ToLower(n.Text + " " + n.About + " " + n.Author)
		return (after == notePlace{} || after.before(n)) && sees.SeesAll(n.About) && (v.Get("select") == "" || access.About(selector, n.About) ||
			covers(n.About, selector)) &&
			!slices.ContainsFunc(words, func(w string) bool { return !strings.Contains(said, w) })
	})
	if err != nil {
		fail(c, http.StatusInternalServerError, "store", err.Error())
		return
	}
	if form == asCSV {
		notesCSV(c, found)
		return
	}
	out := client.Notes{Notes: make([]client.Note, len(found))}
	for i, n := range found {
		out.Notes[i] = client.Note(n)
	}
	if n := len(found); n == int(most) {
		next := notePlaceOf(found[n-1]).String()
		out.Next = &next
	}
	c.JSON(http.StatusOK, out)
}

// notePlace is where a note stands among others: by its time, and of one time by its number.
type notePlace struct {
	at int64
	id uint64
}

func notePlaceOf(n records.Note) notePlace { return notePlace{n.At.UnixNano(), n.ID} }

// before reports whether a note comes after the place, the newest being first.
func (p notePlace) before(n records.Note) bool {
	at := n.At.UnixNano()
	return at < p.at || at == p.at && n.ID < p.id
}

func (p notePlace) String() string { return fmt.Sprintf("%d-%d", p.at, p.id) }

func parseNotePlace(text string) (p notePlace, err error) {
	if _, err := fmt.Sscanf(text, "%d-%d", &p.at, &p.id); err != nil || p.String() != text {
		return p, fmt.Errorf("cursor %q: give next of the answer before", text)
	}
	return p, nil
}

// covers reports whether a place is one that everything a selector names is at, so that a note
// about a site is one about its stations too.
func covers(about string, selector series.Selector) bool {
	levels := selector.Levels()
	place := strings.Split(about, "/")
	return len(place) < len(levels) && slices.Equal(place, levels[:len(place)])
}

// notesCSV writes RFC 4180.
func notesCSV(c *gin.Context, found []records.Note) {
	c.Header("Content-Type", typeCSV)
	c.Status(http.StatusOK)
	w := csv.NewWriter(c.Writer)
	_ = w.Write([]string{"id", "at", "about", "text", "author", "written"}) // who does not read any more went away
	for _, n := range found {
		_ = w.Write([]string{
			strconv.FormatUint(n.ID, 10), n.At.Format(time.RFC3339Nano), plain.Cell(n.About), plain.Cell(n.Text),
			plain.Cell(n.Author), n.Written.Format(time.RFC3339Nano),
		})
	}
	w.Flush()
}

// addNote pins a note.
func (h handlers) addNote(c *gin.Context) {
	in, ok := request[client.NewNote](c)
	if !ok {
		return
	}
	who := callerOf(c)
	n := records.Note{
		At:      h.now(),
		About:   in.About,
		Text:    strings.TrimSpace(in.Text),
		Author:  who.Name,
		Written: h.now(),
	}
	if in.At != nil {
		n.At = *in.At
	}
	if err := n.Check(h.now()); err != nil {
		fail(c, http.StatusBadRequest, "body", err.Error())
		return
	}
	if !who.Scope.SeesAll(in.About) {
		h.turnAway(c, who, "notes.add", http.StatusForbidden, "limited", "this place is not all yours to see")
		return
	}
	n, err := h.Records.Notes.Add(n)
	if err != nil {
		fail(c, http.StatusServiceUnavailable, "store", err.Error())
		return
	}
	note(c, "%s: note %d", n.About, n.ID)
	created(c, fmt.Sprintf("notes/%d", n.ID), client.Note(n))
}

// removeNote takes a note away.
func (h handlers) removeNote(c *gin.Context) {
	id, err := strconv.ParseUint(c.Param("note"), 10, 63)
	if err != nil {
		fail(c, http.StatusBadRequest, "id",
			fmt.Sprintf("%q is no number of a note; /api/v1/notes lists them", c.Param("note")))
		return
	}
	found, err := h.Records.Notes.Get(id)
	if err == nil && (found == nil || !callerOf(c).Scope.SeesAll(found.About)) {
		fail(c, http.StatusNotFound, "unknown", fmt.Sprintf("there is no note %d", id))
		return
	}
	if err == nil {
		err = h.Records.Notes.Remove(id)
	}
	if err != nil {
		fail(c, http.StatusServiceUnavailable, "store", err.Error())
		return
	}
	note(c, "%s: note %d: %s", found.About, id, found.Text)
	done(c)
}
