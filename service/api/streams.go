package api

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"log/slog"
	"net"
	"net/http"
	"strconv"
	"time"

	"github.com/coder/websocket"
	"github.com/gin-gonic/gin"

	"plumlatch/core/keypair"
	"plumlatch/core/plaintext"
	core "plumlatch/core/streams"
	"plumlatch/core/wire"
	"plumlatch/reach"
	"plumlatch/service/agents"
	"plumlatch/service/store"
	"plumlatch/service/streams"
)

// helloLimit is how long a connection may take to say whose stream it carries.
const helloLimit = 10 * time.Second

// by is the hash of what somebody signed in with.
func (o signedIn) by() []byte {
	if o.session != nil {
		return o.session
	}
	return o.token
}

// mayStill tells whether who asked may still, with a role; an error, that nobody can tell now.
func (s *Server) mayStill(ctx context.Context, o signedIn, address string, role store.Role) (bool, error) {
	now, err := store.ByToken{}, error(nil)
	if o.session != nil {
		now.Operator, err = s.opts.Store.SessionOperator(ctx, o.session)
	} else {
		now, err = s.opts.Store.TokenOperator(ctx, o.token, address)
	}
	if errors.Is(err, store.ErrNotFound) || errors.Is(err, store.ErrTokenExpired) {
		return false, nil
	}
	return err == nil && now.Role.Includes(role), err
}

// openStream opens a stream to an instance, which then waits for a connection.
func (s *Server) openStream(c *gin.Context) {
	var r wire.NewStream
	if !read(c, &r) {
		return
	}
	i, ok := s.withSSH(c)
	if !ok {
		return
	}
	o, address := operator(c), c.RemoteIP()
	opened, err := s.opts.Worker.Streams.Open(c.Request.Context(), streams.Ask{Instance: i, OperatorID: o.ID, By: actor(c), SignedIn: o.by(), Reason: r.Reason, Way: r.Way,
		Valid: func(ctx context.Context) (bool, error) { return s.mayStill(ctx, o, address, store.Editor) }})
	if err != nil {
		s.streamFailed(c, i, err)
		return
	}
	c.JSON(http.StatusCreated, wire.StreamBegun{ID: opened.ID, Secret: opened.Secret, Way: opened.Way, SeenFrom: opened.SeenFrom, Until: opened.Until.UTC()})
}

func (s *Server) streamFailed(c *gin.Context, i store.Instance, err error) {
	var no agents.Refused
	switch {
	case errors.Is(err, streams.ErrMayNot):
		mayNotStream.detail(c, "%s: %s", i.Name, err)
	case errors.Is(err, streams.ErrElsewhere):
		elsewhere.detail(c, "the agent of %s is connected to another replica of the service", i.Name)
	case errors.Is(err, streams.ErrShut) && !i.Adopted:
		streamShut.detail(c, "%s: %s", i.Name, err)
	case errors.Is(err, streams.ErrNotThere), errors.Is(err, streams.ErrHostKey), errors.Is(err, streams.ErrNoWay), errors.Is(err, reach.ErrPolicy):
		noStream.detail(c, "%s: %s", i.Name, err)
	case errors.Is(err, store.ErrStreams):
		c.Header("Retry-After", "60")
		busy.detail(c, "%s (stream.each): plumlatch streams list shows them", err)
	case errors.Is(err, agents.ErrAway), errors.As(err, &no):
		s.agentFailed(c, i, err)
	default:
		s.surveyFailed(c, err)
	}
}

// carryStream is a connection of a stream (WebSocket, RFC 6455): the first one, or one in the place of one that broke.
func (s *Server) carryStream(c *gin.Context) {
	id, err := strconv.ParseInt(c.Param("id"), 10, 64)
	if err != nil {
		notFound.answer(c, wire.Problem{})
		return
	}
	// A browser sends the cookie by itself, and the origin, which guard has looked at.
	if o := operator(c); o.session != nil && c.GetHeader("Authorization") == "" && c.GetHeader("Origin") == "" {
		wrongOrigin.answer(c, wire.Problem{})
		return
	}
	if !c.IsWebsocket() {
		c.Header("Upgrade", "websocket")
		webSocket.answer(c, wire.Problem{})
		return
	}
	conn, err := websocket.Accept(littleBuffers{c.Writer}, c.Request, &websocket.AcceptOptions{CompressionMode: websocket.CompressionDisabled})
	if err != nil {
		return // it was answered
	}
	// What carries it from here on is a goroutine without what a request has: many of them may be idle for hours.
	go s.attach(context.Background(), s.logOf(c), conn, id, operator(c))
}

// littleBuffers has the connection that a WebSocket takes over be read and written with less than the 8 KiB of a request:
// many are idle for hours, and a message that is larger passes a buffer by.
type littleBuffers struct{ gin.ResponseWriter }

const littleBuffer = 512

