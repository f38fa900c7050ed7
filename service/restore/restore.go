package restore

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"plumlatch/core/access"
	"plumlatch/core/agentcalls"
	"plumlatch/core/comeback"
	"plumlatch/core/firstpassword"
	"plumlatch/core/keypair"
	"plumlatch/core/plaintext"
	"plumlatch/core/rotation"
	"plumlatch/core/routes"
	"plumlatch/core/wire"
	"plumlatch/reach"
	"plumlatch/service/cloud"
	"plumlatch/service/door"
	"plumlatch/service/store"
	"plumlatch/service/work"
)

// checked is what a check of a restore came to: wire.CheckResult.
type checked struct {
	Check string `json:"check"`
	Good  bool   `json:"good"`
	Said  string `json:"said"`
}

func (c checked) show() wire.CheckResult { return wire.CheckResult(c) }

// A restore lets people into an instance again whose private key is gone, by one
// of the routes of core/routes. Each route is a kind of work, whose table is made
// of the steps of the route's whole way (routes.Route.Way).

// restoring is the input of the work.
type restoring struct {
	Route string   `json:"route"`
	Why   string   `json:"why"` // why this route was chosen, in words
	NewID int64    `json:"new_id"`
	New   string   `json:"new"`
	Lost  []string `json:"lost,omitempty"` // names, for words
	// LostKeys are those keys, and what they counted as when the work was asked for.
	LostKeys []lostKey     `json:"lost_keys,omitempty"`
	NewWas   rotation.Mark `json:"new_was"`
	// ProofOf is the restore of many that this is a part of.
	ProofOf int64 `json:"proof_of,omitempty"`
	// RehearsalOf is the rehearsal that has it carried out on a copy; 0 for the way back in itself.
	RehearsalOf int64 `json:"rehearsal_of,omitempty"`
	// Login is set when the engineer's client has logged in with the new key, and has
	// signed a challenge of this work with it.
	Login     bool   `json:"login"`
	LoginFrom string `json:"login_from"`
	// Placed is set when somebody has added the lines by hand.
	Placed     bool   `json:"placed"`
	PlacedFile string `json:"placed_file"`
	PlacedWith string `json:"placed_with"`
	// Lent is set when the cloud was asked to lend a key.
	Lent bool `json:"lent,omitempty"`
	// Of a copy: how long the old one is kept, whether it is stopped for the image, and whether the image stays.
	KeepSeconds int64 `json:"keep_seconds,omitempty"`
	Still       bool  `json:"still,omitempty"`
	KeepImage   bool  `json:"keep_image,omitempty"`
	// Enable: services that do not come up on it are started and enabled by the client, which says for which copy, by the cloud's ID, that is done.
	Enable        bool     `json:"enable,omitempty"`
	EnabledOn     string   `json:"enabled_on,omitempty"`
	EnabledFailed []string `json:"enabled_failed,omitempty"`
	// Unlock: what is encrypted on the volume is opened on the rescue instance by the engineer's client.
	Unlock bool `json:"unlock,omitempty"`
	// Fetched is set when the engineer's client has copied files out.
	Fetched bool  `json:"fetched"`
	Files   int   `json:"files"`
	Bytes   int64 `json:"bytes"`
}

func (in restoring) Keys() (taken, added int64) { return 0, in.NewID }

// lostKey is a key that is to be withdrawn, by what it is and not by its name.
type lostKey struct {
	ID  int64         `json:"id"`
	Was rotation.Mark `json:"was"`
}

// fetchRoute copies files out of the volume and changes nothing on it: no way back
// in, but made of the same steps as the disk's.
var fetchRoute = routes.Route{Name: "fetch", Steps: []routes.Step{
	{Name: "rescue"}, {Name: "stop"}, {Name: "detach"}, {Name: "lend"}, {Name: "mount"}, {Name: "copy"},
	{Name: "unmount"}, {Name: "unlend"}, {Name: "return"}, {Name: "start"}, {Name: "dismiss"}, {Name: "tidy"},
}}

// restoreKept is what the steps keep.
type restoreKept struct {
	door.Edits
	Stood   bool      `json:"stood,omitempty"` // the new key's line was there before
	Restore *restored `json:"restore,omitempty"`
}

// Facts implements store.Factual.
func (d restoreKept) Facts() store.Facts {
	other := d.Restore.Rescue.CloudID
	if c := d.Restore.Copy; c != nil { // the one of the two that the ledger does not have
		other = c.CloudID
		if c.Moved {
			other = c.Old.CloudID
		}
	}
	return store.Facts{RescueCloudID: other, Volume: d.Restore.Volume}
}

// Opened makes what was not kept yet.
func (d *restoreKept) Opened() {
	if d.Restore == nil {
		d.Restore = &restored{}
	}
	if d.Restore.Asked == nil {
		d.Restore.Asked = map[string]bool{}
	}
	if d.Restore.Turns == nil {
		d.Restore.Turns = map[string]int{}
	}
}

// restoreJob is a restore in hand.
type restoreJob struct {
	door.Job[restoring, restoreKept]
	svc *Service
}

func (w *Service) restoreSteps() door.Family[*restoreJob] {
	return func() *restoreJob { return &restoreJob{svc: w} }
}

