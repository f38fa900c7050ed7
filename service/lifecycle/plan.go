package lifecycle

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"plumlatch/core/agentcalls"
	"plumlatch/core/authkeys"
	"plumlatch/core/cloudconfig"
	"plumlatch/core/firstpassword"
	"plumlatch/core/keylists"
	"plumlatch/core/keypair"
	"plumlatch/core/names"
	"plumlatch/core/plaintext"
	"plumlatch/core/wire"
	"plumlatch/reach"
	"plumlatch/service/cloud"
	"plumlatch/service/door"
	"plumlatch/service/store"
)

// Launch records the launch as work. A request that was done already is
// answered with its instance. Errors: FieldError, store.ErrNameTaken, store.ErrReused.
func (w *Service) Launch(ctx context.Context, by store.Actor, once store.Once, r LaunchRequest) (store.Instance,
	[]string, error) {
	// Before anything else: what has changed since the first time does not matter.
	if i, again, err := w.Replayed(ctx, w.Store.Seen(ctx, once)); again || err != nil {
		return i, nil, err
	}
	p, err := w.Plan(ctx, r)
	if err != nil {
		return store.Instance{}, nil, err
	}
	n := store.NewInstance{
		Instance: store.Instance{
			Name: r.Name, Alias: p.alias, Cloud: p.cloud.Name(), Region: r.Region, Zone: r.Zone, Image: r.Image,
			Size: r.Size, DiskGB: r.DiskGB, Tags: r.Tags,
			LoginUser: p.Image.LoginUser, UserData: p.UserData, Phase: store.Launching,
			State: string(cloud.Pending), Port: 22, Desktop: p.Image.FirstPassword,
		},
	}
	if p.steward != nil {
		sealed, err := w.Encrypt(ctx, p.steward)
		if err != nil {
			return store.Instance{}, nil, err
		}
		n.Steward, n.StewardSealed = p.steward.Public, sealed
	}
	switch { // as clouds show it: the entry of their list, or the first key of the launch
	case r.CloudKey != "":
		n.KeyLabel = r.CloudKey
	case len(p.Keys) > 0:
		n.KeyLabel = p.Keys[0].Name
	}
	var names []string
	for _, k := range p.Keys {
		if !n.Desktop { // nobody places it there: its first password is encrypted to it
			n.KeyIDs = append(n.KeyIDs, k.ID)
		}
		names = append(names, k.Name)
	}
	if n.Desktop {
		n.Port, n.Password = desktopPort, p.password
	}
	with := "with no key"
	if r.CloudKey != "" {
		names = append(names, "what the cloud lists as "+r.CloudKey)
	}
	if len(names) > 0 {
		with = "with " + strings.Join(names, ", ")
	}
	n.Work = w.Begun(w.Named("launch"), "launch "+r.Name, door.Token(26), n.Instance,
		fmt.Sprintf("launch %s, %s in %s %s", r.Image, r.Size, r.Region, with), p.static)
	i, err := w.Store.AddInstance(ctx, by, once, n)
	if i, again, err := w.Replayed(ctx, err); again || err != nil {
		return i, p.Warnings, err
	}
	w.Look()
	return i, p.Warnings, err
}

// Change begins to stop, start or remove an instance at rest, by the phase
// that stands for it. forget has a removal leave the cloud's instance alone. store.ErrInProgress, or a
// FieldError for one that is in no state for it.
func (w *Service) Change(ctx context.Context, by store.Actor, once store.Once, i store.Instance,
	phase store.Phase, forget bool) (store.Instance, error) {
	if i, again, err := w.Replayed(ctx, w.Store.Seen(ctx, once)); again || err != nil {
		return i, err
	}
	k := w.ByPhase(phase)
	switch {
	case i.Adopted && phase != store.Removing:
		return store.Instance{}, door.FieldError{Field: "state",
			Problem: "it was adopted: no cloud of ours is behind it, so it cannot be stopped or started from here"}
	case forget && !i.Adopted && !i.Found:
		return store.Instance{}, door.FieldError{Field: "forget",
			Problem: "it was launched here: whoever forgets it leaves a machine that nobody looks after"}
	case phase == store.Stopping && i.State == string(cloud.Stopped), phase == store.Starting &&
		i.State == string(cloud.Running):
		return store.Instance{}, door.FieldError{Field: "state",
			Problem: fmt.Sprintf("the instance is %s already", i.State)}
	case phase != store.Removing && i.Phase == store.Failed:
		return store.Instance{}, door.FieldError{Field: "state",
			Problem: "its launch failed; remove it, and launch again"}
	}
	err := w.Store.BeginChange(ctx, by, once, i, phase,
		w.Begun(k, map[bool]string{true: "forget", false: k.Name}[forget]+" "+i.Name, door.Token(26), i, k.Name,
			leaving{door.Was{Phase: i.Phase}, forget && !i.Adopted}))
	if i, again, err := w.Replayed(ctx, err); again || err != nil {
		return i, err
	}
	w.Look()
	return w.Store.InstanceByID(ctx, i.ID)
}

