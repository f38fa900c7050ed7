package api

import (
	"context"
	"net/http"
	"strings"

	"github.com/gin-gonic/gin"

	"plumlatch/core/wire"
	"plumlatch/service/cloud"
	"plumlatch/service/store"
)

// Operation is one call of the API. The table below says it once: it makes the routes, the
// tests of the roles go through it, and the OpenAPI document and docs/api.md are made of it.
type Operation struct {
	Method string
	Path   string // below /api/v1, as Gin writes it
	// Role is the least that whoever asks must have; "" for a call that needs no sign-in.
	Role store.Role
	// Costly calls ask instances and clouds, or read much: they are bounded for each operator.
	Costly bool
	// In is what is sent, Out what is answered: a zero value of the document; nil for none.
	In, Out any
	About   string // one line

	do gin.HandlerFunc
}

// list is a page of a list of documents.
func list[T any](T) wire.List[T] { return wire.List[T]{} }

// Documents that have no type of their own in wire, as only one call has them.
type (
	recordAccess struct {
		Fingerprint string `json:"fingerprint"`
		User        string `json:"user"`
		Name        string `json:"name"`
	}
	empty         struct{}
	probingChange struct {
		Allowed bool `json:"allowed"`
	}
)

// operations is every call of the API.
func (s *Server) operations() []Operation {
	const get, post, patch, put, del = http.MethodGet, http.MethodPost, http.MethodPatch, http.MethodPut,
		http.MethodDelete
	const view, edit, admin = store.Viewer, store.Editor, store.Admin
	return []Operation{
		{post, "/session", "", false, wire.Credentials{}, wire.Session{},
			"Sign in by password: the answer sets a cookie, or has a token for a client.", s.signIn},
		{post, "/session/challenge", "", false, wire.SigninRequest{}, wire.SigninChallenge{},
			"A challenge for signing in by key.", s.signinChallenge},
		{post, "/session/key", "", false, wire.SigninProof{}, wire.Session{}, "Sign in by key: the answer has a token.",
			s.signInByKey},
		{post, "/session/code", view, false, nil, wire.ConsoleCode{},
			"A code that opens the console once, within a minute.", s.consoleCode},
		{post, "/session/redeem", "", false, wire.ConsoleCode{}, wire.Session{},
			"Sign in by such a code: the answer sets a cookie.", s.signInByCode},
		{put, "/session/password", view, false, wire.PasswordChange{}, nil, "Change one's own password.", s.setPassword},
		{get, "/session", view, false, nil, wire.Operator{}, "Who asks, and what they may do.", s.whoAmI},
		{del, "/session", view, false, nil, nil, "Sign out.", s.signOut},

		{get, "/keys", view, false, nil, list(wire.Key{}), "The recorded keys.", s.listKeys},
		{get, "/keys/:name", view, false, nil, wire.Key{}, "One key, by its name.", s.showKey},
		{post, "/keys", edit, false, wire.NewKey{}, wire.Key{}, "Record a public key.", s.addKey},
		{patch, "/keys/:name", edit, false, wire.KeyChange{}, wire.Key{}, "Change a key's name, holder or note.",
			s.changeKey},
		{del, "/keys/:name", edit, false, nil, nil, "Forget a key that opens nothing.", s.forgetKey},
		{post, "/keys/:name/retire", edit, false, nil, wire.Key{}, "Put a key on no further instance.",
			s.retireKey(true)},
		{post, "/keys/:name/use-again", edit, false, nil, wire.Key{}, "Undo retire.", s.retireKey(false)},
		{post, "/keys/:name/challenge", edit, false, wire.ChallengeRequest{}, wire.Challenge{},
			"A text to be signed with the key.", s.challenge},
		{post, "/keys/:name/proof", edit, false, wire.Proof{}, wire.Key{},
			"A signature of that text: the private half exists.", s.prove},
		{post, "/keys/:name/bad-day", edit, false, wire.KeyBadDay{}, wire.Follows{},
			"Record that a key is lost, exposed or found, or show what would follow.", s.badDay},
		{put, "/keys/:name/private-print", edit, false, wire.PrivatePrint{}, wire.Key{},
			"Keep what is said to be the fingerprint of its private half: it finds the key, and proves nothing.",
			s.privatePrint},
		{get, "/keys/:name/timeline", view, false, nil, list(wire.TimelineEvent{}),
			"What happened to a key.", s.keyTimeline},

		{get, "/holders", view, false, nil, list(wire.Holder{}), "Who holds keys.", s.listHolders},
		{post, "/holders", edit, false, wire.Holder{}, wire.Holder{}, "Record a holder.", s.addHolder},
		{patch, "/holders/:name", edit, false, wire.HolderChange{}, nil, "Change a holder.", s.changeHolder},
		{post, "/holders/:name/left", edit, false, wire.HolderLeft{}, list(wire.Follows{}),
			"Record that a holder has left, or show what would follow.", s.holderLeft},

		{get, "/instances", view, false, nil, list(wire.Instance{}), "The instances.", s.listInstances},
		{get, "/instances/:name", view, false, nil, wire.Instance{}, "One instance.", s.showInstance},
		{post, "/instances", edit, false, wire.Launch{}, wire.Instance{},
			"Launch an instance, or show the plan of it.", s.launch},
		{post, "/instances/:name/stop", edit, false, nil, wire.Instance{}, "Stop it.", s.change(store.Stopping)},
		{post, "/instances/:name/start", edit, false, nil, wire.Instance{}, "Start it.", s.change(store.Starting)},
		{del, "/instances/:name", edit, false, nil, wire.Instance{}, "Remove it, or forget one that was not launched here (forget=true).",
			s.change(store.Removing)},
		{post, "/instances/:name/survey", edit, true, wire.SurveyRequest{}, wire.Survey{},
			"Look at it, from outside and inside.", s.survey},
		{post, "/instances/:name/client-survey", edit, false, wire.ClientSurvey{}, wire.Survey{},
			"Keep what an engineer's session saw there.", s.clientSurvey},
		{get, "/instances/:name/surveys", view, false, nil, list(wire.LastSurvey{}),
			"What its last surveys saw.", s.lastSurveys},
		{post, "/instances/:name/record-access", edit, false, recordAccess{}, wire.Key{},
			"Record a key that a survey saw there.", s.recordAccess},
		{post, "/instances/:name/probing", edit, false, probingChange{}, wire.Instance{},
			"Allow or forbid the probe of its server.", s.probing},
		{get, "/instances/:name/opening", view, false, nil, wire.Opening{},
			"What opens it: recorded keys, keys that nobody recorded, other doors.", s.opening},
		{get, "/instances/:name/timeline", view, false, nil, list(wire.TimelineEvent{}),
			"What happened to an instance.", s.instanceTimeline},
		{post, "/instances/:name/why", view, true, wire.WhyRequest{}, wire.WhyAnswer{},
			"Why a login works or does not.", s.why},
		{post, "/instances/:name/refresh", edit, true, wire.Refresh{}, wire.Instance{},
			"Take down what the cloud says of it now.", s.refresh},
		{post, "/instances/:name/streams", edit, true, wire.NewStream{}, wire.StreamBegun{},
			"Open a stream to its SSH server: the service passes bytes on that it cannot read.", s.openStream},
		{get, "/streams", view, false, nil, list(wire.Stream{}), "The streams, the newest first, at most 200.", s.listStreams},
		{get, "/streams/:id/bytes", edit, false, nil, nil, "Carry a stream that one has opened: a WebSocket (docs/shell.md).", s.carryStream},
		{post, "/streams/:id/key", edit, true, wire.SessionKey{}, wire.Work{},
			"Let a pair in that was made for this session: for five minutes, from where the stream comes.", s.sessionKey},
		{del, "/streams/:id/key", edit, true, nil, wire.Work{}, "The session has begun: withdraw its pair.", s.sessionBegan},
		{del, "/streams/:id", edit, false, nil, nil, "End a stream, within some seconds.", s.endStream},
		{get, "/instances/:name/agent", view, false, nil, wire.Agent{}, "What is known of an instance's resident agent, and what it pins.", s.agent},
		{put, "/instances/:name/agent", edit, false, wire.AgentKey{}, nil, "Enroll an agent's key, as an engineer's session read it on the instance.", s.agentEnroll},
		{del, "/instances/:name/agent", edit, false, nil, nil, "Know an instance's agent no more.", s.agentForget},
		{post, "/instances/:name/agent/token", edit, false, nil, wire.AgentToken{}, "A token that enrolls the instance's agent once, within the hour.", s.agentToken},
		{post, "/instances/:name/agent/look", edit, true, nil, wire.Survey{}, "Have the agent look at who gets in, and take in what it saw.", s.agentLook},
		{post, "/instances/:name/agent/upgrade", edit, true, nil, wire.AgentUpgrade{}, "Have the agent try the version that the service has, and take it if it comes up.", s.agentUpgrade},
		{post, "/instances/:name/agent/call", edit, true, wire.AgentCall{}, wire.AgentDone{}, "Pass a request on to the agent that an operator signed.", s.agentCall},
		{post, "/instances/:name/logins", edit, false, wire.SetLogins{}, wire.Work{}, "Change the ways of logging in besides keys: done there by the engineer's session.", s.setLogins},
		{post, "/instances/:name/logins-seen", edit, false, wire.LoginsSeen{}, nil, "A client's word on what a way back there did.", s.loginsSeen},
		{get, "/work/:id/logins", view, false, nil, wire.LoginsToChange{}, "What the engineer's session changes, and who may confirm it.", s.loginsToChange},
		{post, "/work/:id/logins", edit, false, wire.LoginsTold{}, wire.Work{}, "A client's word on what came of it.", s.loginsTold},
		{post, "/instances/:name/users", edit, false, wire.SetUser{}, wire.Work{}, "Add or remove a user there, or set its password: done there by the engineer's session.", s.setUser},
		{get, "/work/:id/user", view, false, nil, wire.UserToChange{}, "What the engineer's session does there.", s.userToChange},
		{post, "/work/:id/user", edit, false, wire.UserTold{}, wire.Work{}, "A client's word on what came of it.", s.userTold},
		{get, "/instances/:name/rules", view, true, nil, wire.Rules{}, "Whom its inbound rules let in.", s.listRules},
		{post, "/instances/:name/rules", edit, false, wire.Admit{}, wire.Work{}, "Let address ranges in.", s.admit},
		{post, "/instances/:name/unadmit", edit, false, wire.Unadmit{}, wire.Work{}, "Withdraw rules.", s.unadmit},
		{get, "/instances/:name/host-key", view, true, nil, wire.HostKeyState{},
			"The host key that answers, and the recorded ones.", s.hostKey},
		{post, "/instances/:name/host-key", edit, false, wire.AcceptHostKey{}, wire.HostKeyState{},
			"Take another host key for its own.", s.acceptHostKey},
		{get, "/instances/:name/boot-log", view, true, nil, wire.BootLog{}, "What it printed when it booted.",
			s.bootLog},
		{post, "/instances/:name/rotate", edit, false, wire.Rotate{}, wire.Work{},
			"Put a new key in the place of an old one.", s.rotate},
		{post, "/instances/:name/rotation-plan", view, false, wire.Rotate{}, wire.RotationPlan{},
			"What that would do.", s.rotationPlan},
		{post, "/instances/:name/access-add", edit, false, wire.AccessAdd{}, wire.Work{},
			"Let a key open it besides others.", s.addAccess},
		{post, "/instances/:name/access-remove", edit, false, wire.AccessRemove{}, wire.Work{},
			"Withdraw a key.", s.removeAccess},
		{post, "/instances/:name/access-extend", edit, false, wire.AccessExtend{}, wire.Work{},
			"Move the end of an access.", s.extendAccess},
		{post, "/instances/:name/steward-key", edit, false, empty{}, wire.Work{}, "Replace the steward's own key.",
			s.rotateSteward},
		{post, "/instances/:name/routes", view, true, wire.CompareRoutes{}, wire.Routes{},
			"Compare the ways back in.", s.routes},
		{post, "/instances/:name/rehearsals/plan", view, true, wire.Rehearse{}, wire.RehearsalPlan{},
			"What a rehearsal of a way back in would do, take and cost.", s.planRehearsal},
		{post, "/instances/:name/rehearsals", edit, false, wire.Rehearse{}, wire.Work{}, "Rehearse a way back in on a copy.", s.rehearse},
		{get, "/instances/:name/rehearsals", view, false, nil, list(wire.Rehearsed{}), "What its last rehearsals came to.", s.rehearsals},
		{post, "/instances/:name/restore", edit, false, wire.Restore{}, wire.Work{}, "Restore access by one of them.",
			s.restore},
		{post, "/instances/:name/checks", edit, false, wire.CheckChange{}, nil, "Say what \"works\" means for it.",
			s.changeChecks},
		{post, "/instances/:name/rescue", edit, false, wire.RescueChange{}, nil,
			"Allow or forbid its use as a rescue instance.", s.setRescue},

		{get, "/static-addresses", view, true, nil, list(wire.StaticAddress{}), "The static addresses.", s.listStatic},
		{post, "/static-addresses", edit, false, wire.NewStaticAddress{}, wire.Work{}, "Reserve one.", s.reserve},
		{post, "/static-addresses/:name/move", edit, false, wire.MoveAddress{}, wire.Work{},
			"Move one to an instance, or off it.", s.moveAddress},
		{del, "/static-addresses/:name", edit, false, nil, wire.Work{}, "Give one back.", s.releaseAddress},

		{get, "/instances/:name/placed-keys", view, true, nil, list(wire.PlacedKey{}), "The keys that the cloud's agent places there.",
			s.placedKeys},
		{post, "/instances/:name/placed-keys", edit, false, wire.PlaceKey{}, wire.Work{}, "Have the cloud's own agent let a key in there.", s.placeKey},
		{post, "/work/:id/lend", edit, true, wire.LendKey{}, wire.Lent{}, "Have the cloud lend a key for a restore.", s.lendForWork},
		{post, "/instances/:name/password", edit, true, nil, wire.SealedPassword{}, "Hand over its first password, as it is encrypted.",
			s.handPassword},
		{post, "/instances/:name/password/changed", edit, true, nil, wire.FirstPassword{}, "Record that its first password was changed.",
			s.passwordChanged},
		{post, "/instances/:name/lend", edit, true, wire.LendKey{}, wire.Lent{}, "Have the cloud lend a key, for one login.", s.lendKey},
		{post, "/cloud-keys/look", view, true, wire.LookKeyLists{}, wire.KeyLists{},
			"The cloud's own lists of keys, set against the ledger.", s.lookKeyLists},
		{post, "/cloud-keys", edit, false, wire.ListKey{}, wire.Work{}, "Take a key into lists of the cloud.", s.listKey},
		{post, "/cloud-keys/removals", edit, false, wire.UnlistKey{}, wire.Work{}, "Take entries out of lists of the cloud.",
			s.unlistKey},

		{get, "/work", view, false, nil, list(wire.Work{}), "The durable work.", s.listWork},
		{get, "/work/:id", view, false, nil, wire.Work{}, "One piece of work, with its steps.", s.showWork},
		{get, "/work/:id/events", view, false, nil, wire.WorkEvent{},
			"Its events as they come, as server-sent events.", s.followWork},
		{post, "/work/:id/cancel", edit, false, nil, wire.Work{}, "Have it go back.", s.cancelWork},
		{post, "/work/:id/retry", edit, false, nil, wire.Work{}, "Take it up again.", s.retryWork},
		{post, "/work/:id/line", edit, false, wire.LineReport{}, wire.Work{},
			"The client has placed the steward's line, or taken it out.", s.reportLine},
		{post, "/work/:id/login", edit, false, wire.LoginReport{}, wire.Work{},
			"The client has logged in with the new key.", s.reportNewLogin},
		{get, "/work/:id/word", view, false, nil, wire.Word{}, "The word that it waits for.", s.word},
		{post, "/work/:id/word", edit, false, wire.GiveWord{}, wire.Work{}, "Give that word.", s.giveWord},
		{get, "/work/:id/fleet", view, false, nil, wire.FleetPlan{}, "How far work on many instances is.", s.fleet},
		{post, "/work/:id/pause", edit, false, nil, wire.Work{}, "Begin no further instance.", s.pauseFleet},
		{post, "/work/:id/go-on", edit, false, nil, wire.Work{}, "Go on.", s.goOnFleet},
		{get, "/work/:id/lines", view, false, nil, wire.RestoreLines{}, "The lines that are to be added by hand.",
			s.restoreLines},
		{post, "/work/:id/placed", edit, false, wire.PlacedReport{}, wire.Work{}, "They were added.", s.reportPlaced},
		{post, "/work/:id/permit", edit, true, wire.PermitRequest{}, wire.SignedPermit{},
			"May they be taken out again?", s.permitByHand},
		{get, "/work/:id/report", view, false, nil, wire.Report{}, "The report of a restore.", s.report},
		{get, "/work/:id/copy-door", view, false, nil, wire.CopyDoor{}, "Where services are started on a copy.", s.copyDoor},
		{post, "/work/:id/enabled", edit, false, wire.EnabledServices{}, wire.Work{}, "A client's word on the services that it has started there.", s.reportEnabled},
		{get, "/work/:id/rescue-door", view, false, nil, wire.RescueDoor{}, "Where files are copied out.",
			s.rescueDoor},
		{post, "/work/:id/fetched", edit, false, wire.Fetched{}, wire.Work{}, "They were copied.", s.reportFetched},
		{post, "/work/:id/close", edit, false, nil, wire.Work{}, "No further part comes.", s.closeParts},

		{post, "/rotations/plan", view, true, wire.Fleet{}, wire.FleetPlan{}, "What a rotation of many would take.",
			s.planFleet},
		{post, "/rotations", edit, false, wire.Fleet{}, wire.Work{}, "Rotate on many instances, in waves.",
			s.rotateMany},
		{post, "/access/many/plan", view, true, wire.AccessMany{}, wire.FleetPlan{},
			"What a change of access on many would take.", s.planMany},
		{post, "/access/many", edit, false, wire.AccessMany{}, wire.Work{},
			"Change access on many instances, in waves.", s.changeMany},
		{post, "/restores/plan", view, true, wire.RestoreMany{}, wire.FleetPlan{},
			"What a restore of many would take.", s.planRestoreMany},
		{post, "/restores", edit, false, wire.RestoreMany{}, wire.Work{},
			"Restore access to many instances, in waves.", s.restoreMany},
		{get, "/restore-ready", view, true, nil, list(wire.ReadyRow{}), "Which ways back in are open, now.",
			s.restoreReady},
		{get, "/rescue-terms", view, true, nil, wire.RescueTerms{},
			"What a rescue instance costs and how long it stands.", s.rescueTerms},
		{post, "/adoptions", edit, false, wire.Adoption{}, wire.Adopted{}, "Adopt an instance that is there.", s.adopt},
		{post, "/adopt-many", edit, false, wire.AdoptMany{}, wire.Work{},
			"Begin work that many adoptions are part of.", s.adoptMany},

		{post, "/keybooks/compare", view, true, wire.KeybookText{}, wire.KeybookCompared{}, "Set a keybook against the ledger; nothing is changed.", s.compareBook},
		{post, "/keybooks", edit, true, wire.KeybookSettle{}, wire.Work{}, "Settle a keybook.", s.settleBook},
		{post, "/keybooks/write", view, true, wire.KeybookWrite{}, wire.KeybookWritten{}, "The keybook that describes what is there now.", s.writeBook},
		{get, "/keybooks", view, false, nil, list(wire.Keybook{}), "The keybooks that were settled, the newest first.", s.listBooks},
		{get, "/keybooks/:id", view, false, nil, wire.Keybook{}, "One of them, by its work, with its text.", s.book},
		{post, "/instances/:name/tags", edit, false, wire.TagChange{}, nil, "Give it tags in the ledger, and take some away.", s.tag},

		{get, "/access", view, false, nil, list(wire.Access{}), "Which key opens which instance.", s.listAccess},
		{get, "/uses", view, false, nil, list(wire.UsedRow{}), "Who really came in, as the instances' own logs tell: the last thousand.",
			s.listUses},
		{post, "/access/:id/login", edit, false, wire.LoginReport{}, nil, "The client has logged in there.",
			s.reportLogin},
		{get, "/opens", view, false, nil, wire.Opens{}, "What a key opens, recorded or not, by its name or a fingerprint of whatever form.",
			s.opens},
		{get, "/sightings", view, false, nil, list(wire.Sighted{}), "What surveys saw in files of keys.",
			s.listSightings},
		{get, "/access-map", view, true, nil, wire.AccessMap{}, "The same as a map.", s.accessMap},
		{get, "/evidence-ages", view, false, nil, map[string]int{}, "How old what is known is.", s.evidenceAges},
		{get, "/surveys", view, false, nil, list(wire.LastSurvey{}), "What the last surveys saw.", s.listSurveys},
		{post, "/surveys", edit, false, wire.SurveyMany{}, wire.Work{}, "Survey many instances.", s.surveyMany},
		{get, "/discovery", view, false, nil, wire.Discovery{}, "How the ledger differed from the cloud.", s.discover},
		{post, "/discovery", edit, true, nil, wire.Discovery{}, "Ask the cloud now.", s.discover},
		{post, "/discovery/adoptions", edit, false, wire.FoundAdoption{}, wire.Instance{},
			"Adopt an instance from the cloud's list, without getting in.", s.adoptFound},
		{post, "/instances/:name/link", edit, false, wire.CloudLink{}, wire.Instance{},
			"Say which of the cloud's instances an adopted one is.", s.link},

		{get, "/today", view, false, nil, wire.Today{}, "What needs a hand.", s.today},
		{post, "/today/seen", view, false, map[string]string{}, nil, "What was seen of it.", s.todaySeen},
		{post, "/today/:id/off", edit, false, wire.PutOff{}, wire.Matter{}, "Put a matter off.", s.putOff},
		{get, "/policy", view, false, nil, wire.Policy{}, "The policy.", s.showPolicy},
		{put, "/policy", admin, false, wire.Policy{}, wire.Policy{}, "Set the policy, or check one.", s.setPolicy},

		{get, "/journal", view, false, nil, list(wire.JournalEntry{}), "Who did what, the newest first.",
			s.listJournal},
		{get, "/journal/export", view, true, nil, nil, "The whole journal with its chain, a JSON object a line.",
			s.exportJournal},
		{post, "/journal/verify", view, true, nil, wire.JournalCheck{}, "Compute the chain of the journal.",
			s.verifyJournal},
		{post, "/journal/checks", view, false, wire.JournalCheck{}, wire.JournalCheck{},
			"What a client found when it did.", s.checkedJournal},

		{get, "/regions", view, false, nil, list(wire.Region{}), "The cloud's regions.",
			catalogue(s, func(ctx context.Context, _ string) ([]wire.Region,
				error) {
				return s.opts.Worker.Door.Clouds.Regions(ctx)
			})},
		{get, "/images", view, false, nil, list(cloud.Image{}), "The cloud's images in a region.",
			catalogue(s, func(ctx context.Context, region string) ([]cloud.Image, error) {
				return s.opts.Worker.Door.Clouds.Images(ctx, region)
			})},
		{get, "/sizes", view, false, nil, list(cloud.Size{}), "The cloud's sizes in a region.",
			catalogue(s, func(ctx context.Context, region string) ([]cloud.Size,
				error) {
				return s.opts.Worker.Door.Sizes(ctx, region)
			})},

		{get, "/operators", view, false, nil, list(wire.Operator{}), "Who may use the service.", s.listOperators},
		{post, "/operators", admin, false, wire.Operator{}, wire.Operator{}, "Add an operator.", s.addOperator},
		{patch, "/operators/:name", admin, false, wire.OperatorChange{}, nil, "Change an operator.", s.changeOperator},
		{get, "/operators/:name/keys", view, false, nil, list(wire.OperatorKey{}),
			"Which keys sign for an operator: in, words, or both.", s.operatorKeys},
		{put, "/operators/:name/keys/:key", admin, false, wire.OperatorKeyUse{}, wire.OperatorKey{},
			"Have a key sign for an operator.", s.setOperatorKey},
		{del, "/operators/:name/keys/:key", admin, false, nil, wire.OperatorKey{}, "No longer.", s.dropOperatorKey},
		{get, "/tokens", view, false, nil, list(wire.Token{}), "One's own tokens.", s.listTokens},
		{post, "/tokens", view, false, wire.NewToken{}, wire.Token{}, "Make one.", s.createToken},
		{del, "/tokens/:id", view, false, nil, nil, "Revoke one.", s.revokeToken},
		{get, "/openapi.json", "", false, nil, nil, "This table, as an OpenAPI 3.1 document.", s.openAPI},
		{get, "/metrics", view, false, nil, nil, "Numbers about the service, as text.", s.metrics},
	}
}

