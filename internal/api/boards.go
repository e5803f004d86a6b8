package api

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"github.com/gin-gonic/gin"

	"nexocumula/client"
	"nexocumula/internal/access"
	"nexocumula/internal/core/board"
	"nexocumula/internal/core/series"
	"nexocumula/internal/store/records"
)

const largestBoard = 64 << 10

// boards are the saved ones, and for each place without one the board it has from the start.
func (h handlers) boards(c *gin.Context) {
	v, ok := names{"text", "removed"}.query(c)
	if !ok {
		return
	}
	removed, err := readBool(v, "removed")
	if err != nil {
		fail(c, http.StatusBadRequest, "removed", err.Error())
		return
	}
	all, sees := []client.BoardVersion{}, callerOf(c).Scope
	changed := map[string]bool{}
	err = h.Records.Boards.Each(removed, !sees.Everything(), func(one records.Board) {
		if seesSaved(sees, one) {
			changed[one.About] = true
			all = append(all, versionOf(one))
		}
	})
	if err != nil {
		fail(c, http.StatusInternalServerError, "store", err.Error())
		return
	}
	if !removed {
		for _, about := range board.Places(h.definitions(c)) {
			if !changed[about] {
				all = append(all, client.BoardVersion{Title: board.Words(about), About: about, Standard: true})
			}
		}
	}
	words := strings.Fields(strings.ToLower(v.Get("text")))
	all = slices.DeleteFunc(all, func(b client.BoardVersion) bool {
		text := strings.ToLower(b.Title + " " + b.About)
		return slices.ContainsFunc(words, func(w string) bool { return !strings.Contains(text, w) })
	})
	c.JSON(http.StatusOK, client.Boards{Boards: all})
}

// definitions returns the definitions of the series the caller may see.
func (h handlers) definitions(c *gin.Context) []series.Definition {
	found := h.view(c).List(series.Everything())
	out := make([]series.Definition, len(found))
	for i := range found {
		out[i] = found[i].Definition
	}
	return out
}

// seesSaved reports whether somebody may see a version of a board.
func seesSaved(sees access.Scope, saved records.Board) bool {
	if sees.Everything() {
		return true
	}
	b, err := boardOf(saved)
	return err == nil && seesBoard(sees, &b)
}

// seesBoard reports whether somebody may see all that a board names.
func seesBoard(sees access.Scope, b *board.Board) bool {
	if sees.Everything() {
		return true
	}
	if b.About != "" && !sees.SeesAll(b.About) {
		return false
	}
	for _, name := range b.Names() {
		said, ok := board.At(name, b.About)
		if !ok {
			continue // it names no place yet
		}
		selector, err := series.ParseSelector(said)
		if err != nil || !sees.Includes(selector) && !sees.SeesAll(said) {
			return false
		}
	}
	return true
}

func boardOf(saved records.Board) (out board.Board, err error) {
	return out, json.Unmarshal([]byte(saved.Content), &out)
}

func versionOf(saved records.Board) client.BoardVersion {
	return client.BoardVersion{
		ID: saved.ID, Version: saved.Version, Title: saved.Title, About: saved.About, Asks: saved.Asks, Author: saved.Author, SavedAt: pointer(saved.Saved), Removed: saved.Removed,
	}
}

// standardBoard is the one that a place has from the start.
func (h handlers) standardBoard(c *gin.Context) {
	v, ok := names{"about"}.query(c)
	if !ok {
		return
	}
	about, all := v.Get("about"), h.definitions(c)
	if !slices.Contains(board.Places(all), about) {
		fail(c, http.StatusNotFound, "unknown",
			fmt.Sprintf("there is no site or station %q; /api/v1/boards lists those that have a board", about))
		return
	}
	b := board.Standard(about, all)
	c.JSON(http.StatusOK, client.SavedBoard{
		Saved: client.BoardVersion{Title: b.Title, About: about, Standard: true}, Board: *b,
	})
}

// found returns the board that a call is about, if the caller may see it.
func (h handlers) found(c *gin.Context, version int) (records.Board, board.Board, bool) {
	id, err := strconv.ParseUint(c.Param("board"), 10, 63)
	if err != nil {
		fail(c, http.StatusBadRequest, "id",
			fmt.Sprintf("%q is no number of a board; /api/v1/boards lists them", c.Param("board")))
		return records.Board{}, board.Board{}, false
	}
	saved, err := h.Records.Boards.Get(id, version)
	if err != nil {
		fail(c, http.StatusInternalServerError, "store", err.Error())
		return records.Board{}, board.Board{}, false
	}
	missing := fmt.Sprintf("there is no board %d", id)
	if version > 0 {
		missing = fmt.Sprintf("there is no version %d of board %d", version, id)
	}
	if saved == nil {
		fail(c, http.StatusNotFound, "unknown", missing)
		return records.Board{}, board.Board{}, false
	}
	b, err := boardOf(*saved)
	if err != nil || !seesBoard(callerOf(c).Scope, &b) {
		fail(c, http.StatusNotFound, "unknown", missing)
		return records.Board{}, board.Board{}, false
	}
	return *saved, b, true
}