// leaving is the input of work on an instance at rest.
type leaving struct {
	door.Was
	Forget bool `json:"forget,omitempty"`
}

// LaunchRequest asks for an instance that opens with the named keys.
type LaunchRequest struct {
	Name, Region, Image, Size string
	Zone                      string
	DiskGB                    int // of the root volume; 0 for the size's own
	Tags                      map[string]string
	UserData                  string // the engineer's own, merged with ours
	Keys                      []string
	NoKey                     bool // launch though no key is named
	// Static is the static address that it is given, by its name; NewStatic for one that is reserved for it.
	Static string
	// CloudKey is an entry of the cloud's own list of keys, which the cloud places itself: what it is stays the
	// cloud's word until a survey has seen it. "" for none.
	CloudKey string
	// AgentVerbs are what its resident agent may do, which first boot enrolls; nil for no agent.
	AgentVerbs []string
}

// NewStatic is the word for a static address that is reserved with the launch, under the instance's name.
const NewStatic = "new"

// Plan is a checked launch: what it would send.
type Plan struct {
	Image    cloud.Image
	Size     cloud.Size
	Keys     []store.Key
	UserData string
	Warnings []string
	// Price is what it costs while it is there; nil where the cloud does not say. Takes is how long a
	// change of its state usually takes; 0 where the cloud does not say.
	Price *wire.Price
	Takes time.Duration

	cloud   cloud.Driver
	steward *keypair.Pair
	alias   string
	// password is which key the first password is encrypted to, of an image that gives one.
	password *store.FirstPassword
	static   launching
	agent    *cloudconfig.Agent // what enrolls its agent; nil for none
}

// Plan checks a request, and makes the user data that it would send with a
// steward key of its own. It changes nothing. A FieldError says what is wrong.
func (w *Service) Plan(ctx context.Context, r LaunchRequest) (*Plan, error) {
	if err := names.Check(r.Name); err != nil {
		return nil, door.FieldError{Field: "name", Problem: err.Error()}
	}
	p := &Plan{}
	if err := w.planPlace(ctx, r, p); err != nil {
		return nil, err
	}
	properties := p.cloud.Properties()
	if err := properties.Names.Check(r.Name); err != nil {
		return nil, door.FieldError{Field: "name", Problem: err.Error()}
	}
	if err := w.planStatic(ctx, r, p); err != nil {
		return nil, err
	}
	if err := checkTags(r.Tags, properties.MaxTags); err != nil {
		return nil, err
	}
	if len(r.Keys) == 0 && !r.NoKey && r.CloudKey == "" {
		return nil, door.FieldError{Field: "keys", Code: wire.FieldNoKey,
			Problem: "no key is named: without one nobody can log in, and the way back in is a restore; name a " +
				"key, or ask for it with no_key (-key none)"}
	}
	if (len(r.Keys) > 0 || r.CloudKey != "") && r.NoKey {
		return nil, door.FieldError{Field: "keys",
			Problem: "keys are named, and no_key is asked for too: give one or the other"}
	}
	if err := w.planKeys(ctx, r, p); err != nil {
		return nil, err
	}
	if err := w.planEntry(ctx, r, p); err != nil {
		return nil, err
	}
	if err := w.planAgent(ctx, r, p); err != nil {
		return nil, err
	}
	p.alias = "plumlatch-" + door.Token(10)
	if p.Image.FirstPassword {
		return p, p.firstPassword(r, properties.MaxUserData)
	}
	p.warn()
	var err error
	if p.steward, err = keypair.Create(keypair.Ed25519, "steward "+p.alias); err != nil {
		return nil, err
	}
	return p, p.userData(r, properties.MaxUserData)
}

