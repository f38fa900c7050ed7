package api

import (
	"errors"
	"fmt"
	"net/http"
	"strings"

	"github.com/gin-gonic/gin"

	"plumlatch/core/keypair"
	"plumlatch/core/names"
	"plumlatch/core/wire"
	"plumlatch/service/cloud"
	"plumlatch/service/door"
	"plumlatch/service/keylists"
	"plumlatch/service/lifecycle"
	"plumlatch/service/store"
)

// problemType is one sort of problem. Its slug never changes.
type problemType struct {
	slug   string
	status int
	title  string
	next   string // what to do
}

// The sorts of problem; GET /problems/SLUG explains each.
var (
	badRequest = problemType{"bad-request", 400, "The request cannot be read",
		"Send one JSON object with the fields that the API names."}
	unauthenticated = problemType{"unauthenticated", 401, "Nobody is signed in",
		"Send \"Authorization: Bearer TOKEN\", or sign in on the console."}
	badToken = problemType{"bad-token", 401, "The token is not good",
		"It is wrong, has expired or was revoked: create another with \"plumlatch token create\"."}
	badPassword = problemType{"bad-password", 401, "Name or password are wrong",
		"Try again; after five failures sign-in waits for a quarter of an hour."}
	badSignature = problemType{"bad-signature", 401, "This does not sign anybody in",
		"Check the operator's name and the key; an admin says which keys sign in (plumlatch operator key NAME)."}
	forbidden = problemType{"forbidden", 403, "The role does not allow this", "Ask an admin for a role that does."}
	wrongHost = problemType{"wrong-host", 403, "The service does not answer to this host name",
		"Use the address that it printed at its start, or start it with -allow-host."}
	wrongOrigin = problemType{"wrong-origin", 403, "The request comes from another site",
		"Open the console at the service's own address."}
	notFound  = problemType{"not-found", 404, "There is no such thing", "List what there is, and check the name."}
	nameTaken = problemType{"name-taken", 409, "The name is taken",
		"Choose another name; names are compared whatever their case."}
	keyKnown = problemType{"key-known", 409, "This public key is recorded already",
		"Use it under the name that it has."}
	inProgress = problemType{"in-progress", 409, "The instance is in the middle of another change",
		"Wait until it is over, and try again."}
	conflict  = problemType{"conflict", 409, "This cannot be done now", "Read the detail."}
	agentAway = problemType{"agent-away", 409, "The instance's agent cannot be asked",
		"See what is known of it: plumlatch instance agent show NAME."}
	agentRefused = problemType{"agent-refused", 409, "The instance's agent does not do this",
		"Its owner's file says what it does and who may ask: /etc/plumlatch-agent.yaml on the instance."}
	mayNotStream = problemType{"may-not-stream", 403, "The policy does not let you open a stream there",
		"An admin says who may, in the policy (stream.who): plumlatch policy show."}
	noStream = problemType{"no-stream", 409, "No stream can be opened there",
		"See why nobody gets there: plumlatch why INSTANCE."}
	elsewhere = problemType{"agent-elsewhere", 409, "The instance's agent is connected to another replica of the service",
		"Ask again, on a new connection: another replica may answer."}
	streamShut = problemType{"stream-shut", 409, "The service does not get there from its own address",
		"Let it in for a while: plumlatch instance admit INSTANCE -from service -for 1h."}
	tooLarge = problemType{"too-large", 413, "The request is too large",
		"A public key is one line, well under 64 KiB."}
	invalidField = problemType{"invalid-field", 422, "A field is not valid", "Correct the named field."}
	privateKey   = problemType{"private-key", 422, "This is a private key",
		"Keep it where it is. Send the public half, the one line of the .pub file. Nothing was stored or logged; " +
			"if this key has travelled over a network, treat it as exposed."}
	webSocket = problemType{"web-socket", 426, "This is a WebSocket", // RFC 9110 section 15.5.22
		"plumlatch stream INSTANCE opens a stream; docs/shell.md says what goes over it."}
	tooMany  = problemType{"too-many-attempts", 429, "Too many attempts", "Wait for a quarter of an hour."}
	busy     = problemType{"busy", 429, "Too much at a time", "Wait for as long as Retry-After says."}
	internal = problemType{"internal", 500, "The service failed",
		"Try again; the service's log has the cause, by the request's ID."}
	cloudFailed = problemType{"cloud-failed", 502, "The cloud did not answer",
		"Try again; see whether the cloud's interface is up."}

	problemTypes = []problemType{badRequest, unauthenticated, badToken, badPassword, badSignature, forbidden, wrongHost,
		wrongOrigin, notFound, nameTaken,
		keyKnown, inProgress, conflict, agentAway, agentRefused, mayNotStream, noStream, streamShut, elsewhere, tooLarge, invalidField, privateKey, webSocket, tooMany, busy, internal, cloudFailed}
)