func (h handlers) board(c *gin.Context) {
	v, ok := names{"version"}.query(c)
	if !ok {
		return
	}
	version, err := whole(v, "version", 0, 1, 1<<31)
	if err != nil {
		fail(c, http.StatusBadRequest, "version", err.Error())
		return
	}
	if saved, b, ok := h.found(c, int(version)); ok {
		c.Header("ETag", etagOf(saved.Version))
		c.JSON(http.StatusOK, client.SavedBoard{Saved: versionOf(saved), Board: b})
	}
}

func (h handlers) boardHistory(c *gin.Context) {
	if _, ok := (names{}).query(c); !ok {
		return
	}
	saved, _, ok := h.found(c, 0)
	if !ok {
		return
	}
	out, sees := client.Boards{Boards: []client.BoardVersion{}}, callerOf(c).Scope
	err := h.Records.Boards.EachVersion(saved.ID, !sees.Everything(), func(one records.Board) {
		if seesSaved(sees, one) {
			out.Boards = append(out.Boards, versionOf(one))
		}
	})
	if err != nil {
		fail(c, http.StatusInternalServerError, "store", err.Error())
		return
	}
	c.JSON(http.StatusOK, out)
}

func (h handlers) addBoard(c *gin.Context) {
	if in, ok := h.wantedBoard(c); ok {
		h.saveBoard(c, records.Board{}, in)
	}
}

// etagOf is the entity tag of a version of a board (RFC 9110, 8.8.3).
func etagOf(version int) string { return fmt.Sprintf("%q", strconv.Itoa(version)) }

// changedVersion reads which version of a board somebody has changed.
func changedVersion(c *gin.Context) (int, bool) {
	tag := c.GetHeader("If-Match")
	version, err := strconv.Atoi(strings.Trim(tag, `"`))
	switch {
	case tag == "":
		fail(c, http.StatusPreconditionRequired, "version",
			`say which version you changed, with If-Match: "3" or what ETag of the board was`)
	case err != nil || etagOf(version) != tag:
		fail(c, http.StatusBadRequest, "version", fmt.Sprintf(`If-Match %s is no version; write one such as "3"`, tag))
	default:
		return version, true
	}
	return 0, false
}

func (h handlers) changeBoard(c *gin.Context) {
	saved, _, ok := h.found(c, 0)
	if !ok {
		return
	}
	version, ok := changedVersion(c)
	if !ok {
		return
	}
	if in, ok := h.wantedBoard(c); ok {
		h.saveBoard(c, records.Board{ID: saved.ID, Version: version}, in)
	}
}

// wantedBoard reads a board that is to be saved, and checks it.
func (h handlers) wantedBoard(c *gin.Context) (board.Board, bool) {
	in, ok := request[board.Board](c)
	if !ok {
		return in, false
	}
	if err := board.Check(&in); err != nil {
		fail(c, http.StatusBadRequest, "board", err.Error())
		return in, false
	}
	if !seesBoard(callerOf(c).Scope, &in) {
		h.turnAway(c, callerOf(c), "boards.add", http.StatusForbidden, "limited",
			"the board names what is not yours to see")
		return in, false
	}
	return in, true
}

func (h handlers) saveBoard(c *gin.Context, as records.Board, b board.Board) {
	content, err := json.Marshal(b)
	if err != nil || len(content) > largestBoard {
		fail(c, http.StatusBadRequest, "board",
			fmt.Sprintf("the board has %d bytes; at most %d are kept", len(content), largestBoard))
		return
	}
	as.Title, as.About, as.Asks, as.Content = strings.TrimSpace(b.Title), b.About, b.Asks, string(content)
	h.storeBoard(c, as)
}

// storeBoard keeps a board as the caller's, and answers.
func (h handlers) storeBoard(c *gin.Context, as records.Board) {
	as.Author, as.Saved = callerOf(c).Name, h.now()
	saved, err := h.Records.Boards.Save(as)
	var changed *records.ErrChanged
	switch {
	case errors.As(err, &changed):
		fail(c, http.StatusPreconditionFailed, "changed", fmt.Sprintf("%v; look at it before you save over it", changed))
	case errors.Is(err, records.ErrFull):
		fail(c, http.StatusConflict, "full", err.Error())
	case err != nil:
		fail(c, http.StatusServiceUnavailable, "store", err.Error())
	case saved == nil:
		fail(c, http.StatusNotFound, "unknown", fmt.Sprintf("there is no board %d", as.ID))
	default:
		note(c, "board %d, version %d: %s", saved.ID, saved.Version, saved.Title)
		c.Header("ETag", etagOf(saved.Version))
		if c.Request.Method == http.MethodPost {
			created(c, fmt.Sprintf("boards/%d", saved.ID), versionOf(*saved))
			return
		}
		c.JSON(http.StatusOK, versionOf(*saved))
	}
}

// removeBoard takes a board away; a version of it can be saved again.
func (h handlers) removeBoard(c *gin.Context) {
	saved, _, ok := h.found(c, 0)
	if !ok {
		return
	}
	saved.Removed = true
	h.storeBoard(c, saved)
}