// restored is what they keep, beside what was edited.
type restored struct {
	Attempt int    `json:"attempt"`
	Was     string `json:"was"`     // its run state
	Address string `json:"address"` // before
	Volume  string `json:"volume,omitempty"`
	Device  string `json:"device,omitempty"`
	// Asked names the effects that the cloud was asked for and has not answered:
	// going back asks once more, so that none comes late.
	Asked map[string]bool `json:"asked,omitempty"`
	// Turns counts, for each step, how often it has begun to bring the volume home. A step that is done over goes
	// on counting: a cloud answers a token that it knows from memory, and moves nothing.
	Turns map[string]int `json:"turns,omitempty"`

	UserData string `json:"user_data,omitempty"` // before
	// DataSealed: it had a private key in it, and is kept sealed, as the work's key is.
	DataSealed bool   `json:"data_sealed,omitempty"`
	TextSet    bool   `json:"text_set,omitempty"`
	SetAsked   bool   `json:"set_asked,omitempty"` // the cloud was asked to set the new key by its agent
	SetEntry   string `json:"set_entry,omitempty"` // as the cloud calls that
	// Mark is on the lines between which its boot prints its host keys.
	Mark string `json:"mark,omitempty"`

	Rescue  rescueAt           `json:"rescue"`
	Before  []string           `json:"before,omitempty"` // disks of the rescue instance
	Disk    routes.BlockDevice `json:"disk"`
	Mounts  []mounted          `json:"mounts,omitempty"`
	Mapped  []string           `json:"mapped,omitempty"` // mappings that this work has made of the disk's encrypted parts and logical volumes
	Locked  []locked           `json:"locked,omitempty"` // the encrypted parts, and what each is opened as
	Open    int                `json:"open,omitempty"`   // how many of them were open at the last look
	Account routes.Account     `json:"account"`
	Added   reach.Added        `json:"added"`

	Copy      *copied    `json:"copy,omitempty"`
	Rehearsal *rehearsal `json:"rehearsal,omitempty"`

	// Home: the volume is back, and the instance was started; nothing of the cloud is left to take back.
	Home      bool       `json:"home,omitempty"`
	InAt      *time.Time `json:"in_at,omitempty"`
	Changed   []string   `json:"changed,omitempty"`
	Withdrawn []string   `json:"withdrawn,omitempty"`
	Checks    []checked  `json:"checks,omitempty"`
	Left      []string   `json:"left,omitempty"`
}

// rescueAt is the rescue instance that a piece of work uses.
type rescueAt struct {
	CloudID    string   `json:"cloud_id,omitempty"`
	InstanceID int64    `json:"instance_id,omitempty"` // of the ledger; 0 for one that was launched for the work
	Name       string   `json:"name,omitempty"`
	Size       string   `json:"size,omitempty"`
	Address    string   `json:"address,omitempty"`
	Port       int      `json:"port,omitempty"`
	User       string   `json:"user,omitempty"`
	HostKeys   [][]byte `json:"host_keys,omitempty"`
	Asked      bool     `json:"asked,omitempty"` // the cloud was asked to launch it
	Lines      []string `json:"lines,omitempty"` // placed on one that was there
	Gone       bool     `json:"gone,omitempty"`
	// Ends is when its account shuts, whoever forgets it.
	Ends     time.Time `json:"ends,omitzero"`
	UserData string    `json:"user_data,omitempty"`
	// Shared is the number of one that was launched for a restore of many; its
	// account opens to the key of that.
	Shared int64      `json:"shared,omitempty"`
	KeyOf  int64      `json:"key_of,omitempty"`
	HadAt  *time.Time `json:"had_at,omitempty"`
}

// mounted is a filesystem of the volume that we mounted.
type mounted struct {
	Device string `json:"device"`
	FSType string `json:"fs_type"`
	At     string `json:"at"`
}

// locked is an encrypted part of the volume: its device on the rescue instance, and the mapping that it is opened as.
type locked struct {
	Part    string `json:"part"`
	Device  string `json:"device"`
	Mapping string `json:"mapping"`
}

// Limits of a restore.
const (
	grantLimit  = 24 * time.Hour
	rescueEnds  = 4 * time.Hour // the end of what is opened for the work
	copyLimit   = 2 * time.Hour // for files to be copied out
	unlockLimit = time.Hour     // for an encrypted volume to be opened
	checkLimit  = 60 * time.Second
	volumeLimit = 5 * time.Minute
	knockEvery  = 200 * time.Millisecond
	knockGap    = 3 * time.Second
	ReadyEvery  = 30 * time.Minute // looking which ways back in are open
)