// queries are what may stand in the query of a call, by its method and path. A list that has a
// cursor also takes limit, 1 to 500, and cursor, the next_cursor of the page before.
var queries = map[string]string{
	"GET /keys":      "q kind fingerprint holder origin weakness state older_than_days sort order limit cursor",
	"GET /instances": "q region image state key host_keys sort order limit cursor",
	"GET /access": "instance key holder region tag user people evidence evidence_older_than_days " +
		"evidence_newer_than_days sort order limit cursor",
	"GET /keybooks":           "name sort order limit cursor",
	"GET /opens":              "key",
	"GET /uses":               "instance fingerprint",
	"GET /sightings":          "instance region tag user key holder fingerprint there recorded sort order limit cursor",
	"GET /access-map":         "region tag holder",
	"GET /work":               "state kind instance parent sort order limit cursor",
	"GET /work/:id/events":    "after",
	"GET /journal":            "target sort order limit cursor",
	"GET /surveys":            "region tag survey found work sort order limit cursor",
	"GET /today":              "reason instance key region urgency off new sort order limit cursor",
	"PUT /policy":             "check",
	"GET /restore-ready":      "tag",
	"DELETE /instances/:name": "forget",
	"GET /static-addresses":   "region",
	"GET /streams":            "instance open",
	"GET /images":             "region",
	"GET /sizes":              "region",
}

// Query are the parameters of a call's query.
func Query(o Operation) []string { return strings.Fields(queries[o.Method+" "+o.Path]) }

// routesOf makes Gin's routes of the table.
func (s *Server) routesOf(v1 *gin.RouterGroup) {
	for _, o := range s.operations() {
		var chain []gin.HandlerFunc
		if o.Role != "" {
			chain = append(chain, s.identify, s.require(o.Role))
		}
		if o.Costly {
			chain = append(chain, s.costly)
		}
		v1.Handle(o.Method, o.Path, append(chain, o.do)...)
	}
}

// Operations is every call of the API, for documents.
func Operations() []Operation { return (&Server{}).operations() }

// plainPath is a path with its parameters filled in, for tests and documents.
func (o Operation) plainPath(name string) string {
	parts := strings.Split(o.Path, "/")
	for n, p := range parts {
		if strings.HasPrefix(p, ":") {
			parts[n] = name
		}
	}
	return "/api/v1" + strings.Join(parts, "/")
}