// planEntry finds the entry of the cloud's list that the cloud is to place.
func (w *Service) planEntry(ctx context.Context, r LaunchRequest, p *Plan) error {
	if r.CloudKey == "" {
		return nil
	}
	wrong := func(format string, a ...any) error {
		return door.FieldError{Field: "cloud_key", Problem: fmt.Sprintf(format, a...)}
	}
	rules := p.cloud.Properties().KeyLists
	if rules == nil {
		return wrong("this cloud keeps no keys under names")
	}
	region := r.Region
	if rules.Scope != cloud.KeysByRegion {
		region = ""
	}
	list, err := p.cloud.ListKeys(ctx, region)
	if err != nil {
		return err
	}
	n := slices.IndexFunc(list.Entries, func(e cloud.KeyEntry) bool { return e.Name == r.CloudKey })
	if n < 0 {
		return wrong("the cloud's list of %s has no key of this name: plumlatch cloud-key list -all shows what it has", r.Region)
	}
	known, err := w.Store.ListKeys(ctx)
	if err != nil {
		return err
	}
	m := keylists.NewIndex(known).Of(list.Entries[n].Fingerprint, list.Entries[n].Public)
	if m.Key != nil && m.Key.Unusable() != "" {
		return wrong("it is %s, which is %s: nothing should be launched with it", m.Key.Name, m.Key.Unusable())
	}
	if t := m.Public.Type(); m.Public.Blob != nil && !slices.Contains(p.Image.KeyTypes, t) {
		return wrong("image %s takes no key of type %s", p.Image.Name, t)
	}
	is := "which key that is stays the cloud's word until a survey has seen it"
	if m.Key != nil {
		is = "the cloud says that it is " + m.Key.Name + ", until a survey has seen it"
	}
	if m.Lies {
		is = "its fingerprint is not of the key that the list shows: look at it (plumlatch cloud-key list)"
	}
	p.Warnings = append(p.Warnings, fmt.Sprintf("%s is placed by the cloud; %s.", r.CloudKey, is))
	if p.Image.FirstPassword {
		p.Warnings = nil
		p.password = &store.FirstPassword{}
		if m.Public.Blob != nil {
			p.password.Fingerprint = m.Public.Fingerprint()
		}
		if m.Key != nil {
			p.password.KeyID, p.password.Key = m.Key.ID, m.Key.Name
		}
	}
	p.static.KeyEntry = r.CloudKey
	return nil
}

// planPlace checks region, zone, image, size and disk.
func (w *Service) planPlace(ctx context.Context, r LaunchRequest, p *Plan) error {
	// The cloud of the region is asked alone: another that does not answer holds nobody up.
	var err error
	var regions []cloud.Region
	if p.cloud, err = w.Clouds.In(ctx, r.Region); err == nil {
		regions, err = p.cloud.Regions(ctx)
	} else if errors.Is(err, cloud.ErrNoSuchRegion) {
		regions, err = w.Clouds.Regions(ctx)
	}
	if err != nil {
		return err
	}
	region, err := choose("region", r.Region, regions, func(x cloud.Region) string { return x.Name })
	if err != nil {
		return err
	}
	if r.Zone != "" && !slices.Contains(region.Zones, r.Zone) {
		return door.FieldError{Field: "zone", Problem: "region " + region.Name + " has no such zone",
			Choices: region.Zones}
	}
	images, err := p.cloud.Images(ctx, region.Name)
	if err != nil {
		return err
	}
	sizes, err := p.cloud.Sizes(ctx, region.Name)
	if err != nil {
		return err
	}
	if p.Image, err = choose("image", r.Image, images, func(x cloud.Image) string { return x.Name }); err != nil {
		return w.elsewhere(ctx, err, region.Name, func(other string) bool {
			all, err := w.Clouds.Images(ctx, other)
			return err == nil && slices.ContainsFunc(all, func(x cloud.Image) bool { return x.Name == r.Image })
		})
	}
	if p.Size, err = choose("size", r.Size, sizes, func(x cloud.Size) string { return x.Name }); err != nil {
		return w.elsewhere(ctx, err, region.Name, func(other string) bool {
			all, err := w.Clouds.Sizes(ctx, other)
			return err == nil && slices.ContainsFunc(all, func(x cloud.Size) bool { return x.Name == r.Size })
		})
	}
	if i := slices.IndexFunc(sizes, func(s cloud.Size) bool { return s.Name == p.Image.SmallestSize }); i >= 0 {
		if least := sizes[i]; p.Size.MemoryMB < least.MemoryMB || p.Size.CPUs < least.CPUs {
			var fit []string
			for _, s := range sizes {
				if s.MemoryMB >= least.MemoryMB && s.CPUs >= least.CPUs {
					fit = append(fit, s.Name)
				}
			}
			return door.FieldError{Field: "size",
				Problem: fmt.Sprintf("image %s needs at least size %s", p.Image.Name, least.Name), Choices: fit}
		}
	}
	disk := r.DiskGB
	if disk == 0 {
		disk = p.Size.DiskGB
	}
	switch {
	case disk < p.Image.MinDiskGB:
		return door.FieldError{Field: "disk_gb",
			Problem: fmt.Sprintf("image %s needs a root volume of at least %d GiB, and this is %d", p.Image.Name,
				p.Image.MinDiskGB, disk)}
	case disk > maxDiskGB:
		return door.FieldError{Field: "disk_gb", Problem: fmt.Sprintf("a root volume has at most %d GiB", maxDiskGB)}
	}
	return nil
}

