package api

import (
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"github.com/gin-gonic/gin"

	"plumlatch/core/keybook"
	"plumlatch/core/names"
	"plumlatch/core/wire"
	"plumlatch/service/store"
)

// maxBook is the most that a request with a keybook may send, in bytes: its text, as JSON has it.
const maxBook = keybook.MaxText + keybook.MaxText/4

// compareBook sets a keybook against the ledger.
func (s *Server) compareBook(c *gin.Context) {
	var r wire.KeybookText
	if !readUpTo(c, maxBook, &r) {
		return
	}
	out, err := s.opts.Worker.Fleet.CompareBook(c.Request.Context(), actor(c), r)
	s.answer(c, out, err)
}

// settleBook begins to settle one.
func (s *Server) settleBook(c *gin.Context) {
	var r wire.KeybookSettle
	if !readUpTo(c, maxBook, &r) {
		return
	}
	name, ok := once(c)
	if !ok {
		return
	}
	w, err := s.opts.Worker.Fleet.SettleBook(c.Request.Context(), actor(c), name, r)
	s.begun(c, w, err)
}

// writeBook writes the text of what is there.
func (s *Server) writeBook(c *gin.Context) {
	var r wire.KeybookWrite
	if !readUpTo(c, maxBook, &r) {
		return
	}
	if err := names.Check(r.Name); err != nil && r.Into == nil {
		field(c, "name", err)
		return
	}
	var to keybook.Selector
	if r.Tag != "" {
		to.Tags = []string{r.Tag}
	}
	if r.Region != "" {
		to.Regions = []string{r.Region}
	}
	if r.Into != nil {
		text, err := s.opts.Worker.Fleet.UpdateBook(c.Request.Context(), *r.Into, to)
		s.answer(c, wire.KeybookWritten{Text: text}, err)
		return
	}
	text, err := s.opts.Worker.Fleet.WriteBook(c.Request.Context(), r.Name, to)
	s.answer(c, wire.KeybookWritten{Text: text}, err)
}

// showBook is a book that was settled, as it is answered.
func showBook(b store.KeptBook) wire.Keybook {
	out := wire.Keybook{Work: b.WorkID, Name: b.Name, Text: b.Hash, Version: b.Version, Difference: b.Difference, Operator: b.Operator, At: b.At.UTC(),
		State: b.State, Outcome: b.Outcome, Counts: map[string]int{}}
	_ = json.Unmarshal([]byte(b.Counts), &out.Counts)
	var scope store.BookScope
	if b.Complete != nil && json.Unmarshal([]byte(*b.Complete), &scope) == nil {
		out.Complete = scope.To.String()
	}
	return out
}

// listBooks lists the books that were settled, the newest first.
func (s *Server) listBooks(c *gin.Context) {
	p, _, _, ok := page(c, "at")
	if !ok {
		return
	}
	rows, next, err := s.opts.Store.Books(c.Request.Context(), c.Query("name"), p)
	if err != nil {
		s.fail(c, err)
		return
	}
	answerList(c, rows, next, showBook)
}

// book shows one of them, with its text.
func (s *Server) book(c *gin.Context) {
	id, err := strconv.ParseInt(c.Param("id"), 10, 64)
	if err != nil {
		field(c, "id", errors.New("the ID of a piece of work is a number"))
		return
	}
	b, err := s.opts.Store.BookOf(c.Request.Context(), id)
	if err != nil {
		s.fail(c, err)
		return
	}
	out := showBook(b)
	out.Files, out.Publics, err = s.opts.Store.BookText(c.Request.Context(), b.Hash)
	s.answer(c, out, err)
}

// tag gives an instance tags in the ledger, and takes some away; its cloud keeps its own.
func (s *Server) tag(c *gin.Context) {
	var r wire.TagChange
	if !read(c, &r) {
		return
	}
	i, ok := s.instance(c)
	if !ok {
		return
	}
	tags := maps.Clone(map[string]string(i.Tags))
	if tags == nil {
		tags = map[string]string{}
	}
	var intent []string
	for _, k := range slices.Sorted(maps.Keys(r.Set)) {
		tags[k] = r.Set[k]
		intent = append(intent, k+"="+r.Set[k])
	}
	for _, k := range r.Remove {
		if _, has := tags[k]; !has {
			field(c, "remove", fmt.Errorf("it has no tag %s", strconv.Quote(k)))
			return
		}
		delete(tags, k)
		intent = append(intent, "without "+k)
	}
	if len(intent) == 0 {
		field(c, "set", errors.New("give a tag, or one that is taken away"))
		return
	}
	if err := s.opts.Worker.Lifecycle.SetTags(c.Request.Context(), actor(c), i, tags, "tags: "+strings.Join(intent, ", ")); err != nil {
		s.fail(c, err)
		return
	}
	c.Status(http.StatusNoContent)
}