// restoreTable is every step that a route can name, by that name.
func (w *Service) restoreTable() map[string]work.Step {
	restoreOf := w.restoreSteps()
	return map[string]work.Step{
		"grant": {Title: "waiting for the holder of another key to add the new one",
			Do: restoreOf.Do((*restoreJob).byHand)},
		"lent": {Title: "waiting for a login by a key that the cloud lends",
			Do: restoreOf.Do((*restoreJob).byHand)},
		"agent": {Title: "having the agent there add the new key, by an operator's signature or as its owner's file trusts the service",
			Do: restoreOf.Do((*restoreJob).byAgent), Effects: []string{"add"}},
		"set-key": {Title: "having the cloud set the new key by its own agent", Do: restoreOf.Do((*restoreJob).setKey),
			Undo: restoreOf.Do((*restoreJob).unsetKey), Effects: []string{"set"}, UndoEffects: []string{"unset"}},
		"by-hand": {Title: "waiting for the new key to be added by hand", Do: restoreOf.Do((*restoreJob).byHand)},
		"place": {Title: "adding the new key by the service's own",
			Do: restoreOf.Do((*restoreJob).restorePlace), Effects: []string{"append"}},
		"stop": {Title: "stopping it", Do: restoreOf.Do((*restoreJob).stop),
			Undo: restoreOf.Do((*restoreJob).was), Effects: []string{"stop"}, UndoEffects: []string{"start", "stop"}},
		"set-text": {Title: "setting user data that adds the new key at boot",
			Do: restoreOf.Do((*restoreJob).text), Undo: restoreOf.Do((*restoreJob).textBack),
			Effects: []string{"set-text"}, UndoEffects: []string{"put-back"}},
		"start": {Title: "starting it", Do: restoreOf.Do((*restoreJob).start), Effects: []string{"start"}},
		"put-text-back": {Title: "putting its old user data back", Do: restoreOf.Do((*restoreJob).textBack),
			Effects: []string{"put-back"}},
		"rescue": {Title: "getting a rescue instance", Do: restoreOf.Do((*restoreJob).rescue),
			Undo: restoreOf.Do((*restoreJob).dismiss), Effects: []string{"launch", "append"},
			UndoEffects: []string{"remove", "take-out"}},
		"detach": {Title: "detaching its root volume", Do: restoreOf.Do((*restoreJob).detach),
			Undo: restoreOf.Do((*restoreJob).home), Effects: []string{"detach"}, UndoEffects: []string{"attach"}},
		"lend": {Title: "attaching the volume to the rescue instance", Do: restoreOf.Do((*restoreJob).lend),
			Undo: restoreOf.Do((*restoreJob).lendBack), Effects: []string{"attach"}, UndoEffects: []string{"detach"}},
		"mount": {Title: "finding the right filesystem, and mounting it", Do: restoreOf.Do((*restoreJob).mount),
			Undo: restoreOf.Do((*restoreJob).unmount), Effects: []string{"mount"}, UndoEffects: []string{"unmount"}},
		"edit": {Title: "adding the new key beneath the mount", Do: restoreOf.Do((*restoreJob).restoreEdit),
			Undo: restoreOf.Do((*restoreJob).editBack), Effects: []string{"append"}, UndoEffects: []string{"take-out"}},
		"copy":    {Title: "waiting for files to be copied out", Do: restoreOf.Do((*restoreJob).copied)},
		"unmount": {Title: "unmounting it", Do: restoreOf.Do((*restoreJob).unmount), Effects: []string{"unmount"}},
		"unlend": {Title: "detaching the volume from the rescue instance", Do: restoreOf.Do((*restoreJob).unlend),
			Effects: []string{"detach"}},
		"return": {Title: "attaching the volume under its old name", Do: restoreOf.Do((*restoreJob).giveBack),
			Effects: []string{"attach"}},
		"dismiss": {Title: "giving the rescue instance up", Do: restoreOf.Do((*restoreJob).dismiss),
			Effects: []string{"remove", "take-out"}},

		"image": {Title: "making an image of it", Do: restoreOf.Do((*restoreJob).makeImage), Undo: restoreOf.Do((*restoreJob).imageBack),
			Effects: []string{"make"}, UndoEffects: []string{"remove-image"}},
		"again": {Title: "starting it again", Do: restoreOf.Do((*restoreJob).again), Effects: []string{"start"}},
		"launch": {Title: "launching a copy of it, shut", Do: restoreOf.Do((*restoreJob).launchCopy), Undo: restoreOf.Do((*restoreJob).copyBack),
			Effects: []string{"launch"}, UndoEffects: []string{"remove"}},
		"known":   {Title: "learning the copy's host key, and whether it takes the new key", Do: restoreOf.Do((*restoreJob).knownCopy)},
		"enable":  {Title: "starting and enabling on the copy what does not come up", Do: restoreOf.Do((*restoreJob).enable)},
		"compare": {Title: "comparing the copy with it", Do: restoreOf.Do((*restoreJob).compare)},
		"move": {Title: "giving its place and its address to the copy", Do: restoreOf.Do((*restoreJob).takePlace),
			Undo: restoreOf.Do((*restoreJob).placeBack), Effects: []string{"ports", "outbound", "move"}, UndoEffects: []string{"move"}},
		"rules": {Title: "giving the copy its inbound rules", Do: restoreOf.Do((*restoreJob).rules),
			Effects: []string{"admit", "groups", "unadmit"}},

		"accept": {Title: "asking the server whether it takes the new key", Do: restoreOf.Do((*restoreJob).accepted)},
		"login":  {Title: "waiting for a login with the new key", Do: restoreOf.Do((*restoreJob).login)},
		"withdraw": {Title: "withdrawing the lost key", Do: restoreOf.Do((*restoreJob).withdraw),
			Effects: door.Takes, NoReturn: true},
		"checks": {Title: "running the instance's own checks", Do: restoreOf.Do((*restoreJob).checks), NoReturn: true},
		"rest": {Title: "bringing it back into the run state that it had", Do: restoreOf.Do((*restoreJob).rest),
			Effects: []string{"stop"}, NoReturn: true},
		"tidy": {Title: "seeing that nothing is left open", Do: restoreOf.Do((*restoreJob).tidy), NoReturn: true},
	}
}

// Kinds makes a kind of work of each route.
func (w *Service) Kinds() []*door.Kind {
	restoreOf := w.restoreSteps()
	steps := w.restoreTable()
	var out []*door.Kind
	for _, route := range append(routes.All(), fetchRoute) {
		k := &door.Kind{Restores: true, WordAt: "look", Kind: &work.Kind{Name: "restore-" + route.Name, Action: "access.restore",
			Changing: true, Beside: func(ctx context.Context, r *work.Run) { w.knocking(ctx, r) },
			End: restoreOf.End((*restoreJob).endRestore),
			Steps: []work.Step{{Name: "look", Title: "looking at what is there",
				Do: restoreOf.Do((*restoreJob).restoreLook), Undo: restoreOf.Do((*restoreJob).lookBack),
				UndoEffects: []string{"take-out"}}}}}
		way := route.Way()
		if route.Name == fetchRoute.Name {
			way = route.Steps
		}
		for _, s := range way {
			step, ok := steps[s.Name]
			if !ok {
				// at start, in every test
				panic("route " + route.Name + " has a step that nobody carries out: " + s.Name)
			}
			step.Name = s.Name
			switch route.Name {
			case fetchRoute.Name:
				step = w.forFetching(step)
			case copyRoute:
				step = w.forCopying(step)
			}
			k.Steps = append(k.Steps, step)
		}
		if route.Name == fetchRoute.Name || route.Name == copyRoute {
			k.Steps[0].Undo, k.Steps[0].UndoEffects = nil, nil // no line was added to it
		}
		out = append(out, k)
	}
	return append(out, w.keptKind(), w.rehearsalKind())
}