const maxDiskGB = 65536

// planStatic finds the static address that it is to have, and says what all of it costs.
func (w *Service) planStatic(ctx context.Context, r LaunchRequest, p *Plan) error {
	wrong := func(format string, a ...any) error {
		return door.FieldError{Field: "static_address", Problem: fmt.Sprintf(format, a...)}
	}
	disk := r.DiskGB
	if disk == 0 {
		disk = p.Size.DiskGB
	}
	p.Price = w.SizePrice(ctx, p.cloud, p.Size.Name, disk)
	if terms, ok := w.Prices(ctx, p.cloud); ok {
		p.Takes = terms.Change
	}
	if r.Static == "" {
		return nil
	}
	if p.cloud.Properties().NoStaticAddresses {
		return wrong("this cloud has no addresses to reserve: each instance has its own for its life")
	}
	all, err := p.cloud.StaticAddresses(ctx, "")
	if err != nil {
		return err
	}
	if r.Static == NewStatic {
		for _, a := range all {
			if names.Fold(a.Name) == names.Fold(r.Name) {
				return wrong("there is a static address %s already, %s: name it, if that is the one", plaintext.Line(a.Name), a.Address)
			}
		}
		p.static = launching{Static: r.Name, Reserve: true}
		if add := w.AddressPrice(ctx, p.cloud); add != nil && p.Price != nil {
			p.Price.Hour, p.Price.Month = p.Price.Hour+add.Hour, p.Price.Month+add.Month
		}
		return nil
	}
	var free []string
	for _, a := range all {
		if a.Name != r.Static && a.Address != r.Static {
			if a.Region == r.Region && a.Instance == "" {
				free = append(free, a.Name)
			}
			continue
		}
		switch {
		case a.Region != r.Region:
			return wrong("%s is an address of %s, and this would be in %s", plaintext.Line(a.Name), a.Region, r.Region)
		case a.Instance != "":
			return wrong("another instance has %s: \"plumlatch static-address move %s\" takes it from there", plaintext.Line(a.Name),
				plaintext.Line(a.Name))
		}
		p.static = launching{Static: plaintext.Line(a.Name), StaticID: a.ID}
		return nil
	}
	return door.FieldError{Field: "static_address", Problem: "there is no such static address; new reserves one",
		Choices: append(free, NewStatic)}
}

// elsewhere adds to an unknown image or size which other regions have it.
func (w *Service) elsewhere(ctx context.Context, err error, region string, has func(region string) bool) error {
	fe, ok := errors.AsType[door.FieldError](err)
	if !ok {
		return err
	}
	fe.Problem += " in region " + region
	regions, err := w.Clouds.Regions(ctx)
	if err != nil {
		return fe // what is known is said
	}
	var others []string
	for _, other := range regions {
		if other.Name != region && has(other.Name) {
			others = append(others, other.Name)
		}
	}
	if len(others) > 0 {
		fe.Problem += "; " + strings.Join(others, ", ") + " " + map[bool]string{true: "has", false: "have"}[len(others) == 1] + " it"
	}
	return fe
}

func choose[T any](field, want string, all []T, name func(T) string) (T, error) {
	var choices []string
	for _, x := range all {
		if name(x) == want {
			return x, nil
		}
		choices = append(choices, name(x))
	}
	var none T
	problem := "unknown " + field
	if want == "" {
		problem = "no " + field + " is given"
	}
	return none, door.FieldError{Field: field, Problem: problem, Choices: choices}
}

