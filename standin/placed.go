package standin

import (
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"net/http"
	"slices"
	"sort"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"
)

// PlacedKey is a public key that the cloud keeps for one instance, or for all of the project, and that its agent on
// the instance places in the login user's file, again and again.
type PlacedKey struct {
	ID        string `json:"id"`
	Instance  string `json:"instance"` // "" for the whole project
	User      string `json:"user"`
	Name      string `json:"name"`
	PublicKey string `json:"public_key"`
}

type storedPlaced struct {
	PlacedKey
	Tokens []string `json:"tokens"`
	// From and Until are when a key that is lent begins and ends; zero for one that is placed for good. One that Stays
	// is forgotten by the cloud then, and its line is not taken out.
	From  time.Time `json:"from,omitzero"`
	Until time.Time `json:"until,omitzero"`
	Stays bool      `json:"stays,omitempty"`
}

// agentMark stands in the comment of the lines that the agent has placed, before the entry's ID.
const agentMark = "placed-by-the-cloud:"

// PlacedKeys returns what is kept for an instance, with what is kept for the whole project.
func (c *Cloud) PlacedKeys(id string) ([]PlacedKey, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if _, ok := c.instances[id]; !ok {
		return nil, ErrNotFound
	}
	return c.placedFor(id), nil
}

// placedFor is PlacedKeys; the caller holds mu.
func (c *Cloud) placedFor(id string) []PlacedKey {
	out := []PlacedKey{}
	for _, p := range c.placed {
		if (p.Instance == id || p.Instance == "") && p.Until.IsZero() {
			out = append(out, p.PlacedKey)
		}
	}
	sort.Slice(out, func(i, j int) bool { return out[i].ID < out[j].ID })
	return out
}

// lentFor are the keys that are lent on an instance now; the caller holds mu.
func (c *Cloud) lentFor(id string) (out []PlacedKey) {
	for _, p := range c.placed {
		if now := c.opts.Now(); p.Instance == id && !now.Before(p.From) && now.Before(p.Until) {
			out = append(out, p.PlacedKey)
		}
	}
	sort.Slice(out, func(i, j int) bool { return out[i].ID < out[j].ID })
	return out
}

// lendFor is how long a key is lent: fifty changes of state.
func (c *Cloud) lendFor() time.Duration { return 50 * c.opts.Pace }

// Lend has the agent take a key for a while. A fault of the call "lent-stays" has it stay, one of "lent-late" has the
// agent take it only after the fault's delay.
func (c *Cloud) Lend(token, id, user, line string) (time.Time, error) {
	key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(line))
	if err != nil || token == "" || user == "" {
		return time.Time{}, fmt.Errorf("%w: a client token, a user and a public key", ErrInvalid)
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	in, ok := c.instances[id]
	switch {
	case !ok || in.State == Removed:
		return time.Time{}, ErrNotFound
	case in.State != Running:
		return time.Time{}, fmt.Errorf("%w: the instance is %s", ErrState, in.State)
	case slices.Contains(in.Nature.MissingRights, "lend"):
		return time.Time{}, fmt.Errorf("%w: the caller may not have a key lent there", ErrState)
	case !c.lends(in.Image):
		return time.Time{}, fmt.Errorf("%w: the agent is not on image %s", ErrState, in.Image)
	case user != in.LoginUser:
		return time.Time{}, fmt.Errorf("%w: the agent knows no user %s", ErrInvalid, user)
	}
	for _, p := range c.placed {
		if slices.Contains(p.Tokens, token) {
			return p.Until, nil
		}
	}
	c.serial++
	p := &storedPlaced{PlacedKey: PlacedKey{ID: fmt.Sprintf("loan-%05d", c.serial), Instance: id, User: user, Name: "lent",
		PublicKey: strings.TrimSpace(string(ssh.MarshalAuthorizedKey(key)))}, Tokens: []string{token},
		From: c.opts.Now().UTC(), Until: c.opts.Now().Add(c.lendFor()).UTC()}
	_, p.Stays = c.faults.take("lent-stays", in.Name)
	if f, late := c.faults.take("lent-late", in.Name); late {
		p.From = p.From.Add(time.Duration(f.Delay) * time.Millisecond)
	}
	c.placed[p.ID] = p
	if err := c.save(); err != nil {
		return time.Time{}, err
	}
	return p.Until, c.agentOn(in) // it is on the spot, as clouds are
}

// lends tells whether the agent that lends is on an image; one of an instance has what that had. The caller holds mu.
func (c *Cloud) lends(image string) bool {
	if own, ok := c.own[image]; ok {
		image = own.Image
	}
	return image == "debian-12" || image == "harrow-web-2"
}

// PlaceKey keeps a key for an instance, or for the whole project with "".
func (c *Cloud) PlaceKey(token string, p PlacedKey) (PlacedKey, error) {
	key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(p.PublicKey))
	if err != nil || token == "" || p.User == "" || !entryName.MatchString(p.Name) {
		return PlacedKey{}, fmt.Errorf("%w: a client token, a user, a name and a public key", ErrInvalid)
	}
	p.PublicKey = strings.TrimSpace(string(ssh.MarshalAuthorizedKey(key)))
	c.mu.Lock()
	defer c.mu.Unlock()
	if in, ok := c.instances[p.Instance]; p.Instance != "" && (!ok || in.State == Removed) {
		return PlacedKey{}, ErrNotFound
	} else if ok && slices.Contains(in.Nature.MissingRights, "set-keys") {
		return PlacedKey{}, fmt.Errorf("%w: the caller may not set keys there", ErrState)
	}
	for _, had := range c.placed {
		if slices.Contains(had.Tokens, token) {
			return had.PlacedKey, nil
		}
		if had.Instance == p.Instance && had.User == p.User && had.PublicKey == p.PublicKey {
			had.Tokens = append(had.Tokens, token)
			return had.PlacedKey, c.save()
		}
	}
	if slices.Contains(c.unlisted, token) {
		return PlacedKey{}, fmt.Errorf("%w: it was taken off again", ErrState)
	}
	c.serial++
	p.ID = fmt.Sprintf("pin-%05d", c.serial)
	c.placed[p.ID] = &storedPlaced{PlacedKey: p, Tokens: []string{token}}
	return p, c.save()
}