// forFetching is a step where nobody is to be let in: an instance that did not run
// is not started.
func (w *Service) forFetching(s work.Step) work.Step {
	restoreOf := w.restoreSteps()
	switch s.Name {
	case "start":
		s.Skip = restoreOf.Skip(func(r *restoreJob) bool { return r.D.Restore.Was == string(cloud.Stopped) })
	case "stop":
		s.UndoEffects = []string{"start"}
	}
	return s
}

// forCopying is a step of the way by a copy, which goes back up to its end: the old one is there all the while.
func (w *Service) forCopying(s work.Step) work.Step {
	restoreOf := w.restoreSteps()
	switch s.Name {
	case "stop", "again": // for the image alone, if that was asked for
		s.Skip = restoreOf.Skip(func(r *restoreJob) bool { return !r.In.Still || r.D.Restore.Was == string(cloud.Stopped) })
		s.UndoEffects = slices.DeleteFunc(slices.Clone(s.UndoEffects), func(e string) bool { return e == "stop" })
	case "enable":
		s.Skip = restoreOf.Skip(func(r *restoreJob) bool { return !r.In.Enable || r.D.Restore.Was != string(cloud.Running) })
	case "rest":
		s.Title = "stopping the old one"
		s.Do, s.Undo, s.UndoEffects = restoreOf.Do((*restoreJob).oldRests), restoreOf.Do((*restoreJob).oldRuns), []string{"start"}
	}
	s.NoReturn = s.Name == "tidy" // from then on the work that keeps the old one is the way back
	return s
}

// RoutesOf compares the ways back into an instance. With ask the server is asked
// now, without any private key, which keys it takes.
func (w *Service) RoutesOf(ctx context.Context, name string, ask bool) (wire.Routes, []routes.Offer, error) {
	rows, err := w.Store.RestoreRows(ctx, name, "", 0, 1)
	if err != nil {
		return wire.Routes{}, nil, err
	}
	if len(rows) == 0 {
		return wire.Routes{}, nil, store.ErrNotFound
	}
	row := rows[0]
	c, err := w.CloudFacts(ctx, []string{row.Region})
	if err != nil {
		return wire.Routes{}, nil, err
	}
	rescues := map[string][]routes.Rescue{}
	f := w.FactsOf(ctx, row, c, ask, rescues)
	if ask && f.InCloud && f.Gone == "" {
		w.askRules(ctx, row, &f)
	}
	// a door that no rule leads to says nothing, slowly
	if shut, _ := f.Shut(); ask && shut == "" && row.VanishedAt == nil {
		if err := w.askAll(ctx, &row); err != nil {
			return wire.Routes{}, nil, err
		}
		within, blind := w.tryOwn(ctx, &row)
		asked := w.FactsOf(ctx, row, c, ask, rescues)
		asked.RulesSeen, asked.Rules, asked.Within, asked.Blind = f.RulesSeen, f.Rules, within, blind
		f = asked
	}
	if f.Told, f.ToldBy, err = w.told(ctx, row.ID); err != nil {
		return wire.Routes{}, nil, err
	}
	out := wire.Routes{Instance: row.Name, LoginUser: row.LoginUser, State: f.State, Lost: lostOf(row),
		Offers: []wire.RouteOffer{}}
	if in, known := c.all[row.CloudID]; known && !row.Adopted {
		out.Machine = &wire.Machine{CloudID: in.ID, Name: plaintext.Line(plaintext.Cut(in.Name, 100)), Volume: in.RootVolume}
		if !in.Launched.IsZero() {
			at := in.Launched.UTC()
			out.Machine.Launched = &at
		}
	}
	offers := routes.Compare(f)
	for _, o := range offers {
		out.Offers = append(out.Offers, showOffer(o))
	}
	return out, offers, nil
}

// askRules asks the cloud whom the inbound rules let in now. What is not seen closes nothing.
func (w *Service) askRules(ctx context.Context, row store.RestoreRow, f *routes.Facts) {
	groups, err := w.Clouds.Named(row.Cloud).Groups(ctx, row.CloudID)
	if err != nil {
		return
	}
	f.RulesSeen, f.Rules = true, nil
	for _, g := range groups {
		for _, rule := range g.SSH() {
			f.Rules = append(f.Rules, rule.From)
		}
	}
}

func showOffer(o routes.Offer) wire.RouteOffer {
	out := wire.RouteOffer{Route: o.Route, About: o.About, Open: o.Open, UntilIn: o.UntilIn.Seconds(),
		Down: o.Down.Seconds(), People: o.People, Sure: o.Sure, Steps: o.Steps,
		Lacking: []wire.Lack{}, Charges: []wire.Charge{}, Changes: append([]string{}, o.Changes...),
		CanBeLost: append([]string{}, o.CanBeLost...), ToCheck: append([]string{}, o.ToCheck...)}
	out.Rehearsable = slices.Contains(routes.Rehearsable, o.Route)
	if r := o.Rehearsed; r != nil {
		out.Rehearsed = &wire.Rehearsed{Route: r.Route, Work: r.Work, At: r.At.UTC(), Good: r.Good, InSeconds: r.In.Seconds(),
			DownSeconds: r.Down.Seconds(), Said: r.Said}
	}
	for _, l := range o.Lacking {
		out.Lacking = append(out.Lacking, wire.Lack(l))
	}
	for _, c := range o.Charges {
		out.Charges = append(out.Charges, wire.Charge(c))
	}
	return out
}