// Hijack lets the WebSocket take the connection over.
func (w littleBuffers) Hijack() (net.Conn, *bufio.ReadWriter, error) {
	conn, b, err := w.ResponseWriter.Hijack()
	if err != nil || b.Reader.Buffered() > 0 { // what has come already stays where it is
		return conn, b, err
	}
	return conn, bufio.NewReadWriter(bufio.NewReaderSize(conn, littleBuffer), bufio.NewWriterSize(conn, littleBuffer)), nil
}

// attach hears whose stream a connection is to carry, and carries it.
func (s *Server) attach(ctx context.Context, log *slog.Logger, conn *websocket.Conn, id int64, o signedIn) {
	defer conn.CloseNow()
	limited, cancel := context.WithTimeout(ctx, helloLimit)
	conn.SetReadLimit(core.MaxHello)
	kind, text, err := conn.Read(limited)
	cancel()
	var h core.Hello
	if err != nil || kind != websocket.MessageText || json.Unmarshal(text, &h) != nil {
		return
	}
	err = s.opts.Worker.Streams.Attach(ctx, id, o.ID, o.by(), h.Secret, h.Received, conn)
	if w := (core.Welcome{Elsewhere: errors.Is(err, streams.ErrElsewhere)}); w.Elsewhere || errors.Is(err, streams.ErrNoStream) {
		if !w.Elsewhere {
			w.Refused = streams.ErrNoStream.Error()
		}
		limited, cancel := context.WithTimeout(ctx, helloLimit)
		defer cancel()
		if text, err := json.Marshal(w); err == nil && conn.Write(limited, websocket.MessageText, text) == nil {
			_ = conn.Close(websocket.StatusNormalClosure, "")
		}
		return
	}
	log.Debug("a connection of a stream ended", "stream", id, "why", plaintext.Line(plaintext.Cut(err.Error(), 200)))
}

// listStreams lists streams, of one instance or of all.
func (s *Server) listStreams(c *gin.Context) {
	instanceID, ok := s.instanceAsked(c)
	if !ok {
		return
	}
	open := c.Query("open")
	if open != "" && open != "true" {
		field(c, "open", errors.New("open is true, or left out"))
		return
	}
	rows, err := s.opts.Store.Streams(c.Request.Context(), instanceID, open != "", 200)
	if err != nil {
		s.fail(c, err)
		return
	}
	answerList(c, rows, "", showStream)
}

func showStream(r store.Stream) wire.Stream {
	out := wire.Stream{ID: r.ID, Instance: r.Instance, Operator: r.Operator, Address: r.Address, Way: r.Way, SeenFrom: r.SeenFrom, Reason: r.Reason, Begun: r.BegunAt.UTC(),
		Up: r.Up, Down: r.Down, Open: r.EndedAt == nil, Why: r.Why, Words: r.Why.Words()}
	if r.EndedAt != nil {
		out.Ended = new(r.EndedAt.UTC())
	}
	return out
}

// endStream ends one.
func (s *Server) endStream(c *gin.Context) {
	id, err := strconv.ParseInt(c.Param("id"), 10, 64)
	if err == nil {
		err = s.opts.Store.AskStreamEnd(c.Request.Context(), actor(c), id)
	} else {
		err = store.ErrNotFound
	}
	if errors.Is(err, store.ErrNotFound) {
		notFound.detail(c, "there is no such stream, or it has ended: plumlatch streams list -open")
		return
	}
	if err != nil {
		s.fail(c, err)
		return
	}
	c.Status(http.StatusNoContent)
}

// sessionOf is the stream of a call about the pair of its session.
func (s *Server) sessionOf(c *gin.Context) (id int64, i store.Instance, seenFrom, reason string, ok bool) {
	id, err := strconv.ParseInt(c.Param("id"), 10, 64)
	if err == nil {
		i, seenFrom, reason, err = s.opts.Worker.Streams.Of(id, operator(c).by())
	}
	if err != nil {
		notFound.detail(c, "%s, or it is another's", streams.ErrNoStream)
		return 0, i, "", "", false
	}
	return id, i, seenFrom, reason, true
}

// sessionKey lets a pair in that was made for the session of a stream.
func (s *Server) sessionKey(c *gin.Context) {
	var r wire.SessionKey
	if !read(c, &r) {
		return
	}
	id, i, seenFrom, reason, ok := s.sessionOf(c)
	if !ok {
		return
	}
	public, err := keypair.ReadPublic([]byte(r.PublicKey))
	if err != nil {
		field(c, "public_key", err)
		return
	}
	w, err := s.opts.Worker.Accesses.AddForSession(c.Request.Context(), actor(c), i, id, public, seenFrom, reason)
	s.begun(c, w, err)
}

// sessionBegan withdraws the pair of a session that has begun.
func (s *Server) sessionBegan(c *gin.Context) {
	id, i, _, _, ok := s.sessionOf(c)
	if !ok {
		return
	}
	w, err := s.opts.Worker.Accesses.RemoveAfterSession(c.Request.Context(), actor(c), i, id)
	s.begun(c, w, err)
}
