package standin

import "net/http"

// handleRules serves inbound rules and static addresses.
func (c *Cloud) handleRules(mux *http.ServeMux) {
	type body struct {
		ClientToken string `json:"client_token"`
		From        string `json:"from"`
		Ports       string `json:"ports"`
		Note        string `json:"note"`
		Region      string `json:"region"`
		Name        string `json:"name"`
		Instance    string `json:"instance"`
		Is          string `json:"is"`
	}
	post := func(pattern, call string, f func(id string, b body) (any, error)) {
		mux.HandleFunc("POST "+pattern, func(w http.ResponseWriter, r *http.Request) {
			var b body
			if decode(w, r, &b) {
				id := r.PathValue("id")
				name := b.Name
				if name == "" {
					name = c.ownerOf(id)
				}
				c.perform(w, call, []string{name}, func() (any, error) { return f(id, b) })
			}
		})
	}
	mux.HandleFunc("GET /v1/instances/{id}/groups", func(w http.ResponseWriter, r *http.Request) {
		id := r.PathValue("id")
		c.perform(w, "groups", c.calledBy(id), func() (any, error) { return c.Groups(id) })
	})
	mux.HandleFunc("GET /v1/addresses", func(w http.ResponseWriter, r *http.Request) {
		c.perform(w, "addresses", nil, func() (any, error) { return c.Addresses(r.URL.Query().Get("region")), nil })
	})
	post("/v1/instances/{id}/own-group", "own-group",
		func(id string, b body) (any, error) { return c.OwnGroup(b.ClientToken, id) })
	post("/v1/instances/{id}/door", "door", func(id string, b body) (any, error) { return c.SetDoor(id, b.Is) })
	post("/v1/groups/{id}/rules", "admit", func(id string, b body) (any, error) {
		return c.Admit(b.ClientToken, id, Rule{From: b.From, Ports: b.Ports, Note: b.Note})
	})
	post("/v1/addresses", "reserve", func(_ string, b body) (any,
		error) {
		return c.Reserve(b.ClientToken, b.Region, b.Name)
	})
	post("/v1/addresses/{id}/move", "move",
		func(id string, b body) (any, error) { return c.Move(b.ClientToken, id, b.Instance) })
	mux.HandleFunc("DELETE /v1/groups/{id}/rules/{rule}", func(w http.ResponseWriter, r *http.Request) {
		c.perform(w, "unadmit", []string{c.ownerOf(r.PathValue("id"))}, func() (any, error) {
			return struct{}{}, c.Unadmit(r.URL.Query().Get("client_token"), r.PathValue("id"), r.PathValue("rule"))
		})
	})
	mux.HandleFunc("DELETE /v1/addresses/{id}", func(w http.ResponseWriter, r *http.Request) {
		c.perform(w, "release", []string{c.ownerOf(r.PathValue("id"))}, func() (any, error) {
			return struct{}{}, c.Release(r.URL.Query().Get("client_token"), r.PathValue("id"))
		})
	})
}

// ownerOf is the name that faults know a thing by: an instance's, that of the
// instance that a group is the own of, a static address's.
func (c *Cloud) ownerOf(id string) string {
	if name := c.nameOf(id); name != "" {
		return name
	}
	c.mu.Lock()
	own, static := "", ""
	if g := c.groups[id]; g != nil {
		own = g.Own
	}
	if a := c.static[id]; a != nil {
		static = a.Name
	}
	c.mu.Unlock()
	if static != "" {
		return static
	}
	return c.nameOf(own)
}