// lostOf are the keys of an instance that are lost or exposed.
func lostOf(row store.RestoreRow) []string {
	out := []string{}
	for _, k := range row.Keys {
		if !k.Steward && (k.State == access.Lost || k.State == access.Exposed) {
			out = append(out, k.Key)
		}
	}
	return out
}

// askAll asks the server about every recorded key, and keeps the answers.
func (w *Service) askAll(ctx context.Context, row *store.RestoreRow) error {
	i, err := w.Store.InstanceByID(ctx, row.ID)
	if err != nil || i.State != "running" {
		return err
	}
	all, err := w.Store.AccessesOf(ctx, row.ID)
	if err != nil {
		return err
	}
	t, err := w.Target(ctx, i)
	if err != nil || len(t.HostKeys) == 0 {
		return err
	}
	slices.SortStableFunc(all, door.Likeliest)
	var blobs [][]byte
	for _, a := range all {
		blobs = append(blobs, a.Blob)
	}
	var kept []store.Asked
	for n, p := range w.AskWithin(ctx, door.Soon, t, blobs) {
		kept = append(kept, store.Asked{AccessID: all[n].ID, Answer: string(p.Answer), Detail: p.Detail,
			From: p.Vantage})
		for k := range row.Keys {
			if row.Keys[k].ID != all[n].ID || p.Wait > 0 { // not asked, for our own reason: what is known stays
				continue
			}
			row.Keys[k].At, row.Keys[k].Old, row.Keys[k].Against = time.Now(), false, ""
			row.Keys[k].Standing = access.Accepted.String()
			if p.Answer != reach.Accepted {
				row.Keys[k].Standing, row.Keys[k].Against = "none", string(p.Answer)
			}
		}
	}
	return w.Store.Probed(ctx, kept...)
}

// tryOwn logs in with the service's own key, where the server takes it: accepted is
// not logged in, and here the private half is at hand. What the machine shows of itself is read on the way; else blind says why not.
func (w *Service) tryOwn(ctx context.Context, row *store.RestoreRow) (within *comeback.Machine, blind string) {
	n := slices.IndexFunc(row.Keys, func(k store.RestoreKey) bool {
		return k.Steward &&
			k.Standing == access.Accepted.String()
	})
	if n < 0 {
		return nil, "the service's own key does not open it"
	}
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	i, err := w.Store.InstanceByID(ctx, row.ID)
	if err == nil {
		var files reach.Files
		var done func()
		if files, done, err = w.Steward(ctx, i); err == nil {
			defer done()
			m := reach.ReadMachine(files)
			return &m, ""
		}
	}
	row.Keys[n].Standing, row.Keys[n].Against = "none", door.Words(err)
	return nil, door.Words(err)
}

// toldFor is how long what an engineer's client saw of a machine is told of it.
const toldFor = 24 * time.Hour

// told is what an engineer's client saw last of a machine, and by whom and when; "" where that is nothing, or too long ago.
func (w *Service) told(ctx context.Context, instanceID int64) (comeback.Machine, string, error) {
	seen, err := w.Store.MachineTold(ctx, instanceID, toldFor)
	if err != nil || seen.By == "" {
		return comeback.Machine{}, "", err
	}
	m := comeback.Machine{Running: seen.Machine.Running, Enabled: seen.Machine.Enabled, Mounted: seen.Machine.Mounted, Written: seen.Machine.Written}
	if seen.Machine.Ports != nil {
		m.Ports = []comeback.Port{}
	}
	for _, p := range seen.Machine.Ports {
		m.Ports = append(m.Ports, comeback.Port(p))
	}
	return m, fmt.Sprintf("%s, %s", seen.By, routes.Ago(seen.Age)), nil
}

// CloudSide is what the cloud says of its instances, by their IDs there.
type CloudSide struct {
	all   map[string]cloud.Instance
	terms map[string]cloud.Terms // by the cloud's name
}

// CloudFacts asks the cloud what a comparison of routes needs, once for each region.
func (w *Service) CloudFacts(ctx context.Context, regions []string) (CloudSide, error) {
	c := CloudSide{all: map[string]cloud.Instance{}, terms: map[string]cloud.Terms{}}
	for _, region := range regions {
		if region == "" {
			continue
		}
		of, err := w.Clouds.In(ctx, region)
		if err != nil {
			return c, err
		}
		if _, asked := c.terms[of.Name()]; !asked {
			if c.terms[of.Name()], err = of.Terms(ctx); err != nil {
				return c, err
			}
		}
		list, err := of.List(ctx, region)
		if err != nil {
			return c, err
		}
		for _, in := range list {
			c.all[in.ID] = in
		}
	}
	return c, nil
}