const maxTagValue = 255

func checkTags(tags map[string]string, limit int) error {
	if len(tags) > limit {
		return door.FieldError{Field: "tags", Problem: fmt.Sprintf("the cloud takes at most %d tags", limit)}
	}
	for _, k := range slices.Sorted(maps.Keys(tags)) {
		if err := names.Check(k); err != nil {
			return door.FieldError{Field: "tags", Problem: "a tag's name: " + err.Error()}
		}
		v := tags[k]
		if len(v) > maxTagValue || plaintext.HasControl(v) || !utf8.ValidString(v) || keypair.LooksPrivate([]byte(v)) {
			return door.FieldError{Field: "tags",
				Problem: fmt.Sprintf("the value of tag %s is not one line of at most %d bytes", k, maxTagValue)}
		}
	}
	return nil
}

// SetTags gives an instance its tags in the ledger, as an operator says. Its cloud keeps its own. FieldError.
func (w *Service) SetTags(ctx context.Context, by store.Actor, i store.Instance, tags map[string]string, intent string) error {
	if err := checkTags(tags, 50); err != nil {
		return err
	}
	return w.Store.SetTags(ctx, by, i, tags, intent)
}

func (w *Service) planKeys(ctx context.Context, r LaunchRequest, p *Plan) error {
	for _, name := range r.Keys {
		k, err := w.Store.KeyByName(ctx, name)
		if errors.Is(err, store.ErrNotFound) {
			return w.UnknownKey(ctx, name)
		}
		if err != nil {
			return err
		}
		if slices.ContainsFunc(p.Keys, func(x store.Key) bool { return x.ID == k.ID }) {
			continue
		}
		if err := w.Allowed(ctx, k, "keys"); err != nil {
			return err
		}
		if err := firstpassword.Check(k.Public()); p.Image.FirstPassword && err != nil {
			return door.FieldError{Field: "keys", Problem: fmt.Sprintf("image %s takes no key, and gives a first password that is encrypted "+
				"to one; with %s that cannot be: %s", p.Image.Name, k.Name, err)}
		}
		if t := k.Public().Type(); !slices.Contains(p.Image.KeyTypes, t) {
			return door.FieldError{Field: "keys",
				Problem: fmt.Sprintf("key %s is %s, which image %s does not take", k.Name, t, p.Image.Name),
				Choices: p.Image.KeyTypes}
		}
		p.Keys = append(p.Keys, k)
	}
	return nil
}

// desktopPort is where an image without SSH is reached: the remote desktop's.
const desktopPort = 3389

// firstPassword plans the launch of an image that takes no key: its first password is encrypted to exactly one.
func (p *Plan) firstPassword(r LaunchRequest, limit int) error {
	wrong := func(field, format string, a ...any) error {
		return door.FieldError{Field: field, Problem: fmt.Sprintf("image %s takes no key, and gives a first password that is encrypted to "+
			"one: ", p.Image.Name) + fmt.Sprintf(format, a...)}
	}
	switch {
	case len(p.Keys) > 1 || len(p.Keys) == 1 && r.CloudKey != "":
		return wrong("keys", "name one")
	case len(p.Keys) == 0 && r.CloudKey == "":
		return wrong("keys", "without one nobody could read it")
	case len(r.UserData) > limit:
		return wrong("user_data", "the cloud takes %d bytes", limit)
	}
	to := "the key that the cloud lists as " + r.CloudKey
	if len(p.Keys) == 1 {
		k := p.Keys[0]
		p.password = &store.FirstPassword{KeyID: k.ID, Key: k.Name, Fingerprint: k.Fingerprint}
		p.static.PasswordKey, to = k.Public().Line(), k.Name
	}
	p.UserData = r.UserData
	p.Warnings = append(p.Warnings, fmt.Sprintf("it has no SSH: no key opens it, and nobody of ours looks into it; its first password is "+
		"encrypted to %s (plumlatch instance password %s)", to, r.Name))
	return nil
}

