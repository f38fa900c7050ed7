package api

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"time"

	"github.com/gin-gonic/gin"

	"plumlatch/core/wire"
	"plumlatch/service/door"
	"plumlatch/service/store"
)

// workOut is a piece of work as the API shows it.
func (s *Server) workOut(w store.Work) wire.Work {
	kind := s.opts.Worker.Door.KindOf(w.Kind)
	out := wire.Work{ID: w.ID, Kind: w.Kind, Title: w.Title, Waves: kind.Waves, Restores: kind.Restores,
		Instance: w.Instance, Parent: w.ParentID, State: string(w.State), GoingBack: w.Back,
		Step: max(w.Place(), 0), StepName: w.At,
		StepCount: len(w.Plan()), StepTitle: w.StepTitle, Attempt: w.Attempt, CancelAsked: w.CancelAsked,
		Trouble: w.Trouble, Outcome: w.Outcome, Code: w.Code,
		Events: w.Events, Operator: w.Operator, CreatedAt: w.CreatedAt.UTC(), EndedAt: w.EndedAt}
	if w.State == store.Waiting {
		out.WaitsCode, out.WaitsFor, out.WaitEndsAt = w.WaitsCode, w.WaitsFor, w.WaitEndsAt
	}
	if w.Over() {
		out.StepTitle = ""
	}
	return out
}

// work finds the piece of work that the path names, and answers if there is none.
func (s *Server) work(c *gin.Context) (store.Work, bool) {
	id, err := strconv.ParseInt(c.Param("id"), 10, 64)
	if err != nil {
		field(c, "id", errors.New("the ID of a piece of work is a number"))
		return store.Work{}, false
	}
	w, err := s.opts.Store.WorkByID(c.Request.Context(), id)
	if errors.Is(err, store.ErrNotFound) {
		notFound.detail(c, "there is no work of this number; \"plumlatch work list\" shows what there is")
		return w, false
	}
	if err != nil {
		s.fail(c, err)
		return w, false
	}
	return w, true
}

var workStates = []string{"open", "queued", "running", "waiting", "done", "failed", "cancelled", "stuck"}

func (s *Server) listWork(c *gin.Context) {
	p, _, _, ok := page(c, "created")
	if !ok {
		return
	}
	q := store.WorkQuery{State: c.Query("state"), Kind: c.Query("kind"), Instance: c.Query("instance"), Page: p}
	if q.State != "" && !slices.Contains(workStates, q.State) {
		invalidField.answer(c, wire.Problem{Field: "state", Detail: "unknown state", Choices: workStates})
		return
	}
	if v := c.Query("parent"); v != "" {
		var err error
		if q.Parent, err = strconv.ParseInt(v, 10, 64); err != nil {
			field(c, "parent", errors.New("the ID of a piece of work is a number"))
			return
		}
	}
	rows, next, err := s.opts.Store.WorkList(c.Request.Context(), q)
	if err != nil {
		s.fail(c, err)
		return
	}
	answerList(c, rows, next, s.workOut)
}

func (s *Server) showWork(c *gin.Context) {
	w, ok := s.work(c)
	if !ok {
		return
	}
	out, err := s.wholeWork(c, w)
	if err != nil {
		s.fail(c, err)
		return
	}
	c.JSON(http.StatusOK, out)
}

// wholeWork shows a piece of work with its steps and the count of its children.
func (s *Server) wholeWork(c *gin.Context, w store.Work) (wire.Work, error) {
	out := s.workOut(w)
	steps, err := s.opts.Store.WorkSteps(c.Request.Context(), w.ID)
	if err != nil {
		return out, err
	}
	for _, st := range steps {
		if st.State == "done" && st.Tries == 0 { // there was nothing to do
			st.State = wire.StepPassedOver
		}
		out.Steps = append(out.Steps, wire.WorkStep{Name: st.Name, Title: st.Title, State: st.State, Tries: st.Tries,
			BeganAt: st.BeganAt, EndedAt: st.EndedAt})
	}
	if out.Rotating, err = s.opts.Worker.Accesses.Rotating(c.Request.Context(), w); err != nil {
		return out, err
	}
	if out.Beware, err = s.opts.Worker.Restore.Beware(c.Request.Context(), w); err != nil {
		return out, err
	}
	children, err := s.opts.Store.Children(c.Request.Context(), w.ID)
	for _, k := range children {
		if out.Children == nil {
			out.Children = map[string]int{}
		}
		out.Children[string(k.State)] = k.Count
	}
	return out, err
}