// FactsOf puts together what is known of an instance. rescues keeps the rescue
// instances of each zone that was looked at.
func (w *Service) FactsOf(ctx context.Context, row store.RestoreRow, c CloudSide, measured bool,
	rescues map[string][]routes.Rescue) routes.Facts {
	p, terms := w.Clouds.Named(row.Cloud).Properties(), c.terms[row.Cloud]
	f := routes.Facts{Instance: row.Name, LoginUser: row.LoginUser, State: row.State, InCloud: !row.Adopted,
		Now: time.Now(), Measured: measured,
		BootText: p.BootText, Volumes: p.Volumes, Zone: row.Zone, RescueImage: p.RescueImage, Service: w.Reach.Source,
		MissingRight: map[string]bool{},
		Change:       terms.Change, Currency: terms.Currency, RescueHour: terms.InstanceHour[p.RescueSize],
		Rehearsed: rehearsedOf(row.Rehearsed), Alike: rehearsedOf(row.Alike),
		Services: len(row.Checks) > 0, Image: row.Image, HostKeys: row.Pinned, Desktop: row.Desktop}
	if row.HasAgent {
		f.Agent = &routes.Agent{Connected: row.AgentConnected, Edit: slices.Contains(strings.Fields(row.AgentVerbs), string(agentcalls.Edit)),
			Frozen: row.AgentFrozen, Trusting: row.AgentTrust == string(agentcalls.ByService)}
	}
	if p.Images != nil {
		f.Images, f.ImagesRunning, f.Shuts, f.ShutsOut = true, p.Images.Running, p.Images.Shuts, p.Images.ShutsOut
	}
	if p.Places != nil {
		f.Sets = &routes.Sets{Images: p.Places.Images, Takes: p.Places.Takes, Grant: p.Places.Grant, Granted: p.Places.Granted}
	}
	if p.Adds != nil {
		f.Sets = &routes.Sets{Images: p.Adds.Images, Takes: p.Adds.Takes, Grant: p.Adds.Grant, Granted: p.Adds.Granted, Once: true}
	}
	if p.Lends != nil {
		f.Lends, f.LendImages, f.LendStays = p.Lends.For, p.Lends.Images, p.Lends.Stays
	}
	if row.Adopted {
		f.State = "running"
	}
	in, known := c.all[row.CloudID]
	switch {
	case row.Phase != store.Ready:
		f.Gone = "it is " + string(row.Phase)
	case !row.Adopted && !known:
		f.Gone = "the cloud does not know it any more"
	case known:
		f.State, f.Static, f.StopDestroys, f.RootVolume, f.Zone = string(in.State), in.Static, in.StopDestroys,
			in.RootVolume, in.Zone
		f.Fixed, f.Asks = p.NoStaticAddresses, plaintext.Line(plaintext.Cut(in.Asks, 300))
		if p.Images != nil {
			f.ImageTime = time.Duration(in.DiskGB) * p.Images.PerGB
		}
		f.KeepWeek = terms.VolumeHourGB * float64(in.DiskGB) * 24 * 7
		for _, right := range in.MissingRights {
			f.MissingRight[string(right)] = true
		}
		place := in.Region + "/" + in.Zone
		if _, ok := rescues[place]; !ok {
			rescues[place] = nil
			if all, err := w.Store.Rescues(ctx, in.Region, in.Zone); err == nil {
				for _, r := range all {
					rescues[place] = append(rescues[place], routes.Rescue{Name: r.Name, Busy: r.RescueFor})
				}
			}
		}
		for _, r := range rescues[place] {
			if r.Name != row.Name {
				f.Rescues = append(f.Rescues, r)
			}
		}
	}
	for _, k := range row.Keys {
		key := routes.Key{Name: k.Key, Holder: k.Holder, Person: k.Sort != "machine" &&
			k.Sort != "job", At: k.At, Old: k.Old,
			Accepted: (k.Standing == access.Accepted.String() || k.Standing == access.Proven.String()) &&
				k.Against == ""}
		switch {
		case k.State == access.Lost || k.State == access.Exposed:
			key.State = k.State
		case k.Retired:
			key.State = "retired"
		}
		if k.Steward && row.Steward {
			key.Accepted = key.Accepted && (measured || !row.StewardOut)
			f.Steward = &key
		} else if !k.Steward {
			f.Keys = append(f.Keys, key)
		}
	}
	for _, text := range row.Rules {
		if p, err := netip.ParsePrefix(text); err == nil {
			f.RulesSeen, f.Rules = true, append(f.Rules, p)
		}
	}
	if row.OfferedAt != nil {
		f.OfferedAt = *row.OfferedAt
		for _, m := range row.Offered {
			if m == "password" || m == "keyboard-interactive" || m == "none" {
				f.Offered = append(f.Offered, m)
			}
		}
	}
	return f
}

// Restore begins to carry out a way back in. FieldError, store.ErrInProgress, store.ErrReused.
func (w *Service) Restore(ctx context.Context, by store.Actor, once store.Once, i store.Instance,
	r wire.Restore) (store.Work, error) {
	if work, again, err := w.WorkDone(ctx, once); again || err != nil {
		return work, err
	}
	n, err := w.PlanRestore(ctx, i, r, 0, 0)
	if err != nil {
		return store.Work{}, err
	}
	return w.BeginOf(ctx, by, once, i, n)
}