// warn points out what the engineer may not want, and stops nobody.
func (p *Plan) warn() {
	var people, neverShown []string
	for _, k := range p.Keys {
		if k.HolderSort != "machine" && k.HolderSort != "job" {
			people = append(people, k.Name)
		}
		if k.ShownAt == nil {
			neverShown = append(neverShown, k.Name)
		}
	}
	switch {
	case p.static.KeyEntry != "": // planEntry has said what is known of that
	case len(p.Keys) == 0:
		p.Warnings = append(p.Warnings, "no key opens it for a person: it is a locked box, and getting in will be a restore")
	case len(people) == 0:
		p.Warnings = append(p.Warnings, "only keys of machines and jobs open it: no person gets in")
	case len(people) == 1:
		p.Warnings = append(p.Warnings, fmt.Sprintf("%s is the sole opener: if that private key is lost, getting "+
			"in is a restore; name a second person's key", people[0]))
	}
	for _, n := range neverShown {
		p.Warnings = append(p.Warnings, fmt.Sprintf("nobody has ever shown that the private half of %s exists "+
			"(plumlatch key prove %s)", n, n))
	}
}

// tokenPlace stands in the user data where the token goes in the moment of the launch: so it stands in no row.
const tokenPlace = "TOKEN-OF-THIS-LAUNCH"

// planAgent checks what is asked of an agent, and finds what first boot needs for it.
func (w *Service) planAgent(ctx context.Context, r LaunchRequest, p *Plan) error {
	if len(r.AgentVerbs) == 0 {
		return nil
	}
	wrong := func(format string, a ...any) error {
		return door.FieldError{Field: "agent_verbs", Problem: fmt.Sprintf(format, a...)}
	}
	if _, err := (agentcalls.OwnerFile{Verbs: r.AgentVerbs}).Read(); err != nil {
		return wrong("%s", err)
	}
	if p.Image.FirstPassword {
		return wrong("image %s has no SSH and takes no agent", p.Image.Name)
	}
	a, err := w.Agents.ForLaunch(ctx, p.cloud)
	if err != nil {
		return wrong("%s", err)
	}
	p.agent, p.static.Agent = &a, true
	return nil
}

// enroll adds what enrolls the agent at first boot: the people whose keys open the instance may sign for it.
func (p *Plan) enroll(s *cloudconfig.Settings, r LaunchRequest) error {
	var operators []string
	for _, k := range p.Keys {
		if k.HolderSort != "machine" && k.HolderSort != "job" {
			operators = append(operators, keypair.Public{Blob: k.Blob, Comment: k.Name}.Line())
		}
	}
	a := *p.agent
	var err error
	if a.Owner, err = (agentcalls.OwnerFile{Service: a.Service, Verbs: r.AgentVerbs, Operators: operators, Release: a.Release}).Text(); err != nil {
		return err
	}
	if len(operators) == 0 && slices.ContainsFunc(r.AgentVerbs, func(v string) bool { return agentcalls.Verb(v).Changes() }) {
		p.Warnings = append(p.Warnings, "no key of a person is named, so nobody could sign what its agent is to change: it changes nothing")
	}
	a.Unit, a.Token = reach.AgentUnitText, tokenPlace
	a.Into(s, reach.AgentOwner, reach.AgentUnit, reach.AgentProgram)
	return nil
}

// userData makes what first boot reads: ours, and the engineer's own beside it.
func (p *Plan) userData(r LaunchRequest, limit int) error {
	s := cloudconfig.Settings{Hostname: strings.ToLower(r.Name), LoginUser: p.Image.LoginUser,
		Own: r.UserData, MaxSize: limit}
	for _, k := range p.Keys {
		s.Keys = append(s.Keys, k.Public().Line())
	}
	s.Keys = append(s.Keys, authkeys.StewardOptions+" "+p.steward.Public.Line())
	if len(r.AgentVerbs) > 0 {
		if err := p.enroll(&s, r); err != nil {
			return err
		}
	}
	out, err := cloudconfig.Build(s)
	var own cloudconfig.OwnError
	switch {
	case errors.As(err, &own):
		return door.FieldError{Field: "user_data", Problem: own.Error()}
	case errors.Is(err, cloudconfig.ErrTooLarge) && r.UserData != "":
		return door.FieldError{Field: "user_data", Problem: err.Error()}
	case errors.Is(err, cloudconfig.ErrTooLarge):
		return door.FieldError{Field: "keys", Problem: err.Error() + "; name fewer keys"}
	case err != nil:
		return err
	}
	p.UserData, p.Warnings = out.Text, append(p.Warnings, out.Warnings...)
	return nil
}