// UnplaceKey takes an entry off; one that is gone is no error. The agent takes its line out.
func (c *Cloud) UnplaceKey(id string) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	p, ok := c.placed[id]
	if !ok {
		return nil
	}
	delete(c.placed, id)
	c.unlisted = append(c.unlisted, p.Tokens...)
	return c.save()
}

// agent does on each running instance what the cloud's agent does there, as long as the cloud runs.
func (c *Cloud) agent() {
	busy := false // it has placed something, and may have to take it out
	for {
		select {
		case <-c.quit:
			return
		case <-time.After(max(c.opts.Pace, 100*time.Millisecond)):
		}
		c.mu.Lock()
		if busy = busy || len(c.placed) > 0; busy && !c.closed {
			maps.DeleteFunc(c.placed, func(_ string, p *storedPlaced) bool {
				return !p.Until.IsZero() && !p.Stays && !c.opts.Now().Before(p.Until)
			})
			for _, in := range c.instances {
				if in.State != Running || in.server == nil {
					continue
				}
				if err := c.agentOn(in); err != nil {
					c.opts.Log.Error("the agent", "instance", in.ID, "error", err)
				}
			}
		}
		c.mu.Unlock()
	}
}

// agentOn has the login user's file of an instance say what is kept for it: what is missing is appended, and lines of
// its own whose entry is gone are taken out.
func (c *Cloud) agentOn(in *stored) error {
	if !c.lends(in.Image) { // the agent is not on its image
		return nil
	}
	disk := diskName(in.ID)
	if v := c.rootOf(in.ID); v != nil {
		disk = v.folder()
	}
	folder := disk + "/home/" + in.LoginUser + "/.ssh"
	old, err := c.root.ReadFile(folder + "/authorized_keys")
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	entries := append(c.placedFor(in.ID), c.lentFor(in.ID)...)
	stays := func(id string) bool { p, ok := c.placed[id]; return ok && p.Stays }
	var lines []string
	for line := range strings.Lines(string(old)) {
		_, mark, ours := strings.Cut(line, " "+agentMark)
		if ours && !stays(strings.TrimSpace(mark)) && !slices.ContainsFunc(entries, func(p PlacedKey) bool { return p.ID == strings.TrimSpace(mark) }) {
			continue
		}
		lines = append(lines, line)
	}
	for _, p := range entries {
		if p.User != in.LoginUser || slices.ContainsFunc(lines, func(l string) bool { return strings.Contains(l, p.PublicKey) }) {
			continue
		}
		if n := len(lines); n > 0 && !strings.HasSuffix(lines[n-1], "\n") {
			lines[n-1] += "\n"
		}
		lines = append(lines, p.PublicKey+" "+agentMark+p.ID+"\n")
	}
	text := strings.Join(lines, "")
	if text == string(old) {
		return nil
	}
	if err := c.root.Mkdir(folder, 0o700); err != nil && !errors.Is(err, fs.ErrExist) {
		return err
	}
	if err := c.writeFile(folder+"/.agent.new", text, 0o600); err != nil {
		return err
	}
	return c.root.Rename(folder+"/.agent.new", folder+"/authorized_keys")
}

// handlePlaced serves the keys that the agent places.
func (c *Cloud) handlePlaced(mux *http.ServeMux) {
	mux.HandleFunc("GET /v1/instances/{id}/placed-keys", func(w http.ResponseWriter, r *http.Request) {
		id := r.PathValue("id")
		c.perform(w, "placed-keys", c.calledBy(id), func() (any, error) { return c.PlacedKeys(id) })
	})
	mux.HandleFunc("POST /v1/placed-keys", func(w http.ResponseWriter, r *http.Request) {
		var b struct {
			PlacedKey
			ClientToken string `json:"client_token"`
		}
		if decode(w, r, &b) {
			c.perform(w, "place-key", c.calledBy(b.Instance), func() (any, error) { return c.PlaceKey(b.ClientToken, b.PlacedKey) })
		}
	})
	mux.HandleFunc("POST /v1/instances/{id}/lend", func(w http.ResponseWriter, r *http.Request) {
		var b struct {
			ClientToken string `json:"client_token"`
			User        string `json:"user"`
			PublicKey   string `json:"public_key"`
		}
		if !decode(w, r, &b) {
			return
		}
		id := r.PathValue("id")
		c.perform(w, "lend", c.calledBy(id), func() (any, error) {
			until, err := c.Lend(b.ClientToken, id, b.User, b.PublicKey)
			return map[string]time.Time{"until": until}, err
		})
	})
	mux.HandleFunc("DELETE /v1/placed-keys/{id}", func(w http.ResponseWriter, r *http.Request) {
		id := r.PathValue("id")
		c.perform(w, "unplace-key", []string{id}, func() (any, error) { return struct{}{}, c.UnplaceKey(id) })
	})
}