// PlanRestore makes the work, with the new key of this ID if it is not 0. FieldError.
func (w *Service) PlanRestore(ctx context.Context, i store.Instance, r wire.Restore, newID,
	proofOf int64) (store.NewWork, error) {
	k, err := w.KeyOf(ctx, r.New, newID)
	if errors.Is(err, store.ErrNotFound) {
		err = w.UnknownKey(ctx, r.New)
		if e, ok := errors.AsType[door.FieldError](err); ok {
			e.Field = "new"
			err = e
		}
	}
	switch {
	case err != nil:
	case i.Desktop:
		err = w.passwordKey(ctx, k)
	default:
		err = w.Placeable(ctx, i, k)
	}
	if err == nil {
		err = w.NotAtHand(ctx, i, k.ID)
	}
	if err != nil {
		return store.NewWork{}, err
	}
	compared, offers, err := w.RoutesOf(ctx, i.Name, true)
	if err != nil {
		return store.NewWork{}, err
	}
	if slices.ContainsFunc(compared.Lost, func(n string) bool { return strings.EqualFold(n, k.Name) }) {
		return store.NewWork{}, door.FieldError{Field: "new", Problem: k.Name + " is the lost key itself"}
	}
	wanted := r.Route
	if r.Route == fetchRoute.Name {
		wanted = "disk"
	}
	if proofOf != 0 { // one of many: nobody stands by each
		offers = routes.Alone(offers)
	}
	offer, err := chooseRoute(offers, wanted, i.Name)
	if err != nil {
		return store.NewWork{}, err
	}
	if r.Unlock && offer.Route != "disk" {
		return store.NewWork{}, door.FieldError{Field: "unlock", Problem: "a volume is opened by the routes disk and fetch alone, and this is " + offer.Route}
	}
	if r.Route == fetchRoute.Name {
		in := restoring{Route: r.Route, Unlock: r.Unlock, Why: "asked for: files are copied out, and nothing is changed",
			NewID: k.ID, New: k.Name}
		return w.Begun(w.Named("restore-fetch"), "copy files out of "+i.Name, door.Token(26), i,
			fmt.Sprintf("copy files out of its root volume, by the holder of %s", k.Name), in), nil
	}
	why := "asked for"
	if r.Route == "" {
		why = "the best of those that were open"
	}
	var others []string
	for _, o := range offers {
		if o.Open && o.Route != offer.Route {
			others = append(others, o.Route)
		}
	}
	if len(others) > 0 {
		why += "; open besides: " + strings.Join(others, ", ")
	}
	in := restoring{Route: offer.Route, Why: why, NewID: k.ID, New: k.Name, NewWas: door.MarkOf(k), ProofOf: proofOf, Unlock: r.Unlock}
	if offer.Route == copyRoute {
		in.KeepSeconds, in.Still, in.KeepImage, in.Enable = r.KeepSeconds, r.Still, r.KeepImage, r.Enable
		if in.KeepSeconds == 0 {
			in.KeepSeconds = int64(keepUsually / time.Second)
		}
	}
	if err := checkKeep(r, offer.Route); err != nil {
		return store.NewWork{}, err
	}
	rows, err := w.Store.AccessesOf(ctx, i.ID)
	if err != nil {
		return store.NewWork{}, err
	}
	for _, a := range rows {
		if !a.Steward && a.LoginUser == i.LoginUser && (a.KeyState == access.Lost || a.KeyState == access.Exposed) {
			in.Lost = append(in.Lost, a.Key)
			in.LostKeys = append(in.LostKeys,
				lostKey{a.KeyID, rotation.Mark{Holder: a.HolderSort, State: a.OutOfUse()}})
		}
	}
	intent := fmt.Sprintf("let people in again with %s, by the route %s", k.Name, offer.Route)
	return w.Begun(w.Named("restore-"+offer.Route), fmt.Sprintf("restore access to %s, by %s", i.Name, offer.Route),
		door.Token(26), i, intent, in), nil
}

// passwordKey checks that a first password can be encrypted to a key. FieldError.
func (w *Service) passwordKey(ctx context.Context, k store.Key) error {
	if err := firstpassword.Check(k.Public()); err != nil {
		return door.FieldError{Field: "new", Problem: fmt.Sprintf("it has no SSH: its first password is encrypted to a key, and with %s that "+
			"cannot be: %s", k.Name, err)}
	}
	return w.Allowed(ctx, k, "new")
}

// checkKeep checks what is said of a copy alone. FieldError.
func checkKeep(r wire.Restore, route string) error {
	switch {
	case (r.KeepSeconds != 0 || r.Still || r.KeepImage || r.Enable) && route != copyRoute:
		return door.FieldError{Field: "keep_seconds", Problem: "it is of the route " + copyRoute + " alone, and this is " + route}
	case r.KeepSeconds < 0 || time.Duration(r.KeepSeconds) > keepAtMost/time.Second:
		return door.FieldError{Field: "keep_seconds", Problem: "the old one is kept for at most " + door.SpanWords(keepAtMost)}
	}
	return nil
}

// chooseRoute finds the offer of a route, or the best that is open. FieldError.
func chooseRoute(offers []routes.Offer, name, instance string) (routes.Offer, error) {
	var open []string
	for _, o := range offers {
		if o.Open {
			open = append(open, o.Route)
		}
	}
	if name == "" {
		if len(open) == 0 {
			return routes.Offer{}, door.FieldError{Field: "route",
				Problem: fmt.Sprintf("no way back into %s is open; \"plumlatch restore %s\" says what each lacks",
					instance, instance)}
		}
		return offers[0], nil
	}
	n := slices.IndexFunc(offers, func(o routes.Offer) bool { return o.Route == name })
	if n < 0 {
		return routes.Offer{}, door.FieldError{Field: "route", Problem: "there is no such route", Choices: open}
	}
	if o := offers[n]; !o.Open {
		return o, door.FieldError{Field: "route", Problem: fmt.Sprintf("%s is not open: %s", name, lacks(o)), Choices: open}
	}
	return offers[n], nil
}