var privateDetail = keypair.ErrPrivateKey.Error() +
	". Nothing was stored or logged; as it has travelled over a network, see whether it is still a secret"

func (t problemType) answer(c *gin.Context, p wire.Problem) {
	p.Type, p.Title, p.Status, p.RequestID = "/problems/"+t.slug, t.title, t.status, c.Writer.Header().Get(requestID)
	if p.Detail == "" {
		p.Detail = t.title + ". " + t.next
	}
	if len(p.Choices) > 0 {
		p.Detail += "; there are: " + strings.Join(p.Choices, ", ")
	}
	c.Header("Content-Type", "application/problem+json")
	c.AbortWithStatusJSON(t.status, p)
}

func (t problemType) detail(c *gin.Context, format string, a ...any) {
	t.answer(c, wire.Problem{Detail: fmt.Sprintf(format, a...)})
}

// field says that a field is not valid.
func field(c *gin.Context, name string, err error) {
	invalidField.answer(c, wire.Problem{Field: name, Detail: err.Error()})
}

// fail answers with the problem that an error stands for.
func (s *Server) fail(c *gin.Context, err error) {
	var fieldErr door.FieldError
	var known store.KnownKey
	switch {
	case errors.As(err, &fieldErr):
		invalidField.answer(c, wire.Problem{Field: fieldErr.Field, Detail: fieldErr.Problem,
			Choices: fieldErr.Choices, Code: fieldErr.Code})
	case errors.As(err, &known):
		keyKnown.answer(c, wire.Problem{Field: "public_key", Detail: "this public key is recorded already, as " +
			known.Name, Known: known.Name})
	case errors.Is(err, keypair.ErrPrivateKey):
		privateKey.answer(c, wire.Problem{Field: "public_key", Detail: privateDetail})
	case errors.Is(err, names.ErrInvalid):
		field(c, "name", err)
	case errors.Is(err, store.ErrNameTaken):
		nameTaken.answer(c, wire.Problem{Field: "name",
			Detail: "the name is taken; names are compared whatever their case"})
	case errors.Is(err, store.ErrNotFound):
		notFound.answer(c, wire.Problem{})
	case errors.Is(err, store.ErrReused):
		field(c, "Idempotency-Key", err)
	case errors.Is(err, store.ErrHolder):
		field(c, "holder", fmt.Errorf("%w; \"plumlatch holder add NAME\" records one", err))
	case errors.Is(err, keylists.ErrNone), errors.Is(err, keylists.ErrNoAgent):
		conflict.answer(c, wire.Problem{Detail: err.Error()})
	case errors.Is(err, lifecycle.ErrMayNotAdopt):
		forbidden.answer(c, wire.Problem{Detail: err.Error()})
	case errors.Is(err, store.ErrClaimed):
		conflict.answer(c, wire.Problem{Field: "cloud_id", Detail: err.Error() + ": plumlatch instance list shows it"})
	case errors.Is(err, store.ErrInProgress):
		inProgress.answer(c, wire.Problem{})
	case errors.Is(err, store.ErrLastAdmin):
		conflict.answer(c, wire.Problem{Detail: err.Error()})
	case errors.Is(err, store.ErrCursor):
		field(c, "cursor", err)
	case errors.Is(err, store.ErrTooMany):
		c.Header("Retry-After", fmt.Sprint(int(store.SigninWindow.Seconds())))
		tooMany.answer(c, wire.Problem{Detail: err.Error()})
	case errors.Is(err, errBusyHashing):
		c.Header("Retry-After", "3")
		busy.answer(c, wire.Problem{Detail: err.Error() + "; try again in 3 s"})
	case errors.Is(err, store.ErrRested):
		c.Header("Retry-After", fmt.Sprint(int(store.PermitLife.Seconds())))
		conflict.answer(c, wire.Problem{Detail: err.Error()})
	case errors.Is(err, cloud.ErrLacks):
		cloudFailed.answer(c, wire.Problem{Detail: err.Error(), Code: wire.CloudLacks})
	case errors.Is(err, cloud.ErrFailed), errors.Is(err, cloud.ErrRefused):
		cloudFailed.answer(c, wire.Problem{Detail: err.Error()})
	default:
		s.logOf(c).Error("request failed", "route", c.FullPath(), "error", err)
		internal.answer(c, wire.Problem{})
	}
}

// explain serves the page that a problem's type points to.
func explain(c *gin.Context) {
	for _, t := range problemTypes {
		if t.slug == c.Param("slug") {
			c.String(http.StatusOK, "%s (%d)\n\n%s\n", t.title, t.status, t.next)
			return
		}
	}
	notFound.answer(c, wire.Problem{})
}