// cancelWork asks that a piece of work go back.
func (s *Server) cancelWork(c *gin.Context) {
	s.askWork(c, s.opts.Worker.Door.Cancel, "it is over: there is nothing to cancel")
}

// retryWork takes a piece of work up again.
func (s *Server) retryWork(c *gin.Context) {
	s.askWork(c, s.opts.Worker.Door.Retry, "only work that failed, was cancelled or is stuck can be taken up again")
}

func (s *Server) askWork(c *gin.Context, ask func(context.Context, store.Actor, store.Work) error, wrong string) {
	w, ok := s.work(c)
	if !ok {
		return
	}
	err := ask(c.Request.Context(), actor(c), w)
	if errors.Is(err, store.ErrWorkState) {
		conflict.answer(c, wire.Problem{Detail: wrong})
		return
	}
	if fe, ok := errors.AsType[door.FieldError](err); ok {
		conflict.answer(c, wire.Problem{Detail: fe.Problem})
		return
	}
	if err == nil {
		w, err = s.opts.Store.WorkByID(c.Request.Context(), w.ID)
	}
	if err != nil {
		s.fail(c, err)
		return
	}
	c.JSON(http.StatusAccepted, s.workOut(w))
}

const (
	followPoll  = 250 * time.Millisecond
	followLimit = 10 * time.Minute // after which the reader comes again, and shows anew who it is
	followLook  = 2 * time.Second  // looking whether the reader's token is still good
	followQuiet = 15 * time.Second // after which a comment shows that the connection lives
)

// followWork sends the events of a piece of work as server-sent events (HTML
// Living Standard, section 9.2), from the one after Last-Event-ID or ?after=
// on, each with its number as its id. When the work is over, an event "end"
// with the work comes last. Any replica can serve it, also the next one after
// a drop.
func (s *Server) followWork(c *gin.Context) {
	w, ok := s.work(c)
	if !ok {
		return
	}
	after := 0
	for _, v := range []string{c.Query("after"), c.GetHeader("Last-Event-ID")} {
		if v == "" {
			continue
		}
		n, err := strconv.Atoi(v)
		if err != nil || n < 0 {
			field(c, "after", errors.New("give the number of an event"))
			return
		}
		after = n
	}
	h := c.Writer.Header()
	h.Set("Content-Type", "text/event-stream")
	c.Status(http.StatusOK)
	c.Writer.Flush()
	_ = http.NewResponseController(c.Writer).SetReadDeadline(time.Time{}) // the server's is meant for requests
	begun, quiet, looked := time.Now(), time.Now(), time.Now()
	for time.Since(begun) < followLimit {
		if time.Since(looked) > followLook {
			if looked = time.Now(); !s.stillIn(c.Request.Context(), operator(c), c.RemoteIP()) {
				return // the token or the session has ended, and so does this
			}
		}
		// The work first: events that come after it was read are sent the next time.
		w, err := s.opts.Store.WorkByID(c.Request.Context(), w.ID)
		if err != nil {
			return // the reader comes again and goes on after the last number
		}
		events, err := s.opts.Store.WorkEvents(c.Request.Context(), w.ID, after, 200)
		if err != nil {
			return
		}
		for _, e := range events {
			if !sendEvent(c, fmt.Sprintf("id: %d\n", e.N),
				wire.WorkEvent{N: e.N, At: e.At.UTC(), Step: e.Step, Code: e.Code, Text: e.Text}) {
				return
			}
			after, quiet = e.N, time.Now()
		}
		if w.Over() && after >= w.Events {
			if whole, err := s.wholeWork(c, w); err == nil {
				sendEvent(c, "event: end\n", whole)
			}
			return
		}
		if time.Since(quiet) > followQuiet {
			if _, err := c.Writer.WriteString(": still here\n\n"); err != nil {
				return
			}
			c.Writer.Flush()
			quiet = time.Now()
		}
		select {
		case <-c.Request.Context().Done():
			return
		case <-s.opts.Closing:
			return
		case <-time.After(followPoll):
		}
	}
}

func sendEvent(c *gin.Context, head string, data any) bool {
	text, err := json.Marshal(data)
	if err != nil {
		return false
	}
	if _, err := fmt.Fprintf(c.Writer, "%sdata: %s\n\n", head, text); err != nil {
		return false
	}
	c.Writer.Flush()
	return true
}