// Ready says, of every instance with a tag, which ways back in are open today by
// what is recorded, and keeps it for today's list.
func (w *Service) Ready(ctx context.Context, tag string) ([]wire.ReadyRow, error) {
	regions, err := w.Clouds.Regions(ctx)
	if err != nil {
		return nil, err
	}
	var names []string
	for _, r := range regions {
		names = append(names, r.Name)
	}
	c, err := w.CloudFacts(ctx, names)
	if err != nil {
		return nil, err
	}
	out := []wire.ReadyRow{}
	after := int64(0)
	const atOnce = 1000
	rescues := map[string][]routes.Rescue{}
	for {
		rows, err := w.Store.RestoreRows(ctx, "", tag, after, atOnce)
		if err != nil {
			return nil, err
		}
		var keep []store.WaysBack
		for _, row := range rows {
			after = row.ID
			f := w.FactsOf(ctx, row, c, false, rescues)
			ready := wire.ReadyRow{Instance: row.Name, Region: row.Region, State: f.State, Open: []string{}, Desktop: f.Desktop, Rehearsed: []wire.Rehearsed{}}
			if f.Desktop {
				for _, o := range routes.Compare(f) {
					if o.Open {
						ready.Open, ready.UntilIn, ready.Down, ready.Sure = append(ready.Open, o.Route), o.UntilIn.Seconds(), o.Down.Seconds(), o.Sure
					}
				}
				out = append(out, ready)
				continue
			}
			for _, r := range row.Rehearsed {
				ready.Rehearsed = append(ready.Rehearsed, showRehearsed(r))
			}
			for _, o := range routes.Compare(f) {
				if o.Open && len(ready.Open) == 0 {
					ready.UntilIn, ready.Down, ready.Sure = o.UntilIn.Seconds(), o.Down.Seconds(), o.Sure
				}
				if o.Open {
					ready.Open = append(ready.Open, o.Route)
				} else if len(ready.Open) == 0 {
					for _, l := range o.Lacking {
						ready.Lacking = append(ready.Lacking,
							wire.Lack{What: o.Route + ": " + l.What, Command: l.Command})
					}
				}
			}
			if len(ready.Open) > 0 {
				ready.Lacking = nil
			}
			out = append(out, ready)
			if row.Phase == store.Ready {
				keep = append(keep, store.WaysBack{InstanceID: row.ID, Open: ready.Open})
			}
		}
		if err := w.Store.KeepWaysBack(ctx, keep); err != nil {
			return nil, err
		}
		if len(rows) < atOnce {
			return out, nil
		}
	}
}

// RestoreLines are what the holder of another key adds by hand. store.ErrWorkState.
func (w *Service) RestoreLines(ctx context.Context, work store.Work) (wire.RestoreLines, error) {
	if !w.KindOf(work.Kind).Restores || work.Over() || work.Back || work.CancelAsked {
		return wire.RestoreLines{}, store.ErrWorkState
	}
	var in restoring
	if err := door.Decode(work.Input, &in); err != nil {
		return wire.RestoreLines{}, err
	}
	i, err := w.Store.InstanceByID(ctx, work.InstanceID)
	if err != nil {
		return wire.RestoreLines{}, err
	}
	lines, err := w.linesFor(ctx, i, in.NewID)
	return wire.RestoreLines{Work: work.ID, Instance: i.Name, LoginUser: i.LoginUser, Key: in.New, Lines: lines,
		Files: door.FilesOf(i), Route: in.Route}, err
}

// ReportPlaced keeps somebody's word that the lines stand; the server is asked
// next. store.ErrWorkState.
func (w *Service) ReportPlaced(ctx context.Context, by store.Actor, work store.Work, p wire.PlacedReport) error {
	if !w.KindOf(work.Kind).Restores || work.Over() || work.Back || work.CancelAsked || p.File == "" ||
		len(p.File) > 4096 || plaintext.HasControl(p.File) {
		return store.ErrWorkState
	}
	err := w.Store.Tell(ctx, work.ID, map[string]any{"placed": true, "placed_file": p.File,
		"placed_with": plaintext.Line(plaintext.Cut(p.With, 100))}, by.Operator+
		" has added the new key's line, from "+by.Address)
	w.Look()
	return err
}

// RescueDoor tells where an engineer's client opens what is encrypted on a volume, and copies files out of it. store.ErrWorkState.
func (w *Service) RescueDoor(_ context.Context, work store.Work) (out wire.RescueDoor, err error) {
	if work.Kind != "restore-fetch" && work.Kind != "restore-disk" || work.Over() || work.Back || work.CancelAsked {
		return out, store.ErrWorkState
	}
	var in restoring
	var d restoreKept
	if err := errors.Join(door.Decode(work.Input, &in), door.Decode(work.Data, &d)); err != nil || d.Restore == nil {
		return out, errors.Join(err, store.ErrWorkState)
	}
	if in.Route != fetchRoute.Name && !in.Unlock { // its client is not let in
		return out, store.ErrWorkState
	}
	x := d.Restore
	out = wire.RescueDoor{Ready: work.At == "copy" && len(x.Mounts) > 0, Name: x.Rescue.Name, Address: x.Rescue.Address, Port: x.Rescue.Port,
		User: x.Rescue.User, HostKeys: []string{}, Key: in.New, Locked: []wire.LockedPart{}}
	for _, blob := range x.Rescue.HostKeys {
		out.HostKeys = append(out.HostKeys, keypair.Public{Blob: blob}.Line())
	}
	if len(x.Mounts) > 0 {
		out.Mount = x.Mounts[0].At
	}
	if work.At == "mount" && work.WaitsCode == wire.WaitsHands {
		for _, l := range x.Locked {
			out.Locked = append(out.Locked, wire.LockedPart{Device: l.Device, Mapping: l.Mapping})
		}
	}
	return out, nil
}

// ReportFetched keeps a client's word that it has copied what it wanted. store.ErrWorkState.
func (w *Service) ReportFetched(ctx context.Context, by store.Actor, work store.Work, f wire.Fetched) error {
	if work.Kind != "restore-fetch" || work.Over() || f.Files < 0 || f.Bytes < 0 {
		return store.ErrWorkState
	}
	err := w.Store.Tell(ctx, work.ID, map[string]any{"fetched": true, "files": f.Files, "bytes": f.Bytes},
		fmt.Sprintf("%s has copied %s, from %s", by.Operator, door.Plural(f.Files, "file"), by.Address))
	w.Look()
	return err
}
